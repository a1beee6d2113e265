package run

import (
	"context"

	"polytome/internal/core/plan"
	"polytome/internal/target"
)

// Folders are made, and files removed, in groups where the target can hold that back: all of it goes to the medium
// together. A slow stick takes longer to say that something is there than to take it.

// holds reports whether a step is one of them. Moving is not: what goes from one folder to another must be in one of
// them whenever the power fails, whatever else changes there.
func holds(s *plan.Step) bool {
	return s.Kind == plan.Clear || s.Kind == plan.Remove || s.Kind == plan.RemoveFolder || s.Kind == plan.MakeFolder
}

// changes carries out steps one after another, and has all of them last at once. Where it is paused or one fails, what
// was done by then lasts, and the rest waits again.
func (l *Lane) changes(ctx context.Context, steps []int, hold target.BatchCommitter) {
	type change struct {
		*task
		ctx context.Context
		err error
	}
	var all []change
	hold.Hold()
	for k, i := range steps {
		var was, stops bool
		l.ask(func(c *course) {
			if stops = ctx.Err() != nil || c.paused != nil || c.stopsHere(); stops {
				c.back(steps[k:]...)
			} else {
				was = c.take(i)
			}
		})
		if stops {
			break
		}
		if !was {
			continue
		}
		t, ctx := l.begin(ctx, i, &l.opener)
		_, err := t.do(ctx)
		all = append(all, change{t, ctx, err})
		if err != nil {
			l.ask(func(c *course) { c.back(steps[k+1:]...) })
			break
		}
	}
	settled := hold.Settle(ctx)
	for _, c := range all {
		if c.err == nil {
			c.err = settled
		}
		c.end(c.ctx, "", c.err)
	}
}
