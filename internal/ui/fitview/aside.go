package fitview

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/survey"
	"polytome/internal/size"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// supposing draws what would be different if the target were set up otherwise: above what can be
// supposed, below which verdicts change with the one under the cursor.
func (m *Model) supposing(t *style.Theme, w, h int) []string {
	s := m.d.Supposing
	name := m.d.Bench.Targets[s.Target].Name
	head := t.Bold(t.Text, " What if "+style.Clean(name)+" were ...")
	if s.Working {
		head += t.Paint(t.Dim, "  working it out")
	} else {
		head += t.Paint(t.Dim, "  a preview: enter applies it")
	}
	what := min(34, w/3)
	titles := []style.Cell{{Width: what}, {Text: "titles fit", Width: 12, Right: true, FG: t.Dim},
		{Text: "free space", Width: 11, Right: true, FG: t.Dim}, {Text: "time", Width: max(8, w-what-12-11-5),
			FG: t.Dim}}
	out := []string{head, t.Row(w, false, titles...)}
	m.top = len(out)
	rows := min(len(s.Rows), max(3, (h-len(out))*3/5))
	m.aside.Resize(len(s.Rows), rows)
	from, to := m.aside.Window()
	for i := from; i < to; i++ {
		out = append(out, m.supposed(t, w, what, i))
	}
	if m.aside.Cursor < len(s.Rows) && !s.Rows[m.aside.Cursor].Other {
		out = append(out, t.Rule("what changes", w))
		out = append(out, m.changes(t, w, h-len(out), s.Rows[m.aside.Cursor])...)
	}
	return t.Block(out, w, h)
}

// supposed is one line: how many titles go, the space left and the time, beside what they are now.
func (m *Model) supposed(t *style.Theme, w, what, i int) string {
	row := m.d.Supposing.Rows[i]
	cells := []style.Cell{{Text: row.What, Width: what}}
	if row.Err != nil {
		return t.Row(w, i == m.aside.Cursor, append(cells, style.Cell{Text: row.Err.Error(), Width: w - what - 2,
			FG: t.Warn})...)
	}
	if row.Other {
		return t.Row(w, i == m.aside.Cursor, cells...)
	}
	d := row.Diff
	goes := style.Cell{Text: fmt.Sprintf("%d %s", d.Goes[1], signed(d.Goes[1]-d.Goes[0])), Width: 12, Right: true}
	switch {
	case d.Goes[1] > d.Goes[0]:
		goes.FG = t.Good
	case d.Goes[1] < d.Goes[0]:
		goes.FG = t.Bad
	}
	time := d.Time[1].String()
	if d.Time[0] == d.Time[1] {
		time = "as now"
	}
	space := size.Column(d.Free[1])
	if row.Lost != nil { // there is no target any longer that could have space
		space = ""
	}
	return t.Row(w, i == m.aside.Cursor, append(cells, goes,
		style.Cell{Text: space, Width: 11, Right: true, FG: t.Dim}, style.Cell{Text: time,
			Width: max(8, w-what-12-11-5), FG: t.Dim})...)
}

func signed(n int) string {
	if n == 0 {
		return "    "
	}
	return fmt.Sprintf("%+4d", n)
}

// changes lists the verdicts that change, those of wanted titles first.
func (m *Model) changes(t *style.Theme, w, h int, row state.Supposed) []string {
	if row.Diff == nil || h < 1 {
		return nil
	}
	all := slices.Clone(row.Diff.Changes)
	slices.SortStableFunc(all, func(a, b survey.Change) int {
		return cmp.Compare(weight(a), weight(b))
	})
	if len(all) == 0 {
		return []string{" " + t.Paint(t.Dim, "No verdict changes.")}
	}
	var out []string
	for k, c := range all {
		if k == h-1 && len(all) > h {
			out = append(out, " "+t.Paint(t.Dim, fmt.Sprintf("and %d more", len(all)-k)))
			break
		}
		word := c.Is.String()
		if row.Lost != nil {
			word = "no home"
		}
		fg := t.Good
		if !c.Is.Goes() {
			fg = t.Bad
		}
		wanted := " "
		if c.Chosen {
			wanted = t.Glyph("▪")
		}
		out = append(out, t.Row(w, false, style.Cell{Text: wanted, Width: 1}, style.Cell{Text: c.Label,
			Width: max(10, min(44, w-34))},
			style.Cell{Text: c.Was.String(), Width: 12, FG: t.Dim}, style.Cell{Text: t.Glyph("→") + " " + word,
				Width: 14, FG: fg}))
	}
	return out
}

