package run

import (
	"context"
	"errors"
	"slices"

	"polytome/internal/core/plan"
	"polytome/internal/core/source"
	"polytome/internal/parallel"
	"polytome/internal/target"
)

// Small files are written in groups where the target can hold names back: all their bytes go to the medium together,
// each is read back, and then all names are made to last together. That takes two waits for the medium instead of two
// for each. Where a target is far away and takes several files at once, they are written side by side.
const (
	groupFile  = 1 << 20 // bytes up to which a file is small
	groupFiles = target.Together
	groupBytes = 64 << 20 // bytes of a group, at most
)

// together is how many of the steps that wait are done as a group, or as a crowd. A group is one of files, or one of
// changes.
func (l *Lane) together(c *course) (n int, beside bool) {
	most, together := groupFiles, l.atOnce() > 1
	changes := holds(&l.job.Plan.Steps[c.queue[0]])
	if hold, ok := l.to.(target.BatchCommitter); ok {
		most = min(most, hold.Together())
	} else if beside = together && !changes; !beside {
		return 1, false
	}
	bytes := int64(0)
	in := map[int]bool{}
	for _, i := range c.queue[:min(len(c.queue), most)] {
		s := &l.job.Plan.Steps[i]
		if c.tries[i] > 0 || changes != holds(s) || !changes && !isSmall(s, bytes, together) {
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

// isSmall reports whether a step writes a file that a group with so many bytes takes in.
func isSmall(s *plan.Step, bytes int64, together bool) bool {
	if together && s.Make.Source.Entry != "" { // what is in an archive is unpacked in its order
		return false
	}
	return s.Kind == plan.Copy && !s.Last && (!s.Make.AtMost || isPicture(s)) && s.Size <= groupFile &&
		bytes+s.Size <= groupBytes
}

// halted reports whether no further step is begun now.
func (l *Lane) halted() (is bool) {
	l.ask(func(c *course) { is = c.stopsHere() })
	return is
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

// atOnce is how many small files the target takes at once.
func (l *Lane) atOnce() int {
	if p, ok := l.to.(target.ParallelWriter); ok {
		return max(1, p.AtOnce())
	}
	return 1
}

// openers are so many as files are written at once, with that of the lane among them.
func (l *Lane) openers() (all []*source.Opener, closeAll func()) {
	all = []*source.Opener{&l.opener}
	for range l.atOnce() - 1 {
		all = append(all, &source.Opener{Passwords: l.job.Passwords, Allowed: l.job.Allowed})
	}
	return all, func() {
		for _, o := range all[1:] {
			_ = o.Close() // of what was read
		}
	}
}

// sideBySide carries out steps side by side.
func (l *Lane) sideBySide(ctx context.Context, steps []int) {
	openers, closeAll := l.openers()
	defer closeAll()
	parallel.InOrder(len(steps), len(openers), func(k, worker int) bool {
		i := steps[k]
		if !l.off(i) && l.gate(ctx) == nil && l.take(i) {
			l.one(ctx, i, openers[worker])
		}
		return true
	})
}

// member is a step of a group.
type member struct {
	*task
	*written
	ctx   context.Context
	err   error
	wrong *ReadBackError // it came back wrong
}

// group does steps whose names are held back: all are written, flushed together, read back, and named together.
func (l *Lane) group(ctx context.Context, steps []int) {
	began := l.clock()
	pictures := l.makeAhead(ctx, steps)
	defer pictures.end()
	openers, closeAll := l.openers()
	defer closeAll()
	end := func(m *member, sum string, err error) {
		m.began = began // those that end at the same time share the time since then
		m.end(m.ctx, sum, err)
	}
	of, seen := make([]*member, len(steps)), make([]bool, len(steps))
	parallel.InOrder(len(steps), len(openers), func(k, worker int) bool {
		if l.halted() || l.gate(ctx) != nil {
			return false
		}
		seen[k] = true
		if !l.take(steps[k]) {
			return true
		}
		t, ctx := l.begin(ctx, steps[k], openers[worker])
		t.ahead = pictures
		m := &member{task: t, ctx: ctx}
		m.err = parallel.Safely(func() (err error) {
			if err = t.ready(ctx); err == nil {
				m.written, err = t.write(ctx, true)
			}
			return err
		})
		if m.written == nil {
			end(m, "", t.already(ctx, m.err))
			return true
		}
		of[k] = m
		return true
	})
	var rest []int
	for k, was := range seen {
		if !was {
			rest = append(rest, steps[k])
		}
	}
	l.ask(func(c *course) { c.back(rest...) })
	all := slices.DeleteFunc(of, func(m *member) bool { return m == nil })
	writers := make([]target.Writer, 0, len(all))
	for _, m := range all {
		writers = append(writers, m.w)
	}
	hold := l.to.(target.BatchCommitter)
	flushed := hold.FlushAll(writers, l.job.Verify == VerifyFull)
	parallel.InOrder(len(all), len(openers), func(k, _ int) bool {
		m := all[k]
		if m.err = flushed[k]; m.err == nil {
			m.err = parallel.Safely(func() error { return m.readBack(m.ctx, m.written) })
		}
		if m.err != nil && !errors.As(m.err, &m.wrong) {
			end(m, "", m.giveUp(m.ctx, m.w, m.err))
		}
		return true
	})
	for _, m := range all {
		if m.wrong == nil {
			continue
		}
		var sum string
		if m.err = m.w.Abort(); m.err == nil { // it is tried once more, alone
			m.rewrite(m.wrong)
			sum, m.err = m.putAgain(m.ctx)
		}
		end(m, sum, m.err)
	}
	ready := slices.DeleteFunc(all, func(m *member) bool { return m.wrong != nil || m.err != nil })
	hold.Hold()
	parallel.InOrder(len(ready), len(openers), func(k, _ int) bool {
		m := ready[k]
		if m.err = m.w.Commit(); m.err != nil {
			end(m, "", m.giveUp(m.ctx, m.w, m.err))
		}
		return true
	})
	err := hold.Settle(ctx)
	for _, m := range ready {
		if m.err != nil {
			continue
		}
		if err == nil {
			m.note()
		}
		end(m, m.sums.Sum().String(), err)
	}
}
