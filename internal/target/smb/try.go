package smb

import (
	"context"

	"polytome/internal/target/remote"
)

// Try finds out what the server can; see [remote.Probe].
func (p *Target) Try(ctx context.Context) (*remote.Probe, error) {
	r := &remote.Probe{Login: p.user, Flushes: true}
	if r.Login == "" {
		r.Login = "guests"
	}
	return r, r.Try(ctx, p)
}
