package state

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/journal"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/scancache"
	"polytome/internal/core/survey"
	"polytome/internal/size"
	"polytome/internal/target/served"
)

// A Lane is the run at one target, as its events tell it.
type Lane struct {
	*run.Status
	Name   string // of the target
	target bench.ID
	Speeds []float64 // bytes a second, one sample every sampleEvery
	Limit  int64     // bytes a second, 0 for none
	Verify run.Verify
	Report *run.Report

	lane      *run.Lane
	forecast  *run.Forecast
	learns    bool // its speed is that of the target, and not of a limit
	sampled   time.Duration
	sampledAt int64 // bytes that were new then
}

// sampleEvery is the time between two samples of the speed.
const sampleEvery = 200 * time.Millisecond

// Running reports whether the run still goes on.
func (l *Lane) Running() bool { return l.Report == nil }

// Stop ends the run now.
func (l *Lane) Stop() { l.lane.Stop() }

// Finish ends the run after the file under way.
func (l *Lane) Finish() { l.lane.Finish() }

// Pause pauses the run, or has it go on.
func (l *Lane) Pause() {
	if l.Paused {
		l.lane.Resume()
	} else {
		l.lane.Pause()
	}
}

// Skip passes a step over.
func (l *Lane) Skip(step int) { l.lane.Skip(step) }

// Retry tries a step again that did not succeed.
func (l *Lane) Retry(step int) { l.lane.Retry(step) }

// Sooner and Later have the title of a step be written before, or behind, all others.
func (l *Lane) Sooner(step int) { l.lane.Sooner(step) }

// Later has the title of a step be written behind all others.
func (l *Lane) Later(step int) { l.lane.Later(step) }

// AskLimit asks how much is to be written at most in a second; 0 is no limit.
func (d *State) AskLimit(where string, now int64, set func(n int64) tea.Cmd) {
	was := "none"
	if now > 0 {
		was = size.Format(now)
	}
	d.Ask(Question{Prompt: "Write at most so much a second" + where + ": ", Value: was, Hint: "such as 20MiB, or none",
		Done: func(answer string) tea.Cmd {
			if answer == "none" || answer == "" || answer == "0" {
				return set(0)
			}
			n, err := size.Parse(answer)
			if err != nil || n < 1024 {
				d.Notice = fmt.Sprintf("%q is not a size of at least 1 KiB; write it like 20MiB.", answer)
				return nil
			}
			return set(n)
		}})
}

// AskRate asks for the limit of the runs to come at a target.
func (d *State) AskRate(n int) {
	if n >= len(d.Bench.Targets) || d.busy() {
		return
	}
	p := &d.Bench.Targets[n]
	var rate int64
	set := d.Later(n, func(n int) tea.Cmd {
		name := d.Bench.Targets[n].Name
		say := fmt.Sprintf("At most %s a second are written to %s. u undoes.", size.Format(rate), name)
		if rate == 0 {
			say = fmt.Sprintf("There is no limit for %s. u undoes.", name)
		}
		return d.SetUp(n, say, func(p *bench.Target) { p.Rate = bench.Size(rate) })
	})
	d.AskLimit(" to "+p.Name, int64(p.Rate), func(n int64) tea.Cmd {
		rate = n
		return set()
	})
}

// SetLimit limits how fast is written.
func (l *Lane) SetLimit(rate int64) {
	l.Limit, l.learns = rate, l.learns && rate == 0
	l.lane.Limit(rate)
	l.forecast.Limit(rate)
}

// Share is which part of the run is done, from 0 to 1, by the time that it takes; of one that has ended and could not
// do all, by its bytes.
func (l *Lane) Share() float64 {
	if l.Report != nil && !l.Report.All() {
		return min(0.99, float64(l.Total)/float64(max(1, l.Bytes())))
	}
	return l.forecast.Share()
}

// Left estimates the time that the rest takes; ok is false before there is
// anything to account for.
func (l *Lane) Left() (left time.Duration, ok bool) {
	if l.forecast == nil || l.Elapsed < time.Second/2 {
		return 0, false
	}
	return l.forecast.Left().Round(time.Second), true
}

func (l *Lane) apply(e run.Event) {
	l.Apply(e)
	l.forecast.Event(e)
	if passed := l.Elapsed - l.sampled; passed >= sampleEvery {
		l.Speeds = append(l.Speeds, max(0, float64(l.New()-l.sampledAt)/passed.Seconds()))
		l.sampled, l.sampledAt = l.Elapsed, l.New()
	}
}

