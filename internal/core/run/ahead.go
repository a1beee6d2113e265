package run

import (
	"context"
	"errors"
	"runtime"
	"sync"

	"polytome/internal/core/plan"
	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/parallel"
	"polytome/internal/target"
)

// ahead makes the pictures of a group on all processors, while the first of them are written: bringing one to size
// takes longer than writing it.
type ahead struct {
	made map[int]chan picture // by step; of the goroutine that writes
	stop context.CancelFunc
	wait sync.WaitGroup
}

// picture is one that was brought to size.
type picture struct {
	content target.Content
	err     error
}

// makeAhead begins to make the pictures among some steps; nil where there are none, or one.
func (l *Lane) makeAhead(ctx context.Context, steps []int) *ahead {
	var fitted []int
	for _, i := range steps {
		if isPicture(&l.job.Plan.Steps[i]) {
			fitted = append(fitted, i)
		}
	}
	if len(fitted) < 2 {
		return nil
	}
	ctx, stop := context.WithCancel(ctx)
	a := &ahead{made: map[int]chan picture{}, stop: stop}
	type wanted struct {
		step int
		made chan picture
	}
	next := make(chan wanted, len(fitted))
	for _, i := range fitted {
		a.made[i] = make(chan picture, 1)
		next <- wanted{i, a.made[i]}
	}
	close(next)
	for range min(runtime.GOMAXPROCS(0), len(fitted)) {
		a.wait.Go(func() {
			opener := source.Opener{Passwords: l.job.Passwords, Allowed: l.job.Allowed}
			defer opener.Close()
			for w := range next {
				if ctx.Err() != nil {
					return
				}
				var p picture
				p.err = parallel.Safely(func() (err error) {
					p.content, err = l.shared(ctx, w.step, &opener)
					return err
				})
				w.made <- p
			}
		})
	}
	return a
}

// isPicture reports whether a step writes a picture that is made of a file of this computer.
func isPicture(s *plan.Step) bool {
	return s.Make != nil && s.Make.Shape == shape.Fitted && !s.Make.OnTarget()
}

// end gives up what is still being made.
func (a *ahead) end() {
	if a == nil {
		return
	}
	a.stop()
	a.wait.Wait()
	for _, made := range a.made { // what no one wanted any longer
		select {
		case p := <-made:
			if p.content != nil {
				_ = p.content.Close()
			}
		default:
		}
	}
}

// open opens what a step writes: what was made ahead, or it is made now.
func (t *task) open(ctx context.Context) (target.Content, error) {
	if t.ahead != nil {
		if made := t.ahead.made[t.i]; made != nil {
			delete(t.ahead.made, t.i) // a second try makes it again
			select {
			case p := <-made:
				if !errors.Is(p.err, context.Canceled) {
					return p.content, p.err
				}
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		}
	}
	return t.l.shared(ctx, t.i, t.opener)
}
