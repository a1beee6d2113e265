// Package fitview is the second stage: where can it go, and why? The grid of titles
// by places, with a verdict in every cell.
package fitview

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/fit"
	"polytome/internal/core/survey"
	"polytome/internal/place"
	"polytome/internal/size"
	"polytome/internal/ui/desk"
	"polytome/internal/ui/style"
)

// Model is the stage.
type Model struct {
	*desk.TitleRows
	d   *desk.Desk
	top int // lines above the list
}

// New makes the stage.
func New(d *desk.Desk) *Model {
	m := &Model{d: d, TitleRows: desk.NewTitleRows(d)}
	m.Hide(d.Foreign)
	return m
}

// Name is the stage's name on the rail.
func (m *Model) Name() string { return "Fit" }

// Number is the stage's number on the rail.
func (m *Model) Number() string {
	if len(m.d.Bench.Places) == 0 {
		return "0"
	}
	goes, all := m.d.Chosen(m.d.Place)
	return fmt.Sprintf("%d/%d", goes, all)
}

// Actions are the keys of the stage.
func (m *Model) Actions() []desk.Action {
	return append([]desk.Action{
		desk.Do("space", "put the title there, or take it off", m.toggle),
		desk.Do("a", "put or take all of this platform", func() tea.Cmd { return m.d.Want(m.d.Place, m.Platform()) }),
		desk.Do("left h", "the place to the left", desk.Just(func() { m.d.Place = max(0, m.d.Place-1) })),
		desk.Do("right l", "the place to the right", desk.Just(func() { m.d.Place = max(0, min(len(m.d.Bench.Places)-1, m.d.Place+1)) })),
		desk.Do("m", "show what does not go only, or all", desk.Just(func() {
			m.Narrow(func(i int) bool {
				v, _, ok := m.d.Verdict(m.d.Place, i)
				return ok && !v.Kind.Goes()
			})
		})),
		desk.Do("f", "say which filesystem the place stands for", m.declare),
	}, desk.Movement(&m.List)...)
}

func (m *Model) toggle() tea.Cmd {
	if i, ok := m.Title(); ok {
		return m.d.Want(m.d.Place, []int{i})
	}
	return nil
}

// declare goes through the filesystems: as it is on the place, then each kind.
func (m *Model) declare() tea.Cmd {
	if m.d.Place >= len(m.d.Bench.Places) {
		return nil
	}
	names := append([]string{""}, place.FilesystemNames()...)
	p := m.d.Bench.Places[m.d.Place]
	next := names[(slices.Index(names, p.As)+1)%len(names)]
	m.d.Notice = p.Name + " is judged by the filesystem that it really has. u takes it back."
	if next != "" {
		f, _ := place.FilesystemNamed(next)
		m.d.Notice = fmt.Sprintf("%s now stands for a drive with %s. f goes on, u takes it back.", p.Name, f.Shown)
	}
	return m.d.Declare(m.d.Place, next)
}

// Click moves the cursor; on the row under it, it puts or takes.
func (m *Model) Click(_, y int) tea.Cmd {
	if m.List.Click(y - m.top) {
		return m.toggle()
	}
	return nil
}

// Why explains the verdict under the cursor.
func (m *Model) Why() desk.Why {
	n := m.d.Place
	if n < len(m.d.Trouble) && m.d.Trouble[n] != nil {
		return desk.Why{Lead: m.d.Bench.Places[n].Name, Say: "cannot be looked at: " + m.d.Trouble[n].Error() + "."}
	}
	i, ok := m.Title()
	s := m.d.Current()
	if ok {
		_, _, ok = m.d.Verdict(n, i)
	}
	if !ok {
		return desk.Why{Lead: "Nothing", Say: "to judge yet."}
	}
	e := s.Sheet.Explain(i)
	w := desk.Why{Lead: fmt.Sprintf("%s on %s: %s.", s.Titles[i].Label(), s.Config.Name, e.Verdict), Say: strings.ToUpper(e.Say[:1]) + e.Say[1:] + ".", Ways: e.Ways}
	if !s.Sheet.Chosen[i] {
		w.Say = "Not chosen. " + w.Say
	}
	return w
}

const cellWidth = 14

