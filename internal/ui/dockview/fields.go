package dockview

import (
	"fmt"
	"image/color"
	"strings"

	"polytome/internal/core/dock"
	"polytome/internal/core/estimate"
	"polytome/internal/size"
	"polytome/internal/ui/style"
)

// fields are slots side by side and below one another, each as large as can be.
type fields struct {
	names  []string
	slots  []dock.Event
	theme  *style.Theme
	w, h   int
	cursor int // the field that is chosen, -1 for none
}

// The smallest field in which something can be read.
const (
	leastWidth  = 24
	leastHeight = 4
)

// grid is how many fields are beside and below one another, so that each is as large as can be, and how many of them
// are shown.
func (m *fields) grid() (columns, rows int) {
	n, best := max(1, len(m.names)), -1
	columns, rows = 1, n
	for c := 1; c <= n; c++ {
		r := (n + c - 1) / c
		w, h := m.w/c, m.h/r
		if w < leastWidth || h < leastHeight {
			continue
		}
		if fits := min(w/2, h*2); fits > best { // a cell is twice as high as it is wide
			columns, rows, best = c, r, fits
		}
	}
	if best < 0 { // they do not all have room
		columns = max(1, m.w/leastWidth)
		rows = max(1, m.h/leastHeight)
	}
	return columns, rows
}

// draw draws as many fields as have room.
func (m *fields) draw() []string {
	columns, rows := m.grid()
	w, h := m.w/columns, max(leastHeight, m.h/rows)
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
	return m.theme.Block(out, m.w, m.h)
}

// at is the field at a place, -1 for none.
func (m *fields) at(x, y int) int {
	columns, rows := m.grid()
	w, h := m.w/columns, max(leastHeight, m.h/rows)
	n := y/h*columns + x/w
	if x < 0 || y < 0 || x/w >= columns || n >= len(m.names) {
		return -1
	}
	return n
}

// counts says how it stands, in a clause.
func (m *fields) counts() string {
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
	if hidden := len(m.names) - m.shown(); hidden > 0 {
		parts = append(parts, size.Count(hidden, "more target")+" in a larger window")
	}
	return strings.Join(parts, ", ")
}

// shown is how many fields are shown.
func (m *fields) shown() int {
	columns, rows := m.grid()
	return min(len(m.names), columns*rows)
}

// word is a phase as it is written large, and in which colour.
func (m *fields) word(e *dock.Event) (word string, fg color.Color) {
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
	case willLook:
		return "LOOK", t.Dim
	case willAsk:
		return "ASK", t.Dim
	case willFill:
		return "FILL", t.Dim
	case dock.Waiting:
	}
	return "WAIT", t.Dim
}

// field draws one slot.
func (m *fields) field(n, w, h int) []string {
	t, e := m.theme, &m.slots[n]
	word, fg := m.word(e)
	inner := w - 4
	frame := func(s string) string { return t.Paint(fg, s) }
	line := func(s string) string {
		side := frame(t.Glyph("│"))
		return side + " " + s + strings.Repeat(" ", max(0, inner-style.Width(s))) + " " + side
	}
	name := t.Clip(style.Clean(m.names[n]), inner-2)
	if n == m.cursor {
		name = t.Clip("> "+style.Clean(m.names[n]), inner-2)
	}
	out := []string{frame(t.Glyph("┌")+t.Glyph("─")) + " " + t.Bold(t.Text, name) + " " +
		frame(strings.Repeat(t.Glyph("─"), max(0, inner-style.Width(name)-1))+t.Glyph("┐"))}
	var body []string
	state := string(e.Phase)
	if e.Phase == dock.Filling && e.Left > 0 {
		state += ", " + estimate.Words(e.Left) + " left"
	}
	// as large as leaves three lines to say more
	for _, row := range big(word, t.Glyph("█"), min((h-leastHeight)/bigRows, inner/bigWidth(longest))) {
		body = append(body, t.Paint(fg, row))
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
