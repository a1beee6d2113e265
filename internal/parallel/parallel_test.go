package parallel_test

import (
	"slices"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/parallel"
)

func TestEachIsDoneOnce(t *testing.T) {
	for _, n := range []int{0, 1, 1023, 1024, 1025, 10_000} {
		done := make([]atomic.Int32, n)
		parallel.Each(n, func(i int) { done[i].Add(1) })
		for i := range done {
			assert.EqualValues(t, 1, done[i].Load(), "%d of %d", i, n)
		}
	}
}

// TestWorkersBeginInOrder has each worker take the next piece, never two the same one, and no worker be two at once.
func TestWorkersBeginInOrder(t *testing.T) {
	var mu sync.Mutex
	var begun []int
	var busy [8]atomic.Bool
	parallel.InOrder(500, 8, func(i, worker int) bool {
		assert.True(t, busy[worker].CompareAndSwap(false, true), "worker %d is busy", worker)
		defer busy[worker].Store(false)
		mu.Lock()
		defer mu.Unlock()
		begun = append(begun, i)
		return true
	})
	slices.Sort(begun)
	assert.Len(t, slices.Compact(begun), 500)

	var alone []int
	parallel.InOrder(5, 1, func(i, worker int) bool {
		assert.Zero(t, worker)
		alone = append(alone, i)
		return i < 2
	})
	assert.Equal(t, []int{0, 1, 2}, alone, "no more is begun")
	parallel.InOrder(0, 8, func(int, int) bool { t.Error("there is nothing to do"); return true })
}

// TestAMistakeComesOutWhenTheRestHasEnded so that whoever waits can say so, and nothing goes on behind its back.
func TestAMistakeComesOutWhenTheRestHasEnded(t *testing.T) {
	for _, workers := range []int{1, 4} {
		var under atomic.Int32
		assert.PanicsWithValue(t, "a mistake", func() {
			parallel.InOrder(100, workers, func(i, _ int) bool {
				under.Add(1)
				defer under.Add(-1)
				if i == 10 {
					panic("a mistake")
				}
				return true
			})
		})
		assert.Zero(t, under.Load())
	}
}
