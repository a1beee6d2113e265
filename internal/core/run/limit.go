package run

import (
	"context"
	"sync"
	"sync/atomic"
	"time"
)

// limiter spreads writing over time. Its rate may be changed at any time.
type limiter struct {
	rate atomic.Int64 // bytes a second; 0 for no limit

	mu   sync.Mutex
	next time.Time // when the next byte is due
}

// most is how long is waited at once, so that another rate counts soon.
const most = 200 * time.Millisecond

// wait sleeps until n more bytes are due.
func (l *limiter) wait(ctx context.Context, n int64) error {
	for {
		rate := l.rate.Load()
		if rate <= 0 {
			return ctx.Err()
		}
		l.mu.Lock()
		now := time.Now()
		if now.Sub(l.next) > time.Second { // idle until now: no credit for that time
			l.next = now
		}
		due := l.next.Sub(now)
		if due <= 0 {
			l.next = l.next.Add(time.Duration(float64(n) / float64(rate) * float64(time.Second)))
			l.mu.Unlock()
			return ctx.Err()
		}
		// less, where the rate went up
		l.next = now.Add(min(due, time.Duration(float64(10*blockSize)/float64(rate)*float64(time.Second))))
		l.mu.Unlock()
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(min(due, most)):
		}
	}
}
