package checkview

import (
	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/check"
	"polytome/internal/core/loader"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// awaited reports whether the list was arranged here, and what comes of it is not shown yet.
func (m *Model) awaited() bool { return m.arranging && m.d.Changes() != m.before }

// lay divides the list into what the console shows at a time. The cursor stays at the title that it was at.
func (m *Model) lay(r *check.Report) {
	m.rows = nil
	if r == nil {
		return
	}
	s := m.d.Current()
	m.rows = rowsOf(r.Listed, func(name string) int {
		if s != nil {
			for _, p := range s.Profiles {
				if p.Name == name {
					return p.ListPage
				}
			}
		}
		return 0
	})
	c := &m.lists[listed]
	c.Cursor = min(max(c.Cursor, m.top()), max(0, len(m.rows)-1))
	for k, row := range m.rows {
		if m.at == nil || row.line < 0 {
			continue
		}
		if l := &r.Listed[row.line]; l.Name == m.at.Name && l.Loader == m.at.Loader && l.BuiltIn == m.at.BuiltIn {
			c.Cursor = k
			return
		}
	}
}

// top is the first row that has something on it to do something with.
func (m *Model) top() int {
	if len(m.rows) > 1 && m.rows[0].page {
		return 1
	}
	return 0
}

// placeable reports whether a line of the list can be moved, and can be in a section. It is worked out once for the
// line under the cursor, as there may be many titles.
func (m *Model) placeable(l *check.Listed) (place, section bool) {
	s := m.d.Current()
	if l == nil || s == nil || l.BuiltIn {
		return false, false
	}
	if m.placed.of != l || m.placed.by != s {
		m.placed.of, m.placed.by, m.placed.place, m.placed.section = l, s, false, false
		if i, ok := s.ListedTitle(l); ok {
			m.placed.place, m.placed.section = s.Placeable(i)
		}
	}
	return m.placed.place, m.placed.section
}

// headCells are what heads a page or a section.
func (m *Model) headCells(t *style.Theme, r row, w int) []style.Cell {
	fg := t.Accent
	if r.page {
		fg = t.Dim
	}
	return []style.Cell{{Width: 4}, {Text: r.head, Width: w - 7, FG: fg}}
}

// arrangeKeys are those by which the console's list is arranged.
func (m *Model) arrangeKeys() []state.Action {
	var can loader.Arranging
	if s := m.d.Current(); s != nil {
		can = s.Arranges()
	}
	l := m.line()
	some := m.pane == listed && l != nil && !l.BuiltIn
	place, section := m.placeable(l)
	change := func(do func() tea.Cmd) func() tea.Cmd {
		return func() tea.Cmd {
			m.arranging, m.before = true, m.d.Changes()
			return do()
		}
	}
	titled := func(do func() tea.Cmd) func() tea.Cmd {
		return func() tea.Cmd {
			if m.pane != listed || l == nil {
				m.d.Notice = "This is for a title of the list: tab goes there."
				return nil
			}
			return change(do)()
		}
	}
	move := func(by int) func() tea.Cmd {
		return titled(func() tea.Cmd {
			return m.d.MoveListed(m.d.Target, m.report().Listed, m.rows[m.lists[listed].Cursor].line, by)
		})
	}
	return []state.Action{
		state.Do("o", "sections", change(state.Just(func() { m.d.AskSections(m.d.Target) }))).When(can.Sections).
			Saying("divide the console's list: by letters, into parts, or all in one section"),
		state.Do("f", "its section", titled(state.Just(func() { m.d.AskSection(m.d.Target, l) }))).
			When(some && section).Saying("put the title into a section of the console's list"),
		state.Do("[ shift+up", "earlier", move(-1)).When(some && place).
			Saying("move the title up in the console's list"),
		state.Do("] shift+down", "later", move(1)).When(some && place).
			Saying("move the title down in the console's list"),
		state.Do("*", "favourite", titled(func() tea.Cmd { return m.d.FavourListed(m.d.Target, l) })).
			When(can.Favourites && some).Saying("mark it as a favourite at the console, and give it space first"),
	}
}
