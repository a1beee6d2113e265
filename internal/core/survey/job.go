package survey

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"polytome/internal/core/bench"
	"polytome/internal/core/journal"
	"polytome/internal/core/loader"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/scan"
	"polytome/internal/target"
	"polytome/internal/target/drive"
	"polytome/internal/target/protocols"
	"polytome/internal/target/served"
)

// Job is the carrying out of a plan at the target, as the bench has it set up.
func (s *Survey) Job(b *bench.Bench, p *plan.Plan) run.Job {
	return run.Job{Plan: p, Open: s.Open, Options: options(b, s.dir, &s.Config), Before: s.savesFirst(p),
		After: s.savesLast(p)}
}

// Beginning is what is written down of a run at the target.
func (s *Survey) Beginning(b *bench.Bench) journal.Beginning {
	return journal.Beginning{Config: s.Config, At: absolute(s.dir), Bench: absolute(b.File())}
}

func options(b *bench.Bench, at string, c *bench.Target) run.Options {
	o := run.Options{Limit: int64(c.Rate), Verify: run.VerifyFull}
	if p, _, _ := protocols.Parse(at); p != nil && p.Costly {
		o.Verify = run.VerifySize
	}
	if served.Is(at) { // nothing is copied that could be wrong
		o.Verify = run.VerifyNone
	} else if c.Verify != "" {
		o.Verify = run.Verify(c.Verify)
	}
	if b != nil {
		o.Passwords, o.Allowed = slices.Clone(b.Passwords), scan.Allowed(b)
	}
	return o
}

// Lies reports whether a run that is written down was at a target of a bench, as that is set up now.
func Lies(r *journal.Run, b *bench.Bench, n int) bool {
	p := &b.Targets[n]
	return r.Bench == absolute(b.File()) && p.Name == r.Config.Name &&
		(absolute(b.Resolve(p.At)) == r.At || p.Stick != "" && p.Stick == r.Config.Stick)
}

// absolute is a path that holds in whatever folder the program is started; an address is one already.
func absolute(at string) string {
	if a, ok := drive.ParseAddress(at); ok {
		if a.IsFile() {
			a.Drive = absolute(a.Drive)
		}
		return a.String()
	}
	if served.Is(at) {
		return served.Absolute(at, absolute)
	}
	if at == "" || strings.Contains(at, "://") {
		return at
	}
	if abs, err := filepath.Abs(at); err == nil {
		return abs
	}
	return at
}

// Again is what is left of a run that is written down, with how it is resumed. The bench is the one that it was for;
// nil where that is not there any longer.
func Again(j *journal.Journal, id int64, set *loader.Set, b *bench.Bench) (run.Job, journal.Beginning, error) {
	r, rest, err := j.Rest(id)
	if err != nil {
		return run.Job{}, journal.Beginning{}, err
	}
	var all []*loader.Profile
	for _, name := range r.Config.Loaders() {
		if loader.IsFile(name) && b != nil {
			name = b.Resolve(name)
		}
		p, err := set.Profile(name)
		if err != nil {
			return run.Job{}, journal.Beginning{}, err
		}
		all = append(all, p)
	}
	o := options(b, r.At, &r.Config)
	o.Verify, o.Again = r.Verify, true
	open := func(ctx context.Context) (target.Target, error) {
		return OpenTarget(ctx, r.At, r.Config, all[0], wantsContiguous(all, r.Config.Via))
	}
	return run.Job{Plan: rest, Open: open, Options: o}, journal.Beginning{Config: r.Config, At: r.At, Bench: r.Bench,
		After: r.ID}, nil
}

// Plain says that what is sent to an address, and the password for it, can be read on the way; "" where it cannot.
func Plain(at string) string {
	p, a, err := protocols.Parse(at)
	if p == nil || err != nil || !p.Plain(a) {
		return ""
	}
	return fmt.Sprintf("the connection to %s is plain %s: anyone in the same network can read the files and the "+
		"password",
		a.Host, p.Word)
}

// Plain says that what is sent to the target can be read on the way; "" where it cannot.
func (s *Survey) Plain() string { return Plain(s.dir) }
