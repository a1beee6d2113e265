package place

import (
	"context"
	"time"
)

// Pace spreads writing over time. One place writes one file at a time. A nil one does not wait.
type Pace struct {
	rate  int64
	start time.Time
	done  int64
}

// NewPace lets so many bytes a second pass; 0 for no limit.
func NewPace(rate int64) *Pace {
	if rate <= 0 {
		return nil
	}
	return &Pace{rate: rate}
}

// Wait sleeps until n more bytes are due.
func (p *Pace) Wait(ctx context.Context, n int64) error {
	if p == nil || ctx.Err() != nil {
		return ctx.Err()
	}
	now := time.Now()
	if due := p.due(); p.start.IsZero() || now.After(due.Add(time.Second)) {
		p.start, p.done = now, 0 // idle until now: no credit for that time
	}
	p.done += n
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(time.Until(p.due())):
		return nil
	}
}

func (p *Pace) due() time.Time {
	return p.start.Add(time.Duration(float64(p.done) / float64(p.rate) * float64(time.Second)))
}
