// Package convert brings single files of this computer into other shapes, by hand: cut and joined, packed and
// unpacked, images made of folders, tracks of discs. Everything is a stream into a file that gets its name only when it
// is whole; sources are never touched, and nothing that is there is overwritten.
package convert

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"

	"polytome/internal/core/shape"
	"polytome/internal/place"
	"polytome/internal/place/folder"
)

// Tell is told how far a conversion is, in bytes.
type Tell func(done, total int64)

// A Sink takes bytes in order, and zeros without their being handed over.
type Sink interface {
	io.Writer
	// Skip appends n zero bytes.
	Skip(n int64) error
}

// Stream is a sink for what cannot have holes, such as standard output.
type Stream struct{ io.Writer }

var noughts [256 << 10]byte

// Skip writes zeros.
func (s Stream) Skip(n int64) error {
	for n > 0 {
		k, err := s.Write(noughts[:min(n, int64(len(noughts)))])
		if err != nil {
			return err
		}
		n -= int64(k)
	}
	return nil
}

// unit is how much is read and written at a time, and ahead how many of these are in memory.
const (
	unit  = 1 << 20
	ahead = 4
)

// piece is a run of bytes on its way; data is nil for zeros.
type piece struct {
	data []byte
	n    int64
	err  error
}

// Copy reads content in order while what was read before is written. Each run of bytes is shown to see as it is read,
// where that is not nil; nil stands for zeros. It returns how many bytes there were.
func Copy(ctx context.Context, to Sink, c place.Content, see func(b []byte, n int64), tell Tell) (total int64, err error) {
	ctx, cancel := context.WithCancel(ctx)
	pieces := make(chan piece, ahead-2)
	pool := make(chan []byte, ahead)
	go func() {
		defer close(pieces)
		read(ctx, c, see, pieces, pool)
	}()
	defer func() { // the reader must have ended before its source is closed
		cancel()
		for range pieces {
		}
	}()
	for p := range pieces {
		switch {
		case p.err != nil:
			return total, p.err
		case p.data == nil:
			err = to.Skip(p.n)
		default:
			_, err = to.Write(p.data)
		}
		if err != nil {
			return total, err
		}
		if p.data != nil {
			pool <- p.data[:unit]
		}
		total += p.n
		if tell != nil {
			tell(total, c.Size())
		}
	}
	return total, ctx.Err()
}

func read(ctx context.Context, c place.Content, see func(b []byte, n int64), out chan<- piece, pool chan []byte) {
	for range ahead {
		pool <- make([]byte, unit)
	}
	dataStart, dataEnd := int64(0), int64(-1)
	for off := int64(0); off < c.Size(); {
		n := min(unit, c.Size()-off)
		if off >= dataEnd {
			dataStart, dataEnd = c.Data(off)
		}
		p := piece{n: n}
		if dataStart < off+n {
			var b []byte
			select {
			case b = <-pool:
			case <-ctx.Done():
				return
			}
			k, err := c.ReadAt(b[:n], off)
			p.data, p.n = b[:k], int64(k)
			switch a, most := c.(interface{ AtMost() bool }); {
			case int64(k) == n:
			case errors.Is(err, io.EOF) && most && !a.AtMost(): // shorter than it might have been
				if k == 0 {
					return
				}
			case err == nil || errors.Is(err, io.EOF):
				p.err = fmt.Errorf("it ends after %d bytes instead of %d: %w", off+int64(k), c.Size(), io.ErrUnexpectedEOF)
			default:
				p.err = err
			}
			if dataEnd < off+n {
				dataEnd = -1 // more data may begin behind it
			}
		}
		if see != nil && p.err == nil {
			see(p.data, p.n)
		}
		select {
		case out <- p:
		case <-ctx.Done():
			return
		}
		if p.err != nil {
			return
		}
		off += p.n
	}
}

// Write writes content to a new file of a place. It gets its name when all of it is there.
func Write(ctx context.Context, to place.Place, name string, c place.Content, see func(b []byte, n int64), tell Tell) (n int64, err error) {
	if dir := filepath.ToSlash(filepath.Dir(name)); dir != "." {
		if err := to.MakeFolder(ctx, dir); err != nil {
			return 0, err
		}
	}
	w, err := to.Create(ctx, name, c.Size())
	if err != nil {
		return 0, err
	}
	if n, err = Copy(ctx, w, c, see, tell); err == nil {
		err = w.Commit()
	}
	if err != nil {
		return n, errors.Join(err, w.Abort())
	}
	return n, nil
}

// Target opens the folder that a file is to be written to, and gives its name there.
func Target(file string) (place.Place, string, error) {
	to, err := folder.Open(filepath.Dir(file), folder.Options{})
	return to, filepath.Base(file), err
}

// open opens a file of this computer, and marks what goes wrong as its fault.
func open(file string) (place.Content, error) {
	c, err := folder.OpenFile(file)
	if err != nil {
		return nil, &shape.SourceError{Path: file, Err: err}
	}
	return c, nil
}
