// Package savesview is the panel of what players have reached: every save of every target and of the vault, by title,
// which is newest, and which is in one place alone; to keep them, put them back, copy them, and link titles with cards.
package savesview

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/saves"
	"polytome/internal/core/survey"
	"polytome/internal/core/title"
	"polytome/internal/draw"
	"polytome/internal/size"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// Model is the panel.
type Model struct {
	d      *state.State
	all    []survey.SavesOf
	rows   []row
	lists  scroll.Pair // the saves, and the kept versions of the title under the cursor
	filter string
}

// A row is a save on a target; or a title of which only the vault has one, with place -1.
type row struct{ of, place int }

// New makes the panel.
func New(d *state.State) *Model { return &Model{d: d} }

// Name is the panel's name.
func (m *Model) Name() string { return "Saves" }

// Number is how many saves are on the targets.
func (m *Model) Number() string {
	n := 0
	for _, s := range m.d.Board() {
		if s != nil {
			n += len(s.Saves())
		}
	}
	return fmt.Sprint(n)
}

// Calls reports whether saves on the targets are newer than what is kept: the rail marks the panel then.
func (m *Model) Calls() bool {
	return slices.ContainsFunc(m.d.Board(), func(s *survey.Survey) bool {
		return s != nil && s.Away == nil && slices.ContainsFunc(s.Saves(),
			func(r survey.Reached) bool { return r.State != saves.IsKept })
	})
}

// Open reads what is kept.
func (m *Model) Open() tea.Cmd {
	m.Refresh()
	return m.d.ReadKept()
}

// Refresh lists the saves again; the cursor stays on its save.
func (m *Model) Refresh() {
	was, on := "", bench.ID(0)
	if r, g := m.row(); g != nil {
		was = g.Key
		if r.place >= 0 {
			on = g.Places[r.place].ID
		}
	}
	m.all, m.rows = m.d.Saves(), nil
	for i := range m.all {
		g := &m.all[i]
		if m.filter != "" && !state.HasWords(g.Label+" "+m.names(g), m.filter) {
			continue
		}
		first := len(m.rows)
		for k := range g.Places {
			m.rows = append(m.rows, row{i, k})
		}
		if len(g.Places) == 0 {
			m.rows = append(m.rows, row{i, -1})
		}
		if g.Key == was {
			m.lists.Left.Cursor = first
			for k := first; k < len(m.rows); k++ {
				if p := m.rows[k].place; p >= 0 && g.Places[p].ID == on {
					m.lists.Left.Cursor = k
				}
			}
		}
	}
	m.lists.Left.N = len(m.rows)
	m.lists.Left.Cursor = max(0, min(m.lists.Left.Cursor, len(m.rows)-1))
}

// names are those of the targets that a title's saves are on.
func (m *Model) names(g *survey.SavesOf) string {
	var all []string
	for _, p := range g.Places {
		all = append(all, p.On)
	}
	return strings.Join(all, " ")
}

// SetFilter shows only titles and targets that have the words.
func (m *Model) SetFilter(f string) {
	m.filter = f
	m.Refresh()
}

// Escape takes the filter back, or leaves the versions.
func (m *Model) Escape() bool {
	if m.lists.Leave() {
		return true
	}
	had := m.filter != ""
	m.SetFilter("")
	return had
}

// Drawing is what paper shows of the panel: nothing of its own.
func (m *Model) Drawing() draw.Request { return m.d.Drawn(draw.KindCard) }

// Title is that of the save under the cursor.
func (m *Model) Title() (int, bool) {
	_, p, _ := m.place()
	if p == nil || len(p.Owners) != 1 {
		return 0, false
	}
	i := slices.IndexFunc(m.d.Scan.Titles, func(t title.Title) bool { return t.Key == p.Owners[0].Key })
	return i, i >= 0
}

// row is the one under the cursor, with what it is of; nil for none.
func (m *Model) row() (r row, g *survey.SavesOf) {
	if m.lists.Left.Cursor >= len(m.rows) || m.rows[m.lists.Left.Cursor].of >= len(m.all) {
		return row{place: -1}, nil
	}
	r = m.rows[m.lists.Left.Cursor]
	return r, &m.all[r.of]
}

