package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"polytome/internal/awake"
	"polytome/internal/core/source"
	"polytome/internal/parallel"
	"polytome/internal/target"
	"polytome/internal/target/claim"
)

// A Lane carries out the plan of one target. Its methods may be called from any goroutine while it goes on, also by
// whoever takes its events, and do nothing afterwards.
type Lane struct {
	job       Job
	limit     limiter
	asked     chan func(*course) // what is to be done with the course
	delivered chan struct{}      // closed when the last event was handed on
	ended     chan struct{}
	stop      context.CancelFunc

	report Report // once it has ended

	// of the lane's own goroutine
	to      target.Target
	lent    bool         // the target stays open
	claimed func()       // lets others fill the target; nil while it is not claimed
	facts   target.Facts // of the target when it was opened first
	opener  source.Opener
	kept    *keeper

	wants []uint64 // by what the files of the steps are known that are still to be written; see [sharing]
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
	l := &Lane{job: j, stop: func() {}, asked: make(chan func(*course)), delivered: make(chan struct{}),
		ended: make(chan struct{}), opener: source.Opener{Passwords: j.Passwords, Allowed: j.Allowed}}
	l.limit.rate.Store(j.Limit)
	l.wants = wantedBy(j.Plan)
	go l.keep(newCourse(l))
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

// ask has something be done with the course, and waits for it. It reports false when the run is over.
func (l *Lane) ask(do func(*course)) bool {
	done := make(chan bool, 1)
	select {
	case l.asked <- func(c *course) {
		defer func() { done <- !c.over }()
		if !c.over {
			do(c)
		}
	}:
		return <-done
	case <-l.delivered:
		return false
	}
}

// Pause has nothing more be written until [Lane.Resume].
func (l *Lane) Pause() { l.ask((*course).pause) }

// Resume goes on after a pause.
func (l *Lane) Resume() { l.ask((*course).resume) }

// Finish stops the run after the file that is under way.
func (l *Lane) Finish() {
	l.ask(func(c *course) {
		c.finish = true
		c.resume()
	})
}

// Stop stops the run now. A large file that is under way is left under its temporary name where the target allows that
// it is resumed; any other half file is removed.
func (l *Lane) Stop() {
	l.stop()
	l.ask(func(c *course) { c.unpause() })
}

// Skip passes a step over, whether it waits or is under way. A pause goes on.
func (l *Lane) Skip(step int) { l.ask(func(c *course) { c.skip(step) }) }

// Retry tries a step again that failed or was skipped, and those that were not done because of it.
func (l *Lane) Retry(step int) { l.ask(func(c *course) { c.retry(step) }) }

// Sooner has the files of a step's title be written before all others that wait.
func (l *Lane) Sooner(step int) { l.ask(func(c *course) { c.move(step, true) }) }

// Later has the files of a step's title be written behind all others that wait.
func (l *Lane) Later(step int) { l.ask(func(c *course) { c.move(step, false) }) }

// Limit sets how many bytes a second are written at most; 0 for no limit.
func (l *Lane) Limit(rate int64) { l.limit.rate.Store(rate) }

// gate waits while the lane is paused.
func (l *Lane) gate(ctx context.Context) error {
	for {
		var p chan struct{}
		l.ask(func(c *course) { p = c.paused })
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

// emit sends an event, and waits until it was taken: the run does not hurry ahead of what is shown of it.
func (l *Lane) emit(e Event, step int) {
	handed := make(chan struct{})
	if l.ask(func(c *course) { c.tell(e, step, handed) }) {
		<-handed
	}
}

// work carries out the plan. Its end is reported when everything is closed.
func (l *Lane) work(ctx context.Context) {
	defer close(l.ended)
	release := awake.Keep("games are being written to a drive or console")
	defer release()
	l.guarded(func() { l.carryOut(ctx) })
	l.guarded(l.letGo)
	l.guarded(func() { l.after(ctx) })
	l.ask(func(c *course) { c.end(ctx.Err() != nil) })
	<-l.delivered
	if l.job.Over != nil {
		_ = parallel.Safely(func() error { l.job.Over(l.report); return nil })
	}
}

// mostAfter is how long what is to be done after a run that was stopped may take.
const mostAfter = 800 * time.Millisecond

// after does what is to be done when everything is closed, also where the run was stopped.
func (l *Lane) after(ctx context.Context) {
	if l.job.After == nil {
		return
	}
	var states []StepState
	l.ask(func(c *course) { states = slices.Clone(c.States) })
	if ctx.Err() != nil {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(context.WithoutCancel(ctx), mostAfter)
		defer cancel()
	}
	if err := l.job.After(ctx, func(step int) bool { return states[step] == StepDone }); err != nil {
		l.failed(err.Error())
	}
}

// guarded does a part of the work. A mistake of ours in it ends that part, and not the program.
func (l *Lane) guarded(do func()) {
	if err := parallel.Safely(func() error { do(); return nil }); err != nil {
		l.failed("the run: " + err.Error())
	}
}

// failed notes a failure that is not one of a step.
func (l *Lane) failed(say string) { l.ask(func(c *course) { c.fail(say) }) }

// lose notes why nothing more can be written.
func (l *Lane) lose(err error) { l.ask(func(c *course) { c.lost = err }) }

// letGo closes everything. What goes wrong with that is a failure of the run: the last bytes may not have arrived.
func (l *Lane) letGo() {
	_ = l.opener.Close() // of what was read
	for i := range l.wants {
		l.unwanted(i)
	}
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
		if err := l.reach(ctx, nil); err != nil {
			l.lose(err)
			if ctx.Err() == nil {
				l.failed(err.Error())
			}
			return
		}
	}
	if l.lent {
		if err := l.claim(l.to); err != nil {
			l.lose(err)
			l.failed(err.Error())
			return
		}
	}
	if l.job.Before != nil {
		if err := l.job.Before(ctx, l.to); err != nil {
			l.lose(err)
			if ctx.Err() == nil {
				l.failed("nothing was written: " + err.Error())
			}
			return
		}
	}
	for l.gate(ctx) == nil {
		steps, beside := l.next()
		switch {
		case len(steps) == 0:
			return
		case beside:
			l.sideBySide(ctx, steps)
		case len(steps) > 1 && holds(&l.job.Plan.Steps[steps[0]]):
			l.changes(ctx, steps, l.to.(target.BatchCommitter))
		case len(steps) > 1:
			l.group(ctx, steps)
		case l.take(steps[0]):
			l.one(ctx, steps[0], &l.opener)
		}
		var gone error
		l.ask(func(c *course) { gone, c.gone = c.gone, nil })
		if gone != nil && ctx.Err() == nil {
			if err := l.reach(ctx, gone); err != nil && ctx.Err() == nil {
				l.lose(err)
				l.failed(advise(err))
			}
		}
	}
}

// next takes the steps that are done now: one, a group, or a crowd; none when nothing more is to be done.
func (l *Lane) next() (steps []int, beside bool) {
	l.ask(func(c *course) {
		if c.stopsHere() || len(c.queue) == 0 {
			return
		}
		var n int
		n, beside = l.together(c)
		steps = slices.Clone(c.queue[:n])
		c.queue = c.queue[n:]
		c.taken = append(c.taken, steps...)
	})
	return steps, beside
}

// take begins with a step that was taken from the queue; false for one that was skipped meanwhile.
func (l *Lane) take(i int) (was bool) {
	l.ask(func(c *course) { was = c.take(i) })
	return was
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
	opener.At = l.placed()
	t := &task{l: l, i: i, s: &l.job.Plan.Steps[i], opener: opener, cancel: cancel}
	l.ask(func(c *course) { c.cancels[i], t.began = cancel, c.elapsed() })
	l.emit(Event{Kind: Began}, i)
	return t, ctx
}

// placed opens the files that steps make others of: of the target itself, or of the one that it becomes like. That one
// is not opened again when it goes away, so nothing of its errors says that the target has gone.
func (l *Lane) placed() func(ctx context.Context, path string) (target.Content, error) {
	if l.job.From == nil {
		return l.to.Open
	}
	return func(ctx context.Context, path string) (target.Content, error) {
		c, err := l.job.From.Open(ctx, path)
		if err != nil {
			return nil, fmt.Errorf("reading it where it is copied from: %s", err) //nolint:errorlint // see above
		}
		return c, nil
	}
}

// clock is the time that has passed without pauses.
func (l *Lane) clock() (now time.Duration) {
	l.ask(func(c *course) { now = c.elapsed() })
	return now
}

// reach opens the target, for the first time or, with a cause, again. It is tried until the patience is at its end.
func (l *Lane) reach(ctx context.Context, cause error) error {
	first := cause == nil
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
					l.ask(func(c *course) { c.report.Breaks++ })
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
