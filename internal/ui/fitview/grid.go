package fitview

import (
	"fmt"
	"strings"

	"polytome/internal/core/fit"
	"polytome/internal/size"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// Widths of the grid in cells.
const (
	cellWidth = 14
	idWidth   = 10
	markWidth = 3 // favourite and priority
	sizeWidth = 11
	leastName = 22
)

// View draws the stage.
func (m *Model) View(t *style.Theme, w, h int) []string {
	switch {
	case m.d.Supposing != nil:
		return m.supposing(t, w, h)
	case m.d.Sharing != nil:
		return m.sharing(t, w, h)
	}
	targets := m.d.Bench.Targets
	m.scroll(w, len(targets))
	nameWidth, reason := m.widths(w, m.shown)
	marks := fmt.Sprintf("%s selected  %s selected, but does not fit", mark(t, true, true), mark(t, false, true))
	fixed := idWidth + 1 + markWidth + 1 + nameWidth + 1 + sizeWidth
	head := []style.Cell{{Text: m.sideways(marks, fixed), Width: fixed, FG: t.Dim}}
	under := []style.Cell{{Text: "ID", Width: idWidth, FG: t.Dim}, {Width: markWidth}, {Text: "title", Width: nameWidth,
		FG: t.Dim}, {Text: "size", Width: sizeWidth, Right: true, FG: t.Dim}}
	for n := m.left; n < m.left+m.shown; n++ {
		c := style.Cell{Text: targets[n].Name, Width: cellWidth, Bold: n == m.d.Target}
		if n == m.d.Target {
			c.FG = t.Accent
		}
		head = append(head, c)
		under = append(under, style.Cell{Text: m.facts(n), Width: cellWidth, FG: t.Dim})
	}
	if reason > 0 {
		head = append(head, style.Cell{Width: reason})
		under = append(under, style.Cell{Text: "path, or why not", Width: reason, FG: t.Dim})
	}
	out := append([]string{t.Row(w, false, head...), t.Row(w, false, under...)}, m.d.KnownLines(t, w, m.d.Target)...)
	m.top = len(out)
	foot := []string{}
	if n := m.Hidden(); n > 0 {
		who := "this loader does"
		if len(targets) > 1 {
			who = "these loaders do"
		}
		foot = append(foot, " "+t.Paint(t.Dim, t.Clip(fmt.Sprintf("%s that %s not use: / finds them",
			size.Count(n, "more title"), who), w-2)))
	}
	out = append(out, m.Draw(t, w, h-len(out)-len(foot), func(i int, cursor bool) string {
		return m.line(t, w, i, cursor, nameWidth, reason)
	}, func(b *state.BuiltIn, cursor bool) string { return m.builtInLine(t, w, b, cursor, nameWidth) })...)
	return append(out, foot...)
}

// sideways says in front of the targets how many there are to both sides, where not all have space.
func (m *Model) sideways(marks string, w int) string {
	left, right := m.left, len(m.d.Bench.Targets)-m.left-m.shown
	if left == 0 && right == 0 {
		return marks
	}
	say := fmt.Sprintf("targets %d to %d of %d", m.left+1, m.left+m.shown, len(m.d.Bench.Targets))
	if m.shown == 1 {
		say = fmt.Sprintf("target %d of %d", m.left+1, len(m.d.Bench.Targets))
	}
	if gap := w - style.Width(marks) - style.Width(say); gap > 2 {
		return marks + strings.Repeat(" ", gap) + say
	}
	return strings.Repeat(" ", max(0, w-style.Width(say))) + say
}

// scroll chooses the targets that are shown, so that the current one is among them.
func (m *Model) scroll(w, targets int) {
	space := w - 1 - (idWidth + 1) - (markWidth + 1) - (leastName + 1) - (sizeWidth + 1)
	m.shown = max(1, min(targets, space/(cellWidth+1)))
	m.left = max(0, min(m.left, targets-m.shown))
	if m.d.Target < m.left {
		m.left = m.d.Target
	}
	if m.d.Target >= m.left+m.shown {
		m.left = m.d.Target - m.shown + 1
	}
	m.shown = min(m.shown, targets)
}

// widths shares a row out between the name, and the reason where there is space.
func (m *Model) widths(w, targets int) (name, reason int) {
	left := w - 1 - (idWidth + 1) - (markWidth + 1) - (sizeWidth + 1) - targets*(cellWidth+1) - 1
	if left > 72 {
		name = min(36, left/2-6)
		return name, left - name - 2
	}
	return max(10, left), 0
}

func (m *Model) facts(n int) string {
	s := m.d.Targets[n].Survey
	switch {
	case s == nil && m.d.Targets[n].Trouble != nil:
		return "cannot be used"
	case s == nil:
		return "looking"
	case s.Away != nil:
		return "offline " + s.Taken.Local().Format("15:04")
	}
	if s.Facts.Unknown {
		return s.Facts.Filesystem.Shown
	}
	return strings.TrimSuffix(s.Facts.Filesystem.Shown, " disk") + " " +
		strings.TrimSuffix(size.Format(s.Facts.Capacity), "iB")
}

func (m *Model) line(t *style.Theme, w, i int, cursor bool, nameWidth, reason int) string {
	tt := &m.d.Scan.Titles[i]
	cells := []style.Cell{
		{Text: tt.ID, Width: idWidth, FG: t.Dim},
		{Text: m.wanted(t, tt.Key), Width: markWidth, FG: t.Accent},
		{Text: tt.Label(), Width: nameWidth},
		{Text: size.Column(tt.Size()), Width: sizeWidth, Right: true},
	}
	for n := m.left; n < m.left+m.shown; n++ {
		v, chosen, ok := m.d.Verdict(n, i)
		c := style.Cell{Width: cellWidth, Text: "  " + t.Glyph("·"), FG: t.Faint}
		if ok && v.Kind != fit.Foreign {
			c.Text = mark(t, v.Kind.Goes(), chosen) + " " + v.Word()
			c.FG = state.VerdictColour(t, v.Kind.Goes(), chosen)
			if chosen && m.d.Known(n, i) != nil {
				c.Text, c.FG = mark(t, v.Kind.Goes(), chosen)+"!"+v.Word(), t.Bad
			}
			c.Bold = cursor && n == m.d.Target
		}
		cells = append(cells, c)
	}
	if s := m.d.Current(); reason > 0 && s != nil {
		if _, _, ok := m.d.Verdict(m.d.Target, i); ok {
			cells = append(cells, style.Cell{Text: s.Sheet.Short(i), Width: reason, FG: t.Dim})
		}
	}
	return t.Row(w, cursor, cells...)
}

// builtInLine is a title of a console: it takes no room, and nothing can be chosen.
func (m *Model) builtInLine(t *style.Theme, w int, b *state.BuiltIn, cursor bool, nameWidth int) string {
	cells := []style.Cell{{Text: b.ID, Width: idWidth, FG: t.Dim}, {Width: markWidth},
		{Text: b.Name, Width: nameWidth, FG: t.Dim}, {Width: sizeWidth}}
	for n := m.left; n < m.left+m.shown; n++ {
		c := style.Cell{Width: cellWidth, Text: "  " + t.Glyph("·"), FG: t.Faint}
		if word := m.d.BuiltInAt(n, b); word != "" {
			c.Text, c.FG = "  "+word, t.Dim
		}
		cells = append(cells, c)
	}
	return t.Row(w, cursor, cells...)
}

// wanted shows a favourite and a priority.
func (m *Model) wanted(t *style.Theme, key string) string {
	s := " "
	if m.d.Bench.Favours(key) {
		s = t.Glyph("♥")
	}
	if n := m.d.Bench.Priorities[key]; n != 0 {
		s += fmt.Sprintf("%+d", n)
	}
	return s
}

// mark shows a choice: put, put but it cannot go, or not chosen.
func mark(t *style.Theme, goes, chosen bool) string {
	switch {
	case chosen && goes:
		return t.Glyph("▪")
	case chosen:
		return t.Glyph("▫")
	}
	return " "
}
