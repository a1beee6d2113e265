// Package parallel does independent pieces of work on all processors.
package parallel

import (
	"errors"
	"runtime"
	"sync"
	"sync/atomic"
)

// chunk is how many pieces are handed out at once: work on a single title is too short to be
// worth a handover.
const chunk = 1024

// Each calls do for 0 to n-1, each once, in no order. A panic in do comes out of Each, when the rest has ended.
func Each(n int, do func(i int)) {
	InOrder((n+chunk-1)/chunk, runtime.NumCPU(), func(part, _ int) bool {
		for i := part * chunk; i < min((part+1)*chunk, n); i++ {
			do(i)
		}
		return true
	})
}

// InOrder calls do for 0 to n-1, begun in that order by so many workers, and says which of them it is: work that waits
// for something else than a processor can have many. When do returns false, no more is begun. A panic in do comes out
// of InOrder, when the rest has ended.
func InOrder(n, workers int, do func(i, worker int) (more bool)) {
	var next atomic.Int64
	var ended atomic.Bool
	work := func(worker int) {
		for i := int(next.Add(1)) - 1; i < n && !ended.Load(); i = int(next.Add(1)) - 1 {
			if !do(i, worker) {
				ended.Store(true)
			}
		}
	}
	if workers = min(workers, n); workers < 2 {
		work(0)
		return
	}
	var all sync.WaitGroup
	var mistake atomic.Pointer[MistakeError]
	for worker := range workers {
		all.Go(func() {
			err := Safely(func() error { work(worker); return nil })
			var m *MistakeError
			if errors.As(err, &m) {
				mistake.Store(m)
			}
		})
	}
	all.Wait()
	if m := mistake.Load(); m != nil {
		panic(m.Cause)
	}
}
