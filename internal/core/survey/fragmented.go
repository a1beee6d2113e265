package survey

import (
	"context"
	"errors"

	"polytome/internal/drives"
	"polytome/internal/target"
	"polytome/internal/target/drive"
)

// pieced is a folder at which a drive is mounted, and the drive itself, which knows in how many pieces files lie.
type pieced struct {
	target.Target
	behind *drive.Target
}

// Fragments asks the drive.
func (p *pieced) Fragments(ctx context.Context, path string) (int, error) {
	return p.behind.Fragments(ctx, path)
}

// Close lets go of both.
func (p *pieced) Close() error { return errors.Join(p.Target.Close(), p.behind.Close()) }

// withFragments looks for the drive behind a folder. Where there is none, or it may not be read, the target stays as it
// is, and it cannot be known in how many pieces files lie.
func withFragments(ctx context.Context, p target.Target, dir string) target.Target {
	if _, ok := p.(target.FragmentCounter); ok {
		return p
	}
	d, part, err := drives.Here.Target(ctx, dir)
	if err != nil || drives.SyncAt(dir) != nil {
		return p
	}
	behind, err := drive.OpenVolume(ctx, drives.Here, drive.Address{Drive: d.Path, Part: part}, drive.Options{})
	if err != nil {
		return p
	}
	return &pieced{p, behind}
}
