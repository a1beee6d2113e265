package shape

import (
	"context"
	"fmt"
	"io"

	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
)

// A Patch is bytes that are set in a copy of a file.
type Patch struct {
	At    int64  `json:"at"` // the byte at which they begin
	Bytes []byte `json:"bytes"`
}

// patched is a copy of a file of the target with some bytes set in it.
var patched = Kind{
	Name: Patched, Word: "copy",
	Reported: "a copy of %s",
	Says:     func(l, _ string) string { return l + " needs a copy of one of its own files" },
	Open: func(ctx context.Context, w SourceOpener, s *Spec) (target.Content, error) {
		c, err := fromSource(ctx, w, s)
		if err != nil {
			return nil, err
		}
		if c.Size() != s.Size {
			_ = c.Close()
			return nil, &SourceError{s.Source.Called(), fmt.Errorf("it has %s now, and had %s when the run was planned",
				size.Format(c.Size()), size.Format(s.Size))}
		}
		return &full{&overlaid{c, s.With.Patches}, s.Size, c.Close}, nil
	},
}

// PatchedOf is a copy of a file that lies on the target, by its path and size in bytes.
func PatchedOf(path string, bytes int64, patches []Patch) Spec {
	return Spec{Shape: Patched, Source: title.File{Path: path, Size: bytes}, Size: bytes,
		With: &With{Placed: true, Patches: patches}}
}

// Overlaid is what is read with patches over it.
func Overlaid(r io.ReaderAt, patches []Patch) io.ReaderAt { return &overlaid{r, patches} }

type overlaid struct {
	io.ReaderAt
	patches []Patch
}

func (o *overlaid) ReadAt(b []byte, off int64) (int, error) {
	n, err := o.ReaderAt.ReadAt(b, off)
	for _, p := range o.patches {
		from, to := max(p.At, off), min(p.At+int64(len(p.Bytes)), off+int64(n))
		if from < to {
			copy(b[from-off:to-off], p.Bytes[from-p.At:])
		}
	}
	return n, err
}
