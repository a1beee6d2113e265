package prepare

import (
	"context"
	"errors"
	"fmt"
	"os"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/core/survey"
)

// room finds what is wanted of the titles and will not go onto the drive as it will be: they are judged for an empty
// target like it.
func (p *Plan) room(ctx context.Context, set *loader.Set, r Request) (err error) {
	if r.Profile == nil || len(r.Titles) == 0 {
		return nil
	}
	empty, err := os.MkdirTemp("", "polytome-empty-")
	if err != nil {
		return fmt.Errorf("making room to try what fits: %w", err)
	}
	defer func() { err = errors.Join(err, os.Remove(empty)) }()
	c := r.Wanted
	if c.Name == "" {
		c = bench.Target{Name: p.Drive.Name(), Everything: true}
	}
	c.Loader = r.Profile.Name
	if known, err := set.Profile(c.Loader); err != nil || known.File != r.Profile.File {
		c.Loader = r.Profile.File
	}
	c.At, c.As, c.Capacity, c.Cluster = empty, p.Filesystem, bench.Size(p.length), bench.Size(p.Cluster)
	c.Via, c.Carries = p.at.Via, ""
	b := bench.New("")
	b.Targets = []bench.Target{c}
	s, err := survey.Take(ctx, b, 0, r.Titles, survey.Options{Set: set})
	if err != nil {
		return err
	}
	p.Left = s.Plan().Left
	return nil
}
