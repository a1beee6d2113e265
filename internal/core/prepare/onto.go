package prepare

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"time"

	"polytome/internal/drives"
	"polytome/internal/format/slab"
	"polytome/internal/format/volume"
	"polytome/internal/medium"
)

// onto is what was made on a drive: folders and the loader's own files go onto it.
type onto interface {
	MakeFolder(ctx context.Context, name string) error
	put(ctx context.Context, name string, from io.Reader, n int64) error
	// check adds what is wrong with it to a report.
	check(ctx context.Context, r *Report) error
	files() fs.FS
	Close() error
}

func (p *Plan) onto(part *medium.File) (onto, error) {
	if p.slab() {
		d, err := slab.Open(part, part.Size())
		return onDisk{d}, err
	}
	v, err := drives.OpenVolume(part)
	return onVolume{v}, err
}

// onVolume is a FAT or exFAT volume.
type onVolume struct{ *volume.Volume }

func (v onVolume) put(ctx context.Context, name string, from io.Reader, n int64) error {
	w, err := v.Create(ctx, name, n, false)
	if err != nil {
		return err
	}
	if _, err := io.CopyBuffer(w, struct{ io.Reader }{from}, make([]byte, 512<<10)); err != nil {
		w.Abort()
		return err
	}
	if err := w.Commit(); err != nil {
		w.Abort()
		return err
	}
	return nil
}

func (v onVolume) files() fs.FS { return v.FS() }

func (v onVolume) check(ctx context.Context, r *Report) (err error) {
	if r.Health, err = v.Check(ctx); err != nil {
		return err
	}
	r.Files, r.Folders = r.Health.Files, r.Health.Folders-1
	for _, x := range r.Health.Findings {
		r.wrong("%s %s", x.Path, x.Say)
	}
	return nil
}

// onDisk is a slab disk, which has no folders.
type onDisk struct{ *slab.Disk }

func (d onDisk) MakeFolder(context.Context, string) error { return nil }

func (d onDisk) put(ctx context.Context, name string, from io.Reader, n int64) error {
	b := make([]byte, n)
	if _, err := io.ReadFull(from, b); err != nil {
		return fmt.Errorf("reading it: %w", err)
	}
	return d.PutFile(ctx, name, b, time.Time{})
}

// files are the small files by their own names.
func (d onDisk) files() fs.FS {
	sub, err := fs.Sub(d.FS(), "files")
	if err != nil { // it is no path: that cannot be
		return d.FS()
	}
	return sub
}

func (d onDisk) check(ctx context.Context, r *Report) error {
	problems, err := d.Check(ctx, true, nil)
	if err != nil {
		return err
	}
	r.Files = d.Info().Files
	for _, x := range problems {
		r.wrong("%s: %s", x.Of, x.Say)
	}
	return nil
}

// Close has nothing to do: every change was brought to the drive.
func (d onDisk) Close() error { return nil }

// slab reports whether a slab disk is made.
func (p *Plan) slab() bool { return p.Filesystem == drives.Slab }

func (p *Plan) slabOptions() slab.Options {
	o := slab.Options{Label: p.Label, Sector: p.Drive.Sector}
	if o.Sector != 4096 {
		o.Sector = 512
	}
	return o
}
