// Package lha reads and writes LHA archives with headers of level 0, 1 and 2 and the
// methods -lh0- (stored), -lh1- (a 4 KiB window, adaptive Huffman codes), -lh5-, -lh6- and
// -lh7- (windows of 8, 32 and 64 KiB, Huffman codes in blocks) and -lhd- (a folder). Headers
// of level 3 and other methods are named in the error.
//
// There is no standard: the format is as its archivers have it. Numbers are little-endian.
package lha

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf8"

	"polytome/internal/format/crcs"
)

// The methods by which a member's data can be packed.
const (
	Stored   = "-lh0-"
	Adaptive = "-lh1-"
	Blocks5  = "-lh5-"
	Blocks6  = "-lh6-"
	Blocks7  = "-lh7-"
	folder   = "-lhd-"
)

// ErrNotLHA is returned by [Open] for data that does not begin as an LHA archive does.
var ErrNotLHA = errors.New("not an LHA archive: it does not start with an LHA header")

// A FormatError reports damage in an archive.
type FormatError struct {
	Offset int64  // where in the archive, in bytes
	What   string // what is wrong there, in words
}

func (e *FormatError) Error() string {
	return fmt.Sprintf("damaged LHA archive at byte %d: %s", e.Offset, e.What)
}

// A Member is a file or folder in an archive.
type Member struct {
	Name     string // with slashes, as stored: not to be trusted as a path
	Method   string
	Dir      bool
	Size     int64 // unpacked, in bytes
	Packed   int64 // in bytes
	Modified time.Time
	CRC      uint16 // of the unpacked data (CRC-16/ARC)
	Level    int    // of its header

	at int64 // where its data begin
	r  io.ReaderAt
}

// An Archive is an opened archive.
type Archive struct {
	Members []Member // in their order
	// Damage is what ended the listing before the archive's end; nil for none.
	Damage error
}

// maxMembers bounds the list of an archive.
const maxMembers = 1 << 20

// Open lists the members of the size bytes behind r. It reads headers only. An archive
// that is damaged further on opens with what comes before, and tells in Damage.
func Open(r io.ReaderAt, size int64) (*Archive, error) {
	a := &Archive{}
	for at := int64(0); at < size; {
		m, next, err := header(r, at, size)
		if err == io.EOF {
			break
		}
		if err != nil && at == 0 {
			var damage *FormatError
			if errors.As(err, &damage) {
				err = ErrNotLHA
			}
			return nil, err
		}
		if err == nil && next > size {
			a.Members = append(a.Members, m)
			err = &FormatError{size, fmt.Sprintf("the archive ends within %s; %d bytes are missing", m.Name, next-size)}
		}
		if err == nil && len(a.Members) == maxMembers {
			err = &FormatError{at, "there are too many members"}
		}
		if err != nil {
			a.Damage = err
			break
		}
		a.Members = append(a.Members, m)
		at = next
	}
	return a, nil
}