// place is the save under the cursor, with the number of its target; nil where only the vault has one, or the target is
// no longer on the bench.
func (m *Model) place() (g *survey.SavesOf, p *survey.SavePlace, n int) {
	r, g := m.row()
	if g == nil || r.place < 0 {
		return g, nil, -1
	}
	if n, ok := m.d.Bench.Find(g.Places[r.place].ID); ok {
		return g, &g.Places[r.place], n
	}
	return g, nil, -1
}

// version is the kept one that is meant: under the cursor, or the newest.
func (m *Model) version() *saves.Version {
	_, g := m.row()
	if g == nil || len(g.Kept) == 0 {
		return nil
	}
	if m.lists.Side {
		return &g.Kept[min(m.lists.Right.Cursor, len(g.Kept)-1)]
	}
	return &g.Kept[0]
}

// Actions are the keys of the panel.
func (m *Model) Actions() []state.Action {
	_, p, n := m.place()
	on := func(do func(p *survey.SavePlace, n int) tea.Cmd) func() tea.Cmd {
		return func() tea.Cmd {
			if _, p, n := m.place(); p != nil {
				return do(p, n)
			}
			m.d.Notice = "This save is on no target that is connected: b puts it back."
			return nil
		}
	}
	return append([]state.Action{
		state.Do("v enter", "keep", on(func(_ *survey.SavePlace, n int) tea.Cmd { return m.d.KeepSaves(n) })).
			Saying("all saves of the target under the cursor, in the vault on this computer").When(p != nil),
		state.Do("b", "put back", m.putBack).Saying("the kept version under the cursor, or the newest").
			When(m.version() != nil),
		state.Do("c", "copy", on(func(p *survey.SavePlace, n int) tea.Cmd {
			m.d.AskCopySave(n, p.Reached)
			return nil
		})).Saying("the save to another target").When(p != nil),
		state.Do("l", "link with a card", on(m.link)).Saying("which several titles share, or make one").
			When(p != nil && m.links(n)),
		state.Do("x", "bring along", on(func(_ *survey.SavePlace, n int) tea.Cmd { return m.d.ToggleSaves(n) })).
			Saying("kept saves with titles that go to this target, or not").When(p != nil),
		state.Do("tab", "versions", state.Just(func() { m.lists.Side = !m.lists.Side })).
			Saying("go to the kept versions, or back").When(m.version() != nil),
	}, state.Movement(m.lists.Active())...)
}

// links reports whether the title under the cursor can use a card.
func (m *Model) links(n int) bool {
	i, ok := m.Title()
	return ok && m.d.UsesCards(n, i)
}

func (m *Model) link(p *survey.SavePlace, n int) tea.Cmd {
	i, ok := m.Title()
	if !ok {
		m.d.Notice = "Choose the save of one title: this card is used by " + size.Count(len(p.Owners), "title") + "."
		return nil
	}
	m.d.AskCard(n, i)
	return nil
}

// putBack puts a version on the target under the cursor, or on the one that it is from.
func (m *Model) putBack() tea.Cmd {
	v := m.version()
	if v == nil {
		m.d.Notice = "Nothing of it is kept yet: v keeps it."
		return nil
	}
	_, p, n := m.place()
	to := ""
	if p != nil && p.State == saves.IsKept && m.is(v, p.Kept) {
		m.d.Notice = fmt.Sprintf("Number %d is what is on %s already.", v.Number, p.On)
		return nil
	}
	if p != nil {
		to = p.Path
	} else {
		n = slices.IndexFunc(m.d.Board(), func(s *survey.Survey) bool { return s != nil && s.ReadsSaves(v.Loader) })
		for k, s := range m.d.Board() {
			if s != nil && s.Config.Name == v.Target {
				n = k
			}
		}
	}
	if n < 0 {
		m.d.Notice = "No target that is connected has a loader that reads this save."
		return nil
	}
	m.d.AskPutBack(n, *v, to)
	return nil
}

// is reports whether a version has the same bytes as the one of a number.
func (m *Model) is(v *saves.Version, number int) bool {
	_, g := m.row()
	i := slices.IndexFunc(g.Kept, func(x saves.Version) bool { return x.Number == number })
	return i >= 0 && g.Kept[i].Holds(v)
}

