package run

import (
	"context"
	"errors"
	"sync"
	"time"

	"polytome/internal/core/plan"
	"polytome/internal/core/source"
	"polytome/internal/parallel"
	"polytome/internal/target"
)

// Small files are written in groups where the target can hold names back: all their bytes go to the medium together,
// each is read back, and then all names are made to last together. That takes two waits for the medium instead of two
// for each. Where a target is far away and takes several files at once, they are written side by side.
const (
	groupFile  = 1 << 20  // bytes up to which a file is small
	groupFiles = 512      // files in a group, at most
	groupBytes = 64 << 20 // bytes of a group, at most
)

// together is how many of the steps that wait are done as a group, or as a crowd.
func (l *Lane) together(c *course) (n int, beside bool) {
	_, holds := l.to.(target.BatchCommitter)
	p, ok := l.to.(target.ParallelWriter)
	beside = ok && p.AtOnce() > 1
	if !holds && !beside {
		return 1, false
	}
	bytes := int64(0)
	in := map[int]bool{}
	for _, i := range c.queue[:min(len(c.queue), groupFiles)] {
		s := &l.job.Plan.Steps[i]
		if s.Kind != plan.Copy || s.Last || s.Make.AtMost && !isPicture(s) || s.Size > groupFile ||
			bytes+s.Size > groupBytes || c.tries[i] > 0 {
			break
		}
		if beside && s.Make.Source.Entry != "" { // what is in an archive is unpacked in its order
			break
		}
		needed := false // its verdict must be known
		for _, need := range s.Needs {
			needed = needed || in[need]
		}
		if needed {
			break
		}
		in[i] = true
		n, bytes = n+1, bytes+s.Size
	}
	return max(n, 1), beside && n > 1
}

// off reports whether no further step is begun now. Those that were taken then wait again.
func (l *Lane) off(steps ...int) (off bool) {
	l.ask(func(c *course) {
		if off = c.stopsHere(); off {
			c.back(steps...)
		}
	})
	return off
}

// sideBySide carries out steps side by side.
func (l *Lane) sideBySide(ctx context.Context, steps []int) {
	next := make(chan int, len(steps))
	for _, i := range steps {
		next <- i
	}
	close(next)
	var wait sync.WaitGroup
	for range min(len(steps), l.to.(target.ParallelWriter).AtOnce()) {
		wait.Go(func() {
			opener := source.Opener{Passwords: l.job.Passwords, Allowed: l.job.Allowed}
			defer opener.Close()
			for i := range next {
				if !l.off(i) && l.gate(ctx) == nil && l.take(i) {
					l.one(ctx, i, &opener)
				}
			}
		})
	}
	wait.Wait()
}

// group does steps whose names are held back.
func (l *Lane) group(ctx context.Context, steps []int) {
	type member struct {
		*task
		*written
		ctx context.Context
	}
	began := l.clock()
	pictures := l.makeAhead(ctx, steps)
	defer pictures.end()
	var all []member
	end := func(m member, sum string, err error) {
		m.began = l.clock() - (l.clock()-began)/max(1, time.Duration(len(steps)))
		m.end(m.ctx, sum, err)
	}
	for k, i := range steps {
		if l.off(steps[k:]...) || l.gate(ctx) != nil {
			break
		}
		if !l.take(i) {
			continue
		}
		t, ctx := l.begin(ctx, i, &l.opener)
		t.ahead = pictures
		var f *written
		err := parallel.Safely(func() (err error) {
			if err = t.ready(ctx); err == nil {
				f, err = t.write(ctx, true)
			}
			return err
		})
		m := member{t, f, ctx}
		if f == nil {
			end(m, "", t.already(ctx, err))
			continue
		}
		all = append(all, m)
	}
	hold := l.to.(target.BatchCommitter)
	writers := make([]target.Writer, 0, len(all))
	for _, m := range all {
		writers = append(writers, m.w)
	}
	var ready []member
	for k, err := range hold.FlushAll(writers) {
		m := all[k]
		if err == nil {
			err = parallel.Safely(func() error { return m.readBack(m.ctx, m.written) })
		}
		var wrong *ReadBackError
		if errors.As(err, &wrong) { // it is tried once more, alone
			if err = m.w.Abort(); err == nil {
				m.rewrite(wrong)
				var sum string
				sum, err = m.putAgain(m.ctx)
				end(m, sum, err)
				continue
			}
		}
		if err != nil {
			end(m, "", m.giveUp(m.ctx, m.w, err))
			continue
		}
		ready = append(ready, m)
	}
	hold.Hold()
	named := ready[:0:0]
	for _, m := range ready {
		if err := m.w.Commit(); err != nil {
			end(m, "", m.giveUp(m.ctx, m.w, err))
			continue
		}
		named = append(named, m)
	}
	err := hold.Settle()
	for _, m := range named {
		if err == nil {
			m.note()
		}
		end(m, m.sums.Sum().String(), err)
	}
}