// A RunMsg is what happened in a run since the last one.
type RunMsg struct {
	events []run.Event
	report *run.Report // set at the end
	lane   *Lane
	next   <-chan RunMsg
}

// Unplugs reports whether a target is something that is unplugged and carried to the console.
func (d *State) Unplugs(n int) bool {
	at := d.Bench.Targets[n].At
	return !strings.Contains(at, "://") && !served.Is(at)
}

// AskWrite asks whether the plan of a target shall be carried out, and says what it does and what is known to be wrong
// before. What removes or replaces files wants the target's name typed.
func (d *State) AskWrite(n int) tea.Cmd {
	if n >= len(d.Targets) {
		d.Notice = "There is nothing to fill yet: P adds a target."
		return nil
	}
	if d.Dock != nil {
		d.Notice = "The dock is open: close it (E, then space) to write by hand."
		return nil
	}
	s := d.Targets[n].Survey
	name := d.Bench.Targets[n].Name
	if d.Looking(n) {
		d.writeLater(n, name+" is being read: you are asked as soon as that is done …", nil)
		return nil
	}
	if s == nil {
		d.Notice = fmt.Sprintf("Nothing can be written to %s yet.", name)
		if err := d.Targets[n].Trouble; err != nil {
			d.Notice = Sentence(err.Error())
		}
		return nil
	}
	if d.Targets[n].Running() {
		d.Notice = "The run is already in progress."
		return nil
	}
	if d.goesOn(n, savesWork) {
		d.Notice = "Saves on " + name + " are being written: wait for that to end."
		return nil
	}
	if s.Away != nil {
		d.Notice = fmt.Sprintf("%s is not connected, so nothing can be written: %v", s.Config.Name, s.Away)
		return nil
	}
	p := d.Plan(n)
	if p == nil {
		d.writeLater(n, "One moment: what is to be done at "+name+" is worked out …", nil)
		return d.PlanSoon(n)
	}
	others := d.waiting(n)
	if p.Empty() && others == 0 {
		d.Notice = fmt.Sprintf("Nothing is written to %s: %s.", name, p.Idle())
		return nil
	}
	if other := d.reading(n, p); other != "" {
		d.Notice = fmt.Sprintf("%s would remove files that the run at %s still reads: start it when that is done.",
			name, other)
		return nil
	}
	if !d.foreseenNow(n) {
		d.writeLater(n, "One moment: what the console will list afterwards is worked out …", nil)
		return d.Foresee(n)
	}
	d.Notice = ""
	start := d.Later(n, func(n int) tea.Cmd {
		d.writeLater(n, name+" is being read again: the run starts when that is done, if nothing has changed …", p)
		return d.writeNow(n)
	})
	if loses := losing(p); loses != "" {
		d.Ask(Question{Prompt: fmt.Sprintf("%s on %s. Type its name to continue: ", loses, name),
			Hint: name, Done: func(answer string) tea.Cmd {
				if !strings.EqualFold(answer, name) {
					d.Notice = "That is not the target's name. Nothing was started."
					return nil
				}
				return start()
			}})
		return nil
	}
	var all []Action
	if others > 0 {
		all = append(all, Do("A", fmt.Sprintf("write to all %d targets", others+1), d.StartAll).Writing())
	}
	if p.Empty() {
		d.Agree(fmt.Sprintf("%s: %s. Write to the other targets?", name, p.Idle()), size.Count(others,
			"target")+" to be filled", d.StartAll)
		return nil
	}
	hint := p.Stays() + "; files are complete before they get their names"
	if p.Refers {
		hint = "games stay where they are"
	}
	if known := d.Targets[n].Foreseen.Say(); known != "" {
		if f := d.Targets[n].Foreseen.Problems()[0]; len(f.Fixes) > 0 {
			all = append(all, Do("m", "have that fixed too", func() tea.Cmd { return d.MarkFixes(n, f.Fixes) }))
		}
		hint = "Known before: " + known + ". 5 Check shows what the console will list."
	}
	d.Agree(fmt.Sprintf("Write to %s? %s, %s.", name, upper(p.Say()), d.PlanTime(n, p)), hint, start, all...)
	return nil
}

