// Package convert brings single files of this computer into other shapes, by hand: cut and joined, packed and
// unpacked, images made of folders, tracks of discs. Everything is a stream into a file that gets its name only when it
// is whole; sources are never touched, and nothing that is there is overwritten.
package convert

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"polytome/internal/core/shape"
	"polytome/internal/filecopy"
	"polytome/internal/parallel"
	"polytome/internal/target"
	"polytome/internal/target/folder"
)

// Emit gets how far a conversion is, in bytes.
type Emit func(done, total int64)

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

// piece is a run of bytes on its way; without data and a file it is zeros.
type piece struct {
	data []byte
	file *os.File // in which the bytes lie, at a byte; they need not be handed over then
	at   int64
	n    int64
	err  error
}

// Copy reads content in order while what was read before is written. Each run of bytes is shown to see as it is read,
// where that is not nil; nil stands for zeros. It returns how many bytes there were.
func Copy(ctx context.Context, to Sink, c target.Content, see func(b []byte, n int64), emit Emit) (total int64,
	err error) {
	ctx, cancel := context.WithCancel(ctx)
	pieces := make(chan piece, ahead-2)
	pool := make(chan []byte, ahead)
	go func() {
		defer close(pieces)
		_, takes := to.(filecopy.Taker)
		if err := parallel.Safely(func() error { read(ctx, c, see, takes, pieces, pool); return nil }); err != nil {
			select {
			case pieces <- piece{err: err}:
			case <-ctx.Done():
			}
		}
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
		case p.file != nil:
			err = take(to, &p)
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
		if emit != nil {
			emit(total, c.Size())
		}
	}
	return total, ctx.Err()
}

func read(ctx context.Context, c target.Content, see func(b []byte, n int64), takes bool, out chan<- piece,
	pool chan []byte) {
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
		if f, at, k, ok := section(c, off, takes && dataStart <= off && dataEnd > off); ok {
			p.file, p.at, p.n = f, at, min(k, dataEnd-off, taken)
			p.err = show(c, off, p.n, see, pool)
		} else if dataStart < off+n {
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
				p.err = fmt.Errorf("it ends after %d bytes instead of %d: %w", off+int64(k), c.Size(),
					io.ErrUnexpectedEOF)
			default:
				p.err = err
			}
			if dataEnd < off+n {
				dataEnd = -1 // more data may begin behind it
			}
		}
		if see != nil && p.err == nil && p.file == nil {
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

// taken is how much is taken straight out of a file at a time: the sums of it are estimated meanwhile.
const taken = 8 << 20

// section finds the file in which bytes lie.
func section(c target.Content, off int64, wanted bool) (f *os.File, at, n int64, ok bool) {
	if s, is := c.(filecopy.Sectioned); is && wanted {
		f, at, n, ok = s.Section(off)
		return f, at, n, ok && n > 0
	}
	return nil, 0, 0, false
}

// show reads bytes that need not be handed over, for who wants to see them.
func show(c target.Content, off, n int64, see func(b []byte, n int64), pool chan []byte) error {
	if see == nil {
		return nil
	}
	b := <-pool
	defer func() { pool <- b }()
	for done := int64(0); done < n; {
		part := b[:min(int64(len(b)), n-done)]
		if k, err := c.ReadAt(part, off+done); k < len(part) {
			if err == nil || errors.Is(err, io.EOF) {
				err = fmt.Errorf("it ends after %d bytes instead of %d: %w", off+done+int64(k), c.Size(),
					io.ErrUnexpectedEOF)
			}
			return err
		}
		see(part, int64(len(part)))
		done += int64(len(part))
	}
	return nil
}

// take has a sink take bytes straight out of a file, or hands them over where it cannot.
func take(to Sink, p *piece) error {
	_, err := to.(filecopy.Taker).CopyFrom(p.file, p.at, p.n)
	if !errors.Is(err, errors.ErrUnsupported) {
		return err
	}
	_, err = io.CopyBuffer(struct{ io.Writer }{to}, io.NewSectionReader(p.file, p.at, p.n), make([]byte, unit))
	return err
}

// Write writes content to a new file of a target. It gets its name when all of it is there.
func Write(ctx context.Context, to target.Target, name string, c target.Content, see func(b []byte, n int64),
	emit Emit) (n int64, err error) {
	if dir := filepath.ToSlash(filepath.Dir(name)); dir != "." {
		if err := to.MakeFolder(ctx, dir); err != nil {
			return 0, err
		}
	}
	w, err := to.Create(ctx, name, c.Size())
	if err != nil {
		return 0, err
	}
	if n, err = Copy(ctx, w, c, see, emit); err == nil {
		err = w.Commit()
	}
	if err != nil {
		return n, errors.Join(err, w.Abort())
	}
	return n, nil
}

// Target opens the folder that a file is to be written to, and gives its name there.
func Destination(file string) (target.Target, string, error) {
	to, err := folder.Open(filepath.Dir(file), folder.Options{Unsynced: true})
	return to, filepath.Base(file), err
}

// open opens a file of this computer, and marks what goes wrong as its fault.
func open(file string) (target.Content, error) {
	c, err := folder.OpenFile(file)
	if err != nil {
		return nil, &shape.SourceError{Path: file, Err: err}
	}
	return c, nil
}
