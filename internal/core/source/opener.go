// Package source opens the files of this computer that titles are made of, also what is in archives and
// images, and makes of them what steps write.
package source

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"

	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/filecopy"
	"polytome/internal/format/container"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/folder"
)

// An Opener opens what steps write. It keeps the last archive open, as the files of a title come
// one after another. It is for one goroutine, and implements [shape.SourceOpener].
type Opener struct {
	Passwords []string // tried on encrypted archives
	Allowed   []string // archives that may be much larger inside than outside, by their paths
	// At is the target that is written to; nil where there is none.
	At func(ctx context.Context, path string) (target.Content, error)

	inside  *container.Container
	of      title.File // the file that it is of
	ongoing shape.Ongoing
}

// Close lets go of what is open.
func (o *Opener) Close() error {
	o.ongoing.Drop()
	return o.leave()
}

// leave closes the archive that is open.
func (o *Opener) leave() error {
	c := o.inside
	o.inside, o.of = nil, title.File{}
	if c == nil {
		return nil
	}
	return c.Close()
}

// Ongoing is what a shape keeps between the files that it makes of one source.
func (o *Opener) Ongoing() *shape.Ongoing { return &o.ongoing }

// Make opens the bytes of a file that is wanted. Its sources must still be what was planned with; else the
// error is a [*shape.SourceError].
func (o *Opener) Make(ctx context.Context, s *shape.Spec) (target.Content, error) {
	if err := Unchanged(s); err != nil {
		return nil, err
	}
	k := shape.Of(s.Shape)
	if k == nil {
		return nil, fmt.Errorf("unknown shape %q", s.Shape)
	}
	c, err := k.Open(ctx, o, s)
	var se *shape.SourceError
	// it is the target that has gone, and may come back
	if s.OnTarget() && (errors.Is(err, target.ErrGone) || errors.Is(err, target.ErrBusy)) {
		if errors.As(err, &se) {
			return nil, se.Err
		}
		return nil, err
	}
	if err != nil && !errors.As(err, &se) && !errors.Is(err, shape.ErrNotNeeded) && ctx.Err() == nil {
		err = &shape.SourceError{Path: s.Source.Called(), Err: err}
	}
	return c, err
}

// Open opens a file of this computer, or what is in one.
func (o *Opener) Open(f *title.File) (target.Content, error) {
	c, err := o.open(f)
	if err != nil {
		return nil, &shape.SourceError{Path: f.Called(), Err: err}
	}
	return c, nil
}

// Placed opens a file of the target that is written to.
func (o *Opener) Placed(ctx context.Context, path string) (target.Content, error) {
	if o.At == nil {
		return nil, errors.New("it is made of a file of the target, and none is written to")
	}
	return o.At(ctx, path)
}

func (o *Opener) open(f *title.File) (target.Content, error) {
	if f.Entry == "" {
		c, err := folder.OpenFile(f.Path)
		if err != nil {
			return nil, err
		}
		return &content{c, f.Path}, nil
	}
	if o.inside == nil || o.of.Path != f.Path {
		_ = o.leave()
		c, err := container.Open(f.Path, container.Options{Passwords: o.Passwords, Allow: slices.Contains(o.Allowed,
			f.Path)})
		if err != nil {
			return nil, err
		}
		o.inside, o.of = c, *f
	}
	in, err := o.inside.Open(f.Entry)
	if err != nil {
		return nil, err
	}
	r, ok := in.(io.ReaderAt)
	info, err := in.Stat()
	if err != nil || !ok {
		_ = in.Close()
		return nil, errors.Join(err, fmt.Errorf("%s in it is not a file", f.Entry))
	}
	if info.Size() != f.Size {
		_ = in.Close()
		return nil, fmt.Errorf("%s in it had %s and has %s now; scan again", f.Entry, size.Format(f.Size),
			size.Format(info.Size()))
	}
	return &content{&entry{r, in, info.Size()}, f.Called()}, nil
}

// Unchanged says whether the source files of what is wanted are still what was planned with.
func Unchanged(s *shape.Spec) error {
	if s == nil || s.OnTarget() { // the step itself looks at the target
		return nil
	}
	if s.Source.Path != "" {
		if err := unchanged(&s.Source, s.With != nil && len(s.With.Parts) > 0 && s.Source.Size == 0); err != nil {
			return err
		}
	}
	if s.With == nil {
		return nil
	}
	for i := range s.With.Parts {
		if err := unchanged(&s.With.Parts[i].File, false); err != nil {
			return err
		}
	}
	return nil
}

func unchanged(f *title.File, isFolder bool) error {
	info, err := os.Stat(f.Path)
	switch {
	case err != nil:
		return &shape.SourceError{Path: f.Path, Err: err}
	case f.Entry != "", isFolder: // an entry is compared when it is opened, a folder by its files
		return nil
	case info.Size() != f.Size:
		return &shape.SourceError{Path: f.Path, Err: fmt.Errorf("it had %s when scanned and has %s now; scan again",
			size.Format(f.Size), size.Format(info.Size()))}
	case !info.ModTime().Equal(f.Modified):
		return &shape.SourceError{Path: f.Path, Err: errors.New("it has changed since it was scanned; scan again")}
	}
	return nil
}

// content marks read errors as the source's.
type content struct {
	target.Content
	name string
}

func (c *content) ReadAt(b []byte, off int64) (int, error) {
	n, err := c.Content.ReadAt(b, off)
	if err != nil && n < len(b) && !errors.Is(err, io.EOF) {
		err = &shape.SourceError{Path: c.name, Err: err}
	}
	return n, err
}

// Section reports where the bytes lie in a file, where they do.
func (c *content) Section(off int64) (f *os.File, at, n int64, ok bool) {
	if s, is := c.Content.(filecopy.Sectioned); is {
		return s.Section(off)
	}
	return nil, 0, 0, false
}

// InOrder reports whether it can only be had from its beginning on.
func (c *content) InOrder() bool {
	o, ok := c.Content.(interface{ InOrder() bool })
	return ok && o.InOrder()
}

// entry is a file in an archive or image.
type entry struct {
	io.ReaderAt
	file fs.File
	size int64
}

func (e *entry) Size() int64 { return e.size }

// InOrder reports whether it can only be had from its beginning on, as what is packed in archives.
func (e *entry) InOrder() bool {
	o, ok := e.file.(interface{ InOrder() bool })
	return ok && o.InOrder()
}

func (e *entry) Close() error { return e.file.Close() }

// Data is all of it, where no one knows where there are zeros, as in archives.
func (e *entry) Data(off int64) (start, end int64) {
	if h, ok := e.file.(interface {
		Data(off int64) (start, end int64)
	}); ok {
		return h.Data(off)
	}
	return min(off, e.size), e.size
}
