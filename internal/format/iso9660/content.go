package iso9660

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"sync"

	"polytome/internal/filecopy"
)

// A Range is a run of bytes in a file, [Start, End).
type Range struct{ Start, End int64 }

// Sparse is implemented by files of the source tree that know where their data
// lie; everything else in them is zeros. [Image.WriteSparse] then leaves holes.
type Sparse interface {
	// DataRanges returns the runs of data in ascending order, not overlapping.
	DataRanges() []Range
}

// Holed is the same for files that find their data step by step: Data returns the first run of data at or
// after off, and the file's length twice at the end.
type Holed interface {
	Data(off int64) (start, end int64)
}

// A Reader is the bytes of an image that is made while it is read, at any offset. One file of the source is
// read at a time. It must be closed.
type Reader struct {
	im   *Image
	mu   sync.Mutex
	at   int // number of the file that is open
	file fs.File
	from io.ReaderAt
	left []fs.File // see [Reader.Section]
}

// Reader opens the image's bytes.
func (im *Image) Reader() *Reader { return &Reader{im: im, at: -1} }

// Size is the length of the image in bytes.
func (r *Reader) Size() int64 { return r.im.Size() }

// Close closes the source file that is open.
func (r *Reader) Close() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.leave()
	var all []error
	for _, f := range r.left {
		all = append(all, f.Close())
	}
	r.left = nil
	return errors.Join(all...)
}

// lingering is how many files stay open after they were left.
const lingering = 16

func (r *Reader) leave() {
	if r.file != nil {
		r.left = append(r.left, r.file)
	}
	r.file, r.from, r.at = nil, nil, -1
	if len(r.left) > lingering {
		_ = r.left[0].Close()
		r.left = r.left[1:]
	}
}

// enter opens file number n.
func (r *Reader) enter(n int) error {
	if r.at == n {
		return nil
	}
	r.leave()
	f, err := r.im.fsys.Open(r.im.files[n].source)
	if err != nil {
		return err
	}
	from, ok := f.(io.ReaderAt)
	if !ok {
		_ = f.Close()
		return fmt.Errorf("%s: %w", r.im.files[n].source, errIrregular)
	}
	r.file, r.from, r.at = f, from, n
	return nil
}

// fileAt is the number of the first file whose data end behind an offset.
func (im *Image) fileAt(off int64) int {
	n, _ := slices.BinarySearchFunc(im.files, off, func(f *entry, off int64) int {
		if (f.sector+sectors(f.size))*SectorSize <= off {
			return -1
		}
		return 1
	})
	return n
}

// ReadAt reads the image. It returns [io.EOF] at the end.
func (r *Reader) ReadAt(b []byte, off int64) (done int, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	im := r.im
	for done < len(b) {
		at := off + int64(done)
		if at >= im.Size() {
			return done, io.EOF
		}
		if head := int64(len(im.head)); at < head {
			done += copy(b[done:], im.head[at:])
			continue
		}
		n := im.fileAt(at)
		if n == len(im.files) { // the second anchor
			last := im.bridge.Anchor(im.total - 1)
			done += copy(b[done:], last[at-(im.total-1)*SectorSize:])
			continue
		}
		f := im.files[n]
		within := at - f.sector*SectorSize
		if within >= f.size { // filled up to the sector
			k := min(int64(len(b)-done), sectors(f.size)*SectorSize-within)
			clear(b[done : done+int(k)])
			done += int(k)
			continue
		}
		if err := r.enter(n); err != nil {
			return done, err
		}
		want := min(int64(len(b)-done), f.size-within)
		k, err := r.from.ReadAt(b[done:done+int(want)], within)
		done += k
		if int64(k) < want {
			if err == nil || errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			return done, fmt.Errorf("%s: %w", f.source, err)
		}
	}
	return done, nil
}

// Data returns the first run of data at or after off; what is between is zeros. At the end it returns the
// image's length twice.
func (r *Reader) Data(off int64) (start, end int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	im := r.im
	if head := int64(len(im.head)); off < head {
		return off, head
	}
	for n := im.fileAt(off); n < len(im.files); n++ {
		f := im.files[n]
		if f.size == 0 {
			continue
		}
		from := f.sector * SectorSize
		off = max(off, from)
		if off-from >= f.size {
			continue
		}
		if r.enter(n) != nil {
			return off, from + f.size // reading reports what is wrong
		}
		start, end := f.data(r.file, off-from)
		if start < f.size {
			return from + start, from + min(end, f.size)
		}
	}
	if im.bridge != nil {
		last := (im.total - 1) * SectorSize
		return max(off, last), im.Size()
	}
	return im.Size(), im.Size()
}

// Section reports where the bytes from off on lie in a file of the source. It stays open while 16 more are entered, so
// that what was reported can be used while others are read ahead.
func (r *Reader) Section(off int64) (f *os.File, at, n int64, ok bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	k := r.im.fileAt(off)
	if off < int64(len(r.im.head)) || k == len(r.im.files) {
		return nil, 0, 0, false
	}
	e := r.im.files[k]
	within := off - e.sector*SectorSize
	if within >= e.size || r.enter(k) != nil {
		return nil, 0, 0, false
	}
	s, is := r.file.(filecopy.Sectioned)
	if !is {
		return nil, 0, 0, false
	}
	f, at, n, ok = s.Section(within)
	return f, at, min(n, e.size-within), ok && n >= e.size-within
}

// data is the first run of data of a file.
func (e *entry) data(f fs.File, off int64) (start, end int64) {
	switch f := f.(type) {
	case Holed:
		return f.Data(off)
	case Sparse:
		for _, g := range f.DataRanges() {
			if g.End > off {
				return max(off, g.Start), g.End
			}
		}
		return e.size, e.size
	}
	return off, e.size
}

// WriteTo writes the whole image in order. It implements [io.WriterTo].
func (im *Image) WriteTo(w io.Writer) (int64, error) {
	r := im.Reader()
	defer r.Close()
	return io.CopyBuffer(struct{ io.Writer }{w}, io.NewSectionReader(r, 0, r.Size()), make([]byte, 1<<20))
}

// WriteSparse writes the image to a new, empty file, leaving holes where the
// source's files say that they have none but zeros (see [Sparse]).
func (im *Image) WriteSparse(w interface {
	io.WriterAt
	Truncate(size int64) error
}) error {
	if err := w.Truncate(im.Size()); err != nil {
		return err
	}
	r := im.Reader()
	defer r.Close()
	b := make([]byte, 1<<20)
	for off := int64(0); off < im.Size(); {
		start, end := r.Data(off)
		for at := start; at < end; {
			n := min(int64(len(b)), end-at)
			if k, err := r.ReadAt(b[:n], at); int64(k) < n {
				return err
			}
			if _, err := w.WriteAt(b[:n], at); err != nil {
				return err
			}
			at += n
		}
		off = max(end, start)
	}
	return nil
}