// Next is the step that brings the saves into safety.
func (m *Model) Next() (n state.Next, ok bool) {
	g, p, _ := m.place()
	if p == nil || p.Standing != survey.OnlyHere && p.Standing != survey.Unkept {
		return n, false
	}
	say := "keep what is on " + p.On
	if p.Standing == survey.OnlyHere {
		say += ": the save of " + g.Label + " is nowhere else"
	}
	return state.Next{Screen: m.Name(), Key: "v", Say: say}, true
}

// Click moves the cursor to the row that was clicked.
func (m *Model) Click(x, y int) tea.Cmd {
	m.lists.Click(x, y, 2)
	return nil
}

// Wheel scrolls the part under the cursor.
func (m *Model) Wheel(by int) { m.lists.Wheel(by) }

// Why explains the save under the cursor.
func (m *Model) Why() state.Why {
	g, p, _ := m.place()
	switch {
	case m.d.Kept.Err != nil:
		return state.Why{Lead: "What is kept cannot be read:", Say: state.Sentence(m.d.Kept.Err.Error())}
	case g == nil && m.filter != "":
		return state.Why{Lead: "No save has these words.", Say: "Esc shows all."}
	case g == nil:
		return state.Why{Lead: "No saves were found.",
			Say: "What players reach shows up here when a target with saves on it is looked at."}
	case p == nil:
		return state.Why{Lead: g.Label + ":", Say: fmt.Sprintf("It is on no target that is connected. %s kept.",
			size.Count(len(g.Kept), "version")), Ways: []string{"b puts the newest back"}}
	}
	if v := m.version(); m.lists.Side && v != nil {
		w := state.Why{Lead: fmt.Sprintf("Number %d:", v.Number), Say: fmt.Sprintf("kept %s from %s",
			v.Kept.Local().Format("2006-01-02 15:04"), v.Target), Ways: []string{"b puts it back"}}
		if v.Why != "" {
			w.Say += ", " + v.Why
		}
		w.Say += "."
		return w
	}
	name := p.On
	w := state.Why{Lead: g.Label + " on " + name + ":"}
	switch p.Standing {
	case survey.OnlyHere:
		w.Say, w.Ways = "This is all that there is of it: if the target breaks, it is lost.", []string{"v keeps it"}
	case survey.Unkept:
		w.Say, w.Ways = "It is not kept as it is now.", []string{"v keeps it"}
	case survey.Newest:
		w.Say = fmt.Sprintf("It is kept, as number %d, and nothing newer is known.", p.Kept)
	case survey.Older:
		w.Say = fmt.Sprintf("Somebody played on elsewhere: number %d, from %s, is newer.", g.Kept[0].Number,
			g.Kept[0].Target)
		w.Ways = []string{"b puts the newest on " + name}
	case survey.Parted:
		w.Say = "Somebody played on here and elsewhere, and neither came of the other. Both are kept: choose which " +
			"is to go on."
		w.Ways = []string{"c copies this one", "tab and b put another one here"}
	}
	if p.Odd != "" {
		w.Say += " " + state.Sentence(p.Odd)
	}
	if g.Shared {
		w.Say += " " + m.users(p)
	}
	return w
}

// users says which titles use a card.
func (m *Model) users(p *survey.SavePlace) string {
	var names []string
	for _, o := range p.Owners {
		names = append(names, o.Label)
	}
	if len(names) == 0 {
		return "No title uses this card."
	}
	return "Used by " + strings.Join(names, ", ") + "."
}

// View draws the panel.
func (m *Model) View(t *style.Theme, w, h int) []string {
	return m.lists.Draw(w, h, 60, t.Paint(t.Faint, t.Glyph("│")),
		func(w, h int) []string { return m.saves(t, w, h) },
		func(w, h int) []string { return m.versions(t, w, h) })
}