// weight brings changes that matter to the front: wanted titles that go or do not go any longer.
func weight(c survey.Change) int {
	n := 2
	if c.Chosen {
		n = 0
	}
	if c.Is.Goes() == c.Was.Goes() {
		n++
	}
	return n
}

func (m *Model) supposedWhy() state.Why {
	s := m.d.Supposing
	if m.aside.Cursor >= len(s.Rows) {
		return state.Why{Lead: "Working out", Say: "what would change."}
	}
	row := s.Rows[m.aside.Cursor]
	w := state.Why{Lead: m.d.Bench.Targets[s.Target].Name + " " + row.What + ":"}
	if row.Err != nil {
		w.Say = row.Err.Error() + "."
		return w
	}
	if row.Other {
		return state.Why{Lead: "Something else:", Say: "type what to change, as on the command line: " +
			survey.Suppositions() + "."}
	}
	w.Say = row.Diff.Say() + "."
	if row.Lost != nil {
		w.Say = fmt.Sprintf("%s would have no home any more. The target itself is not touched.",
			size.Count(len(row.Lost), "title"))
	}
	if strings.HasPrefix(row.What, "formatted") || strings.HasPrefix(row.What, "clusters") {
		w.Say += " The drive would have to be reformatted; the estimate includes restoring what is on it now."
	}
	w.Ways = []string{"enter applies it", "esc cancels"}
	return w
}

// homes are the homes that are proposed, those that change something first.
func (m *Model) homes() []survey.Home {
	if s := m.d.Sharing; m.sortedOf != s {
		m.sortedOf, m.sorted = s, slices.Clone(s.Homes)
		slices.SortStableFunc(m.sorted, func(a, b survey.Home) int { return cmp.Compare(change(a), change(b)) })
	}
	return m.sorted
}

func change(h survey.Home) int {
	switch {
	case h.Target < 0:
		return 0
	case h.Moved:
		return 1
	}
	return 2
}

// sharing draws the homes that are proposed, with the reason for each.
func (m *Model) sharing(t *style.Theme, w, h int) []string {
	s := m.d.Sharing
	if s.Working {
		return t.Block([]string{"", "  " + t.Paint(t.Dim, "Looking for the best homes ...")}, w, h)
	}
	head := t.Bold(t.Text, " Distribute: ") + t.Paint(t.Text, fmt.Sprintf("%d already there, %d to copy, ", s.Here,
		s.Going))
	left := t.Paint(t.Dim, "every title has a home")
	if s.Left > 0 {
		left = t.Bold(t.Warn, fmt.Sprintf("%d fit nowhere", s.Left))
	}
	head += left + t.Paint(t.Dim, "; "+s.Whole.String()+" with all connections at once")
	name := max(16, min(34, w/3))
	out := []string{head, t.Row(w, false, style.Cell{Text: "title", Width: name, FG: t.Dim}, style.Cell{Text: "goes to",
		Width: cellWidth + 2, FG: t.Dim}, style.Cell{Text: "why", Width: w - name - cellWidth - 6, FG: t.Dim})}
	m.top = len(out)
	all := m.homes()
	m.aside.Resize(len(all), h-len(out))
	from, to := m.aside.Window()
	for i := from; i < to; i++ {
		x := all[i]
		c := style.Cell{Text: x.Name, Width: cellWidth + 2, FG: t.Dim}
		switch {
		case x.Target < 0:
			c.Text, c.FG = "nowhere", t.Bad
		case x.Moved:
			c.FG = t.Good
		}
		out = append(out, t.Row(w, i == m.aside.Cursor, style.Cell{Text: x.Label, Width: name}, c,
			style.Cell{Text: x.Why, Width: w - name - cellWidth - 6, FG: t.Dim}))
	}
	return t.Block(out, w, h)
}

func (m *Model) homeWhy() state.Why {
	s := m.d.Sharing
	if s.Working || m.aside.Cursor >= len(s.Homes) {
		return state.Why{Lead: "Looking", Say: "for homes."}
	}
	x := m.homes()[m.aside.Cursor]
	lead := x.Label + " fits nowhere:"
	if x.Target >= 0 {
		lead = fmt.Sprintf("%s goes to %s:", x.Label, x.Name)
	}
	return state.Why{Lead: lead, Say: x.Why + ".",
		Ways: []string{"enter accepts all these homes", "esc cancels"}}
}
