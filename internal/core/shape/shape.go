// Package shape opens the bytes that a step writes: a file as it is, a part of it, what is in an
// archive or an image, a text, a picture brought to size. Nothing is unpacked to a disk on the
// way.
package shape

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"

	"polytome/internal/core/layout"
	"polytome/internal/core/plan"
	"polytome/internal/core/title"
	"polytome/internal/format/container"
	"polytome/internal/format/picture"
	"polytome/internal/place"
	"polytome/internal/place/folder"
	"polytome/internal/size"
)

// An Opener opens what steps write. It keeps the last archive open, as the files of a title come
// one after another. It is for one goroutine.
type Opener struct {
	Passwords []string // tried on encrypted archives
	Allowed   []string // archives that may be much larger inside than outside, by their paths

	inside *container.Container
	of     title.File // the file that it is of
}

// Close lets go of the archive that is open.
func (o *Opener) Close() error {
	c := o.inside
	o.inside, o.of = nil, title.File{}
	if c == nil {
		return nil
	}
	return c.Close()
}

// A SourceError is a source file that cannot be read as planned.
type SourceError struct {
	Path string
	Err  error
}

func (e *SourceError) Error() string {
	var pe *fs.PathError
	if errors.As(e.Err, &pe) {
		return fmt.Sprintf("reading the source %s: %v", e.Path, pe.Err)
	}
	return fmt.Sprintf("reading the source %s: %v", e.Path, e.Err)
}

// Unwrap returns what the system said.
func (e *SourceError) Unwrap() error { return e.Err }

// Open opens the bytes of a step that writes. The source must still be what was planned with; else the
// error is a [*SourceError].
func (o *Opener) Open(ctx context.Context, s *plan.Step) (place.Content, error) {
	if s.Source == nil || s.Source.Path == "" {
		return o.text(ctx, s)
	}
	if err := Unchanged(s.Source); err != nil {
		return nil, err
	}
	c, err := o.open(s.Source)
	if err != nil {
		return nil, &SourceError{named(s.Source), err}
	}
	switch {
	case s.Picture != nil:
		defer c.Close()
		b, err := picture.Fit(io.NewSectionReader(c, 0, c.Size()), picture.Rule{Width: s.Picture.Width, Height: s.Picture.Height,
			Fit: s.Picture.Fit, Format: s.Picture.Format, Largest: int64(s.Picture.LargestFile)})
		if err != nil {
			return nil, &SourceError{named(s.Source), err}
		}
		return text{bytes.NewReader(b)}, nil
	case s.Offset > 0 || s.Size < c.Size():
		if s.Offset+s.Size > c.Size() {
			_ = c.Close()
			return nil, &SourceError{named(s.Source), fmt.Errorf("it has %s, and %s are wanted of it: %w", size.Format(c.Size()), size.Format(s.Offset+s.Size), io.ErrUnexpectedEOF)}
		}
		return &part{c, s.Offset, s.Size}, nil
	}
	return c, nil
}

// open opens a file of this computer, or what lies in one.
func (o *Opener) open(f *title.File) (place.Content, error) {
	if f.Entry == "" {
		c, err := folder.OpenFile(f.Path)
		if err != nil {
			return nil, err
		}
		return &sourceContent{c, f.Path}, nil
	}
	if o.inside == nil || o.of.Path != f.Path {
		_ = o.Close()
		allow := false
		for _, p := range o.Allowed {
			allow = allow || p == f.Path
		}
		c, err := container.Open(f.Path, container.Options{Passwords: o.Passwords, Allow: allow})
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
		return nil, errors.Join(err, fmt.Errorf("%s in it is no file", f.Entry))
	}
	if info.Size() != f.Size {
		_ = in.Close()
		return nil, fmt.Errorf("%s in it had %s and has %s now; scan again", f.Entry, size.Format(f.Size), size.Format(info.Size()))
	}
	return &entry{ReaderAt: r, file: in, size: info.Size(), name: named(f)}, nil
}

// named is how a source is called in a message.
func named(f *title.File) string {
	if f.Entry == "" {
		return f.Path
	}
	return f.Path + " (" + f.Entry + ")"
}

