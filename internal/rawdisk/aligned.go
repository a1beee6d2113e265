package rawdisk

import (
	"io"
	"sync"
	"unsafe"
)

// A device takes and gives whole sectors only: offsets, lengths and places in memory are multiples of its sector.
type device interface {
	io.ReaderAt
	io.WriterAt
}

// bounceBytes is how much of what does not lie on sectors is read or written at once.
const bounceBytes = 256 << 10

// aligned lets any bytes of a device be read and written. Safe for several goroutines.
type aligned struct {
	dev    device
	sector int64
	size   int64 // bytes, a multiple of sector
	// edges keeps two writes into one sector from losing one of them: of a sector that is written in part, the rest is
	// read before.
	edges sync.RWMutex
}

// bounces has buffers that lie on the boundaries of sectors, of bounceBytes each.
var bounces = sync.Pool{New: func() any { b := onBoundary(bounceBytes); return &b }}

// boundary is what the place of a buffer in memory is a multiple of: no sector is larger.
const boundary = 4096

func onBoundary(n int) []byte {
	b := make([]byte, n+boundary)
	skip := int(-uintptr(unsafe.Pointer(&b[0])) & (boundary - 1))
	return b[skip : skip+n : skip+n]
}

// fits reports whether the device takes a request as it is.
func (a *aligned) fits(b []byte, off int64) bool {
	return off%a.sector == 0 && int64(len(b))%a.sector == 0 &&
		uintptr(unsafe.Pointer(unsafe.SliceData(b)))%uintptr(a.sector) == 0
}

// ReadAt reads.
func (a *aligned) ReadAt(b []byte, off int64) (n int, err error) {
	if off < 0 || off >= a.size {
		return 0, io.EOF
	}
	if int64(len(b)) > a.size-off {
		n, err = a.ReadAt(b[:a.size-off], off)
		if err == nil {
			err = io.EOF
		}
		return n, err
	}
	if a.fits(b, off) {
		return a.dev.ReadAt(b, off)
	}
	buf := bounces.Get().(*[]byte)
	defer bounces.Put(buf)
	for n < len(b) {
		piece, skip := a.piece(*buf, off+int64(n), int64(len(b)-n))
		if _, err := io.ReadFull(io.NewSectionReader(a.dev, off+int64(n)-skip, int64(len(piece))), piece); err != nil {
			return n, err
		}
		n += copy(b[n:], piece[skip:])
	}
	return n, nil
}

// piece is the part of a buffer for the sectors around up to n bytes at a byte, and at which byte of it they begin.
func (a *aligned) piece(buf []byte, off, n int64) (piece []byte, skip int64) {
	skip = off % a.sector
	length := (skip + n + a.sector - 1) / a.sector * a.sector
	return buf[:min(length, int64(len(buf)))], skip
}

// WriteAt writes.
func (a *aligned) WriteAt(b []byte, off int64) (n int, err error) {
	if off < 0 || int64(len(b)) > a.size-off {
		return 0, io.ErrShortWrite
	}
	if a.fits(b, off) {
		a.edges.RLock()
		defer a.edges.RUnlock()
		return a.dev.WriteAt(b, off)
	}
	buf := bounces.Get().(*[]byte)
	defer bounces.Put(buf)
	for n < len(b) {
		k, err := a.around(*buf, b[n:], off+int64(n))
		n += k
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

// around writes the beginning of b within whole sectors, of which the rest stays as it is.
func (a *aligned) around(buf, b []byte, off int64) (int, error) {
	piece, skip := a.piece(buf, off, int64(len(b)))
	n := min(len(b), len(piece)-int(skip))
	if skip == 0 && n == len(piece) { // only its place in memory is wrong
		a.edges.RLock()
		defer a.edges.RUnlock()
	} else {
		a.edges.Lock()
		defer a.edges.Unlock()
		last := int64(len(piece)) - a.sector
		for _, at := range []int64{0, last} { // what is between is written over
			sector := io.NewSectionReader(a.dev, off-skip+at, a.sector)
			if _, err := io.ReadFull(sector, piece[at:at+a.sector]); err != nil {
				return 0, err
			}
			if last == 0 {
				break
			}
		}
	}
	copy(piece[skip:], b[:n])
	if _, err := a.dev.WriteAt(piece, off-skip); err != nil {
		return 0, err
	}
	return n, nil
}

// end finds the end of a device of which the system does not say it, by reading: the first sector that there is not.
func end(dev io.ReaderAt, sector int64) int64 {
	b := onBoundary(int(sector))
	there := func(n int64) bool {
		k, _ := dev.ReadAt(b, n*sector)
		return int64(k) == sector
	}
	if !there(0) {
		return 0
	}
	from, to := int64(0), int64(1)
	for ; there(to) && to < 1<<40; to *= 2 {
		from = to
	}
	for to-from > 1 { // from is there, and to is not
		if mid := from + (to-from)/2; there(mid) {
			from = mid
		} else {
			to = mid
		}
	}
	return (from + 1) * sector
}
