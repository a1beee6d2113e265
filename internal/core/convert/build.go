package convert

import (
	"context"
	"errors"
	"io/fs"
	"os"

	"polytome/internal/core/shape"
	"polytome/internal/format/iso9660"
	"polytome/internal/sparse"
)

// Build makes an image of a folder. Its size is known, and reported, before the first byte is written; ready is named
// with it.
func Build(ctx context.Context, dir string, o iso9660.Options, ready func(im *iso9660.Image), to Sink,
	emit Emit) error {
	info, err := os.Stat(dir)
	if err == nil && !info.IsDir() {
		err = errors.New("it is not a folder")
	}
	if err != nil {
		return &shape.SourceError{Path: dir, Err: err}
	}
	im, err := iso9660.Lay(holedFS{os.DirFS(dir)}, o)
	if err != nil {
		return &shape.SourceError{Path: dir, Err: err}
	}
	ready(im)
	r := im.Reader()
	defer r.Close()
	w, into := mind(to, func() {})
	if _, err := Copy(ctx, into, r, nil, emit); err != nil {
		if w.err == nil && ctx.Err() == nil {
			err = &shape.SourceError{Path: dir, Err: err}
		}
		return err
	}
	return nil
}

// holedFS is a folder whose files know their holes, which are not read then.
type holedFS struct{ fs.FS }

func (h holedFS) Open(name string) (fs.File, error) {
	f, err := h.FS.Open(name)
	of, ok := f.(*os.File)
	if err != nil || !ok {
		return f, err
	}
	if info, err := of.Stat(); err != nil || info.IsDir() {
		return f, err
	}
	return sparse.Of(of)
}
