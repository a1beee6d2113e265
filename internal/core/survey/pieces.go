package survey

import (
	"context"
	"errors"

	"polytome/internal/drives"
	"polytome/internal/place"
	"polytome/internal/place/drive"
)

// pieced is a folder at which a drive is mounted, and the drive itself, which knows in how many pieces files lie.
type pieced struct {
	place.Place
	behind *drive.Place
}

// Pieces asks the drive.
func (p *pieced) Pieces(ctx context.Context, path string) (int, error) {
	return p.behind.Pieces(ctx, path)
}

// Close lets go of both.
func (p *pieced) Close() error { return errors.Join(p.Place.Close(), p.behind.Close()) }

// withPieces looks for the drive behind a folder. Where there is none, or it may not be read, the place stays as it is, and it
// cannot be known in how many pieces files lie.
func withPieces(ctx context.Context, p place.Place, dir string) place.Place {
	if _, ok := p.(place.Piecer); ok {
		return p
	}
	d, part, err := drives.Here.Place(ctx, dir)
	if err != nil || drives.SyncAt(dir) != nil {
		return p
	}
	behind, err := drive.Open(ctx, drives.Here, drive.Address{Drive: d.Path, Part: part}, drive.Options{})
	if err != nil {
		return p
	}
	return &pieced{p, behind}
}
