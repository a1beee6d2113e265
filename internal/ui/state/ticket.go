package state

import (
	"context"
	"slices"

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
	listingExports
	listingDiscs
	readingHistory
	foresees // what a check will say
	ejecting
	readingSaves
	savesWork // on the saves of a target
	noting    // in the ledger what is on a target
	readingLedger
	changingLedger
	works // how many there are
)

// jobs are the newest ones of each kind of work, for a target or for none.
type jobs [works]job

// A job is the newest work of a kind.
type job struct {
	number int  // how often it was begun
	open   bool // its result has not come
	cancel context.CancelFunc
}

// drop gives the work up: its result is not taken.
func (j *job) drop() {
	if j.open {
		j.open = false
		j.cancel()
	}
}

// A ticket says whose a result is that comes later, and from when. Only a result of the newest work of its kind is
// taken in.
type ticket struct {
	target bench.ID // 0 for none
	job    *job
	number int
}

// job is the newest work of a kind for target n, or for none with n < 0.
func (d *State) job(n int, w work) *job {
	if n < 0 {
		return &d.jobs[w]
	}
	return &d.At(n).jobs[w]
}

// begin gives out a ticket for work for target n, or for none with n < 0. Work of that kind that goes on is cancelled:
// no one would take its result.
func (d *State) begin(n int, w work) (ticket, context.Context) {
	j := d.job(n, w)
	j.drop()
	ctx, cancel := context.WithCancel(d.Ctx)
	j.number, j.open, j.cancel = j.number+1, true, cancel
	t := ticket{job: j, number: j.number}
	if n >= 0 {
		t.target = d.Targets[n].ID
	}
	return t, ctx
}

// end takes a ticket back. ok is false when its result is to be dropped: it came twice, the target has gone from the
// bench, or newer work was begun. n is the number that the target has now, -1 for work for none.
func (d *State) end(t ticket) (n int, ok bool) {
	if t.job == nil || t.number != t.job.number || !t.job.open {
		return 0, false
	}
	t.job.drop()
	if t.target == 0 {
		return -1, true
	}
	n = slices.IndexFunc(d.Targets, func(x *Target) bool { return x.ID == t.target })
	return n, n >= 0
}

// goesOn reports whether work of a kind for target n was begun, and its result has not come.
func (d *State) goesOn(n int, w work) bool { return d.job(n, w).open }

// drop gives up work of a kind for target n.
func (d *State) drop(n int, w work) { d.job(n, w).drop() }

// Later keeps something for later that is to be done with target n, whatever number that has then. When the target has
// gone from the bench, it is not done.
func (d *State) Later(n int, do func(n int) tea.Cmd) func() tea.Cmd {
	with := d.LaterWith(n, func(n int, _ string) tea.Cmd { return do(n) })
	return func() tea.Cmd { return with("") }
}

// LaterWith is [State.Later] for what needs an answer.
func (d *State) LaterWith(n int, do func(n int, answer string) tea.Cmd) func(answer string) tea.Cmd {
	id, name := d.Bench.Targets[n].ID(), d.Bench.Targets[n].Name
	return func(answer string) tea.Cmd {
		now, ok := d.Bench.Find(id)
		if !ok {
			d.Notice = name + " is no longer a target, so nothing was done."
			return nil
		}
		return do(now, answer)
	}
}
