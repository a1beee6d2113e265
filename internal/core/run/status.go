package run

import (
	"slices"
	"time"

	"polytome/internal/core/plan"
)

// StepState is how far a step of a run is.
type StepState int8

// The states of a step. From [StepFailed] on it was not done.
const (
	StepWaiting StepState = iota
	StepActive
	StepChecking  // its file is read back
	StepDone      // it succeeded
	StepFailed    // it did not
	StepDependent // it was not tried, as one that it needs failed
	StepSkipped   // on request
)

// Undone reports whether a step was given up.
func (s StepState) Undone() bool { return s >= StepFailed }

// A Status is how far a run is. It follows from its plan and its events alone: the lane keeps one, and whoever watches
// the lane keeps another.
type Status struct {
	Plan    *plan.Plan
	States  []StepState
	Says    map[int]string // what happened to failed steps
	Fails   int            // steps that failed, or hang on such
	Order   []int          // the steps that wait, in their order
	Moved   bool           // they have another order than the plan's
	Step    int            // the one under way that was heard of last
	Written int64          // bytes of it
	Total   int64          // bytes of the whole plan that are on the target
	Elapsed time.Duration
	Paused  bool
	Waiting string // why the target is waited for, "" while it is there
	Spared  int64  // bytes that files turned out to be smaller by than they might have been
	Before  int64  // bytes that were there from earlier tries
}

// NewStatus is that of a run which has not begun.
func NewStatus(p *plan.Plan) *Status {
	s := &Status{Plan: p, States: make([]StepState, len(p.Steps)), Says: map[int]string{}}
	for i := range p.Steps {
		s.Order = append(s.Order, i)
	}
	return s
}

// Bytes are what the run writes in all, as far as is known by now.
func (s *Status) Bytes() int64 { return s.Plan.Bytes - s.Spared }

// New are the bytes that this run has written itself.
func (s *Status) New() int64 { return max(0, s.Total-s.Before) }

// Apply takes in what has happened.
func (s *Status) Apply(e Event) {
	s.Elapsed, s.Total = e.Elapsed, e.Total
	switch e.Kind {
	case Began:
		s.set(e.Step, StepActive, "")
		s.Step, s.Written = e.Step, 0
	case Resuming:
		s.Written = e.Bytes
		s.Before += e.Bytes
	case Progress:
		s.Step, s.Written = e.Step, e.Bytes
	case Checking:
		s.set(e.Step, StepChecking, "")
		s.Step, s.Written = e.Step, e.Bytes
	case Rewriting:
		s.set(e.Step, StepActive, "")
		s.Written = 0
	case Done:
		s.set(e.Step, StepDone, "")
		if step := &s.Plan.Steps[e.Step]; step.Writes() {
			s.Spared += max(0, step.Size-e.Bytes)
		}
	case Failed:
		as := StepFailed
		if e.Dependent {
			as = StepDependent
		}
		s.set(e.Step, as, e.Say)
	case Skipped:
		s.set(e.Step, StepSkipped, "")
	case PutOff:
		s.set(e.Step, StepWaiting, "")
		s.Order = slices.Insert(s.Order, 0, e.Step)
	case Waiting:
		s.Waiting = e.Say
	case Back:
		s.Waiting = ""
	case Paused:
		s.Paused = true
	case Resumed:
		s.Paused = false
	case Reordered:
		for _, i := range e.Order {
			s.set(i, StepWaiting, "")
		}
		s.Order, s.Moved = slices.Clone(e.Order), true
	case Ended:
		s.Paused, s.Waiting = false, ""
	}
}

// set notes what became of a step.
func (s *Status) set(i int, as StepState, say string) {
	if s.States[i] == as && as != StepFailed {
		return
	}
	if failed(s.States[i]) {
		s.Fails--
	}
	if failed(as) {
		s.Fails++
	}
	if as != StepWaiting {
		switch at := slices.Index(s.Order, i); at {
		case -1:
		case 0: // as a rule
			s.Order = s.Order[1:]
		default:
			s.Order = slices.Delete(s.Order, at, at+1)
		}
	}
	s.States[i] = as
	if delete(s.Says, i); say != "" {
		s.Says[i] = say
	}
}

func failed(s StepState) bool { return s == StepFailed || s == StepDependent }
