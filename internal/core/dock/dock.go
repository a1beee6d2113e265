// Package dock waits for targets that are known, and has something done with each that comes: a stick that is plugged
// in, a console that is switched on. Every target has a slot of its own: a slow or failing one holds no other up.
package dock

import (
	"context"
	"sync"
	"time"

	"polytome/internal/parallel"
)

// Phase is what goes on in a slot.
type Phase string

// The phases.
const (
	Waiting  Phase = "waiting"   // nothing is there
	Looking  Phase = "looking"   // at what has come
	Filling  Phase = "filling"   // something is written to it
	Seen     Phase = "looked at" // and nothing more was wished
	Done     Phase = "done"      // it can be taken away
	NeedsYou Phase = "needs you" // a person has to decide
	Failed   Phase = "failed"    // it cannot be worked on as it is
)

// Phases are all phases, in the order in which a slot goes through them.
var Phases = []Phase{Waiting, Looking, Filling, Seen, Done, NeedsYou, Failed}

// Rests reports whether nothing more happens in the slot until what is there goes, or another one comes.
func (p Phase) Rests() bool { return p == Seen || p == Done || p == NeedsYou || p == Failed }

// A Report is how it stands in a slot.
type Report struct {
	Phase Phase         `json:"phase"`
	Say   string        `json:"say,omitempty"`  // more about it, in a clause; "" for nothing
	Share float64       `json:"share,omitzero"` // of what is filled, from 0 to 1
	Left  time.Duration `json:"left,omitzero"`  // until that is over; 0 for unknown
	// Ejected says that it was made safe to unplug: that it goes from where it was is no news then.
	Ejected bool `json:"ejected,omitzero"`
	// Again is set where it failed only as it could not be reached just now: it is tried again, after a while.
	Again bool `json:"again,omitzero"`
}

// An Event is what happens in a slot.
type Event struct {
	Report
	Slot int
	At   time.Time
}

// Usual is how often slots are looked at while nobody says otherwise, and Steady how often something must have been
// there in a row before it is worked on: what is only half plugged in comes and goes.
const (
	Usual  = 3 * time.Second
	Steady = 2
	settle = 500 * time.Millisecond // until what has just come is looked at again, at most
	// mostWait is how long it takes at most until what could not be reached is tried again; that doubles each time.
	mostWait = time.Minute
)

// Options are how a dock works.
type Options struct {
	Every time.Duration // between two looks at a slot; 0 for [Usual]
	// Changes has all slots be looked at when something comes on it; nil where nothing tells.
	Changes <-chan struct{}
	// Probe finds out, quickly and without reading it, what is in a slot: what it is known by, "" where that is not
	// known; ok is false for nothing.
	Probe func(ctx context.Context, slot int) (id string, ok bool)
	// Work does what is to be done with what has come. It returns with a phase that rests. It may report others on its
	// way.
	Work func(ctx context.Context, slot int, report func(Report)) Report
}

// Run waits at so many slots until the context ends, and for what is worked on by then. Events come one after another,
// those of a slot in their order.
func Run(ctx context.Context, slots int, o Options, emit func(Event)) {
	if o.Every == 0 {
		o.Every = Usual
	}
	events := make(chan Event)
	var all sync.WaitGroup
	wake := make([]chan struct{}, slots)
	for n := range slots {
		wake[n] = make(chan struct{}, 1)
		all.Go(func() { (&slot{n: n, o: &o, events: events, wake: wake[n]}).wait(ctx) })
	}
	ended := make(chan struct{})
	go func() {
		all.Wait()
		close(ended)
		close(events)
	}()
	go wakeAll(o.Changes, wake, ended)
	for e := range events {
		emit(e)
	}
}

// slot is one of a dock.
type slot struct {
	n      int
	o      *Options
	events chan<- Event
	wake   <-chan struct{} // something has changed
	shown  Report          // what was said last
}

// wakeAll has each slot be looked at when something has changed.
func wakeAll(changes <-chan struct{}, slots []chan struct{}, ended <-chan struct{}) {
	for {
		select {
		case <-ended:
			return
		case _, ok := <-changes:
			if !ok {
				return
			}
		}
		for _, s := range slots {
			select {
			case s <- struct{}{}:
			default:
			}
		}
	}
}

// say reports what happens in the slot.
func (s *slot) say(r Report) {
	s.shown = r
	s.events <- Event{r, s.n, time.Now()}
}

// probe finds out what is in the slot. A mistake of ours in it ends nothing but that look.
func (s *slot) probe(ctx context.Context) (id string, ok bool) {
	if parallel.Safely(func() error { id, ok = s.o.Probe(ctx, s.n); return nil }) != nil {
		return "", false
	}
	return id, ok
}

// work works on what has come. A mistake of ours in it fails that, and the other slots go on.
func (s *slot) work(ctx context.Context) (r Report) {
	if err := parallel.Safely(func() error { r = s.o.Work(ctx, s.n, s.say); return nil }); err != nil {
		return Report{Phase: Failed, Say: err.Error()}
	}
	return r
}

// pause waits; false when the context ends.
func (s *slot) pause(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// wait looks at the slot until the context ends, and works on what comes.
func (s *slot) wait(ctx context.Context) {
	s.say(Report{Phase: Waiting})
	had, done := "", false // what is worked on already
	id, seen := "", 0      // what is there, and how often it was in a row
	tries := 0             // how often in a row it could not be reached
	for {
		switch now, ok := s.probe(ctx); {
		case ctx.Err() != nil:
			return
		case !ok:
			seen, done = 0, false
			if s.shown.Phase != Waiting && !s.shown.Ejected { // which is said until another one comes
				s.say(Report{Phase: Waiting})
			}
		case seen == 0 || now != id:
			id, seen = now, 1
		default:
			seen = min(seen+1, Steady)
		}
		if seen >= Steady && (!done || had != id) {
			had, done = id, true
			r := s.work(ctx)
			if ctx.Err() != nil {
				return
			}
			s.say(r)
			if r.Again {
				done, tries = false, tries+1
				if !s.pause(ctx, min(s.o.Every<<min(tries, 10), mostWait)) {
					return
				}
				continue
			}
			tries = 0
		}
		pause := s.o.Every
		if seen > 0 && !done {
			pause = min(pause, settle)
		}
		select {
		case <-ctx.Done():
			return
		case <-s.wake:
		case <-time.After(pause):
		}
	}
}