// text is the content of a file that has no source. The checksums in it are got by reading what they
// are of.
func (o *Opener) text(ctx context.Context, s *plan.Step) (place.Content, error) {
	b := []byte(s.Text)
	for _, sum := range s.Sums {
		n, err := o.sum(ctx, sum)
		if err != nil {
			return nil, err
		}
		copy(b[sum.At:], fmt.Sprintf("%08x", n))
	}
	return text{bytes.NewReader(b)}, nil
}

// sum is the CRC-32 (IEEE 802.3) of some bytes of a source.
func (o *Opener) sum(ctx context.Context, s layout.Summed) (uint32, error) {
	c, err := o.Open(ctx, &plan.Step{Source: &s.Source, Offset: s.Offset, Size: s.Size})
	if err != nil {
		return 0, err
	}
	defer c.Close()
	h := crc32.NewIEEE()
	b := make([]byte, 1<<20)
	for off := int64(0); off < s.Size; {
		if ctx.Err() != nil {
			return 0, ctx.Err()
		}
		n := min(int64(len(b)), s.Size-off)
		if start, _ := c.Data(off); start >= off+n {
			clear(b[:n]) // a hole need not be read
		} else if k, err := c.ReadAt(b[:n], off); int64(k) < n {
			return 0, &SourceError{named(&s.Source), errors.Join(err, io.ErrUnexpectedEOF)}
		}
		_, _ = h.Write(b[:n])
		off += n
	}
	return h.Sum32(), nil
}

// Unchanged says whether a source file is still what was planned with.
func Unchanged(f *title.File) error {
	if f == nil || f.Path == "" {
		return nil
	}
	info, err := os.Stat(f.Path)
	switch {
	case err != nil:
		return &SourceError{f.Path, err}
	case f.Entry != "": // the size and date are those of the entry, which is compared when it is opened
		return nil
	case info.Size() != f.Size:
		return &SourceError{f.Path, fmt.Errorf("it had %s when it was looked at and has %s now; scan again", size.Format(f.Size), size.Format(info.Size()))}
	case !info.ModTime().Equal(f.Modified):
		return &SourceError{f.Path, errors.New("it was written to since it was looked at; scan again")}
	}
	return nil
}

// sourceContent marks read errors as the source's.
type sourceContent struct {
	place.Content
	path string
}

func (c *sourceContent) ReadAt(b []byte, off int64) (int, error) {
	n, err := c.Content.ReadAt(b, off)
	if err != nil && n < len(b) && !errors.Is(err, io.EOF) {
		err = &SourceError{c.path, err}
	}
	return n, err
}

// entry is a file in an archive or image.
type entry struct {
	io.ReaderAt
	file fs.File
	size int64
	name string
}

func (e *entry) Size() int64  { return e.size }
func (e *entry) Close() error { return e.file.Close() }

// Data is all of it: nobody knows where an archive has zeros.
func (e *entry) Data(off int64) (start, end int64) { return min(off, e.size), e.size }

func (e *entry) ReadAt(b []byte, off int64) (int, error) {
	n, err := e.ReaderAt.ReadAt(b, off)
	if err != nil && n < len(b) && !errors.Is(err, io.EOF) {
		err = &SourceError{e.name, err}
	}
	return n, err
}

// part is some of a content.
type part struct {
	place.Content
	from, size int64
}

func (p *part) Size() int64 { return p.size }

func (p *part) ReadAt(b []byte, off int64) (int, error) {
	short := false
	if left := p.size - off; int64(len(b)) > left {
		b, short = b[:max(0, left)], true
	}
	n, err := p.Content.ReadAt(b, p.from+off)
	if err == nil && short {
		err = io.EOF
	}
	return n, err
}

// Data tells where the part has data.
func (p *part) Data(off int64) (start, end int64) {
	start, end = p.Content.Data(p.from + off)
	return min(max(start-p.from, 0), p.size), min(max(end-p.from, 0), p.size)
}

// text is bytes in memory as one run.
type text struct{ *bytes.Reader }

func (t text) Close() error { return nil }

// Data is the text as one run.
func (t text) Data(off int64) (start, end int64) { return min(off, t.Size()), t.Size() }
