// Package sectors reads the user data out of the raw sectors of a disc's track, so
// that a filesystem in it can be opened.
package sectors

import "io"

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