// waiting counts the targets but n that have something to be written and can be written to now.
func (d *State) waiting(n int) (others int) {
	for m, t := range d.Targets {
		if m == n || t.Survey == nil || t.Survey.Away != nil || t.Running() {
			continue
		}
		if p := d.Plan(m); p != nil && !p.Empty() {
			others++
		}
	}
	return others
}

func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// StartAll carries out the plans of all targets at once, but for those that take something away: they are begun one by
// one.
func (d *State) StartAll() tea.Cmd {
	var cmds []tea.Cmd
	var not []string
	begun := 0
	d.Notice = ""
	plans := make([]*plan.Plan, len(d.Targets))
	for n := range plans {
		plans[n] = d.Plan(n)
	}
	waits := d.Board().Waits(plans)
	for n, t := range d.Targets {
		s := t.Survey
		if d.Looking(n) {
			not = append(not, d.Bench.Targets[n].Name+" is still being read")
			continue
		}
		if s == nil || s.Away != nil || t.Running() {
			continue
		}
		p := d.Plan(n)
		switch {
		case p == nil:
			cmds = append(cmds, d.PlanSoon(n))
			not = append(not, s.Config.Name+" is still being planned")
		case p.Empty():
		case len(waits[n]) > 0:
			not = append(not,
				s.Config.Name+" removes files that "+d.Bench.Targets[waits[n][0]].Name+" still reads, and starts "+
					"after it")
		case d.reading(n, p) != "":
			not = append(not, s.Config.Name+" removes files that "+d.reading(n, p)+" still reads, and starts after it")
		case losing(p) != "":
			not = append(not, s.Config.Name+" loses files, so start it by itself")
		default:
			begun++
			cmds = append(cmds, d.run(n, s, p))
		}
	}
	if begun == 0 {
		d.Notice = "Every target is up to date: nothing to write."
	}
	if len(not) > 0 {
		d.Notice = strings.TrimSpace(d.Notice + " " + size.Count(begun, "run") + " started; " + strings.Join(not,
			"; ") + ".")
	}
	return tea.Batch(cmds...)
}

// reading names a target whose run reads what a plan for target n takes away, "" for none.
func (d *State) reading(n int, p *plan.Plan) string {
	for m, t := range d.Targets {
		if m != n && t.Running() && d.Targets[n].Survey.Takes(p, t.Lane.Plan) {
			return t.Lane.Name
		}
	}
	return ""
}

// losing says what a plan takes away, "" for nothing.
func losing(p *plan.Plan) string {
	var parts []string
	if p.Removes > 0 {
		parts = append(parts, fmt.Sprintf("%s, %s, will be removed", size.Count(p.Removes, "file"),
			size.Format(p.Freed)))
	}
	if n := p.Loses() - p.Removes; n > 0 {
		parts = append(parts, fmt.Sprintf("%s will be replaced", size.Count(n, "file")))
	}
	return strings.Join(parts, " and ")
}

// run carries out a plan.
func (d *State) run(n int, s *survey.Survey, p *plan.Plan) tea.Cmd {
	look := *s
	if look.Config.Rate == 0 {
		look.Config.Rate = bench.Size(d.defaultRate)
	}
	job := look.Job(d.Bench, p)
	learns := job.Limit == 0
	cmd := d.carry(n, look.Beginning(d.Bench), job, look.Guess(job.Plan, job.Verify), learns, func(r *run.Report) {
		d.remembering(func(store *scancache.Store) { look.Ran(store, p, r) })
	})
	if d.unsaved { // what is written under these names keeps them
		d.unsaved = false
		return tea.Batch(cmd, d.save())
	}
	return cmd
}

