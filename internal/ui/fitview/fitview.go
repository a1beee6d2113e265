// Package fitview is the second stage: where can it go, and why? The grid of titles
// by places, with a verdict in every cell; what would be if a place were set up otherwise; and homes for
// all titles at once.
package fitview

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/survey"
	"polytome/internal/draw"
	"polytome/internal/place"
	"polytome/internal/size"
	"polytome/internal/ui/desk"
	"polytome/internal/ui/scroll"
)

// Model is the stage.
type Model struct {
	*desk.TitleRows
	d     *desk.Desk
	top   int // lines above the list
	left  int // the first place that is shown
	shown int // how many places are
	// aside are the lists of what is supposed, and of homes.
	aside scroll.List
	// sorted are the homes of sortedOf in the order in which they are shown.
	sorted   []survey.Home
	sortedOf *desk.Sharing
}

// New makes the stage.
func New(d *desk.Desk) *Model {
	m := &Model{d: d, TitleRows: desk.NewTitleRows(d)}
	m.Hide(d.Foreign)
	m.AtPlace()
	m.Kept("fit")
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
	switch {
	case m.d.Supposing != nil:
		return append([]desk.Action{
			desk.Do("enter", "make it so", func() tea.Cmd { return m.d.Accept(m.aside.Cursor) }),
			desk.Do("w", "close; nothing is kept", desk.Just(func() { m.d.Supposing = nil })),
		}, desk.Movement(&m.aside)...)
	case m.d.Sharing != nil:
		return append([]desk.Action{
			desk.Do("enter", "take these homes over", m.d.TakeHomes),
			desk.Do("s", "close; nothing is kept", desk.Just(func() { m.d.Sharing = nil })),
		}, desk.Movement(&m.aside)...)
	}
	return append([]desk.Action{
		desk.Do("space", "put/take", m.toggle).Saying("put the title on the place, or take it off"),
		desk.Do("s", "share out", m.share).Saying("give every wanted title a home over all places; with a filter, every title that is shown"),
		desk.Do("w", "what if", func() tea.Cmd { m.aside.Home(); return m.d.WhatIf(m.d.Place) }).Saying("another filesystem, cluster, room, road or loader, no covers, a second place: see what changes"),
		desk.Do("a", "platform", func() tea.Cmd { return m.d.Want(m.d.Place, m.Platform()) }).Saying("put or take all titles under this heading"),
		desk.Do("A", "all shown", func() tea.Cmd { return m.d.Want(m.d.Place, m.All()) }).Saying("put or take all titles that are shown, such as those found with /"),
		desk.Do("*", "favourite", m.favour).Saying("gets room before all others"),
		desk.Do("+ =", "wanted more", func() tea.Cmd { return m.prioritise(1) }),
		desk.Do("-", "wanted less", func() tea.Cmd { return m.prioritise(-1) }),
		desk.Do("left h", "the place to the left", desk.Just(func() { m.d.Place = max(0, m.d.Place-1) })),
		desk.Do("right l", "the place to the right", desk.Just(func() { m.d.Place = max(0, min(len(m.d.Bench.Places)-1, m.d.Place+1)) })),
		desk.Do("m", "what does not go", desk.Just(func() {
			m.Narrow(func(i int) bool {
				v, _, ok := m.d.Verdict(m.d.Place, i)
				return ok && !v.Kind.Goes()
			})
		})).Saying("show only those titles, or all again"),
		desk.Do("o", "order", m.NextOrder).Saying("list by platform, name, size, verdict, room, how much they are wanted ..."),
		desk.Do("f", "filesystem", m.declare).Saying("say which filesystem the place stands for"),
		desk.Do("e", "reserve", m.reserve).Saying("keep so much room free on the place"),
		desk.Do("c", "covers", m.covers).Saying("write covers to the place, or none"),
		desk.Do("W", "what if no covers", func() tea.Cmd { m.aside.Home(); return m.d.WhatIfNoCovers(m.d.Place) }).Saying("or with them, where there are none: see what changes"),
		desk.Do("b", "cover budget", desk.Just(func() { m.d.AskCoverBudget(m.d.Place) })).Saying("what covers may take of the place"),
	}, desk.Movement(&m.List)...)
}

// Escape closes what is beside the grid, or shows all titles again.
func (m *Model) Escape() bool {
	if m.d.Supposing != nil || m.d.Sharing != nil {
		m.d.Supposing, m.d.Sharing = nil, nil
		return true
	}
	return m.TitleRows.Escape()
}

// Wheel scrolls.
func (m *Model) Wheel(by int) {
	if m.d.Supposing != nil || m.d.Sharing != nil {
		m.aside.Move(by)
		return
	}
	m.TitleRows.Wheel(by)
}

func (m *Model) toggle() tea.Cmd {
	if i, ok := m.TitleRows.Title(); ok {
		return m.d.Want(m.d.Place, []int{i})
	}
	return nil
}

