package checkview

import (
	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/check"
	"polytome/internal/core/loader"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// arranged is what somebody has just done to the list.
type arranged struct {
	on     bool
	key    string // of the title, "" for none
	before int    // the choices before
}

// awaited reports whether the list was arranged, and what comes of it is not shown yet.
func (m *Model) awaited() bool { return m.arranged.on && m.d.Changes() != m.arranged.before }

// lay divides the list into what the console shows at a time.
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
	if c := &m.lists[listed]; c.Cursor == 0 && len(m.rows) > 1 && m.rows[0].page {
		c.Cursor = 1
	}
}

// followed moves the cursor to the title that was moved, where it is in the list; it reports whether it was.
func (m *Model) followed(r *check.Report) bool {
	s, key := m.d.Current(), m.arranged.key
	if !m.awaited() || r == nil || s == nil || !m.after {
		return false
	}
	m.arranged = arranged{}
	for i := range s.Titles {
		if s.Titles[i].Key != key {
			continue
		}
		for k, row := range m.rows {
			if row.line >= 0 && s.Lists(i, &r.Listed[row.line]) {
				m.lists[listed].Cursor = k
				return true
			}
		}
	}
	return false
}

// headCells are what heads a page or a section.
func (m *Model) headCells(t *style.Theme, r row, w int) []style.Cell {
	fg := t.Accent
	if r.page {
		fg = t.Dim
	}
	return []style.Cell{{Width: 4}, {Text: r.head, Width: w - 7, FG: fg}}
}

// arranging are the keys by which the console's list is arranged.
func (m *Model) arranging() []state.Action {
	var can loader.Arranging
	if s := m.d.Current(); s != nil && m.pane == listed {
		can = s.Arranges()
	}
	l := m.line()
	some := l != nil && !l.BuiltIn
	change := func(do func() tea.Cmd) func() tea.Cmd {
		return func() tea.Cmd {
			m.arranged = arranged{on: true, before: m.d.Changes()}
			if l != nil {
				m.arranged.key, _ = m.d.KeyListed(m.d.Target, l)
			}
			return do()
		}
	}
	move := func(by int) func() tea.Cmd {
		return change(func() tea.Cmd {
			return m.d.MoveListed(m.d.Target, m.report().Listed, m.rows[m.lists[listed].Cursor].line, by)
		})
	}
	return []state.Action{
		state.Do("o", "sections", change(state.Just(func() { m.d.AskSections(m.d.Target) }))).When(can.Sections).
			Saying("divide the console's list: by letters, into parts, or all in one section"),
		state.Do("f", "its section", change(state.Just(func() { m.d.AskSection(m.d.Target, l) }))).
			When(can.Sections && some).Saying("put the title into a section of the console's list"),
		state.Do("[ shift+up", "earlier", move(-1)).When(can.Places && some).
			Saying("move the title up in the console's list"),
		state.Do("] shift+down", "later", move(1)).When(can.Places && some).
			Saying("move the title down in the console's list"),
		state.Do("*", "favourite", change(func() tea.Cmd { return m.d.FavourListed(m.d.Target, l) })).
			When(can.Favourites && some).Saying("mark it as a favourite at the console, and give it space first"),
	}
}
