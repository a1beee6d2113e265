// Package sectors reads the user data out of the raw sectors of a disc's track, so
// that a filesystem in it can be opened.
package sectors

import (
	"bytes"
	"io"
)

// UserData is the bytes of user data in a sector (ECMA-130, clause 14).
const UserData = 2048

// Reader gives the user data of raw sectors as one run of bytes.
type Reader struct {
	r              io.ReaderAt
	start          int64 // byte at which the first sector begins
	sector, offset int64
	size           int64
}

// New reads sectors of the given length in bytes, with user data at an offset in each, from
// size bytes of r, beginning with sector number start.
func New(r io.ReaderAt, size, sector, offset, start int64) *Reader {
	n := max(0, size/sector-start)
	return &Reader{r: r, start: start * sector, sector: sector, offset: offset, size: n * UserData}
}

// Size is the number of bytes of user data.
func (s *Reader) Size() int64 { return s.size }

// ReadAt reads user data. It returns [io.EOF] at the end.
func (s *Reader) ReadAt(b []byte, off int64) (done int, err error) {
	for done < len(b) {
		at := off + int64(done)
		if at >= s.size {
			return done, io.EOF
		}
		within := at % UserData
		n := min(int64(len(b)-done), UserData-within)
		k, err := s.r.ReadAt(b[done:done+int(n)], s.start+at/UserData*s.sector+s.offset+within)
		done += k
		if int64(k) < n {
			return done, err
		}
	}
	return done, nil
}

// sync begins every raw sector (ECMA-130, 14.1).
var sync = []byte("\x00\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\xFF\x00")

// Detect reports whether size bytes of r are raw sectors of 2352 bytes of mode 1 or of mode 2, form
// 1, and where the user data begin in each.
func Detect(r io.ReaderAt, size int64) (sector, offset int64, ok bool) {
	const raw = 2352
	if size < 17*raw {
		return 0, 0, false
	}
	b := make([]byte, 24)
	for _, n := range []int64{0, 16} { // the sector of the volume descriptor counts
		if k, _ := r.ReadAt(b, n*raw); k < len(b) || !bytes.HasPrefix(b, sync) {
			return 0, 0, false
		}
	}
	switch b[15] {
	case 1:
		return raw, 16, true
	case 2:
		return raw, 24, b[18]&0x20 == 0 // form 2 holds no filesystem
	}
	return 0, 0, false
}
