package archive

import (
	"errors"
	"hash/crc32"
	"io"
	"sync"
)

// window reads at any offset in a stream that only goes forwards. The beginning, where
// volumes have their structures, is kept, and so is what was read last; to go further back, the
// stream is opened again.
type window struct {
	size int64
	open func() (io.ReadCloser, error)

	mu   sync.Mutex
	r    io.ReadCloser
	err  error  // at which the stream ended for good
	head []byte // from the beginning of the stream
	tail []byte // up to the stream's position
	pos  int64  // of the stream
	back int    // times that it was opened again
}

// Sizes in bytes of what is kept, and how often a stream is opened again.
const (
	keepHead = 2 << 20
	keepTail = 128 << 10
	maxBack  = 64
)

// InOrder says that it is read from its beginning on.
func (w *window) InOrder() bool { return true }

// ReadAt reads the unpacked content.
func (w *window) ReadAt(b []byte, off int64) (done int, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for done < len(b) {
		at := off + int64(done)
		if at >= w.size {
			return done, io.EOF
		}
		if at < int64(len(w.head)) {
			done += copy(b[done:], w.head[at:])
			continue
		}
		if from := w.pos - int64(len(w.tail)); at >= from && at < w.pos {
			done += copy(b[done:], w.tail[at-from:])
			continue
		}
		if err := w.forward(at); err != nil {
			return done, err
		}
	}
	return done, nil
}

// forward unpacks until the byte at an offset is in the head or tail.
func (w *window) forward(at int64) error {
	if at < w.pos || w.r == nil {
		if w.r != nil {
			_ = w.r.Close()
			w.r = nil
			if w.back++; w.back > maxBack {
				return errors.New("it would have to be unpacked too many times over; unpack it to disk first")
			}
		}
		r, err := w.open()
		if err != nil {
			return err
		}
		w.r, w.pos, w.tail, w.err = r, 0, w.tail[:0], nil
	}
	if w.err != nil {
		return w.err
	}
	for w.pos <= at {
		if cap(w.tail) < keepTail {
			w.tail = make([]byte, 0, keepTail)
		}
		w.tail = w.tail[:keepTail]
		n, err := io.ReadFull(w.r, w.tail)
		w.tail = w.tail[:n]
		if w.pos == int64(len(w.head)) && w.pos < keepHead {
			w.head = append(w.head, w.tail...)
		}
		w.pos += int64(n)
		if err != nil {
			if err == io.EOF || errors.Is(err, io.ErrUnexpectedEOF) && w.pos == w.size {
				err = io.EOF
			}
			w.err = err
			if w.pos > at {
				return nil
			}
			if err == io.EOF {
				err = io.ErrUnexpectedEOF
			}
			return err
		}
	}
	return nil
}

// Close ends the stream.
func (w *window) Close() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.r == nil {
		return nil
	}
	err := w.r.Close()
	w.r = nil
	return err
}

func newCRC(e *Entry) interface {
	io.Writer
	Sum32() uint32
} {
	if !e.HasCRC {
		return nothing{}
	}
	return crc32.NewIEEE()
}

// nothing is the checksum of entries that have none.
type nothing struct{}

func (nothing) Write(b []byte) (int, error) { return len(b), nil }
func (nothing) Sum32() uint32               { return 0 }
