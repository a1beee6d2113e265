package drives

import (
	"context"
	"errors"

	"polytome/internal/medium"
)

// A Helper is a process with the rights of an administrator that opens one drive, and lets it go. Whether the drive may
// be written to is decided there, by the same guard.
type Helper interface {
	// Look is the drive as who may read it sees it.
	Look(ctx context.Context) (*Drive, error)
	// Read opens the drive for reading.
	Read(ctx context.Context, d *Drive) (*medium.File, error)
	// Open is [System.Open].
	Open(ctx context.Context, shown *Drive, purpose Purpose, c Consent) (*medium.File, error)
	// LetGo is [System.Eject], or [System.Unmount] where it is not to be switched off.
	LetGo(ctx context.Context, d *Drive, off bool, emit func(string)) (*Release, error)
}

// An Elevator has helpers, one a drive.
type Elevator interface {
	// Start starts a helper, or returns the one that runs. Starting one asks the user.
	Start(ctx context.Context, d *Drive) (Helper, error)
	// Running is the helper of the drive at a path, if one runs.
	Running(path string) (h Helper, ok bool)
}

// AskedLater is said of a drive that only an administrator may read.
const AskedLater = "only an administrator may read it: you are asked for that when it is used"

// look fills in what stands on a drive, as far as this process may read it, or a helper that runs.
func (s System) look(ctx context.Context, d *Drive) {
	d.look(ctx)
	if d.denied = d.denied && s.Elevate != nil; !d.denied {
		return
	}
	d.Trouble = AskedLater
	if h, ok := s.Elevate.Running(d.Path); ok {
		if seen, err := d.seenBy(ctx, h); err == nil {
			*d = *seen
		}
	}
}

// Denied reports whether only an administrator may read the drive.
func (d *Drive) Denied() bool { return d.denied && d.helper == nil }

// Readable is a drive as who may read it sees it: as it is, or as a helper sees it where this process may not. Starting
// one asks the user for the rights of an administrator.
func (s System) Readable(ctx context.Context, d *Drive) (*Drive, error) {
	if !d.Denied() || s.Elevate == nil {
		if d.Trouble != "" {
			return nil, errors.New(d.Trouble)
		}
		return d, nil
	}
	h, err := s.Elevate.Start(ctx, d)
	if err != nil {
		return nil, err
	}
	return d.seenBy(ctx, h)
}

// seenBy is a drive as a helper sees it.
func (d *Drive) seenBy(ctx context.Context, h Helper) (*Drive, error) {
	seen, err := h.Look(ctx)
	if err != nil {
		return nil, err
	}
	if seen.Path != d.Path || seen.Serial != d.Serial || seen.Size != d.Size {
		return nil, &RefusedError{d.Name(), "it is not the drive that was shown: " + differs(d, seen),
			"list the drives again"}
	}
	seen.helper, seen.denied = h, true
	seen.kernel, seen.number, seen.parts, seen.locks = d.kernel, d.number, d.parts, d.locks
	return seen, nil
}

// Marked is a drive that came from another process with the hash of its partition table, which [Identity] has.
func (d *Drive) Marked(table string) *Drive {
	d.print = table
	return d
}
