package smb

import (
	"context"

	"polytome/internal/place/remote"
)

// Try finds out what the server can; see [remote.Probe].
func (p *Place) Try(ctx context.Context) (*remote.Probe, error) {
	r := &remote.Probe{Login: p.user, Flushes: true}
	if r.Login == "" {
		r.Login = "guests"
	}
	return r, r.Try(ctx, p)
}