// header reads the header at an offset; next is where the one after its data is. At the
// end mark it returns [io.EOF].
func header(r io.ReaderAt, at, size int64) (m Member, next int64, err error) {
	fail := func(format string, args ...any) (Member, int64, error) {
		return m, 0, &FormatError{at, fmt.Sprintf(format, args...)}
	}
	b := make([]byte, min(size-at, 4096))
	if n, err := r.ReadAt(b, at); n < len(b) {
		return m, 0, err
	}
	if len(b) > 0 && b[0] == 0 && (len(b) < 21 || b[1] == 0 || b[20] != 2) {
		return m, 0, io.EOF
	}
	if len(b) < 21 {
		return fail("it ends within a header")
	}
	m.Method, m.Level, m.r = string(b[2:7]), int(b[20]), r
	if m.Method[0] != '-' || m.Method[4] != '-' {
		return fail("a header was expected here")
	}
	m.Packed, m.Size = int64(binary.LittleEndian.Uint32(b[7:])), int64(binary.LittleEndian.Uint32(b[11:]))
	var extra []byte // extended headers, with the length of the first in front
	switch m.Level {
	case 0, 1:
		n := int(b[0]) + 2
		if n < 24 || n > len(b) {
			return fail("a header has an impossible length")
		}
		var sum byte
		for _, c := range b[2:n] {
			sum += c
		}
		if sum != b[1] {
			return fail("a header has a wrong checksum")
		}
		name := int(b[21])
		if 24+name > n {
			return fail("a name reaches past its header")
		}
		m.Name = path(b[22 : 22+name])
		m.CRC = binary.LittleEndian.Uint16(b[22+name:])
		m.Modified = dosTime(binary.LittleEndian.Uint32(b[15:]))
		m.at = at + int64(n)
		next = m.at + m.Packed
		if m.Level == 1 {
			if n < 27+name {
				return fail("a header has an impossible length")
			}
			if extra, err = chain(r, m.at-2, min(next, size)); err != nil {
				return fail("%v", err)
			}
			m.at += int64(len(extra)) - 2
			m.Packed -= int64(len(extra)) - 2
		}
	case 2:
		n := int64(binary.LittleEndian.Uint16(b))
		if n < 26 || at+n > size {
			return fail("a header has an impossible length")
		}
		if n > int64(len(b)) {
			b = make([]byte, n)
			if k, err := r.ReadAt(b, at); k < len(b) {
				return m, 0, err
			}
		}
		m.Modified = time.Unix(int64(int32(binary.LittleEndian.Uint32(b[15:]))), 0).UTC()
		m.CRC = binary.LittleEndian.Uint16(b[21:])
		m.at = at + n
		next = m.at + m.Packed
		extra = b[24:n]
		if want, zeroed, ok := headerCRC(b[:n], 24); ok && crcs.ARC(0, zeroed) != want {
			return fail("a header has a wrong CRC")
		}
	default:
		return fail("headers of level %d are not supported", m.Level)
	}
	m.extended(extra)
	if m.Size < 0 || m.Packed < 0 {
		return fail("a member has an impossible length")
	}
	if m.Level == 2 { // a 64-bit length may have come with an extended header
		next = m.at + m.Packed
	}
	if next < m.at {
		return fail("a member has an impossible length")
	}
	if m.Method == folder {
		m.Dir = true
	}
	m.Name = strings.TrimSuffix(m.Name, "/")
	return m, next, nil
}

// maxChain bounds the extended headers of one member, in bytes.
const maxChain = 64 << 10

// chain reads a level 1 header's extended headers, from the length in front of the first to
// the zero after the last.
func chain(r io.ReaderAt, at, end int64) ([]byte, error) {
	var out []byte
	n := int64(2)
	for n > 0 {
		if n < 2 || at+n > end || int64(len(out))+n > maxChain {
			return nil, errors.New("an extended header has an impossible length")
		}
		b := make([]byte, n)
		if k, err := r.ReadAt(b, at); k < len(b) {
			return nil, err
		}
		out = append(out, b...)
		at += n
		if n = int64(binary.LittleEndian.Uint16(b[n-2:])); n > 0 && n < 3 {
			return nil, errors.New("an extended header has an impossible length")
		}
	}
	return out, nil
}

// headerCRC finds the CRC of a level 2 header, and the header with zeros in its place.
func headerCRC(b []byte, at int) (want uint16, zeroed []byte, ok bool) {
	for {
		if at+2 > len(b) {
			return 0, nil, false
		}
		n := int(binary.LittleEndian.Uint16(b[at:]))
		if n < 3 || at+2+n > len(b) {
			return 0, nil, false
		}
		if b[at+2] == 0 && n >= 5 {
			zeroed = append([]byte{}, b...)
			clear(zeroed[at+3 : at+5])
			return binary.LittleEndian.Uint16(b[at+3:]), zeroed, true
		}
		at += n
	}
}

