package run

import (
	"context"
	"time"

	"polytome/internal/core/plan"
	"polytome/internal/place"
)

// Small files are written in groups where the place can hold names back: all their bytes go to the medium together, each is
// read back, and then all names are made to last together. That takes two waits for the medium instead of two for each.
const (
	groupFile  = 1 << 20  // bytes up to which a file is small
	groupFiles = 256      // files in a group, at most
	groupBytes = 64 << 20 // bytes of a group, at most
)

// together is how many steps from i on are done as a group; less than two for none.
func (r *runner) together(i int) int {
	if _, ok := r.to.(place.Holder); !ok {
		return 0
	}
	n, bytes := 0, int64(0)
	for k := i; k < len(r.plan.Steps) && n < groupFiles; k++ {
		s := &r.plan.Steps[k]
		if s.Kind != plan.Put || s.Last || s.Make.AtMost || s.Size > groupFile || bytes+s.Size > groupBytes {
			break
		}
		for _, need := range s.Needs {
			if need >= i { // its verdict must be known
				return n
			}
		}
		n, bytes = n+1, bytes+s.Size
	}
	return n
}

// group does n steps from i on.
func (r *runner) group(ctx context.Context, i, n int) {
	type member struct {
		*written
		step  int
		bytes int64
	}
	began := time.Now()
	var all []member
	end := func(m member, sum string, err error) {
		r.bytes = m.bytes
		r.end(ctx, m.step, sum, time.Since(began)/time.Duration(n), err)
	}
	for k := i; k < i+n; k++ {
		if ctx.Err() != nil || r.lost != nil {
			r.report.Untried += i + n - k
			break
		}
		r.begin(k)
		s := &r.plan.Steps[k]
		var f *written
		err := r.ready(ctx, s)
		if err == nil {
			f, err = r.write(ctx, s)
		}
		m := member{f, k, r.bytes}
		if f == nil {
			end(m, "", err)
			continue
		}
		all = append(all, m)
	}
	hold := r.to.(place.Holder)
	ready := all[:0:0]
	writers := make([]place.Writer, 0, len(all))
	errs := make([]error, len(all))
	for k, m := range all {
		errs[k] = m.w.Flush() // the first one brings all of them to the medium
		writers = append(writers, m.w)
	}
	hold.Ahead(writers)
	for k, m := range all {
		r.step, r.path, r.bytes = m.step, m.s.Path, m.bytes
		err := errs[k]
		if err == nil {
			err = r.prove(ctx, m.written)
		}
		if err != nil {
			end(m, "", m.giveUp(err))
			continue
		}
		ready = append(ready, m)
	}
	hold.Hold()
	named := ready[:0:0]
	for _, m := range ready {
		if err := m.w.Commit(); err != nil {
			end(m, "", m.giveUp(err))
			continue
		}
		named = append(named, m)
	}
	err := hold.Settle()
	for _, m := range named {
		if err == nil {
			r.note(m.s)
		}
		end(m, m.wrote.String(), err)
	}
}
