// Package dockview is the dock on a screen of its own: a board with a field for each stick and console that is waited
// for, which can be read from across the room.
package dockview

import (
	"context"
	"errors"
	"fmt"
	"image/color"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"polytome/internal/core/dock"
	"polytome/internal/core/estimate"
	"polytome/internal/size"
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
	names   []string
	slots   []dock.Event
	theme   *style.Theme
	opts    Options
	w, h    int
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
	var how []tea.ProgramOption
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
	m := &board{names: names, slots: make([]dock.Event, len(names)), opts: o, stop: stop, w: 80, h: 24}
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
		m.w, m.h = msg.Width, msg.Height
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
	v := tea.NewView(strings.Join(m.draw(), "\n"))
	v.AltScreen = true
	return v
}

// The smallest field in which something can be read.
const (
	leastWidth  = 24
	leastHeight = 4
)

// grid is how many fields are beside and below one another, so that each is as large as can be, and how many of them
// are shown.
func (m *board) grid() (columns, rows int) {
	n, best := max(1, len(m.names)), -1
	columns, rows = 1, n
	for c := 1; c <= n; c++ {
		r := (n + c - 1) / c
		w, h := m.w/c, (m.h-2)/r
		if w < leastWidth || h < leastHeight {
			continue
		}
		if fits := min(w/2, h*2); fits > best { // a cell is twice as high as it is wide
			columns, rows, best = c, r, fits
		}
	}
	if best < 0 { // they do not all have room
		columns = max(1, m.w/leastWidth)
		rows = max(1, (m.h-2)/leastHeight)
	}
	return columns, rows
}

func (m *board) draw() []string {
	columns, rows := m.grid()
	w, h := m.w/columns, max(leastHeight, (m.h-2)/rows)
	var out []string
	for r := range rows {
		lines := make([]string, h)
		for c := range columns {
			if n := r*columns + c; n < len(m.names) {
				for y, line := range m.field(n, w, h) {
					lines[y] += line
				}
			}
		}
		out = append(out, lines...)
	}
	out = m.theme.Block(out, m.w, m.h-1)
	return append(out, m.foot())
}

// foot counts how it stands, and says how the board is closed.
func (m *board) foot() string {
	count := map[dock.Phase]int{}
	for _, s := range m.slots {
		count[s.Phase]++
	}
	var parts []string
	for _, p := range dock.Phases {
		if count[p] > 0 {
			word := string(p)
			if p == dock.NeedsYou && count[p] > 1 {
				word = "need you"
			}
			parts = append(parts, fmt.Sprintf("%d %s", count[p], word))
		}
	}
	if hidden := len(m.names) - m.fields(); hidden > 0 {
		parts = append(parts, size.Count(hidden, "more target")+" in a larger window")
	}
	say := "q closes the dock"
	if m.closing {
		say = "closing: what is being written is stopped, and can be resumed"
	}
	return " " + m.theme.Paint(m.theme.Dim, m.theme.Clip(strings.Join(parts, ", ")+"   "+say, m.w-2))
}

// fields is how many fields are shown.
func (m *board) fields() int {
	columns, rows := m.grid()
	return min(len(m.names), columns*rows)
}

// word is a phase as it is written large, and in which colour.
func (m *board) word(e *dock.Event) (word string, fg color.Color) {
	t := m.theme
	switch e.Phase {
	case dock.Looking:
		return "LOOK", t.Accent
	case dock.Filling:
		return fmt.Sprintf("%d%%", int(e.Share*100)), t.Accent
	case dock.Seen:
		return "SEEN", t.Text
	case dock.Done:
		return "DONE", t.Good
	case dock.NeedsYou:
		return "YOU!", t.Warn
	case dock.Failed:
		return "FAIL", t.Bad
	case dock.Waiting:
	}
	return "WAIT", t.Dim
}

// field draws one slot.
func (m *board) field(n, w, h int) []string {
	t, e := m.theme, &m.slots[n]
	word, fg := m.word(e)
	inner := w - 4
	frame := func(s string) string { return t.Paint(fg, s) }
	line := func(s string) string {
		side := frame(t.Glyph("│"))
		return side + " " + s + strings.Repeat(" ", max(0, inner-style.Width(s))) + " " + side
	}
	name := t.Clip(style.Clean(m.names[n]), inner-2)
	out := []string{frame(t.Glyph("┌")+t.Glyph("─")) + " " + t.Bold(t.Text, name) + " " +
		frame(strings.Repeat(t.Glyph("─"), max(0, inner-style.Width(name)-1))+t.Glyph("┐"))}
	var body []string
	state := string(e.Phase)
	if e.Phase == dock.Filling && e.Left > 0 {
		state += ", " + estimate.Words(e.Left) + " left"
	}
	if h >= bigRows+leastHeight && inner >= bigWidth("DONE") {
		for _, row := range big(word, t.Glyph("█")) {
			body = append(body, t.Paint(fg, row))
		}
	}
	body = append(body, t.Bold(fg, t.Clip(state, inner)))
	if e.Say != "" {
		for _, l := range t.Wrap(style.Clean(e.Say), inner) {
			body = append(body, t.Paint(t.Text, l))
		}
	}
	for y := range h - 2 {
		text := ""
		if y < len(body) {
			text = body[y]
		}
		out = append(out, line(text))
	}
	return append(out, frame(t.Glyph("└")+strings.Repeat(t.Glyph("─"), inner+2)+t.Glyph("┘")))
}
