// Package fitview is the second stage: where can it go, and why? The grid of titles
// by targets, with a verdict in every cell; what would be if a target were set up otherwise; and homes for
// all titles at once.
package fitview

import (
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/loader"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/survey"
	"polytome/internal/draw"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/state"
)

// Model is the stage.
type Model struct {
	*state.TitleRows
	d     *state.State
	top   int // lines above the list
	left  int // the first target that is shown
	shown int // how many targets are
	// aside are the lists of what is supposed, and of homes.
	aside scroll.List
	// sorted are the homes of sortedOf in the order in which they are shown.
	sorted   []survey.Home
	sortedOf *state.Sharing
}

// New makes the stage.
func New(d *state.State) *Model {
	m := &Model{d: d, TitleRows: state.NewTitleRows(d)}
	m.Hide(d.Foreign)
	m.AtTarget()
	m.Kept("fit")
	return m
}

// Name is the stage's name on the rail.
func (m *Model) Name() string { return "Fit" }

// Number is the stage's number on the rail.
func (m *Model) Number() string {
	if len(m.d.Bench.Targets) == 0 {
		return "0"
	}
	goes, all := m.d.Chosen(m.d.Target)
	return fmt.Sprintf("%d/%d", goes, all)
}

// Actions are the keys of the stage.
func (m *Model) Actions() []state.Action {
	switch {
	case m.d.Supposing != nil:
		return append([]state.Action{
			state.Do("enter", "apply", func() tea.Cmd { return m.d.Accept(m.aside.Cursor) }),
			state.Do("w", "close without changes", state.Just(func() { m.d.Supposing = nil })),
		}, state.Movement(&m.aside)...)
	case m.d.Sharing != nil:
		return append([]state.Action{
			state.Do("enter", "accept these homes", m.d.TakeHomes),
			state.Do("s", "close without changes", state.Just(func() { m.d.Sharing = nil })),
		}, state.Movement(&m.aside)...)
	}
	_, some := m.TitleRows.Title()
	target := m.d.Target < len(m.d.Bench.Targets)
	some = some && target
	return append([]state.Action{
		state.Do("space", "select/deselect", m.toggle).Saying("select the title for this target, or deselect it").
			When(some),
		state.Do("s", "distribute", m.share).
			Saying("find a target for every selected title; with a filter, for every title shown").When(some),
		state.Do("w", "what if", func() tea.Cmd { m.aside.Home(); return m.d.WhatIf(m.d.Target) }).
			Saying("try another filesystem, cluster size, capacity, connection or loader, no covers or a second " +
				"target, and see what changes"),
		state.Do("a", "platform", func() tea.Cmd { return m.d.Want(m.d.Target, m.Platform()) }).
			Saying("select or deselect all titles under this heading").When(some),
		state.Do("A", "all shown", func() tea.Cmd { return m.d.Want(m.d.Target, m.All()) }).
			Saying("select or deselect all titles shown, such as those found with /").When(some),
		state.Do("*", "favourite", m.favour).Saying("gets space before all others").When(some),
		state.Do("+ =", "higher priority", func() tea.Cmd { return m.prioritise(1) }).When(some),
		state.Do("-", "lower priority", func() tea.Cmd { return m.prioritise(-1) }).When(some),
		state.Do("left h", "the target to the left", state.Just(func() { m.d.Target = max(0, m.d.Target-1) })),
		state.Do("right l", "the target to the right",
			state.Just(func() { m.d.Target = max(0, min(len(m.d.Bench.Targets)-1, m.d.Target+1)) })),
		state.Do("m", "what does not fit", state.Just(func() {
			m.Narrow(func(i int) bool {
				v, _, ok := m.d.Verdict(m.d.Target, i)
				return ok && !v.Kind.Goes()
			})
		})).Saying("show only titles that do not fit, or all again"),
		m.d.FixKnown(), m.d.AddKit(),
		state.Do("o", "order", m.NextOrder).Saying("list by platform, name, size, verdict, space, priority ..."),
		state.Do("f", "filesystem", m.declare).Saying("choose which filesystem this folder stands for").When(target),
		state.Do("e", "reserve", m.reserve).Saying("keep this much space free on the target").When(target),
		state.Do("c", "covers", m.covers).Saying("write covers to the target, or none").When(target),
		state.Do("b", "cover budget", state.Just(func() { m.d.AskCoverBudget(m.d.Target) })).
			Saying("how much space covers may use on the target").When(target),
		state.Do("i", "alike", state.Just(func() { m.d.AskAlike(m.d.Target) })).
			Saying("add another stick with the same titles: what you select for one is for all").When(target),
		state.Do("n", "model", func() tea.Cmd { return m.d.NextModel(m.d.Target) }).
			Saying("of the console: what is built into it is listed, too").When(m.d.HasModels(m.d.Target)),
	}, state.Movement(&m.List)...)
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
		return m.d.Want(m.d.Target, []int{i})
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
		return m.d.Distribute(m.All())
	}
	return m.d.Distribute(m.d.Board().Wanted())
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

