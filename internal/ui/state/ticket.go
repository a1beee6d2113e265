package state

import (
	"context"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
)

// work is a kind of slow work, of which only the newest result counts.
type work int

const (
	looking work = iota // at a target
	checking
	trying // a link
	reloading
	listingDrives
	readingHistory
)

// A ticket says whose a result is that comes later, and from when: work of a kind for a target, or for none, and how
// often that had been begun. Only a result with the newest ticket is taken in.
type ticket struct {
	target bench.ID
	work   work
	turn   int
}

// A turn is the newest work of a kind for a target.
type turn struct {
	number int
	open   bool // its result has not come
	cancel context.CancelFunc
}

type turnOf struct {
	target bench.ID
	work   work
}

// begin gives out a ticket for work for target n, or for none with n < 0. Work of that kind that goes on is cancelled:
// no one would take its result.
func (d *State) begin(n int, w work) (ticket, context.Context) {
	var id bench.ID
	if n >= 0 {
		if d.Bench.Targets[n].ID() == 0 {
			d.Bench.Identify()
		}
		id = d.Bench.Targets[n].ID()
	}
	of := turnOf{id, w}
	t := d.turns[of]
	if t.cancel != nil {
		t.cancel()
	}
	ctx, cancel := context.WithCancel(d.Ctx)
	t = turn{t.number + 1, true, cancel}
	d.turns[of] = t
	return ticket{id, w, t.number}, ctx
}

// end takes a ticket back. ok is false when its result is to be dropped: it came twice, the target has gone from the
// bench, or newer work was begun. n is the number that the target has now, -1 for work for none.
func (d *State) end(t ticket) (n int, ok bool) {
	of := turnOf{t.target, t.work}
	newest := d.turns[of]
	if newest.number != t.turn || !newest.open {
		return 0, false
	}
	newest.open = false
	newest.cancel()
	d.turns[of] = newest
	if t.target == 0 {
		return -1, true
	}
	return d.Bench.Find(t.target)
}

// goesOn reports whether work of a kind for target n was begun, and its result has not come.
func (d *State) goesOn(n int, w work) bool {
	return n < len(d.Bench.Targets) && d.turns[turnOf{d.Bench.Targets[n].ID(), w}].open
}

// drop gives up work of a kind for target n.
func (d *State) drop(n int, w work) {
	of := turnOf{d.Bench.Targets[n].ID(), w}
	if t := d.turns[of]; t.open {
		t.open = false
		t.cancel()
		d.turns[of] = t
	}
}

// Later keeps something for later that is to be done with target n, whatever number that has then. When the target has
// gone from the bench, it is not done.
func (d *State) Later(n int, do func(n int) tea.Cmd) func() tea.Cmd {
	id, name := d.Bench.Targets[n].ID(), d.Bench.Targets[n].Name
	return func() tea.Cmd {
		now, ok := d.Bench.Find(id)
		if !ok {
			d.Notice = name + " is no longer a target, so nothing was done."
			return nil
		}
		return do(now)
	}
}