func (m *Model) favour() tea.Cmd {
	if i, ok := m.TitleRows.Title(); ok {
		return m.d.Favour([]int{i})
	}
	return nil
}

func (m *Model) prioritise(by int) tea.Cmd {
	if i, ok := m.TitleRows.Title(); ok {
		return m.d.Prioritise(i, by)
	}
	return nil
}

// share gives homes to what is shown, where the list is narrow, else to what is wanted.
func (m *Model) share() tea.Cmd {
	m.aside.Home()
	if m.Narrowed() {
		return m.d.ShareOut(m.All())
	}
	return m.d.ShareOut(m.d.Surveys.Wanted())
}

// Drawing is what paper shows of the stage.
func (m *Model) Drawing() draw.Request { return m.d.Drawn(draw.KindFit) }

// Title is the title under the cursor, whose ghost the rack shows.
func (m *Model) Title() (int, bool) {
	if s := m.d.Sharing; s != nil {
		if s.Working || m.aside.Cursor >= len(s.Homes) {
			return 0, false
		}
		return m.homes()[m.aside.Cursor].Title, true
	}
	return m.TitleRows.Title()
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

// reserve asks how much room is to stay free.
func (m *Model) reserve() tea.Cmd {
	n := m.d.Place
	if n >= len(m.d.Bench.Places) {
		return nil
	}
	p := m.d.Bench.Places[n]
	value := ""
	if p.Reserve > 0 {
		b, _ := p.Reserve.MarshalText()
		value = string(b)
	}
	m.d.Ask(desk.Question{Prompt: "stays free on " + p.Name + ": ", Value: value, Hint: "a size such as 2GiB; nothing for none", Done: func(answer string) tea.Cmd {
		var bytes int64
		if answer != "" {
			var err error
			if bytes, err = size.Parse(answer); err != nil {
				m.d.Notice = err.Error()
				return nil
			}
		}
		return m.d.SetUp(n, fmt.Sprintf("%s stay free on %s. u takes it back.", size.Format(bytes), p.Name), func(p *bench.Place) { p.Reserve = bench.Size(bytes) })
	}})
	return nil
}

func (m *Model) covers() tea.Cmd {
	n := m.d.Place
	if n >= len(m.d.Bench.Places) {
		return nil
	}
	none := !m.d.Bench.Places[n].NoCovers
	say := "No covers are written to %s. u takes it back."
	if !none {
		say = "Covers are written to %s too, as far as titles leave room. u takes it back."
	}
	return m.d.SetUp(n, fmt.Sprintf(say, m.d.Bench.Places[n].Name), func(p *bench.Place) { p.NoCovers = none })
}

// Click moves the cursor; on the row under it, it puts or takes.
func (m *Model) Click(_, y int) tea.Cmd {
	if m.d.Supposing != nil || m.d.Sharing != nil {
		m.aside.Click(y - m.top)
		return nil
	}
	if m.List.Click(y - m.top) {
		return m.toggle()
	}
	return nil
}

// Why explains the verdict under the cursor.
func (m *Model) Why() desk.Why {
	switch {
	case m.d.Supposing != nil:
		return m.supposedWhy()
	case m.d.Sharing != nil:
		return m.homeWhy()
	}
	n := m.d.Place
	if n < len(m.d.Trouble) && m.d.Surveys[n] == nil && m.d.Trouble[n] != nil {
		return desk.Why{Lead: m.d.Bench.Places[n].Name, Say: "cannot be looked at: " + m.d.Trouble[n].Error() + "."}
	}
	i, ok := m.TitleRows.Title()
	s := m.d.Current()
	if ok {
		_, _, ok = m.d.Verdict(n, i)
	}
	if !ok {
		return desk.Why{Lead: "Nothing", Say: "to judge yet."}
	}
	e := m.d.Surveys.Explain(n, i)
	v := s.Sheet.Verdict(i)
	w := desk.Why{Lead: fmt.Sprintf("%s on %s: %s.", s.Titles[i].Label(), s.Config.Name, v.Word()), Say: strings.ToUpper(e.Say[:1]) + e.Say[1:] + ".", Ways: e.Words()}
	if v.Kind.Goes() && v.Need > 0 {
		learnt := ""
		if s.Pace().Runs == 0 {
			learnt = " as a rule"
		}
		w.Say += fmt.Sprintf(" Over %s that takes %s%s.", s.Config.Road, s.Time(i), learnt)
	}
	if !s.Sheet.Chosen[i] {
		w.Say = "Not chosen. " + w.Say
	}
	if s.Away != nil {
		w.Say = fmt.Sprintf("The place is away; this is what was on it at %s. ", s.Taken.Local().Format("2006-01-02 15:04")) + w.Say
	}
	return w
}