// View draws the stage.
func (m *Model) View(t *style.Theme, w, h int) []string {
	places := m.d.Bench.Places
	nameWidth, reason := m.widths(w, len(places))
	marks := fmt.Sprintf("%s wanted  %s wanted, but cannot go", mark(t, true, true), mark(t, false, true))
	head := []style.Cell{{Text: marks, Width: 10 + 1 + nameWidth, FG: t.Dim}, {Text: "", Width: 11}}
	under := []style.Cell{{Text: "ID", Width: 10, FG: t.Dim}, {Text: "title", Width: nameWidth, FG: t.Dim}, {Text: "size", Width: 11, Right: true, FG: t.Dim}}
	for n, p := range places {
		c := style.Cell{Text: p.Name, Width: cellWidth, Bold: n == m.d.Place}
		if n == m.d.Place {
			c.FG = t.Accent
		}
		head = append(head, c)
		under = append(under, style.Cell{Text: m.facts(n), Width: cellWidth, FG: t.Dim})
	}
	if reason > 0 {
		head = append(head, style.Cell{Width: reason})
		under = append(under, style.Cell{Text: "where to, or why not", Width: reason, FG: t.Dim})
	}
	out := []string{t.Row(w, false, head...), t.Row(w, false, under...)}
	m.top = len(out)
	foot := []string{}
	if n := m.Hidden(); n > 0 {
		who := "this loader has"
		if len(places) > 1 {
			who = "these loaders have"
		}
		foot = append(foot, " "+t.Paint(t.Dim, t.Clip(fmt.Sprintf("%s more that %s nothing to do with: / finds them", size.Count(n, "title"), who), w-2)))
	}
	out = append(out, m.Draw(t, w, h-len(out)-len(foot), func(i int, cursor bool) string {
		return m.line(t, w, i, cursor, nameWidth, reason)
	})...)
	return append(out, foot...)
}

// widths shares a row out between the name, and the reason where there is room.
func (m *Model) widths(w, places int) (name, reason int) {
	left := w - 1 - 11 - 12 - places*(cellWidth+1) - 1
	if left > 76 {
		name = min(36, left/2-6)
		return name, left - name - 2
	}
	return max(10, left), 0
}

func (m *Model) facts(n int) string {
	s := m.d.Surveys[n]
	switch {
	case m.d.Trouble[n] != nil:
		return "away"
	case s == nil:
		return "looking"
	}
	return s.Facts.Filesystem.Shown + " " + strings.TrimSuffix(size.Format(s.Facts.Capacity), "iB")
}

func (m *Model) line(t *style.Theme, w, i int, cursor bool, nameWidth, reason int) string {
	tt := &m.d.Scan.Titles[i]
	cells := []style.Cell{
		{Text: tt.ID, Width: 10, FG: t.Dim},
		{Text: tt.Label(), Width: nameWidth},
		{Text: size.Column(tt.Size()), Width: 11, Right: true},
	}
	for n := range m.d.Bench.Places {
		v, chosen, ok := m.d.Verdict(n, i)
		c := style.Cell{Width: cellWidth, Text: t.Glyph("·"), FG: t.Faint}
		if ok {
			c.Text = mark(t, v.Kind.Goes(), chosen) + " " + string(v.Kind)
			c.FG = desk.VerdictColour(t, v.Kind.Goes(), chosen)
			c.Bold = cursor && n == m.d.Place
		}
		cells = append(cells, c)
	}
	if v, _, ok := m.d.Verdict(m.d.Place, i); reason > 0 && ok {
		s := m.d.Current()
		text := ""
		if v.Kind.Goes() {
			paths := s.Sheet.Paths(i)
			text = s.Tree.Placements[i].Items[0].Path
			if len(paths) > 1 {
				text += fmt.Sprintf("  and %d more", len(paths)-1)
			}
		} else {
			text = short(s, i)
		}
		cells = append(cells, style.Cell{Text: text, Width: reason, FG: t.Dim})
	}
	return t.Row(w, cursor, cells...)
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

// short gives the deciding number of a verdict in a few words.
func short(s *survey.Survey, i int) string {
	v := s.Sheet.Verdicts[i]
	switch v.Kind {
	case fit.TooBig:
		return fmt.Sprintf("%s over the largest file of %s", size.Format(v.Number), s.Facts.Filesystem.Shown)
	case fit.NoRoom:
		return size.Format(v.Number) + " missing"
	}
	return s.Sheet.Explain(i).Say
}
