package run

import (
	"context"
	"sync"

	"polytome/internal/core/plan"
	"polytome/internal/target/folder"
)

// turn is the right to read from one disk of this computer: lanes take turns, as a disk that is read in two places at
// once is slower than one that is read at one after the other. nil lets everybody read.
type turn chan struct{}

// turnBytes is how much is read in one turn, at most.
const turnBytes = 16 << 20

var (
	turnsMu sync.Mutex
	turns   = map[uint64]turn{}
)

// turnOf is the turn of the disk that the source of a step is on.
func turnOf(s *plan.Step) turn {
	if s.Make == nil || s.Make.Source.Path == "" || s.Make.OnTarget() {
		return nil
	}
	device, ok := folder.Device(s.Make.Source.Path)
	if !ok {
		return nil
	}
	turnsMu.Lock()
	defer turnsMu.Unlock()
	t := turns[device]
	if t == nil {
		t = make(turn, 1)
		turns[device] = t
	}
	return t
}

func (t turn) take(ctx context.Context) error {
	if t == nil {
		return ctx.Err()
	}
	select {
	case t <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (t turn) give() {
	if t != nil {
		<-t
	}
}
