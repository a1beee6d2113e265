package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"polytome/internal/awake"
	"polytome/internal/core/plan"
	"polytome/internal/core/source"
	"polytome/internal/parallel"
	"polytome/internal/target"
	"polytome/internal/target/claim"
)

// state is how far a step is.
type state int8

const (
	waiting state = iota
	active
	done
	failed
	dependent // not done, as one that it needs failed
	skipped
)

// A Lane carries out the plan of one target. Its methods may be called from any goroutine while it goes on, and do
// nothing afterwards.
type Lane struct {
	job   Job
	limit limiter
	box   outbox

	mu      sync.Mutex   // guards what follows
	queue   []int        // steps that wait, in their order
	taken   map[int]bool // steps that were taken from the queue, and are not begun yet
	states  []state
	says    map[int]string                  // of steps that failed
	cancels map[int]context.CancelCauseFunc // of steps under way
	paused  chan struct{}                   // closed when it goes on; nil while it does
	since   time.Time                       // of the pause
	rested  time.Duration                   // in pauses that are over
	finish  bool                            // no further step is begun
	start   time.Time
	total   int64
	report  Report
	small   time.Time // until when the time of small files was counted
	large   time.Time

	stop  context.CancelFunc
	ended chan struct{}

	// of the lane's own goroutine
	to      target.Target
	lent    bool         // the target stays open
	claimed func()       // lets others fill the target; nil while it is not claimed
	facts   target.Facts // of the target when it was opened first
	opener  source.Opener
	kept    *keeper
	tries   map[int]int // how often a step was put off
	gone    error       // why the target has to be opened again
	lost    error       // why nothing more can be written
}

// errSkipped is the cause with which a step is cancelled that is skipped while it runs.
var errSkipped = errors.New("it was skipped")

func newLane(j Job) *Lane {
	if j.Verify == "" {
		j.Verify = VerifyFull
	}
	if j.FirstWait == 0 {
		j.FirstWait = FirstWait
	}
	if j.Patience == 0 {
		j.Patience = Patience
	}
	if j.Emit == nil {
		j.Emit = func(Event) {}
	}
	l := &Lane{job: j, states: make([]state, len(j.Plan.Steps)), says: map[int]string{},
		cancels: map[int]context.CancelCauseFunc{}, taken: map[int]bool{},
		tries: map[int]int{}, start: time.Now(), stop: func() {}, ended: make(chan struct{}),
		opener: source.Opener{Passwords: j.Passwords, Allowed: j.Allowed}}
	l.limit.rate.Store(j.Limit)
	l.report.Verify = j.Verify
	for i := range j.Plan.Steps {
		l.queue = append(l.queue, i)
	}
	return l
}

// Start begins to carry out a plan in the background. Cancelling the context stops it as [Lane.Stop] does.
func Start(ctx context.Context, j Job) *Lane {
	l := newLane(j)
	ctx, l.stop = context.WithCancel(ctx)
	go l.work(ctx)
	return l
}

// Wait waits until the run is over.
func (l *Lane) Wait() Report {
	<-l.ended
	return l.report
}

// Ended is closed when the run is over.
func (l *Lane) Ended() <-chan struct{} { return l.ended }

// Pause has nothing more be written until [Lane.Resume].
func (l *Lane) Pause() {
	l.mu.Lock()
	if l.paused != nil || l.over() {
		l.mu.Unlock()
		return
	}
	l.paused, l.since = make(chan struct{}), time.Now()
	l.mu.Unlock()
	l.note(Event{Kind: Paused}, -1)
}

// Resume goes on after a pause.
func (l *Lane) Resume() {
	if l.unpause() {
		l.note(Event{Kind: Resumed}, -1)
	}
}

func (l *Lane) unpause() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.paused == nil {
		return false
	}
	close(l.paused)
	l.paused = nil
	l.rested += time.Since(l.since)
	return true
}

// Finish stops the run after the file that is under way.
func (l *Lane) Finish() {
	l.mu.Lock()
	l.finish = true
	l.mu.Unlock()
	l.Resume()
}

// Stop stops the run now. A large file that is under way is left under its temporary name where the target allows that
// it is resumed; any other half file is removed.
func (l *Lane) Stop() {
	l.stop()
	l.unpause()
}

