package state

import (
	"errors"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/estimate"
	"polytome/internal/core/fit"
	"polytome/internal/core/plan"
	"polytome/internal/core/scancache"
	"polytome/internal/core/survey"
	"polytome/internal/target/drive"
)

// A Target is one of the bench's, with what is known of it and done there.
type Target struct {
	ID      bench.ID
	Survey  *survey.Survey // nil until it was looked at
	Trouble error          // why it could not be looked at
	Lane    *Lane          // its run, nil for none yet
	Check   Checked
	// Foreseen is what the check will say after the next run.
	Foreseen Foreseen
	Ejected  bool     // it was ejected, and is safe to unplug until it is looked at again
	Serving  *Serving // nil while it is not served

	wrote     bool     // a run wrote to it since the ledger noted what is there
	savesSeen bool     // they were to be kept by themselves since all were kept last
	planning  planning // the plan that is being made
	timed     timed
	jobs      *jobs
}

// timed is how long a plan takes, which is worked out once: with many titles that takes longer than a frame may.
type timed struct {
	of     *plan.Plan
	at     *survey.Survey
	speed  estimate.Speed
	verify string
	takes  estimate.Range
}

func timing(s *survey.Survey, p *plan.Plan) timed {
	return timed{of: p, at: s, speed: s.Speed(), verify: s.Config.Verify}
}

// PlanTime is how long a plan for target n takes; the target has been looked at.
func (d *State) PlanTime(n int, p *plan.Plan) estimate.Range {
	t := d.At(n)
	now := timing(t.Survey, p)
	if was := t.timed; was.of != now.of || was.at != now.at || was.speed != now.speed || was.verify != now.verify {
		now.takes = t.Survey.PlanTime(p)
		t.timed = now
	}
	return t.timed.takes
}

// Running reports whether a run goes on there.
func (t *Target) Running() bool { return t.Lane != nil && t.Lane.Running() }

// Away is why it cannot be looked at now, nil when it can. What is shown of it was on it before.
func (t *Target) Away() error {
	if t.Survey != nil {
		return t.Survey.Away
	}
	return t.Trouble
}

// At is target n; one of which nothing is known where the bench has no such target.
func (d *State) At(n int) *Target {
	if n < 0 || n >= len(d.Targets) {
		return &Target{jobs: &jobs{}}
	}
	return d.Targets[n]
}

// Board is what is known of all targets.
func (d *State) Board() survey.Board {
	out := make(survey.Board, len(d.Targets))
	for n, t := range d.Targets {
		out[n] = t.Survey
	}
	return out
}

// resize has the targets be those of the bench, after some came or went. What was known of them is looked at again.
func (d *State) resize() {
	d.Bench.Identify()
	before := slices.Clone(d.Targets)
	d.Targets = nil
	for n := range d.Bench.Targets {
		t := &Target{ID: d.Bench.Targets[n].ID(), jobs: &jobs{}}
		if i := slices.IndexFunc(before, func(b *Target) bool { return b.ID == t.ID }); i >= 0 {
			t.jobs, t.Serving, t.wrote = before[i].jobs, before[i].Serving, before[i].wrote
			before = slices.Delete(before, i, i+1)
		}
		d.Targets = append(d.Targets, t)
	}
	for _, t := range before { // they have gone, and may come back
		for w := range t.jobs {
			t.jobs[w].drop()
		}
		if t.Serving != nil {
			t.Serving.stop()
		}
	}
	d.Target = max(0, min(d.Target, len(d.Targets)-1))
	d.renumber()
}

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
	vault, trees := d.Vault, &d.trees
	return func() tea.Msg {
		o := survey.Options{Set: set, Vault: vault, Trees: trees}
		if cache != "" {
			if store, err := scancache.Open(cache); err == nil {
				o.Cache = store
				defer store.Close()
			}
		}
		s, err := survey.Take(ctx, b, n, titles, o)
		if err == nil {
			relink(ctx, b.Address(n), s)
		}
		return SurveyMsg{mine, generation, s, err}
	}
}