// saves draws the list of all saves.
func (m *Model) saves(t *style.Theme, w, h int) []string {
	once := 0
	for i := range m.all {
		if m.all[i].Once() {
			once++
		}
	}
	caption := "saves"
	if once > 0 {
		caption += fmt.Sprintf(": %d in one place only", once)
	}
	name := max(14, min(34, w-66))
	head := t.Row(w, false, style.Cell{Text: "title", Width: name, FG: t.Dim}, style.Cell{Text: "where", Width: 14,
		FG: t.Dim}, style.Cell{Text: "size", Width: 10, FG: t.Dim, Right: true}, style.Cell{Text: "changed", Width: 16,
		FG: t.Dim}, style.Cell{Text: "", Width: 18})
	out := []string{t.Rule(caption, w), head}
	if len(m.rows) == 0 {
		return t.Block(append(out, "", "  "+t.Paint(t.Dim,
			"No saves on the targets that are connected, and none kept.")),
			w, h)
	}
	m.lists.Left.Resize(len(m.rows), h-2)
	from, to := m.lists.Left.Window()
	last := -1
	for k := from; k < to; k++ {
		r := m.rows[k]
		g := &m.all[r.of]
		label := g.Label
		if r.of == last {
			label = ""
		}
		last = r.of
		cells := []style.Cell{{Text: label, Width: name}}
		if r.place < 0 {
			v := &g.Kept[0]
			cells = append(cells, style.Cell{Text: "vault only", Width: 14, FG: t.Dim},
				style.Cell{Text: size.Format(v.Bytes()), Width: 10, Right: true},
				style.Cell{Text: v.Modified().Local().Format("2006-01-02 15:04"), Width: 16, FG: t.Dim},
				style.Cell{Text: "from " + v.Target, Width: 18, FG: t.Dim})
		} else {
			p := &g.Places[r.place]
			fg := t.Text
			switch p.Standing {
			case survey.OnlyHere, survey.Parted:
				fg = t.Warn
			case survey.Unkept:
				fg = t.Accent
			case survey.Newest:
				fg = t.Good
			case survey.Older:
				fg = t.Dim
			}
			cells = append(cells, style.Cell{Text: p.On, Width: 14},
				style.Cell{Text: size.Format(p.Bytes), Width: 10, Right: true},
				style.Cell{Text: p.Modified.Local().Format("2006-01-02 15:04"), Width: 16, FG: t.Dim},
				style.Cell{Text: string(p.Standing), Width: 18, FG: fg})
		}
		out = append(out, t.Row(w, k == m.lists.Left.Cursor && !m.lists.Side, cells...))
	}
	return t.Block(out, w, h)
}

// versions draws what is kept of the title under the cursor.
func (m *Model) versions(t *style.Theme, w, h int) []string {
	_, g := m.row()
	if g == nil {
		return t.Block([]string{t.Rule("kept", w)}, w, h)
	}
	out := []string{t.Rule("kept of "+style.Clean(g.Label), w)}
	if len(g.Kept) == 0 {
		return t.Block(append(out, "", "  "+t.Paint(t.Dim, "Nothing yet: v keeps what is there.")), w, h)
	}
	out = append(out, t.Row(w, false, style.Cell{Text: "no.", Width: 5, FG: t.Dim, Right: true},
		style.Cell{Text: "changed", Width: 16, FG: t.Dim}, style.Cell{Text: "from", Width: 14, FG: t.Dim},
		style.Cell{Text: "size", Width: 10, FG: t.Dim, Right: true}))
	m.lists.Right.Resize(len(g.Kept), max(1, h-len(out)-2))
	from, to := m.lists.Right.Window()
	for k := from; k < to; k++ {
		v := &g.Kept[k]
		note, fg := "", t.Good
		if v.PutBack {
			note, fg = "put there", t.Dim
		}
		if slices.ContainsFunc(g.Tips, func(x saves.Version) bool { return x.Number == v.Number }) {
			note, fg = "newest", t.Good
			if len(g.Tips) > 1 {
				note, fg = string(survey.Parted), t.Warn
			}
		}
		at := m.lists.Side && k == m.lists.Right.Cursor
		out = append(out, t.Row(w, at, style.Cell{Text: fmt.Sprint(v.Number), Width: 5,
			Right: true},
			style.Cell{Text: v.Modified().Local().Format("2006-01-02 15:04"), Width: 16, FG: t.Dim},
			style.Cell{Text: v.Target, Width: 14}, style.Cell{Text: size.Format(v.Bytes()), Width: 10, Right: true},
			style.Cell{Text: note, Width: 16, FG: fg}))
	}
	out = append(out, "", " "+t.Paint(t.Dim, t.Clip("in "+m.d.Vault.Dir, w-2)))
	return t.Block(out, w, h)
}
