// Package joined reads several runs of bytes, one after another, as one: the parts of something that was cut.
package joined

import (
	"errors"
	"io"
	"slices"
)

// A Part is one run of bytes.
type Part struct {
	io.ReaderAt
	Size int64
}

// A Reader is parts as one. It is safe for several goroutines when they are.
type Reader struct {
	parts []Part
	ends  []int64
}

// New joins parts.
func New(parts ...Part) *Reader {
	r := &Reader{parts: parts}
	var end int64
	for _, p := range parts {
		end += p.Size
		r.ends = append(r.ends, end)
	}
	return r
}

// Size is the number of bytes of all parts.
func (r *Reader) Size() int64 {
	if len(r.ends) == 0 {
		return 0
	}
	return r.ends[len(r.ends)-1]
}

// ReadAt reads over the parts. It returns [io.EOF] at the end of the last one, and
// [io.ErrUnexpectedEOF] where a part ends early.
func (r *Reader) ReadAt(b []byte, off int64) (done int, err error) {
	i, _ := slices.BinarySearchFunc(r.ends, off, func(end, off int64) int {
		if end <= off {
			return -1
		}
		return 1
	})
	for ; i < len(r.parts) && done < len(b); i++ {
		p := &r.parts[i]
		at := off + int64(done) - (r.ends[i] - p.Size)
		want := min(int64(len(b)-done), p.Size-at)
		n, err := p.ReadAt(b[done:done+int(want)], at)
		done += n
		if int64(n) < want {
			if err == nil || errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			return done, err
		}
	}
	if done < len(b) {
		return done, io.EOF
	}
	return done, nil
}

// Content is bytes that know where they are nothing but zeros, such as a file of a target.
type Content interface {
	io.ReaderAt
	io.Closer
	Size() int64
	// Data returns the first run of data at or after off, and the size twice at the end.
	Data(off int64) (start, end int64)
}

// Contents are several contents as one.
type Contents struct {
	*Reader
	all []Content
}

// Of joins contents. They are closed with what is returned.
func Of(all ...Content) *Contents {
	parts := make([]Part, len(all))
	for i, c := range all {
		parts[i] = Part{c, c.Size()}
	}
	return &Contents{New(parts...), all}
}

// Data returns the first run of data at or after off; what is between is zeros. At the end it returns the size
// twice.
func (c *Contents) Data(off int64) (start, end int64) {
	for i, one := range c.all {
		base := c.ends[i] - one.Size()
		if off >= c.ends[i] {
			continue
		}
		if start, end := one.Data(max(0, off-base)); start < one.Size() {
			return base + start, base + end
		}
	}
	return c.Size(), c.Size()
}

// Close closes all of them.
func (c *Contents) Close() error {
	var all []error
	for _, one := range c.all {
		all = append(all, one.Close())
	}
	return errors.Join(all...)
}
