package dockview

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/dock"
	"polytome/internal/draw"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// Model is the panel with the dock of the bench.
type Model struct {
	d *state.State
	fields
}

// New makes the panel.
func New(d *state.State) *Model { return &Model{d: d} }

// Name is the panel's name.
func (m *Model) Name() string { return "Dock" }

// Number is how many are worked on while the dock is open.
func (m *Model) Number() string {
	if m.d.Dock == nil {
		return "-"
	}
	n := 0
	for i := range m.d.Dock.Slots {
		if p := m.d.Dock.Slots[i].Phase; p == dock.Looking || p == dock.Filling {
			n++
		}
	}
	return fmt.Sprint(n)
}

// Open lists the slots.
func (m *Model) Open() tea.Cmd {
	m.Refresh()
	return nil
}

// Refresh lists the slots again.
func (m *Model) Refresh() {
	m.names, m.slots = nil, nil
	if x := m.d.Dock; x != nil {
		for i, id := range x.Targets {
			if n, ok := m.d.Bench.Find(id); ok {
				m.names, m.slots = append(m.names, m.d.Bench.Targets[n].Name), append(m.slots, x.Slots[i])
			}
		}
	} else {
		for i, n := range dock.Slots(m.d.Bench) {
			t := &m.d.Bench.Targets[n]
			m.names = append(m.names, t.Name)
			m.slots = append(m.slots, dock.Event{Slot: i, Report: dock.Report{Phase: closed[t.WhenConnected],
				Say: when(t)}})
		}
	}
	m.cursor = max(0, min(m.cursor, len(m.names)-1))
}

// closed is how it stands in a slot while the dock is not open: what will be done there.
var closed = map[string]dock.Phase{"": willLook, bench.LookAtIt: willLook, bench.Ask: willAsk, bench.Fill: willFill}

const (
	willLook dock.Phase = "set to look"
	willAsk  dock.Phase = "set to ask"
	willFill dock.Phase = "set to fill"
)

// when says what is done when a target comes.
func when(t *bench.Target) string {
	switch t.WhenConnected {
	case bench.Fill:
		return "is filled when it comes"
	case bench.Ask:
		return "asks when it comes and something is to do"
	}
	return "is looked at when it comes"
}

// SetFilter has nothing to narrow.
func (m *Model) SetFilter(string) {}

// Escape has nothing to undo here.
func (m *Model) Escape() bool { return false }

// Title is none.
func (m *Model) Title() (int, bool) { return 0, false }

// Drawing is what paper shows of the panel: the card of the target that is chosen.
func (m *Model) Drawing() draw.Request { return m.d.Drawn(draw.KindCard) }

// target is the number of the target in the chosen field, -1 for none.
func (m *Model) target() int {
	slots := dock.Slots(m.d.Bench)
	if m.cursor < 0 || m.cursor >= len(slots) {
		return -1
	}
	return slots[m.cursor]
}

// Actions are the keys of the panel.
func (m *Model) Actions() []state.Action {
	m.Refresh()
	n, word := m.target(), "open the dock"
	if m.d.Dock != nil {
		word = "close the dock"
	}
	move := func(by func(columns int) int) func() tea.Cmd {
		return state.Just(func() {
			columns, _ := m.grid()
			m.cursor = max(0, min(m.cursor+by(columns), len(m.names)-1))
		})
	}
	return []state.Action{
		state.Do("space", word, m.d.ToggleDock).
			Saying("wait for sticks and consoles, and do what is set for each").When(len(m.names) > 0),
		state.Do("c", "when it comes", func() tea.Cmd { return m.d.NextWhenConnected(n) }).
			Saying("look at it, ask, or fill it").When(n >= 0 && m.d.Dock == nil),
		state.Do("enter", "its titles", state.Just(func() { m.d.Target = n })).
			Saying("make it the target that the stages show").When(n >= 0),
		state.Do("up k", "the field above", move(func(c int) int { return -c })),
		state.Do("down j", "the field below", move(func(c int) int { return c })),
		state.Do("left h", "the field to the left", move(func(int) int { return -1 })),
		state.Do("right l", "the field to the right", move(func(int) int { return 1 })),
	}
}

// Click chooses the field that was clicked.
func (m *Model) Click(x, y int) tea.Cmd {
	if n := m.at(x, y-1); n >= 0 {
		m.cursor = n
	}
	return nil
}

// Wheel moves the choice.
func (m *Model) Wheel(by int) { m.cursor = max(0, min(m.cursor+by, len(m.names)-1)) }

// Why explains the chosen field.
func (m *Model) Why() state.Why {
	n := m.target()
	if n < 0 || m.cursor >= len(m.slots) {
		return state.Why{Lead: "No target", Say: "of the bench could be plugged in or switched on.",
			Ways: []string{"P adds a target"}}
	}
	e, t := &m.slots[m.cursor], &m.d.Bench.Targets[n]
	w := state.Why{Lead: t.Name + ":", Say: string(e.Phase) + "."}
	if e.Say != "" {
		w.Say = state.Sentence(e.Say)
	}
	switch {
	case m.d.Dock == nil:
		w.Say = state.Sentence("it " + when(t))
		w.Ways = []string{"c changes that", "space opens the dock"}
	case e.Phase == dock.NeedsYou:
		w.Ways = []string{"close the dock (space), and W writes what is planned"}
	}
	return w
}

// View draws the panel.
func (m *Model) View(t *style.Theme, w, h int) []string {
	m.Refresh()
	caption := "the dock is closed"
	if m.d.Dock != nil {
		caption = "the dock " + t.Glyph("·") + " " + m.counts()
	}
	m.theme, m.w, m.h = t, w, h-1
	if len(m.names) == 0 {
		return t.Block([]string{t.Rule(caption, w), "", "  " + t.Paint(t.Dim, "No target could come here yet.")}, w, h)
	}
	return append([]string{t.Rule(caption, w)}, m.draw()...)
}
