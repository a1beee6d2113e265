package convert

import (
	"context"
	"errors"
	"io/fs"
	"os"

	"polytome/internal/core/shape"
	"polytome/internal/filecopy"
	"polytome/internal/format/iso9660"
	"polytome/internal/sparse"
)

// Build makes an image of a folder. Its size is known, and told, before the first byte is written; ready is called with it.
func Build(ctx context.Context, dir string, o iso9660.Options, ready func(im *iso9660.Image), to Sink, tell Tell) error {
	info, err := os.Stat(dir)
	if err == nil && !info.IsDir() {
		err = errors.New("it is no folder")
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
	w := &minding{Sink: to}
	var into Sink = w
	if t, ok := to.(filecopy.Taker); ok {
		into = &mindingTaker{w, t}
	}
	if _, err := Copy(ctx, into, r, nil, tell); err != nil {
		if w.err == nil && ctx.Err() == nil {
			err = &shape.SourceError{Path: dir, Err: err}
		}
		return err
	}
	return nil
}

// minding remembers what a sink said, so that its errors are told from those of the source.
type minding struct {
	Sink
	err error
}

func (m *minding) Write(b []byte) (n int, err error) {
	n, err = m.Sink.Write(b)
	m.err = err
	return n, err
}

// Skip writes zeros.
func (m *minding) Skip(n int64) error {
	m.err = m.Sink.Skip(n)
	return m.err
}

// mindingTaker is the same for a sink that takes bytes out of files.
type mindingTaker struct {
	*minding
	t filecopy.Taker
}

// CopyFrom takes bytes out of a file.
func (m *mindingTaker) CopyFrom(f *os.File, at, n int64) (int64, error) {
	k, err := m.t.CopyFrom(f, at, n)
	if !errors.Is(err, errors.ErrUnsupported) {
		m.err = err
	}
	return k, err
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
