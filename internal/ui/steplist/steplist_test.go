package steplist_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/core/plan"
	"polytome/internal/core/shape"
	"polytome/internal/ui/steplist"
)

// of is a plan with a step for each letter: an image, a cover, a text, a list that comes last.
func of(letters string) *plan.Plan {
	p := &plan.Plan{}
	for _, c := range letters {
		made := map[rune]shape.Name{'i': shape.Whole, 'c': shape.Fitted, 't': shape.Written, 'l': shape.Written}[c]
		s := plan.Step{Kind: plan.Copy, Make: &shape.Spec{Shape: made}, Last: c == 'l'}
		if c == 'r' {
			s = plan.Step{Kind: plan.Remove}
		}
		p.Steps = append(p.Steps, s)
	}
	return p
}

func TestSmallFilesAreOneRowUntilItIsOpened(t *testing.T) {
	var l steplist.List
	p := of("rictcccccttttl")
	assert.Equal(t, []steplist.Row{{0, 1, ""}, {1, 2, ""}, {2, 13, "6 covers, 5 settings files"},
		{13, 14, ""}}, l.Rows(p))
	l.Resize(l.N, 20)
	l.Go(6)
	from, to := l.Steps()
	assert.Equal(t, []int{2, 13}, []int{from, to})
	assert.True(t, l.Turn())
	assert.Len(t, l.Rows(p), 14, "the covers are shown one by one")
	assert.True(t, l.Turn())
	l.Open(10)
	from, to = l.Steps()
	assert.Equal(t, []int{10, 11}, []int{from, to}, "in a row that was opened for it")
	assert.True(t, l.Turn(), "and folded again")
	from, _ = l.Steps()
	assert.Equal(t, 2, from)
	l.Go(0)
	assert.False(t, l.Turn(), "what is removed is always shown")
	assert.Len(t, l.Rows(of("ccc")), 1, "another plan is folded")
	assert.Empty(t, l.Rows(nil))
	assert.False(t, l.Turn())
}
