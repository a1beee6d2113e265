package state

import (
	"reflect"
	"slices"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/plan"
)

// writing is somebody's wish to write to a target, which waits until it is known what that would do.
type writing struct {
	target bench.ID   // 0 for no wish
	agreed *plan.Plan // to what was said yes already; nil where the question is still to come
}

// writeLater keeps the wish to write to target n until what it waits for is there. Only the newest wish counts.
func (d *State) writeLater(n int, say string, agreed *plan.Plan) {
	d.Notice, d.toWrite = say, writing{d.Targets[n].ID, agreed}
}

// Pressed drops a question to come as soon as any key is pressed: it must not open under the hands of somebody who does
// something else by then, and take the next key for a yes.
func (d *State) Pressed() {
	if d.toWrite.agreed == nil {
		d.toWrite = writing{}
	}
}

// writeNow does what somebody waits for to write to target n, if all is there for it now. A plan that was agreed to is
// carried out only where it is still the same.
func (d *State) writeNow(n int) tea.Cmd {
	t, wish := d.At(n), d.toWrite
	p, said := d.Plan(n), wish.agreed != nil
	if wish.target == 0 || wish.target != t.ID || d.Looking(n) {
		return nil
	}
	if said && t.Survey != nil && p == nil || !said && d.Question != nil { // it comes later
		return nil
	}
	d.toWrite, d.Notice = writing{}, ""
	switch {
	case !said, t.Survey == nil, t.Survey.Away != nil, t.Running():
		return d.AskWrite(n) // it says why it cannot be
	case !sameSteps(p, wish.agreed):
		d.Notice = "The plan changed meanwhile, so nothing was started: look at it again."
		return nil
	}
	return d.run(n, t.Survey, p)
}

// sameSteps reports whether two plans do the same.
func sameSteps(p, q *plan.Plan) bool {
	return p == q || slices.EqualFunc(p.Steps, q.Steps, func(a, b plan.Step) bool {
		return a.Kind == b.Kind && a.Path == b.Path && a.From == b.From && a.Size == b.Size && a.Title == b.Title &&
			reflect.DeepEqual(a.Make, b.Make)
	})
}
