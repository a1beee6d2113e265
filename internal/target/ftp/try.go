package ftp

import (
	"context"
	"time"

	"polytome/internal/target/remote"
)

// Try finds out what the server can; see [remote.Probe].
func (p *Target) Try(ctx context.Context) (*remote.Probe, error) {
	r := &remote.Probe{Login: p.opts.User, Secure: p.secure()}
	if r.Login == "" {
		r.Login = "anonymous"
	}
	began := time.Now()
	if err := p.do(ctx, "asking", "", true, func(s *session) error { return s.c.NoOp() }); err != nil {
		return nil, err
	}
	took := time.Since(began)
	p.forget()
	err := r.Try(ctx, p)
	r.RoundTrip = took
	r.Renames = r.Renames && !p.traits.noRename.Load()
	for _, k := range []struct {
		not  bool
		what string
	}{
		{p.traits.noSize.Load(), "the length of a file"}, {p.traits.noSpace.Load(), "how much space is left"},
		{p.traits.noRestart.Load(), "reading from the middle of a file"},
		{p.traits.noAllocate.Load(), "to refuse in advance a file that does not fit"},
	} {
		if !k.not {
			r.Knows = append(r.Knows, k.what)
		}
	}
	return r, err
}
