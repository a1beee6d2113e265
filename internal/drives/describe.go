package drives

import (
	"context"
	"errors"
	"os"
	"slices"
)

// A describer is a system that describes its drives by calls of its own, where Linux has files for that.
type describer interface {
	// drives are the drives as the system describes them. Nothing of them was read.
	drives(ctx context.Context) ([]*Drive, error)
	// drive is one of them as it is now; nil where there is none.
	drive(ctx context.Context, path string) (*Drive, error)
	// known is a short text that is another one when a drive or volume came or went.
	known() string
}

// described are the drives as the system describes them. None of them is opened.
func (s System) described(ctx context.Context) ([]*Drive, error) {
	if s.calls != nil {
		return s.calls.drives(ctx)
	}
	out, err := s.list()
	if errors.Is(err, os.ErrNotExist) {
		return nil, errors.New("this system does not list its drives; image files work anyway")
	}
	return out, err
}

// now is a drive as the system describes it at this moment; nil where it is gone.
func (s System) now(ctx context.Context, d *Drive) *Drive {
	if s.calls == nil {
		return s.disk(d.kernel)
	}
	is, err := s.calls.drive(ctx, d.Path)
	if err != nil {
		return nil
	}
	return is
}

// lookInto reads what stands on a drive. Where that may not be read, it stays as the system described it.
func (s System) lookInto(ctx context.Context, d *Drive) {
	if s.calls == nil {
		s.look(ctx, d)
		s.uses(d)
		return
	}
	if d.folder { // a volume of which the drive is not known
		return
	}
	asked := *d
	if s.look(ctx, d); d.Trouble != "" {
		asked.denied = d.denied
		*d = asked
		return
	}
	for i := range d.Volumes {
		k := slices.IndexFunc(asked.Volumes, func(v Volume) bool { return v.Start == d.Volumes[i].Start })
		if k < 0 {
			continue
		}
		v, said := &d.Volumes[i], asked.Volumes[k]
		if !v.Ours() && said.Filesystem != "" { // the system knows more of it
			said.Number = v.Number
			*v = said
		}
		v.MountedAt = said.MountedAt
	}
}
