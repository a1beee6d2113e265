// Package run carries out plans, a lane for each target. Every file is written under a temporary name,
// flushed, checked, and only then gets its final name: whatever happens in between, a final name never
// stands for half a file. What was interrupted is resumed where the target allows, after a comparison of what is there.
package run

import (
	"context"
	"fmt"
	"time"

	"polytome/internal/core/plan"
	"polytome/internal/size"
	"polytome/internal/target"
)

// EventKind is what an event tells.
type EventKind string

// The events. A step has them in this order, as far as it has them.
const (
	Began     EventKind = "began"     // a step begins
	Resuming  EventKind = "going-on"  // so many bytes of its file are there from an earlier try, and are kept
	Progress  EventKind = "progress"  // bytes were written
	Checking  EventKind = "checking"  // the file is being read back
	Rewriting EventKind = "rewriting" // it came back wrong, and is written again
	Done      EventKind = "done"      // the step succeeded
	Failed    EventKind = "failed"    // the step did not; the run goes on
	Skipped   EventKind = "skipped"   // the step was skipped on request
	PutOff    EventKind = "put-off"   // the step could not be done just now, and is tried again
	Waiting   EventKind = "waiting"   // the target has gone away and is waited for; or comes later again
	Back      EventKind = "back"      // the target is there again
	Paused    EventKind = "paused"    // nothing is done until it is resumed
	Resumed   EventKind = "resumed"   // it goes on
	Reordered EventKind = "reordered" // the steps that wait have another order
	Ended     EventKind = "ended"     // the run is over
)

// An Event is one thing that happened. It is plain data.
type Event struct {
	Kind    EventKind     `json:"event"`
	Step    int           `json:"step"` // index into the plan's steps
	Path    string        `json:"path,omitempty"`
	Bytes   int64         `json:"bytes"`             // written of this step's file, or read back when checking
	Total   int64         `json:"total"`             // bytes of the whole plan that are on the target
	Elapsed time.Duration `json:"elapsed"`           // since the run began, without pauses
	Say     string        `json:"say,omitempty"`     // what happened and what to do
	Sum     string        `json:"sum,omitempty"`     // Done, of a file: its fingerprint
	Stopped bool          `json:"stopped,omitempty"` // Ended: the run was stopped
	// Dependent is set for a step that failed as it needs another one that did.
	Dependent bool  `json:"dependent,omitempty"`
	Order     []int `json:"order,omitempty"` // Reordered: the steps that wait
}

// A Failure is a step that did not succeed.
type Failure struct {
	Step int    `json:"step"`
	Path string `json:"path"`
	Say  string `json:"say"`
}

// A Report is how a run ended.
type Report struct {
	Done    int       `json:"done"`              // steps that succeeded
	Put     int       `json:"copied"`            // files among them
	Bytes   int64     `json:"bytes"`             // in those files
	Verify  Verify    `json:"verify"`            // how files were checked
	Kept    int       `json:"kept,omitempty"`    // files that were copied to this computer first
	Moved   int       `json:"moved,omitempty"`   // files and folders that got another path
	Removed int       `json:"removed,omitempty"` // files that went
	Failed  []Failure `json:"failed,omitempty"`
	Skipped int       `json:"skipped,omitempty"` // steps that were skipped on request
	Untried int       `json:"untried,omitempty"` // steps after the target was lost or the run stopped
	// files that came back wrong once, and right the second time
	Rewritten int   `json:"rewritten,omitempty"`
	Breaks    int   `json:"breaks,omitempty"`        // how often the target went away and came back
	Resumed   int64 `json:"resumed-bytes,omitempty"` // bytes that were there from earlier tries
	// the file that is left half under a temporary name, to be resumed
	Half      string `json:"half,omitempty"`
	HalfBytes int64  `json:"half-bytes,omitempty"` // that are there of it
	HalfOf    int64  `json:"half-of,omitempty"`    // that it will have
	Stopped   bool   `json:"stopped,omitempty"`
	// Away says that the target could not be reached, or not any longer: it may come back.
	Away    bool          `json:"away,omitempty"`
	Elapsed time.Duration `json:"elapsed"` // without pauses
	// Large and Small are how long files took that were written whole: what the next times are estimated from.
	Large Timed `json:"large,omitzero"`
	Small Timed `json:"small,omitzero"`
	// Undone are the numbers of steps that were not done.
	Undone map[int]bool `json:"-"`
	// Wrote are the texts that were written from rules, by their paths; of a picture, what it was made of.
	Wrote map[string]string `json:"-"`
}

