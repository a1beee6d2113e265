// Package volumetest is the suite that every filesystem of package volume passes, and the disks it runs on.
package volumetest

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"polytome/internal/medium"
)

// NewFile makes a sparse file of so many bytes.
func NewFile(t testing.TB, size int64) *medium.File {
	name := filepath.Join(t.TempDir(), "volume.img")
	require.NoError(t, os.WriteFile(name, nil, 0o600))
	require.NoError(t, os.Truncate(name, size))
	return OpenFile(t, name)
}

// OpenFile opens a file that someone else made.
func OpenFile(t testing.TB, name string) *medium.File {
	f, err := os.OpenFile(name, os.O_RDWR, 0)
	require.NoError(t, err)
	m, err := medium.Of(f)
	require.NoError(t, err)
	t.Cleanup(func() { _ = m.Close() })
	return m
}

// A Write is one sector that was written, as it was before and after.
type Write struct {
	At          int64
	Before, New []byte
}

// A Disk is a device in memory that notes every write, sector by sector, so that it can be cut off after each.
type Disk struct {
	B      []byte
	Writes []Write
	Noting bool
	Syncs  int
	FailAt int // the write from which on it fails, 0 for never
	count  int
}

// ErrGone is the error of a failing disk.
var ErrGone = errors.New("the device has gone")

const tear = 512

// ReadAt reads.
func (d *Disk) ReadAt(b []byte, off int64) (int, error) {
	if off < 0 || off > int64(len(d.B)) {
		return 0, io.EOF
	}
	n := copy(b, d.B[off:])
	if n < len(b) {
		return n, io.EOF
	}
	return n, nil
}

// WriteAt writes, sector by sector.
func (d *Disk) WriteAt(b []byte, off int64) (int, error) {
	if d.count++; d.FailAt > 0 && d.count >= d.FailAt {
		return 0, ErrGone
	}
	if off < 0 || off+int64(len(b)) > int64(len(d.B)) {
		return 0, errors.New("that is beyond the end of the device")
	}
	for done := 0; done < len(b); {
		n := min(len(b)-done, tear-int(off+int64(done))%tear)
		at := off + int64(done)
		if d.Noting {
			d.Writes = append(d.Writes, Write{at, append([]byte(nil), d.B[at:at+int64(n)]...),
				append([]byte(nil), b[done:done+n]...)})
		}
		copy(d.B[at:], b[done:done+n])
		done += n
	}
	return len(b), nil
}

// Sync is counted.
func (d *Disk) Sync() error {
	d.Syncs++
	if d.FailAt > 0 && d.count >= d.FailAt {
		return ErrGone
	}
	return nil
}

// Back takes the last write back.
func (d *Disk) Back() {
	w := d.Writes[len(d.Writes)-1]
	copy(d.B[w.At:], w.Before)
	d.Writes = d.Writes[:len(d.Writes)-1]
}

// An Overlay is a disk over another one, which stays as it is.
type Overlay struct {
	base  []byte
	wrote map[int64][]byte // by sector
}

// Over begins an overlay of the disk as it is now.
func (d *Disk) Over() *Overlay { return &Overlay{d.B, map[int64][]byte{}} }

// ReadAt reads what was written, and the disk below elsewhere.
func (o *Overlay) ReadAt(b []byte, off int64) (int, error) {
	if off < 0 || off > int64(len(o.base)) {
		return 0, io.EOF
	}
	n := copy(b, o.base[off:])
	for s := off / tear; s <= (off+int64(n)-1)/tear && len(o.wrote) > 0 && n > 0; s++ {
		if w, ok := o.wrote[s]; ok {
			at := s*tear - off
			if at < 0 {
				copy(b[:n], w[-at:])
			} else {
				copy(b[at:n], w)
			}
		}
	}
	if n < len(b) {
		return n, io.EOF
	}
	return n, nil
}

// WriteAt writes over the disk.
func (o *Overlay) WriteAt(b []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(b)) > int64(len(o.base)) {
		return 0, errors.New("that is beyond the end of the device")
	}
	for done := 0; done < len(b); {
		s := (off + int64(done)) / tear
		in := int((off + int64(done)) % tear)
		w, ok := o.wrote[s]
		if !ok {
			w = append([]byte(nil), o.base[s*tear:(s+1)*tear]...)
			o.wrote[s] = w
		}
		done += copy(w[in:], b[done:])
	}
	return len(b), nil
}

// Sync does nothing.
func (o *Overlay) Sync() error { return nil }

// Save writes the disk, with what was written over it, into a file.
func (o *Overlay) Save(t testing.TB, name string) {
	(&Disk{B: o.base}).Save(t, name)
	f, err := os.OpenFile(name, os.O_WRONLY, 0)
	require.NoError(t, err)
	defer f.Close()
	for s, w := range o.wrote {
		_, err := f.WriteAt(w, s*tear)
		require.NoError(t, err)
	}
}

// Save writes the disk into a file, with holes where it is nothing but zeros.
func (d *Disk) Save(t testing.TB, name string) {
	f, err := os.Create(name)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, f.Truncate(int64(len(d.B))))
	const block = 64 << 10
	zeros := make([]byte, block)
	for at := 0; at < len(d.B); at += block {
		b := d.B[at:min(at+block, len(d.B))]
		if string(b) != string(zeros[:len(b)]) {
			_, err := f.WriteAt(b, int64(at))
			require.NoError(t, err)
		}
	}
}
