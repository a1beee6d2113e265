package desk

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/intake"
	"polytome/internal/core/plan"
	"polytome/internal/core/proof"
	"polytome/internal/core/run"
	"polytome/internal/core/seen"
	"polytome/internal/core/survey"
	"polytome/internal/size"
)

// StepState is how far a step of a run is.
type StepState int

// The states.
const (
	Waiting StepState = iota
	Active
	Checking
	Done
	Failed
)

// A Lane is the run at one place, as its events tell it.
type Lane struct {
	Plan    *plan.Plan
	States  []StepState
	Says    map[int]string // what happened to failed steps
	Step    int            // the one under way
	Written int64          // bytes of this step
	Total   int64          // bytes of the whole plan
	Elapsed time.Duration
	Speeds  []float64 // bytes a second, one sample every sampleEvery
	Report  *run.Report

	spared    int64 // bytes that files turned out to be smaller by than they might have been
	learns    bool  // its speed is that of the place, and not of a limit
	cancel    context.CancelFunc
	sampled   time.Duration
	sampledAt int64
}

// sampleEvery is the time between two samples of the speed.
const sampleEvery = 200 * time.Millisecond

// Running reports whether the run still goes on.
func (l *Lane) Running() bool { return l.Report == nil }

// Stop ends the run after removing what is half written.
func (l *Lane) Stop() { l.cancel() }

// Bytes are what the run writes in all, as far as is known by now.
func (l *Lane) Bytes() int64 { return l.Plan.Bytes - l.spared }

// Left estimates the time that the rest takes; ok is false before there is
// anything to reckon with.
func (l *Lane) Left() (left time.Duration, ok bool) {
	if l.Total == 0 || l.Elapsed < time.Second/2 {
		return 0, false
	}
	rest := float64(l.Bytes()-l.Total) / (float64(l.Total) / l.Elapsed.Seconds())
	return time.Duration(rest * float64(time.Second)).Round(time.Second), true
}

func (l *Lane) apply(e run.Event) {
	l.Elapsed, l.Total, l.Step = e.Elapsed, e.Total, e.Step
	switch e.Kind {
	case run.Began:
		l.States[e.Step], l.Written = Active, 0
	case run.Progress:
		l.Written = e.Bytes
	case run.Checking:
		l.States[e.Step], l.Written = Checking, e.Bytes
	case run.Done:
		l.States[e.Step] = Done
		if s := &l.Plan.Steps[e.Step]; s.Writes() {
			l.spared += max(0, s.Size-e.Bytes)
		}
	case run.Failed:
		l.States[e.Step] = Failed
		l.Says[e.Step] = e.Say
	}
	if passed := l.Elapsed - l.sampled; passed >= sampleEvery {
		l.Speeds = append(l.Speeds, max(0, float64(l.Total-l.sampledAt)/passed.Seconds()))
		l.sampled, l.sampledAt = l.Elapsed, l.Total
	}
}

// A RunMsg is what happened in a run since the last one.
type RunMsg struct {
	Place  int
	Events []run.Event
	Report *run.Report // set at the end
	lane   *Lane
	next   <-chan RunMsg
}

// StartRun carries out the plan of a place in the background.
func (d *Desk) StartRun(n int) tea.Cmd {
	s := d.Surveys[n]
	if s == nil || (d.Lanes[n] != nil && d.Lanes[n].Running()) {
		return nil
	}
	if s.Away != nil {
		d.Notice = fmt.Sprintf("%s is away, so nothing can be written: %v", s.Config.Name, s.Away)
		return nil
	}
	p := d.Plan(n)
	if p == nil {
		d.Notice = "The plan is still being made; try again in a moment."
		return d.PlanSoon(n)
	}
	if p.Empty() {
		d.Notice = fmt.Sprintf("There is nothing to write to %s.", s.Config.Name)
		return nil
	}
	if loses := losing(p); loses != "" {
		d.Ask(Question{Prompt: fmt.Sprintf("%s on %s. Write its name to go on: ", loses, s.Config.Name), Hint: s.Config.Name, Done: func(answer string) tea.Cmd {
			if !strings.EqualFold(answer, s.Config.Name) {
				d.Notice = "That is not the name of the place, so nothing was begun."
				return nil
			}
			return d.run(n, s, p)
		}})
		return nil
	}
	return d.run(n, s, p)
}

// losing says what a plan takes away, "" for nothing.
func losing(p *plan.Plan) string {
	var parts []string
	if p.Removes > 0 {
		parts = append(parts, fmt.Sprintf("%s, %s, will be removed", size.Count(p.Removes, "file"), size.Format(p.Freed)))
	}
	if n := p.Loses() - p.Removes; n > 0 {
		parts = append(parts, fmt.Sprintf("%s will be replaced", size.Count(n, "file")))
	}
	return strings.Join(parts, " and ")
}

