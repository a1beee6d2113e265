// Package dockview is the dock on a screen of its own: a board with a field for each stick and console that is waited
// for, which can be read from across the room.
package dockview

import (
	"context"
	"errors"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"polytome/internal/core/dock"
	"polytome/internal/ui/style"
)

// Options are how a board looks.
type Options struct {
	ASCII, Plain bool // with ASCII characters only; without colours
	// Work waits at the dock until the context ends, and reports what happens.
	Work func(ctx context.Context, emit func(dock.Event))
	// Rests gets what comes to rest in a slot, so that somebody can be called; it may be nil.
	Rests func(dock.Event)
}

// board is the screen.
type board struct {
	fields
	opts    Options
	closing bool // it was asked to end, and waits for what is worked on
	stop    context.CancelFunc
}

// overMsg says that the dock has ended.
type overMsg struct{}

// Run shows the board until somebody closes it, and waits for what is worked on by then.
func Run(ctx context.Context, names []string, o Options) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	m := newBoard(names, o, stop)
	how := []tea.ProgramOption{tea.WithFPS(style.Frames)}
	if o.Plain {
		how = append(how, tea.WithColorProfile(colorprofile.ASCII))
	}
	p := tea.NewProgram(m, how...)
	ended := make(chan struct{})
	go func() {
		o.Work(ctx, func(e dock.Event) { p.Send(e) })
		p.Send(overMsg{})
		close(ended)
	}()
	_, err := p.Run()
	stop()
	<-ended
	if errors.Is(err, tea.ErrInterrupted) {
		return nil // asked for from outside: not a failure
	}
	if err != nil {
		return fmt.Errorf("the board: %w", err)
	}
	return nil
}

func newBoard(names []string, o Options, stop context.CancelFunc) *board {
	m := &board{fields: fields{names: names, slots: make([]dock.Event, len(names)), w: 80, h: 23, cursor: -1}, opts: o,
		stop: stop}
	for i := range m.slots {
		m.slots[i].Phase = dock.Waiting
	}
	m.setTheme(true)
	return m
}

func (m *board) setTheme(dark bool) {
	colours := colorprofile.TrueColor
	if m.opts.Plain {
		colours = colorprofile.ASCII
	}
	m.theme = style.New(dark, m.opts.ASCII, colours)
}

// Init asks for the colour of the terminal.
func (m *board) Init() tea.Cmd { return tea.RequestBackgroundColor }

// Update takes in what happens in slots, and keys.
func (m *board) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.w, m.h = msg.Width, msg.Height-1
	case tea.BackgroundColorMsg:
		m.setTheme(msg.IsDark())
	case dock.Event:
		was := m.slots[msg.Slot].Phase
		m.slots[msg.Slot] = msg
		if msg.Phase.Rests() && msg.Phase != was {
			if m.opts.Rests != nil {
				m.opts.Rests(msg)
			}
			return m, tea.Raw("\a")
		}
	case overMsg:
		return m, tea.Quit
	case tea.KeyPressMsg:
		switch msg.String() {
		case "q", "esc", "ctrl+c":
			if m.closing { // a second time
				return m, tea.Quit
			}
			m.closing = true
			m.stop()
		}
	}
	return m, nil
}

// View draws the board.
func (m *board) View() tea.View {
	v := tea.NewView(strings.Join(m.whole(), "\n"))
	v.AltScreen = true
	return v
}

// whole is the board with how it stands, and how it is closed.
func (m *board) whole() []string {
	say := "q closes the dock"
	if m.closing {
		say = "closing: what is being written is stopped, and can be resumed"
	}
	return append(m.draw(), " "+m.theme.Paint(m.theme.Dim, m.theme.Clip(m.counts()+"   "+say, m.w-2)))
}
