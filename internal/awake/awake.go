// Package awake keeps the computer from going to sleep while something goes on that takes long.
package awake

import "sync"

var (
	mu      sync.Mutex
	keeping int
	release func()
)

// Keep keeps the computer awake until the function that it returns is named, where the system lets it. Others may keep
// it awake at the same time.
func Keep(why string) func() {
	mu.Lock()
	defer mu.Unlock()
	if keeping++; keeping == 1 {
		release = inhibit(why)
	}
	return sync.OnceFunc(func() {
		mu.Lock()
		defer mu.Unlock()
		if keeping--; keeping == 0 && release != nil {
			release()
			release = nil
		}
	})
}
