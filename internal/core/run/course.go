package run

import (
	"context"
	"errors"
	"slices"
	"time"

	"polytome/internal/core/plan"
	"polytome/internal/parallel"
	"polytome/internal/target"
)

// course is all of a lane that changes while it goes on. It belongs to one goroutine, see [Lane.keep]; the others ask
// that to look at it or to change it.
type course struct {
	*Status
	lane    *Lane
	queue   []int // steps that wait, in their order
	taken   []int // steps that were taken from the queue, and are not begun yet
	cancels map[int]context.CancelCauseFunc
	tries   map[int]int   // how often a step was put off
	paused  chan struct{} // closed when it goes on; nil while it does
	since   time.Time     // of the pause
	rested  time.Duration // in pauses that are over
	start   time.Time
	total   int64 // bytes of the whole plan that are on the target
	finish  bool  // no further step is begun
	over    bool  // the last event was sent
	gone    error // why the target has to be opened again
	lost    error // why nothing more can be written
	report  Report
	small   time.Time // until when the time of small files was counted
	large   time.Time
	events  []posted // that were not handed on yet
}

// posted is an event that is to be handed on.
type posted struct {
	Event
	handed chan struct{} // closed then; nil where no one waits for it
}

func newCourse(l *Lane) *course {
	c := &course{Status: NewStatus(l.job.Plan), lane: l, cancels: map[int]context.CancelCauseFunc{},
		tries: map[int]int{}, start: time.Now(), report: Report{Verify: l.job.Verify}}
	c.queue = slices.Clone(c.Order)
	return c
}

// keep owns the course: what is asked of it is done here, one after the other, and its events are handed on in their
// order. It never waits for those who take events, so they may steer the lane.
func (l *Lane) keep(c *course) {
	out := make(chan posted)
	handing := make(chan struct{})
	go func() {
		defer close(handing)
		for e := range out {
			// whoever watches must not end the run
			_ = parallel.Safely(func() error { l.job.Emit(e.Event); return nil })
			if e.handed != nil {
				close(e.handed)
			}
		}
	}()
	for !c.over || len(c.events) > 0 {
		var first posted
		var hand chan posted
		if len(c.events) > 0 {
			first, hand = c.events[0], out
		}
		select {
		case do := <-l.asked:
			if err := parallel.Safely(func() error { do(c); return nil }); err != nil {
				c.fail("the run: " + err.Error()) // a mistake of ours is no success
			}
		case hand <- first:
			c.events = c.events[1:]
		}
	}
	close(out)
	<-handing
	l.report = c.report
	close(l.delivered)
}

// tell has an event handed on; step is -1 for one of the lane. After the end there are none.
func (c *course) tell(e Event, step int, handed chan struct{}) {
	e.Total, e.Elapsed = c.total, c.elapsed()
	if step >= 0 {
		e.Step, e.Path = step, c.Plan.Steps[step].Path
	}
	c.Apply(e)
	c.events = append(c.events, posted{e, handed})
}

// elapsed is the time since the beginning, without pauses.
func (c *course) elapsed() time.Duration {
	d := time.Since(c.start) - c.rested
	if c.paused != nil {
		d -= time.Since(c.since)
	}
	return d
}

func (c *course) pause() {
	if c.paused == nil {
		c.paused, c.since = make(chan struct{}), time.Now()
		c.tell(Event{Kind: Paused}, -1, nil)
	}
}

// unpause has it go on. It reports whether it was paused.
func (c *course) unpause() bool {
	if c.paused == nil {
		return false
	}
	close(c.paused)
	c.paused = nil
	c.rested += time.Since(c.since)
	return true
}

func (c *course) resume() {
	if c.unpause() {
		c.tell(Event{Kind: Resumed}, -1, nil)
	}
}

// stopsHere reports whether no further step is begun now.
func (c *course) stopsHere() bool { return c.finish || c.gone != nil || c.lost != nil }

// skip passes a step over, whether it waits or is under way.
func (c *course) skip(step int) {
	if cancel, ok := c.cancels[step]; ok {
		cancel(errSkipped)
		return
	}
	waits := func(all *[]int) bool {
		at := slices.Index(*all, step)
		if at >= 0 {
			*all = slices.Delete(*all, at, at+1)
		}
		return at >= 0
	}
	if waits(&c.queue) || waits(&c.taken) {
		c.tell(Event{Kind: Skipped}, step, nil)
	}
}

// retry tries a step again that was given up, and those that were not done because of it.
func (c *course) retry(step int) {
	if step < 0 || step >= len(c.States) || !c.States[step].Undone() {
		return
	}
	again := []int{step}
	for i := step + 1; i < len(c.States); i++ {
		s := &c.Plan.Steps[i]
		if c.States[i] == StepDependent && (s.Last || slices.ContainsFunc(s.Needs,
			func(n int) bool { return slices.Contains(again, n) }) ||
			s.Title != "" && s.Title == c.Plan.Steps[step].Title) {
			again = append(again, i)
		}
	}
	c.queue = append(again[:1:1], c.queue...)
	for _, i := range again[1:] { // behind what it needs, in the order of the plan
		at := slices.IndexFunc(c.queue[1:], func(q int) bool { return q > i })
		if at < 0 {
			c.queue = append(c.queue, i)
		} else {
			c.queue = slices.Insert(c.queue, at+1, i)
		}
	}
	c.reordered(step)
}

