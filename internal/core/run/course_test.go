package run

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/core/plan"
)

// TestAMistakeOfOursIsNoSuccess has something go wrong in the goroutine that owns the lane: the run ends, and does not
// say that all is done.
func TestAMistakeOfOursIsNoSuccess(t *testing.T) {
	var kinds []EventKind
	l := newLane(Job{Plan: &plan.Plan{}, Emit: func(e Event) { kinds = append(kinds, e.Kind) }})
	l.lose(assert.AnError)
	l.Skip(7) // which is none of the plan
	assert.True(t, l.ask(func(c *course) { panic(c.States[7]) }), "it goes on")
	l.work(context.Background())
	assert.False(t, l.report.All())
	assert.Contains(t, l.report.Failed[0].Say, "the run: ")
	assert.Equal(t, []EventKind{Ended}, kinds, "the end is the last that is said")
	assert.False(t, l.ask(func(*course) { t.Error("nothing is done afterwards") }))
	l.Pause()
	l.Retry(0)
	assert.Equal(t, l.report, l.Wait())
}