// run carries out a plan.
func (d *Desk) run(n int, s *survey.Survey, p *plan.Plan) tea.Cmd {
	ctx, cancel := context.WithCancel(d.Ctx)
	l := &Lane{Plan: p, States: make([]StepState, len(p.Steps)), Says: map[int]string{}, cancel: cancel}
	d.Lanes[n], d.Proofs[n], d.Notice = l, nil, ""
	look := *s
	l.learns = look.Config.Rate == 0 && d.defaultRate == 0
	if look.Config.Rate == 0 {
		look.Config.Rate = bench.Size(d.defaultRate)
	}
	o := run.Options{Passwords: slices.Clone(d.Bench.Passwords), Allowed: intake.Allowed(d.Bench)}
	out := make(chan RunMsg, 64)
	d.running.Go(func() {
		defer close(out)
		defer cancel()
		tell := func(m RunMsg) {
			m.Place, m.lane, m.next = n, l, out
			select {
			case out <- m:
			case <-d.Ctx.Done(): // the screen is gone, and nobody listens
			}
		}
		to, err := look.Open()
		if err != nil {
			r := run.Report{Untried: len(p.Steps), Failed: []run.Failure{{Say: err.Error()}}}
			tell(RunMsg{Report: &r})
			return
		}
		defer to.Close()
		r := guarded(p, func() run.Report {
			return run.Run(ctx, p, to, o, func(e run.Event) { tell(RunMsg{Events: []run.Event{e}}) })
		})
		d.remembering(func(store *seen.Store) { look.Wrote(store, r.Wrote) })
		tell(RunMsg{Report: &r})
	})
	if d.unsaved { // what is written under these names keeps them
		d.unsaved = false
		return tea.Batch(follow(out), d.save())
	}
	return follow(out)
}

// remembering opens what is remembered of files and places, where that can be.
func (d *Desk) remembering(use func(*seen.Store)) {
	if d.CacheFile == "" {
		return
	}
	if store, err := seen.Open(d.CacheFile); err == nil {
		use(store)
		_ = store.Close()
	}
}

// guarded keeps a mistake of ours in a run from taking the screen down with it.
func guarded(p *plan.Plan, do func() run.Report) (r run.Report) {
	defer func() {
		if x := recover(); x != nil {
			r = run.Report{Untried: len(p.Steps), Failed: []run.Failure{{Say: fmt.Sprintf("the run failed, which is a mistake of Polytome: %v", x)}}}
		}
	}()
	return do()
}

// follow waits for the next events, and takes all that have come together.
func follow(events <-chan RunMsg) tea.Cmd {
	return func() tea.Msg {
		m, ok := <-events
		if !ok {
			return nil
		}
		for m.Report == nil {
			select {
			case more, ok := <-events:
				if !ok {
					return m
				}
				m.Events = append(m.Events, more.Events...)
				m.Report = more.Report
			default:
				return m
			}
		}
		return m
	}
}

// SetRun takes over what happened in a run. At its end the place is looked at
// again and proved.
func (d *Desk) SetRun(m RunMsg) tea.Cmd {
	for _, e := range m.Events {
		m.lane.apply(e)
	}
	if m.Report == nil {
		return follow(m.next)
	}
	m.lane.Report = m.Report
	cmds := []tea.Cmd{d.SurveyPlace(m.Place), d.StartProof(m.Place)}
	if m.lane.learns && d.Bench.Places[m.Place].Learn(m.Report) {
		cmds = append(cmds, d.save())
	}
	return tea.Batch(cmds...)
}

// Running reports whether any run goes on.
func (d *Desk) Running() bool {
	for _, l := range d.Lanes {
		if l != nil && l.Running() {
			return true
		}
	}
	return false
}

// Wait waits until all runs have ended and removed what was half written. The
// desk's context must have been cancelled or the runs stopped.
func (d *Desk) Wait() { d.running.Wait() }

// StopRuns stops all runs.
func (d *Desk) StopRuns() {
	for _, l := range d.Lanes {
		if l != nil && l.Running() {
			l.Stop()
		}
	}
}

// A ProofMsg is the audit of a place.
type ProofMsg struct {
	Place   int
	Report  *proof.Report
	Err     error
	changes int
}

// StartProof audits a place in the background.
func (d *Desk) StartProof(n int) tea.Cmd {
	s := d.Surveys[n]
	if s == nil || d.Proving[n] {
		return nil
	}
	d.Proving[n] = true
	look, ctx, changes := *s, d.Ctx, d.changes
	promises := look.Promises()
	return func() tea.Msg {
		r, err := look.ProveAgainst(ctx, promises)
		return ProofMsg{n, r, err, changes}
	}
}

// SetProof takes over an audit.
func (d *Desk) SetProof(m ProofMsg) {
	if m.changes != d.changes {
		return
	}
	d.Proving[m.Place] = false
	if m.Err != nil {
		d.Notice = m.Err.Error()
		return
	}
	d.Proofs[m.Place] = m.Report
}