// move has the files of a step's title be written before all others that wait, or behind them.
func (c *course) move(step int, sooner bool) {
	if step < 0 || step >= len(c.States) {
		return
	}
	title := c.Plan.Steps[step].Title
	free := func(i int) bool { // what can change its place
		s := &c.Plan.Steps[i]
		return s.Kind == plan.Copy && !s.Last
	}
	from := slices.IndexFunc(c.queue, free)
	if from < 0 {
		return
	}
	to := from
	for to < len(c.queue) && free(c.queue[to]) {
		to++
	}
	var chosen, others []int
	for _, i := range c.queue[from:to] {
		if i == step || title != "" && c.Plan.Steps[i].Title == title {
			chosen = append(chosen, i)
		} else {
			others = append(others, i)
		}
	}
	order := append(chosen, others...)
	if !sooner {
		order = append(others, chosen...)
	}
	copy(c.queue[from:to], c.inOrder(order))
	c.reordered(step)
}

// reordered tells of the new order of the steps that wait.
func (c *course) reordered(step int) {
	c.tell(Event{Kind: Reordered, Order: slices.Concat(c.taken, c.queue)}, step, nil)
}

// inOrder puts steps behind those that they need.
func (c *course) inOrder(order []int) []int {
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
		for _, n := range c.Plan.Steps[i].Needs {
			add(n)
		}
		out = append(out, i)
	}
	for _, i := range order {
		add(i)
	}
	return out
}

// take begins with a step that was taken from the queue; false for one that was skipped meanwhile.
func (c *course) take(i int) bool {
	at := slices.Index(c.taken, i)
	if at >= 0 {
		c.taken = slices.Delete(c.taken, at, at+1)
	}
	return at >= 0
}

// back puts steps that were taken and not begun back to where they were, but for those that were skipped meanwhile.
func (c *course) back(steps ...int) {
	var still []int
	for _, i := range steps {
		if c.take(i) {
			still = append(still, i)
		}
	}
	c.queue = append(still, c.queue...)
}

// putOff has a step be tried again before all others.
func (c *course) putOff(i int) { c.queue = slices.Insert(c.queue, 0, i) }

// fail notes a failure that is not one of a step.
func (c *course) fail(say string) { c.report.Failed = append(c.report.Failed, Failure{Say: say}) }

// count adds a step that succeeded to the report.
func (c *course) count(t *task, took time.Duration) {
	r := &c.report
	r.Done++
	switch t.s.Kind {
	case plan.Move:
		r.Moved++
	case plan.Remove:
		r.Removed++
	case plan.Backup:
		r.Kept++
	case plan.Copy, plan.Replace:
		if t.bytes == 0 && t.s.Make.AtMost { // it was not needed
			return
		}
		r.Put++
		r.Bytes += t.bytes
		r.Resumed += t.resumed
		if t.resumed > 0 {
			return // its time says nothing of the target's pace
		}
		of, until := &r.Small, &c.small
		if t.bytes >= LargeFrom {
			of, until = &r.Large, &c.large
		}
		of.Files++
		of.Bytes += t.bytes
		now := time.Now()
		if since := now.Sub(*until); since < took { // others of its kind were under way at the same time
			took = since
		}
		of.Took += took
		*until = now
	}
}

// held is the error of a step that hangs on another one which was not done; nil for none.
func (c *course) held(step *plan.Step) error {
	for _, n := range step.Needs {
		if c.States[n].Undone() {
			return &DependentError{c.Plan.Steps[n].Path}
		}
	}
	if !step.Last && (step.Title == "" || !step.Writes()) {
		return nil
	}
	for i, s := range c.States {
		if !s.Undone() {
			continue
		}
		if step.Last {
			return &DependentError{"every title it names"}
		}
		if o := &c.Plan.Steps[i]; o.Title == step.Title && o.Writes() && s != StepDependent &&
			len(o.Needs)+len(step.Needs) == 0 {
			return &DependentError{o.Path} // half a title is of no use, and the space that it takes is
		}
	}
	return nil
}

// end brings the report to its end, and sends the last event.
func (c *course) end(stopped bool) {
	defer func() { c.over = true }()
	r := &c.report
	r.Undone = map[int]bool{}
	for i, s := range c.States {
		if s != StepDone {
			r.Undone[i] = true
		}
		switch s {
		case StepFailed, StepDependent:
			r.Failed = append(r.Failed, Failure{i, c.Plan.Steps[i].Path, c.Says[i]})
		case StepSkipped:
			r.Skipped++
		case StepWaiting, StepActive, StepChecking:
			r.Untried++
		case StepDone:
		}
	}
	r.Stopped = stopped || c.finish && r.Untried > 0
	r.Away = errors.Is(c.lost, target.ErrGone) || errors.Is(c.lost, target.ErrBusy)
	r.Elapsed = c.elapsed()
	c.tell(Event{Kind: Ended, Stopped: r.Stopped}, -1, nil)
}
