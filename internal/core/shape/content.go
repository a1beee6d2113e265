package shape

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"polytome/internal/filecopy"
	"polytome/internal/size"
	"polytome/internal/target"
)

// A SourceError reports a source file that cannot be read as planned.
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

// fromSource opens what a shape is made of, as it is.
func fromSource(ctx context.Context, w SourceOpener, s *Spec) (target.Content, error) {
	if s.OnTarget() {
		return w.Placed(ctx, s.Source.Path)
	}
	return w.Open(&s.Source)
}

// partOf opens the run of bytes of its source that a spec tells.
func partOf(ctx context.Context, w SourceOpener, s *Spec) (target.Content, error) {
	c, err := fromSource(ctx, w, s)
	if err != nil {
		return nil, err
	}
	return window(c, s)
}

// window is the run of bytes of a content that a spec tells: all of it, or a part.
func window(c target.Content, s *Spec) (target.Content, error) {
	if s.Offset+s.Size > c.Size() {
		err := &SourceError{s.Source.Called(), fmt.Errorf("it has %s, but %s are needed: %w", size.Format(c.Size()),
			size.Format(s.Offset+s.Size), io.ErrUnexpectedEOF)}
		_ = c.Close()
		return nil, err
	}
	if s.Offset == 0 && s.Size == c.Size() {
		return c, nil
	}
	return &part{c, s.Offset, s.Size}, nil
}

// Window is the run of bytes of a content that a spec tells, which must lie in it.
func Window(c target.Content, s *Spec) target.Content { return &part{c, s.Offset, s.Size} }

// part is some of a content.
type part struct {
	target.Content
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

// Section reports where the part is in a file.
func (p *part) Section(off int64) (f *os.File, at, n int64, ok bool) {
	if s, is := p.Content.(filecopy.Sectioned); is {
		f, at, n, ok = s.Section(p.from + off)
		return f, at, min(n, p.size-off), ok
	}
	return nil, 0, 0, false
}

// Data reports where the part has data.
func (p *part) Data(off int64) (start, end int64) {
	start, end = p.Content.Data(p.from + off)
	return min(max(start-p.from, 0), p.size), min(max(end-p.from, 0), p.size)
}

// Bytes are bytes in memory as content.
func Bytes(b []byte) target.Content { return text{bytes.NewReader(b)} }

// text is bytes in memory as one run.
type text struct{ *bytes.Reader }

func (t text) Close() error { return nil }

// Data is the text as one run.
func (t text) Data(off int64) (start, end int64) { return min(off, t.Size()), t.Size() }

// full is content of which no one knows where it has zeros.
type full struct {
	io.ReaderAt
	size  int64
	close func() error
}

func (f *full) Size() int64                       { return f.size }
func (f *full) Close() error                      { return f.close() }
func (f *full) Data(off int64) (start, end int64) { return min(off, f.size), f.size }