// Skip passes a step over, whether it waits or is under way. A pause goes on.
func (l *Lane) Skip(step int) {
	l.mu.Lock()
	if cancel, ok := l.cancels[step]; ok {
		l.mu.Unlock()
		cancel(errSkipped)
		return
	}
	switch at := slices.Index(l.queue, step); {
	case at >= 0:
		l.queue = slices.Delete(l.queue, at, at+1)
	case l.taken[step]: // with others, and not begun
		delete(l.taken, step)
	default:
		l.mu.Unlock()
		return
	}
	l.states[step] = skipped
	l.mu.Unlock()
	l.note(Event{Kind: Skipped}, step)
}

// Retry tries a step again that failed or was skipped, and those that were not done because of it.
func (l *Lane) Retry(step int) {
	l.mu.Lock()
	if l.over() || step < 0 || step >= len(l.states) || l.states[step] < failed {
		l.mu.Unlock()
		return
	}
	again := []int{step}
	for i := step + 1; i < len(l.states); i++ {
		s := &l.job.Plan.Steps[i]
		if l.states[i] == dependent && (s.Last || slices.ContainsFunc(s.Needs,
			func(n int) bool { return slices.Contains(again, n) }) ||
			s.Title != "" && s.Title == l.job.Plan.Steps[step].Title) {
			again = append(again, i)
		}
	}
	for _, i := range again {
		l.states[i] = waiting
		delete(l.says, i)
	}
	l.queue = append(again[:1:1], l.queue...)
	for _, i := range again[1:] { // behind what it needs, in the order of the plan
		at := slices.IndexFunc(l.queue[1:], func(q int) bool { return q > i })
		if at < 0 {
			l.queue = append(l.queue, i)
		} else {
			l.queue = slices.Insert(l.queue, at+1, i)
		}
	}
	l.mu.Unlock()
	l.note(Event{Kind: Reordered}, step)
}

// Sooner has the files of a step's title be written before all others that wait; later, behind them.
func (l *Lane) Sooner(step int) { l.move(step, true) }

// Later has the files of a step's title be written behind all others that wait.
func (l *Lane) Later(step int) { l.move(step, false) }

func (l *Lane) move(step int, sooner bool) {
	if step < 0 || step >= len(l.states) {
		return
	}
	title := l.job.Plan.Steps[step].Title
	mine := func(i int) bool { return i == step || title != "" && l.job.Plan.Steps[i].Title == title }
	free := func(i int) bool { // what can change its target
		s := &l.job.Plan.Steps[i]
		return s.Kind == plan.Copy && !s.Last
	}
	l.mu.Lock()
	from := slices.IndexFunc(l.queue, free)
	if from < 0 {
		l.mu.Unlock()
		return
	}
	to := from
	for to < len(l.queue) && free(l.queue[to]) {
		to++
	}
	var chosen, others []int
	for _, i := range l.queue[from:to] {
		if mine(i) {
			chosen = append(chosen, i)
		} else {
			others = append(others, i)
		}
	}
	order := append(chosen, others...)
	if !sooner {
		order = append(others, chosen...)
	}
	copy(l.queue[from:to], l.inOrder(order))
	l.mu.Unlock()
	l.note(Event{Kind: Reordered}, step)
}

// inOrder puts steps behind those that they need.
func (l *Lane) inOrder(order []int) []int {
	among := map[int]bool{}
	for _, i := range order {
		among[i] = true
	}
	out := make([]int, 0, len(order))
	var add func(i int)
	add = func(i int) {
		if !among[i] {
			return
		}
		among[i] = false
		for _, n := range l.job.Plan.Steps[i].Needs {
			add(n)
		}
		out = append(out, i)
	}
	for _, i := range order {
		add(i)
	}
	return out
}

// Order is the steps that wait, in their order.
func (l *Lane) Order() []int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Clone(l.queue)
}

// Limit sets how many bytes a second are written at most; 0 for no limit.
func (l *Lane) Limit(rate int64) { l.limit.rate.Store(rate) }

// over reports whether the run has ended; mu is held.
func (l *Lane) over() bool {
	select {
	case <-l.ended:
		return true
	default:
		return false
	}
}

