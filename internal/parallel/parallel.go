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
	workers := min(runtime.NumCPU(), 1+n/chunk)
	if workers < 2 {
		for i := range n {
			do(i)
		}
		return
	}
	starts := make(chan int)
	var all sync.WaitGroup
	var mistake atomic.Pointer[MistakeError]
	for range workers {
		all.Go(func() {
			for from := range starts {
				err := Safely(func() error {
					for i := from; i < min(from+chunk, n); i++ {
						do(i)
					}
					return nil
				})
				var m *MistakeError
				if errors.As(err, &m) {
					mistake.Store(m)
				}
			}
		})
	}
	for from := 0; from < n; from += chunk {
		starts <- from
	}
	close(starts)
	all.Wait()
	if m := mistake.Load(); m != nil {
		panic(m.Cause)
	}
}
