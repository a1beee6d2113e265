// Package parallel does independent pieces of work on all processors.
package parallel

import (
	"runtime"
	"sync"
)

// chunk is how many pieces are handed out at once: work on a single title is too short to be
// worth a handover.
const chunk = 1024

// Each calls do for 0 to n-1, each once, in no order.
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
	for range workers {
		all.Go(func() {
			for from := range starts {
				for i := from; i < min(from+chunk, n); i++ {
					do(i)
				}
			}
		})
	}
	for from := 0; from < n; from += chunk {
		starts <- from
	}
	close(starts)
	all.Wait()
}
