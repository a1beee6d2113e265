package desk

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/fit"
	"polytome/internal/core/plan"
	"polytome/internal/core/seen"
	"polytome/internal/core/survey"
)

// A SurveyMsg is a fresh look at a place.
type SurveyMsg struct {
	ticket
	generation int // of the titles that were looked at with
	survey     *survey.Survey
	err        error
}

// Survey looks at all places anew, in the background.
func (d *Desk) Survey() tea.Cmd {
	var cmds []tea.Cmd
	for i := range d.Bench.Places {
		cmds = append(cmds, d.SurveyPlace(i))
	}
	return tea.Batch(cmds...)
}

// SurveyPlace looks at one place anew. A look that goes on is given up: only the newest counts.
func (d *Desk) SurveyPlace(n int) tea.Cmd {
	mine, ctx := d.begin(n, looking)
	b, titles, set, cache, generation := d.Bench.Clone(), d.Scan.Titles, d.Set, d.CacheFile, d.Generation
	return func() tea.Msg {
		o := survey.Options{Set: set}
		if cache != "" {
			if store, err := seen.Open(cache); err == nil {
				o.Cache = store
				defer store.Close()
			}
		}
		s, err := survey.Take(ctx, b, n, titles, o)
		return SurveyMsg{mine, generation, s, err}
	}
}

// SetSurvey takes over a look at a place, unless a newer one was begun or the place has gone. One that was made with other titles
// than are known now is dropped: the end of the scan has the place looked at again.
func (d *Desk) SetSurvey(m SurveyMsg) {
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
		d.askPassword(n, m.err)
		return
	}
	if m.generation != d.Generation {
		return
	}
	if m.survey.Away != nil {
		d.Trouble[n] = m.survey.Away
		d.askPassword(n, m.survey.Away)
	}
	if len(m.survey.Notes) > 0 && d.Notice == "" {
		d.Notice = strings.Join(m.survey.Notes, " ")
	}
	m.survey.Sheet.Rank(d.Bench.Ranks(m.survey.Titles))
	m.survey.Choose(d.Bench, n)
	d.Surveys[n] = m.survey
	d.Surveys.Disks()
	if d.Bench.Places[n].Remember(m.survey.Contested()) {
		d.unsaved = true
	}
}

// Looking reports whether a place is being looked at: until that is over, what is shown of it may not be what the bench says.
func (d *Desk) Looking(n int) bool { return d.goesOn(n, looking) }

// Current is the survey of the place that is shown, nil when there is none.
func (d *Desk) Current() *survey.Survey {
	if d.Place < len(d.Surveys) {
		return d.Surveys[d.Place]
	}
	return nil
}

// Away is why a place cannot be looked at now, nil for one that can. What is shown of it was on it
// before.
func (d *Desk) Away(n int) error {
	if s := d.Surveys[n]; s != nil {
		return s.Away
	}
	return d.Trouble[n]
}

// Chosen counts the titles that go to a place or are there, and all that its loader has to
// do with.
func (d *Desk) Chosen(n int) (goes, all int) {
	if s := d.Surveys[n]; s != nil {
		return s.Sheet.Count, s.Sheet.Mine
	}
	return 0, len(d.Scan.Titles)
}

// Verdict is what holds for a title at a place; ok is false while it is not
// known.
func (d *Desk) Verdict(n, titleIndex int) (v fit.Verdict, chosen, ok bool) {
	s := d.Surveys[n]
	if !d.known(s, titleIndex) {
		return v, false, false // while a scan goes on, a look at the place may be a moment behind
	}
	return s.Sheet.Verdict(titleIndex), s.Sheet.Chosen[titleIndex], true
}

func (d *Desk) known(s *survey.Survey, i int) bool {
	return s != nil && i < len(s.Titles) && i < len(d.Scan.Titles) && s.Titles[i].Key == d.Scan.Titles[i].Key
}

// Foreign reports whether no place of the bench has anything to do with a title. While a
// place has not been looked at, nothing is foreign.
func (d *Desk) Foreign(i int) bool {
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

// Plan is the plan for a place. With many titles it is nil until it was made in the background; see
// [Desk.PlanSoon].
func (d *Desk) Plan(n int) *plan.Plan {
	if n >= len(d.Surveys) || d.Surveys[n] == nil {
		return nil
	}
	s := d.Surveys[n]
	if p := s.Planned(); p != nil || len(s.Titles) > Inline {
		return p
	}
	return s.Plan()
}

// PlanSoon has the plan for a place made in the background, where there is none and none is being made.
func (d *Desk) PlanSoon(n int) tea.Cmd {
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
func (d *Desk) SetPlan(m PlanMsg) {
	if slices.Contains(d.Surveys, m.of) && m.changes == d.changes {
		m.of.SetPlan(m.plan)
	}
}