// extended takes the values out of extended headers: each has a type, its data, and the
// length of the next.
func (m *Member) extended(b []byte) {
	dir := ""
	for len(b) >= 2 {
		n := int(binary.LittleEndian.Uint16(b))
		if n < 3 || 2+n > len(b) {
			break
		}
		data := b[3:n]
		switch b[2] {
		case 0x01:
			m.Name = path(data)
		case 0x02:
			dir = strings.TrimRight(path(data), "/")
		case 0x42:
			if len(data) >= 16 {
				m.Packed, m.Size = int64(binary.LittleEndian.Uint64(data)), int64(binary.LittleEndian.Uint64(data[8:]))
			}
		case 0x54:
			if len(data) >= 4 {
				m.Modified = time.Unix(int64(int32(binary.LittleEndian.Uint32(data))), 0).UTC()
			}
		}
		b = b[n:]
	}
	if dir != "" && m.Name != "" {
		dir += "/"
	}
	m.Name = dir + m.Name
}

// path makes a text with slashes of a stored name: folders end in a backslash or the byte
// 0xFF there. Bytes that are no UTF-8 are taken for Latin-1.
func path(b []byte) string {
	s := make([]byte, len(b))
	for i, c := range b {
		if c == 0xFF || c == '\\' {
			c = '/'
		}
		s[i] = c
	}
	if i := strings.IndexByte(string(s), 0); i >= 0 { // what follows is a comment
		s = s[:i]
	}
	if utf8.Valid(s) {
		return string(s)
	}
	r := make([]rune, len(s))
	for i, c := range s {
		r[i] = rune(c)
	}
	return string(r)
}

// dosTime decodes a date and time of 32 bits, in whatever zone it was written.
func dosTime(v uint32) time.Time {
	month, day := int(v>>21&15), int(v>>16&31)
	if month < 1 || month > 12 || day < 1 {
		return time.Time{}
	}
	return time.Date(1980+int(v>>25), time.Month(month), day, int(v>>11&31), int(v>>5&63), int(v&31)*2, 0, time.UTC)
}

func toDOSTime(t time.Time) uint32 {
	t = t.UTC()
	if t.Year() < 1980 || t.Year() > 2107 {
		return 1<<21 | 1<<16
	}
	return uint32(t.Year()-1980)<<25 | uint32(t.Month())<<21 | uint32(t.Day())<<16 |
		uint32(t.Hour())<<11 | uint32(t.Minute())<<5 | uint32(t.Second()/2)
}

// Open unpacks a member. The reader gives a [*FormatError] in place of the end when the data
// do not have the CRC or length that the header tells.
func (m *Member) Open() (io.Reader, error) {
	in := io.NewSectionReader(m.r, m.at, m.Packed)
	var r io.Reader
	switch m.Method {
	case Stored:
		r = in
	case folder:
		return strings.NewReader(""), nil
	case Adaptive:
		r = newWindow(m.Size, 4<<10, newAdaptive(in))
	case Blocks5:
		r = newWindow(m.Size, 8<<10, newBlocks(in, 14, 4))
	case Blocks6:
		r = newWindow(m.Size, 32<<10, newBlocks(in, 16, 5))
	case Blocks7:
		r = newWindow(m.Size, 64<<10, newBlocks(in, 17, 5))
	default:
		return nil, &FormatError{m.at, fmt.Sprintf("the method %q of %s is not supported", m.Method, m.Name)}
	}
	return &checked{m: m, r: r}, nil
}

// ReaderAt gives the bytes of a stored member where they lie; nil for a packed one.
func (m *Member) ReaderAt() io.ReaderAt {
	if m.Method != Stored {
		return nil
	}
	return io.NewSectionReader(m.r, m.at, m.Packed)
}

// checked compares a member's data with what its header describes them.
type checked struct {
	m   *Member
	r   io.Reader
	n   int64
	crc uint16
}

func (c *checked) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.n += int64(n)
	c.crc = crcs.ARC(c.crc, b[:n])
	var damage *FormatError
	switch {
	case errors.As(err, &damage):
		damage.Offset = c.m.at
		damage.What = c.m.Name + ": " + damage.What
	case err == io.EOF && c.n != c.m.Size:
		err = &FormatError{c.m.at, fmt.Sprintf("%s has %d bytes instead of %d", c.m.Name, c.n, c.m.Size)}
	case err == io.EOF && c.crc != c.m.CRC:
		err = &FormatError{c.m.at, fmt.Sprintf("%s has the CRC %04X instead of %04X", c.m.Name, c.crc, c.m.CRC)}
	}
	return n, err
}
