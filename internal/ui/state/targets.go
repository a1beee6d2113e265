package state

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/fit"
	"polytome/internal/core/plan"
	"polytome/internal/core/scancache"
	"polytome/internal/core/survey"
)

// A SurveyMsg is a fresh look at a target.
type SurveyMsg struct {
	ticket
	generation int // of the titles that were looked at with
	survey     *survey.Survey
	err        error
}

// Survey looks at all targets again, in the background.
func (d *State) Survey() tea.Cmd {
	var cmds []tea.Cmd
	for i := range d.Bench.Targets {
		cmds = append(cmds, d.SurveyTarget(i))
	}
	return tea.Batch(cmds...)
}

// SurveyTarget looks at one target again. A look that goes on is given up: only the newest counts.
func (d *State) SurveyTarget(n int) tea.Cmd {
	mine, ctx := d.begin(n, looking)
	b, titles, set, cache, generation := d.Bench.Clone(), d.Scan.Titles, d.Set, d.CacheFile, d.Generation
	return func() tea.Msg {
		o := survey.Options{Set: set}
		if cache != "" {
			if store, err := scancache.Open(cache); err == nil {
				o.Cache = store
				defer store.Close()
			}
		}
		s, err := survey.Take(ctx, b, n, titles, o)
		return SurveyMsg{mine, generation, s, err}
	}
}

// SetSurvey takes over a look at a target, unless a newer one was begun or the target has gone. One that was made with
// other titles than are known now is dropped: the end of the scan has the target looked at again.
func (d *State) SetSurvey(m SurveyMsg) {
	n, ok := d.end(m.ticket)
	if !ok {
		return
	}
	if was := d.Trouble[n]; was != nil && m.err == nil && d.Notice == was.Error() {
		d.Notice = "" // it is over
	}
	d.Trouble[n] = m.err
	if m.err != nil {
		d.Surveys[n] = nil
		d.Notice = m.err.Error()
		d.askFor(n, m.err)
		return
	}
	if m.generation != d.Generation {
		return
	}
	if m.survey.Away != nil {
		d.Trouble[n] = m.survey.Away
		d.askFor(n, m.survey.Away)
	}
	if len(m.survey.Notes) > 0 && d.Notice == "" {
		d.Notice = strings.Join(m.survey.Notes, " ")
	}
	m.survey.Sheet.Rank(d.Bench.Ranks(m.survey.Titles))
	m.survey.Choose(d.Bench, n)
	d.Surveys[n] = m.survey
	d.Surveys.Disks()
	if d.Bench.Targets[n].Remember(m.survey.Contested()) {
		d.unsaved = true
	}
}

// Looking reports whether a target is being looked at: until that is over, what is shown of it may not be what the
// bench says.
func (d *State) Looking(n int) bool { return d.goesOn(n, looking) }

// Current is the survey of the target that is shown, nil when there is none.
func (d *State) Current() *survey.Survey {
	if d.Target < len(d.Surveys) {
		return d.Surveys[d.Target]
	}
	return nil
}

// Away is why a target cannot be looked at now, nil for one that can. What is shown of it was on it
// before.
func (d *State) Away(n int) error {
	if s := d.Surveys[n]; s != nil {
		return s.Away
	}
	return d.Trouble[n]
}

// Chosen counts the titles that go to a target or are there, and all that its loader has to
// do with.
func (d *State) Chosen(n int) (goes, all int) {
	if s := d.Surveys[n]; s != nil {
		return s.Sheet.Count, s.Sheet.Mine
	}
	return 0, len(d.Scan.Titles)
}

// Verdict is what holds for a title at a target; ok is false while it is not
// known.
func (d *State) Verdict(n, titleIndex int) (v fit.Verdict, chosen, ok bool) {
	s := d.Surveys[n]
	if !d.known(s, titleIndex) {
		return v, false, false // while a scan goes on, a look at the target may be a moment behind
	}
	return s.Sheet.Verdict(titleIndex), s.Sheet.Chosen[titleIndex], true
}

func (d *State) known(s *survey.Survey, i int) bool {
	return s != nil && i < len(s.Titles) && i < len(d.Scan.Titles) && s.Titles[i].Key == d.Scan.Titles[i].Key
}

// Foreign reports whether no target of the bench has anything to do with a title. While a
// target has not been looked at, nothing is foreign.
func (d *State) Foreign(i int) bool {
	for _, s := range d.Surveys {
		if !d.known(s, i) || s.Sheet.Fits(i).Kind != fit.Foreign {
			return false
		}
	}
	return len(d.Surveys) > 0
}

// A planning is a plan that is being made.
type planning struct {
	of      *survey.Survey
	changes int
}

// A PlanMsg is a plan that was made in the background.
type PlanMsg struct {
	planning
	plan *plan.Plan
}

// Inline is the number of titles up to which things are worked out at once, as that takes a few
// milliseconds.
const Inline = 2000

// Plan is the plan for a target. With many titles it is nil until it was made in the background; see
// [State.PlanSoon].
func (d *State) Plan(n int) *plan.Plan {
	if n >= len(d.Surveys) || d.Surveys[n] == nil {
		return nil
	}
	s := d.Surveys[n]
	if p := s.Planned(); p != nil || len(s.Titles) > Inline {
		return p
	}
	return s.Plan()
}

// PlanSoon has the plan for a target made in the background, where there is none and none is being made.
func (d *State) PlanSoon(n int) tea.Cmd {
	if n >= len(d.Surveys) || d.Surveys[n] == nil || d.Plan(n) != nil {
		return nil
	}
	s := d.Surveys[n]
	now := planning{s, d.changes}
	if d.planning[n] == now {
		return nil
	}
	d.planning[n] = now
	sheet := s.Sheet.Clone()
	return func() tea.Msg { return PlanMsg{now, s.MakePlan(sheet)} }
}

// SetPlan takes over a plan, unless choices have changed since.
func (d *State) SetPlan(m PlanMsg) {
	if slices.Contains(d.Surveys, m.of) && m.changes == d.changes {
		m.of.SetPlan(m.plan)
	}
}
