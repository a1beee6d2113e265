// Package medium is the bytes that a volume is on: an image file, a block device or what a server exports, or a
// partition of one. It knows how to bring bytes to the medium, how to read them from there and not out of memory, and
// how to make runs of zeros without writing them. Whether it may be written to at all is decided in package drives.
package medium

import (
	"errors"
	"fmt"
	"io"
	"os"
	"sync/atomic"

	"polytome/internal/filecopy"
	"polytome/internal/size"
	"polytome/internal/sparse"
	"polytome/internal/writeback"
)

// An Export is a medium that is no file of this computer. Zero makes bytes zeros, and Data finds the next ones that may
// be something else: see [sparse.Data].
type Export interface {
	io.ReaderAt
	io.WriterAt
	io.Closer
	Size() int64
	ReadOnly() bool
	Sync() error
	Zero(off, n int64) error
	Data(off int64) (start, end int64)
}

// A File is a run of bytes of an image file, block device or export, which begins at byte 0. It is safe for several
// goroutines.
type File struct {
	f      *os.File // nil for an export
	export Export
	name   string
	base   int64
	size   int64
	device bool // a block device
	owner  bool // closes the file
	before func() error
	queue  *writeback.Queue
	change *atomic.Bool // something was written at all
}

// Of takes over an opened file or device. Its size is found out.
func Of(f *os.File) (*File, error) {
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	m := &File{f: f, name: f.Name(), owner: true, device: info.Mode()&os.ModeDevice != 0,
		queue: writeback.Of(f), change: &atomic.Bool{}}
	m.size, err = m.SizeNow()
	return m, err
}

// On takes over what a server exports, called by its address.
func On(e Export, address string) *File {
	return &File{export: e, name: address, size: e.Size(), owner: true, change: &atomic.Bool{}}
}

// SizeNow asks the system for the length of the whole file or device, in bytes. It differs from [File.Size] when that
// has changed since.
func (m *File) SizeNow() (int64, error) {
	if m.export != nil {
		return m.export.Size(), nil
	}
	n, err := m.f.Seek(0, io.SeekEnd)
	if err != nil {
		return 0, fmt.Errorf("finding out the size of %s: %w", m.name, err)
	}
	return n, nil
}

// Before has a function be called before each write; an error of its keeps the write from happening.
func (m *File) Before(check func() error) { m.before = check }

// Part is n bytes of it from a byte on. Closing the part does nothing.
func (m *File) Part(at, n int64) *File {
	p := *m
	p.base, p.size, p.owner = m.base+at, min(n, m.size-at), false
	return &p
}

// Size is its length in bytes.
func (m *File) Size() int64 { return m.size }

// Device reports whether it is a block device.
func (m *File) Device() bool { return m.device }

// Name is the name of the file.
func (m *File) Name() string { return m.name }

// Local reports whether it is a file or device of this computer.
func (m *File) Local() bool { return m.export == nil }

// ReadOnly reports whether nothing can be written; ok is false where that is not known.
func (m *File) ReadOnly() (only, ok bool) {
	if m.export == nil {
		return false, false
	}
	return m.export.ReadOnly(), true
}

func (m *File) reader() io.ReaderAt {
	if m.export != nil {
		return m.export
	}
	return m.f
}

// ReadAt reads.
func (m *File) ReadAt(b []byte, off int64) (int, error) {
	if off < 0 || off >= m.size {
		return 0, io.EOF
	}
	n := min(int64(len(b)), m.size-off)
	k, err := m.reader().ReadAt(b[:n], m.base+off)
	if err == nil && k < len(b) {
		err = io.EOF
	}
	return k, err
}

// may reports whether n bytes at a byte may be written.
func (m *File) may(off, n int64) error {
	if off < 0 || off+n > m.size {
		return fmt.Errorf("writing to %s: byte %s is beyond its end", m.name, size.Exact(off+n))
	}
	if m.before != nil {
		if err := m.before(); err != nil {
			return err
		}
	}
	m.change.Store(true)
	return nil
}

// WriteAt writes. Its error may be one that the medium had with bytes that were written earlier.
func (m *File) WriteAt(b []byte, off int64) (int, error) {
	if err := m.may(off, int64(len(b))); err != nil {
		return 0, err
	}
	if m.export != nil {
		return m.export.WriteAt(b, m.base+off)
	}
	n, err := m.f.WriteAt(b, m.base+off)
	if err == nil {
		err = m.queue.Wrote(m.base+off, int64(n))
	}
	return n, err
}

// CopyFrom copies n bytes out of a file, where the system can do that by itself.
func (m *File) CopyFrom(f *os.File, at, to, n int64) (int64, error) {
	if m.device || m.export != nil {
		return 0, errors.ErrUnsupported
	}
	if err := m.may(to, n); err != nil {
		return 0, err
	}
	return filecopy.Range(m.f, m.base+to, f, at, n)
}

// Zero makes n bytes zeros without writing them, where that is possible.
func (m *File) Zero(off, n int64) error {
	if n == 0 {
		return nil
	}
	if err := m.may(off, n); err != nil {
		return err
	}
	if m.export != nil {
		return m.export.Zero(m.base+off, n)
	}
	return zero(m.f, m.device, m.base+off, n)
}

// Sync brings everything to the medium.
func (m *File) Sync() error {
	if m.export != nil {
		return m.export.Sync()
	}
	m.queue.Flushed()
	return m.f.Sync()
}

// Drop has bytes be read from the medium again, where the system can be asked for that. They are brought there first;
// what a server remembers of them is its own.
func (m *File) Drop(off, n int64) error {
	if m.export != nil {
		return m.export.Sync()
	}
	return drop(m.f, m.base+off, n)
}

// Ahead has the system begin to read bytes that are wanted soon.
func (m *File) Ahead(off, n int64) {
	if m.export == nil {
		ahead(m.f, m.base+off, n)
	}
}

// Data is the first run of data at or after off; see [sparse.Data].
func (m *File) Data(off int64) (start, end int64) {
	if m.device {
		return min(off, m.size), m.size
	}
	if m.export != nil {
		start, end = m.export.Data(m.base + off)
		return min(start-m.base, m.size), min(end-m.base, m.size)
	}
	start, end = sparse.Data(m.f, m.base+off, m.base+m.size)
	return start - m.base, end - m.base
}

// Section is the file itself; ok is false where there is none.
func (m *File) Section(off int64) (f *os.File, at, n int64, ok bool) {
	return m.f, m.base + off, m.size - off, !m.device && m.export == nil
}

// Close closes the file, unless it is a part of another one. What the system remembers of a device that was written to,
// it is reported to forget: it keeps what it read of a partition apart from what is on the whole device.
func (m *File) Close() error {
	if !m.owner {
		return nil
	}
	if m.export != nil {
		return m.export.Close()
	}
	if m.device && m.change.Load() {
		forget(m.f)
	}
	return m.f.Close()
}