// All reports whether everything that was planned is done.
func (r Report) All() bool { return len(r.Failed) == 0 && r.Skipped == 0 && r.Untried == 0 }

// Waits says what of a file that is left half waits to be resumed, in a clause; "" where none is.
func (r Report) Waits() string {
	if r.Half == "" {
		return ""
	}
	return fmt.Sprintf("%s of %s of %s are kept under a temporary name for resuming", size.Format(r.HalfBytes),
		size.Format(r.HalfOf), r.Half)
}

// Timed is how long some files took together.
type Timed struct {
	Files int           `json:"files"`
	Bytes int64         `json:"bytes"`
	Took  time.Duration `json:"took"` // in which one of them or several were under way
}

// LargeFrom is from how many bytes on a file takes its time by its length; of what is smaller,
// each takes about the same.
const LargeFrom = 4 << 20

// Options are what a run needs beside the plan.
type Options struct {
	Passwords []string // tried on encrypted archives
	Allowed   []string // archives that may be much larger inside than outside
	Verify    Verify   // how files are checked; "" for reading them back
	Limit     int64    // bytes a second, at most; 0 for no limit
	// Patience is how long a target that has gone away is waited for; 0 for [Patience], less for not at all.
	Patience time.Duration
	// AtOnce lets several lanes read from one disk at the same time.
	AtOnce bool
	// Again says that steps may have been done already, as after a run that was killed: what is there and is what was
	// wanted counts as done.
	Again bool
	// FirstWait is the time until something that was interrupted is tried again, which doubles each time; 0 for
	// [FirstWait].
	FirstWait time.Duration
}

// Patience is for how long a target that has gone away is waited for.
const Patience = time.Minute

// FirstWait is how long is waited before something that was interrupted is tried again, for the first time; MostWait is
// the longest wait between two tries.
const (
	FirstWait = time.Second
	MostWait  = 8 * time.Second
)

// progressEvery is the time between two progress events of one step.
const progressEvery = 50 * time.Millisecond

// A Job is one plan for one target.
type Job struct {
	Plan *plan.Plan
	// Open opens the target. It is named again when the target has gone away.
	Open func(ctx context.Context) (target.Target, error)
	// From is a target whose files are written, where the sources of steps are not files of this computer; nil where
	// such sources are files of the target itself. It stays open.
	From target.Target
	Options
	// Before runs once, when the target is open and this run's alone, before the first step: where it fails, nothing is
	// done. Nil for nothing.
	Before func(ctx context.Context, to target.Target) error
	// After runs when everything is closed, and before the end is said, with what was done of the plan: what goes
	// wrong in it is a failure of the run. Nil for nothing.
	After func(ctx context.Context, done func(step int) bool) error
	// Tell takes events, one at a time. The run waits for it; whoever steers the lane does not.
	Emit func(Event)
	// Over is named with the report when everything is closed, before the lane has ended; nil for no one.
	Over func(Report)
}

// Run carries out a plan on a target that is open, and stays so. It sends events to the function, one at a time. Just
// before each step the target is looked at: where it is not what it was when the plan was made, the step fails and
// nothing is touched. A step that fails is reported and the next is tried, unless it needs the failed one, or the
// target itself can no longer be written to. Cancelling the context stops the run.
func Run(ctx context.Context, p *plan.Plan, to target.Target, o Options, emit func(Event)) Report {
	if o.Patience == 0 {
		o.Patience = -1 // there is no way to open it again
	}
	l := newLane(Job{Plan: p, Options: o, Emit: emit})
	l.to, l.lent = to, true
	l.work(ctx)
	return l.report
}