// declare goes through the filesystems: as it is on the target, then each kind.
func (m *Model) declare() tea.Cmd {
	if m.d.Target >= len(m.d.Bench.Targets) {
		return nil
	}
	names := append([]string{""}, target.FilesystemNames()...)
	p := m.d.Bench.Targets[m.d.Target]
	next := names[(slices.Index(names, p.As)+1)%len(names)]
	m.d.Notice = p.Name + " is judged by its real filesystem. u undoes."
	if next != "" {
		f, _ := target.FilesystemNamed(next)
		m.d.Notice = fmt.Sprintf("%s now stands for a drive with %s. f tries the next one, u undoes.", p.Name, f.Shown)
	}
	return m.d.Declare(m.d.Target, next)
}

// reserve asks how much space is to stay free.
func (m *Model) reserve() tea.Cmd {
	n := m.d.Target
	if n >= len(m.d.Bench.Targets) {
		return nil
	}
	p := m.d.Bench.Targets[n]
	value := ""
	if p.Reserve > 0 {
		b, _ := p.Reserve.MarshalText()
		value = string(b)
	}
	m.d.Ask(state.Question{Prompt: "stays free on " + p.Name + ": ", Value: value,
		Hint: "a size such as 2GiB; empty for none", Done: func(answer string) tea.Cmd {
			var bytes int64
			if answer != "" {
				var err error
				if bytes, err = size.Parse(answer); err != nil {
					m.d.Notice = err.Error()
					return nil
				}
			}
			return m.d.SetUp(n, fmt.Sprintf("%s stay free on %s. u undoes.", size.Format(bytes), p.Name),
				func(p *bench.Target) { p.Reserve = bench.Size(bytes) })
		}})
	return nil
}

func (m *Model) covers() tea.Cmd {
	n := m.d.Target
	if n >= len(m.d.Bench.Targets) {
		return nil
	}
	none := !m.d.Bench.Targets[n].NoCovers
	say := "No covers are written to %s. u undoes."
	if !none {
		say = "Covers are written to %s too, where titles leave space. u undoes."
	}
	return m.d.SetUp(n, fmt.Sprintf(say, m.d.Bench.Targets[n].Name), func(p *bench.Target) { p.NoCovers = none })
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
func (m *Model) Why() state.Why {
	switch {
	case m.d.Supposing != nil:
		return m.supposedWhy()
	case m.d.Sharing != nil:
		return m.homeWhy()
	}
	n := m.d.Target
	if t := m.d.At(n); t.Survey == nil && t.Trouble != nil {
		return state.Why{Lead: m.d.Bench.Targets[n].Name, Say: "cannot be looked at: " + t.Trouble.Error() + "."}
	}
	if b := m.BuiltIn(); b != nil {
		return m.d.BuiltInWhy(b)
	}
	i, ok := m.TitleRows.Title()
	s := m.d.Current()
	if ok {
		_, _, ok = m.d.Verdict(n, i)
	}
	if !ok {
		return state.Why{Lead: "No verdict yet:", Say: "the target has not been read."}
	}
	e := m.d.Board().Explain(n, i)
	v := s.Sheet.Verdict(i)
	w := state.Why{Lead: fmt.Sprintf("%s on %s: %s.", s.Titles[i].Label(), s.Config.Name, v.Word()),
		Say: strings.ToUpper(e.Say[:1]) + e.Say[1:] + ".", Ways: e.Words()}
	if v.Kind.Goes() && v.Need > 0 {
		w.Say += fmt.Sprintf(" Copying it over %s takes %s", loader.ViaWord(s.Config.Via), s.Time(i))
		if s.Speed().Runs == 0 {
			w.Say += " (estimated)"
		}
		w.Say += "."
	}
	if !s.Sheet.Chosen[i] {
		w.Say = "Not selected. " + w.Say
	}
	if x := s.Double(i); x != "" {
		w.Say += " " + x
	}
	if f := m.d.Known(n, i); f != nil {
		w.Say, w.Ways = "Known before: "+f.Say+". "+w.Say, state.KnownWays(f)
	}
	if s.Away != nil {
		w.Say = fmt.Sprintf("The target is not connected; this is what was on it at %s. ", s.Taken.Local().
			Format("2006-01-02 15:04")) + w.Say
	}
	return w
}
