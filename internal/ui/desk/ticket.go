package desk

import (
	"context"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
)

// work is a kind of slow work, of which only the newest result counts.
type work int

const (
	looking work = iota // at a place
	proving
	trying // a link
	reloading
	listingDrives
	readingHistory
)

// A ticket says whose a result is that comes later, and from when: work of a kind for a place, or for none, and how often that
// had been begun. Only a result with the newest ticket is taken in.
type ticket struct {
	place bench.ID
	work  work
	turn  int
}

// A turn is the newest work of a kind for a place.
type turn struct {
	number int
	open   bool // its result has not come
	cancel context.CancelFunc
}

type turnOf struct {
	place bench.ID
	work  work
}

// begin gives out a ticket for work for place n, or for none with n < 0. Work of that kind that goes on is cancelled: nobody
// would take its result.
func (d *Desk) begin(n int, w work) (ticket, context.Context) {
	var id bench.ID
	if n >= 0 {
		if d.Bench.Places[n].ID() == 0 {
			d.Bench.Identify()
		}
		id = d.Bench.Places[n].ID()
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

// end takes a ticket back. ok is false when its result is to be dropped: it came twice, the place has gone from the bench, or newer
// work was begun. n is the number that the place has now, -1 for work for none.
func (d *Desk) end(t ticket) (n int, ok bool) {
	of := turnOf{t.place, t.work}
	newest := d.turns[of]
	if newest.number != t.turn || !newest.open {
		return 0, false
	}
	newest.open = false
	newest.cancel()
	d.turns[of] = newest
	if t.place == 0 {
		return -1, true
	}
	return d.Bench.Find(t.place)
}

// goesOn reports whether work of a kind for place n was begun, and its result has not come.
func (d *Desk) goesOn(n int, w work) bool {
	return n < len(d.Bench.Places) && d.turns[turnOf{d.Bench.Places[n].ID(), w}].open
}

// drop gives up work of a kind for place n.
func (d *Desk) drop(n int, w work) {
	of := turnOf{d.Bench.Places[n].ID(), w}
	if t := d.turns[of]; t.open {
		t.open = false
		t.cancel()
		d.turns[of] = t
	}
}

// Later keeps something for later that is to be done with place n, whatever number that has then. When the place has gone from the
// bench, it is not done.
func (d *Desk) Later(n int, do func(n int) tea.Cmd) func() tea.Cmd {
	id, name := d.Bench.Places[n].ID(), d.Bench.Places[n].Name
	return func() tea.Cmd {
		now, ok := d.Bench.Find(id)
		if !ok {
			d.Notice = name + " is no place of the bench any more, so nothing was done."
			return nil
		}
		return do(now)
	}
}