// carry begins a run in the background, and has it written down.
func (d *State) carry(n int, b journal.Beginning, job run.Job, g run.Guess, learns bool,
	over func(*run.Report)) tea.Cmd {
	l := &Lane{Status: run.NewStatus(job.Plan), Name: b.Config.Name, target: d.Bench.Targets[n].ID(), Limit: job.Limit,
		Verify: job.Verify, learns: learns, forecast: run.NewForecast(job.Plan, job.Verify, g)}
	l.forecast.Limit(job.Limit)
	d.Targets[n].Lane, d.Targets[n].Check = l, Checked{}
	d.drop(n, checking)
	d.drop(n, looking)  // it is looked at when the run has ended
	d.drop(n, foresees) // which may have the only connection that a console allows
	out := make(chan RunMsg, 64)
	emit := func(m RunMsg) {
		m.lane, m.next = l, out
		select {
		case out <- m:
		case <-d.Ctx.Done(): // the screen is gone, and no one listens
		}
	}
	job.Emit = func(e run.Event) { emit(RunMsg{events: []run.Event{e}}) }
	job.Over = func(r run.Report) {
		over(&r)
		emit(RunMsg{report: &r})
	}
	var note error
	l.lane, _, note = d.Journal.Start(d.Ctx, b, job)
	if note != nil {
		d.Notice = Sentence(note.Error())
	}
	if plain := plainOnce(d, b.At); plain != "" {
		d.Notice = strings.TrimSpace(d.Notice + " " + plain)
	}
	d.running.Go(func() {
		l.lane.Wait()
		close(out)
	})
	return follow(out)
}

// plainOnce says once for each console that what is sent to it can be read on the way.
func plainOnce(d *State, at string) string {
	say := survey.Plain(at)
	if say == "" || d.plain[say] {
		return ""
	}
	d.plain[say] = true
	return Sentence(say)
}

// remembering opens what is remembered of files and targets, where that can be.
func (d *State) remembering(use func(*scancache.Store)) {
	if d.CacheFile == "" {
		return
	}
	if store, err := scancache.Open(d.CacheFile); err == nil {
		use(store)
		_ = store.Close()
	}
}

// follow waits for the next events, and takes all that have come together.
func follow(events <-chan RunMsg) tea.Cmd {
	return func() tea.Msg {
		m, ok := <-events
		if !ok {
			return nil
		}
		for m.report == nil {
			select {
			case more, ok := <-events:
				if !ok {
					return m
				}
				m.events = append(m.events, more.events...)
				m.report = more.report
			default:
				return m
			}
		}
		return m
	}
}

// SetRun takes over what happened in a run. At its end the target is looked at
// again and checked.
func (d *State) SetRun(m RunMsg) tea.Cmd {
	for _, e := range m.events {
		m.lane.apply(e)
	}
	if m.report == nil {
		return follow(m.next)
	}
	m.lane.Report, d.Notice = m.report, ""
	n, ok := d.Bench.Find(m.lane.target)
	if !ok { // choices wait for the end of a run, so this is one that no longer counts
		return d.LookBack()
	}
	target, s := &d.Bench.Targets[n], d.Targets[n].Survey
	if target.Cable != nil {
		d.Notice = fmt.Sprintf("When you are done with %s, set the cable's addresses back: H shows what they were.",
			target.Name)
	}
	fixed := len(target.Fixes) > 0 && s != nil && target.Fixed(s.Fixed(m.lane.Plan, m.report))
	ticked := len(target.Ticked) > 0 && m.report.Put+m.report.Moved+m.report.Removed > 0
	if ticked { // what to do at the console is due again
		target.Ticked = nil
	}
	if fixed && s != nil {
		s.Choose(d.Bench, n)
	}
	d.Targets[n].wrote = true
	cmds := []tea.Cmd{d.SurveyTarget(n), d.startCheck(n, "", m.lane), d.LookBack(), d.announce(m.lane)}
	if d.stale && !d.Running() {
		d.stale = false
		cmds = append(cmds, d.Survey())
	}
	if m.lane.learns && s != nil && target.Learn(s.Config.Speed, s.Facts.Adapter, m.report) || fixed || ticked {
		cmds = append(cmds, d.save())
	}
	return tea.Batch(cmds...)
}

// Running reports whether any run goes on.
func (d *State) Running() bool { return slices.ContainsFunc(d.Targets, (*Target).Running) }

// Wait waits until all runs have ended and removed what was half written. The
// desk's context must have been cancelled or the runs stopped.
func (d *State) Wait() { d.running.Wait() }

// Hold has the end of the program wait for work that writes to a target, until it is released.
func (d *State) Hold() (release func()) {
	d.running.Add(1)
	return d.running.Done
}

// StopRuns stops all runs, and ends serving.
func (d *State) StopRuns() {
	for _, j := range d.DiscJobs {
		if j.Running() {
			j.Stop()
		}
	}
	for _, t := range d.Targets {
		if t.Running() {
			t.Lane.Stop()
		}
		if t.Serving != nil {
			t.Serving.stop()
		}
	}
	if d.Dock != nil {
		d.Dock.stop()
	}
}