// gate waits while the lane is paused.
func (l *Lane) gate(ctx context.Context) error {
	for {
		l.mu.Lock()
		p := l.paused
		l.mu.Unlock()
		if p == nil {
			return ctx.Err()
		}
		select {
		case <-p:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// elapsed is the time since the beginning, without pauses.
func (l *Lane) elapsed() time.Duration {
	d := time.Since(l.start) - l.rested
	if l.paused != nil {
		d -= time.Since(l.since)
	}
	return d
}

// event fills in what every event tells; step is -1 for one of the lane.
func (l *Lane) event(e Event, step int) Event {
	l.mu.Lock()
	e.Step, e.Total, e.Elapsed = step, l.total, l.elapsed()
	l.mu.Unlock()
	if step >= 0 {
		e.Path = l.job.Plan.Steps[step].Path
	} else {
		e.Step = 0
	}
	return e
}

// emit sends an event, and waits until it was taken: the run does not hurry ahead of what is shown of it.
func (l *Lane) emit(e Event, step int) { l.box.send(l.event(e, step)) }

// note sends an event and does not wait: whoever steers the lane may be the one who takes its events.
func (l *Lane) note(e Event, step int) { l.box.post(l.event(e, step)) }

// work carries out the plan. Its end is reported when everything is closed.
func (l *Lane) work(ctx context.Context) {
	defer close(l.ended)
	release := awake.Keep("games are being written to a drive or console")
	defer release()
	l.box.open(l.job.Emit)
	l.guarded(func() { l.carryOut(ctx) })
	l.guarded(l.letGo)
	l.sumUp(ctx)
	l.emit(Event{Kind: Ended, Stopped: l.report.Stopped}, -1)
	l.box.close()
	if l.job.Over != nil {
		l.guarded(func() { l.job.Over(l.report) })
	}
}

// guarded does a part of the work. A mistake of ours in it ends that part, and not the program.
func (l *Lane) guarded(do func()) {
	if err := parallel.Safely(func() error { do(); return nil }); err != nil {
		l.failed("the run: " + err.Error())
	}
}

// failed notes a failure that is not one of a step.
func (l *Lane) failed(say string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.report.Failed = append(l.report.Failed, Failure{Say: say})
}

// letGo closes everything. What goes wrong with that is a failure of the run: the last bytes may not have arrived.
func (l *Lane) letGo() {
	_ = l.opener.Close() // of what was read
	if l.kept != nil {
		if err := l.kept.to.Close(); err != nil {
			l.failed("closing the folder with what was kept: " + err.Error())
		}
	}
	if l.to != nil && !l.lent {
		if err := l.to.Close(); err != nil && !errors.Is(err, context.Canceled) {
			l.failed("ejecting the target: " + err.Error())
		}
	}
	l.unclaim()
}

// carryOut opens the target and does the steps.
func (l *Lane) carryOut(ctx context.Context) {
	if l.to == nil {
		if err := l.reach(ctx, true); err != nil {
			l.gone, l.lost = nil, err
			if ctx.Err() == nil {
				l.failed(err.Error())
			}
		}
	}
	if l.lost == nil && l.lent {
		if err := l.claim(l.to); err != nil {
			l.lost = err
			l.failed(err.Error())
		}
	}
	for l.lost == nil {
		if l.gate(ctx) != nil {
			break
		}
		steps, beside := l.next()
		switch {
		case len(steps) == 0:
		case beside:
			l.sideBySide(ctx, steps)
		case len(steps) > 1:
			l.group(ctx, steps)
		case l.take(steps[0]):
			l.one(ctx, steps[0], &l.opener)
		}
		if len(steps) == 0 {
			break
		}
		if l.gone != nil && ctx.Err() == nil {
			if err := l.reach(ctx, false); err != nil && ctx.Err() == nil {
				l.lost = err
				l.failed(advise(err))
			}
		}
	}
}

// sumUp brings the report to its end.
func (l *Lane) sumUp(ctx context.Context) {
	l.mu.Lock()
	defer l.mu.Unlock()
	r := &l.report
	r.Undone = map[int]bool{}
	for i, s := range l.states {
		if s != done {
			r.Undone[i] = true
		}
		switch s {
		case failed, dependent:
			r.Failed = append(r.Failed, Failure{i, l.job.Plan.Steps[i].Path, l.says[i]})
		case skipped:
			r.Skipped++
		case waiting, active:
			r.Untried++
		case done:
		}
	}
	r.Stopped = ctx.Err() != nil || l.finish && r.Untried > 0
	r.Elapsed = l.elapsed()
}

// next takes the steps that are done now: one, a group, or a crowd.
func (l *Lane) next() (steps []int, beside bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.finish || len(l.queue) == 0 {
		return nil, false
	}
	n, beside := l.together()
	steps = slices.Clone(l.queue[:n])
	l.queue = l.queue[n:]
	for _, i := range steps {
		l.taken[i] = true
	}
	return steps, beside
}

// one carries out a step.
func (l *Lane) one(ctx context.Context, i int, opener *source.Opener) {
	t, ctx := l.begin(ctx, i, opener)
	sum, err := t.do(ctx)
	t.end(ctx, sum, err)
}

// begin notes that a step is under way.
func (l *Lane) begin(ctx context.Context, i int, opener *source.Opener) (*task, context.Context) {
	ctx, cancel := context.WithCancelCause(ctx)
	l.mu.Lock()
	l.states[i], l.cancels[i] = active, cancel
	l.mu.Unlock()
	opener.At = l.to.Open
	t := &task{l: l, i: i, s: &l.job.Plan.Steps[i], opener: opener, cancel: cancel, began: l.clock()}
	l.emit(Event{Kind: Began}, i)
	return t, ctx
}

// clock is the time that has passed without pauses.
func (l *Lane) clock() time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.elapsed()
}

// reach opens the target, for the first time or again. It is tried until the patience is at its end.
func (l *Lane) reach(ctx context.Context, first bool) error {
	cause := l.gone
	l.gone = nil
	if l.job.Open == nil {
		return cause
	}
	if l.to != nil {
		_ = l.to.Close() // it is gone
		l.to = nil
		l.unclaim()
	}
	began := time.Now()
	for wait := l.job.FirstWait; ; wait = min(2*wait, MostWait) {
		if cause != nil {
			l.emit(Event{Kind: Waiting, Say: fmt.Sprintf("%v; trying again in %s", cause,
				wait.Round(time.Second/10))}, -1)
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(wait):
			}
		}
		to, err := l.job.Open(ctx)
		if err == nil {
			if err = l.same(ctx, to, first); err == nil {
				err = l.claim(to)
			}
			if err == nil {
				l.to = to
				if !first {
					l.report.Breaks++
					l.emit(Event{Kind: Back}, -1)
				}
				return nil
			}
			_ = to.Close()
		}
		cause = err
		var taken *claim.TakenError
		if errors.As(err, &taken) {
			return err // waiting would be for as long as the other one takes
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if first && !errors.Is(err, target.ErrBusy) || time.Since(began)+wait > l.job.Patience ||
			errors.Is(err, target.ErrReadOnly) {
			return err
		}
	}
}

// claim has no one else fill the target, as two runs would write over one another.
func (l *Lane) claim(to target.Target) (err error) {
	if c, ok := to.(target.Claimer); ok {
		if l.claimed, err = c.Claim(); err != nil {
			return fmt.Errorf("nothing was written: %w", err)
		}
	}
	return nil
}

func (l *Lane) unclaim() {
	if l.claimed != nil {
		l.claimed()
	}
	l.claimed = nil
}

// same says whether what was opened is the target that was there first: an empty folder where a stick was mounted is
// not. Of a target on another machine the address says so; how much it holds may change there.
func (l *Lane) same(ctx context.Context, to target.Target, first bool) error {
	f, err := to.Facts(ctx, []target.Entry{})
	if first || l.facts.Capacity == 0 {
		if err == nil {
			l.facts = f
		}
		return nil //nolint:nilerr // a target that tells nothing of itself may still be filled
	}
	if err != nil {
		return err
	}
	was := &l.facts
	if f.Filesystem.Name != was.Filesystem.Name || f.Network != was.Network || f.Network == "" &&
		(f.Capacity != was.Capacity || f.Label != was.Label) {
		return fmt.Errorf("it is a different target now (%s, not %s): %w", f.Filesystem.Shown, was.Filesystem.Shown,
			target.ErrGone)
	}
	return nil
}