// SetSurvey takes over a look at a target, unless a newer one was begun or the target has gone. One that was made with
// other titles than are known now is dropped: the end of the scan has the target looked at again. Who waited for it to
// write is asked now.
func (d *State) SetSurvey(m SurveyMsg) tea.Cmd {
	n, ok := d.end(m.ticket)
	if !ok {
		return nil
	}
	if was := d.Targets[n].Trouble; was != nil && m.err == nil {
		d.Notice = "" // it is over
	}
	d.Targets[n].Trouble = m.err
	if m.err != nil {
		d.Targets[n].Survey = nil
		d.Notice = m.err.Error()
		if bare := (*drive.BareError)(nil); errors.As(m.err, &bare) {
			d.Notice = d.Bench.Targets[n].Name + " has no volume to fill yet: it is prepared in Drives."
		}
		d.askFor(n, m.err)
		return d.writeNow(n)
	}
	if m.generation != d.Generation {
		return nil
	}
	if m.survey.Away != nil {
		d.Targets[n].Trouble = m.survey.Away
		d.askFor(n, m.survey.Away)
	}
	before := d.Targets[n].Survey
	if len(m.survey.Notes) > 0 && d.Notice == "" && (before == nil || !slices.Equal(before.Notes, m.survey.Notes)) {
		d.Notice = strings.Join(m.survey.Notes, " ")
	}
	d.Targets[n].Ejected = d.Targets[n].Ejected && m.survey.Away != nil
	m.survey.Sheet.Rank(d.Bench.Ranks(m.survey.Titles))
	m.survey.Choose(d.Bench, n)
	d.Targets[n].Survey = m.survey
	d.Board().Relate(d.Bench)
	if d.Bench.Targets[n].Remember(m.survey.Contested()) {
		d.Bench.Spread(n)
		d.unsaved = true
	}
	if back := m.survey.Back(); len(back) > 0 && m.survey.Fresh {
		d.Bench.Targets[n].BringBack(false, back...)
		d.unsaved = true
	}
	if say := m.survey.DeletedNote(); say != "" && d.Notice == "" && (before == nil || before.DeletedNote() != say) {
		d.Notice = say
	}
	if m.survey.ListChanged(d.Bench, n) { // titles were chosen meanwhile
		return d.SurveyTarget(n)
	}
	return tea.Batch(d.noteVolume(n, survey.Noted{}), d.sawSaves(n), d.writeNow(n))
}

// Looking reports whether a target is being looked at: until that is over, what is shown of it may not be what the
// bench says.
func (d *State) Looking(n int) bool { return d.goesOn(n, looking) }

// Current is the survey of the target that is shown, nil when there is none.
func (d *State) Current() *survey.Survey { return d.At(d.Target).Survey }

// Chosen counts the titles that go to a target or are there, and all that its loader has to
// do with.
func (d *State) Chosen(n int) (goes, all int) {
	if s := d.Targets[n].Survey; s != nil {
		return s.Sheet.Count, s.Sheet.Mine
	}
	return 0, len(d.Scan.Titles)
}

// Verdict is what holds for a title at a target; ok is false while it is not
// known.
func (d *State) Verdict(n, titleIndex int) (v fit.Verdict, chosen, ok bool) {
	s := d.Targets[n].Survey
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
	for _, t := range d.Targets {
		if s := t.Survey; !d.known(s, i) || s.Sheet.Fits(i).Kind != fit.Foreign {
			return false
		}
	}
	return len(d.Targets) > 0
}

// A planning is a plan that is being made.
type planning struct {
	of      *survey.Survey
	changes int
}

// A PlanMsg is a plan that was made in the background.
type PlanMsg struct {
	planning
	plan  *plan.Plan
	timed timed
}

// Inline is the number of titles up to which things are worked out at once, as that takes a few
// milliseconds.
const Inline = 2000

// Plan is the plan for a target. With many titles it is nil until it was made in the background; see
// [State.PlanSoon].
func (d *State) Plan(n int) *plan.Plan {
	s := d.At(n).Survey
	if s == nil {
		return nil
	}
	if p := s.Planned(); p != nil || len(s.Titles) > Inline {
		return p
	}
	return s.Plan()
}

// PlanSoon has the plan for a target made in the background, where there is none and none is being made.
func (d *State) PlanSoon(n int) tea.Cmd {
	s := d.At(n).Survey
	if s == nil || d.Plan(n) != nil {
		return nil
	}
	now := planning{s, d.changes}
	if d.Targets[n].planning == now {
		return nil
	}
	d.Targets[n].planning = now
	look := *s
	look.Sheet = s.Sheet.Clone()
	return func() tea.Msg {
		p := look.MakePlan(look.Sheet)
		takes := timing(&look, p)
		takes.at, takes.takes = s, look.PlanTime(p)
		return PlanMsg{now, p, takes}
	}
}

// SetPlan takes over a plan, unless choices have changed since. Who waited for it to write is asked now.
func (d *State) SetPlan(m PlanMsg) tea.Cmd {
	n := slices.Index(d.Board(), m.of)
	if n < 0 || m.changes != d.changes {
		return nil
	}
	m.of.SetPlan(m.plan)
	d.Targets[n].timed = m.timed
	return d.writeNow(n)
}
