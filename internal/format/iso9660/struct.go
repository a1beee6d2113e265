// Package iso9660 reads and writes volumes of the ISO 9660 filesystem, as
// standardised in ECMA-119 (4th edition); section numbers in this package are
// that standard's.
//
// Reading understands the primary volume descriptor, Joliet's supplementary
// descriptor (UCS-2 names), the Rock Ridge names and relocated directories of
// the System Use Sharing Protocol, and files of several extents. A [Volume] is
// an [io/fs.FS]. Interleaved files and symbolic links are not supported: the
// first are an error when opened, the second are left out of listings.
//
// Writing makes interchange level 3 volumes with primary names only; files over
// 4 GiB become several extents. The size is exact before the first byte is
// written, and the same input gives the same bytes.
package iso9660

import (
	"encoding/binary"
	"errors"
	"fmt"
	"time"
)

// SectorSize is the length of a logical sector in bytes (6.1.2). Only volumes
// whose logical blocks have this length too are read.
const SectorSize = 2048

const (
	systemArea  = 16 // sectors before the first volume descriptor (6.2.1)
	maxExtent   = 1<<32 - SectorSize
	maxDirBytes = 64 << 20 // a directory longer than this is damage, not data
	recordFixed = 33       // length of a directory record without its identifier (9.1)

	flagDirectory   = 0x02
	flagAssociated  = 0x04
	flagMultiExtent = 0x80

	descriptorPrimary       = 1
	descriptorSupplementary = 2
	descriptorTerminator    = 255
)

// ErrNotISO is returned by [Open] for data that carries no ISO 9660 volume.
var ErrNotISO = errors.New("not an ISO 9660 volume: no CD001 at sector 16")

// A FormatError reports damage in a volume's own structures.
type FormatError struct {
	Offset int64  // where in the image, in bytes
	What   string // what is wrong there, in words
}

func (e *FormatError) Error() string {
	return fmt.Sprintf("damaged ISO 9660 volume at byte %d: %s", e.Offset, e.What)
}

// record is one directory record (9.1), or several of a multi-extent file.
type record struct {
	extent, length uint32
	xattrs         uint8 // blocks of extended attributes in front of the data
	flags          uint8
	unit           uint8 // interleave, 0 for none
	when           time.Time
	id             []byte
	systemUse      []byte
}

// parseRecord decodes the directory record at the start of b.
func parseRecord(b []byte) (record, error) {
	n := int(b[0])
	if n < recordFixed || n > len(b) {
		return record{}, errors.New("a directory record has an impossible length")
	}
	b = b[:n]
	idLen := int(b[32])
	if recordFixed+idLen > n {
		return record{}, errors.New("a name reaches past its directory record")
	}
	su := recordFixed + idLen
	if idLen%2 == 0 {
		su++ // padding, so that the system use field begins on an even byte
	}
	r := record{
		xattrs: b[1],
		extent: binary.LittleEndian.Uint32(b[2:]),
		length: binary.LittleEndian.Uint32(b[10:]),
		when:   parseWhen(b[18:25]),
		flags:  b[25],
		unit:   b[26],
		id:     b[recordFixed : recordFixed+idLen],
	}
	if su < n {
		r.systemUse = b[su:]
	}
	return r, nil
}

// parseWhen decodes the seven bytes of a recording date (9.1.5). An impossible
// date gives the zero time.
func parseWhen(b []byte) time.Time {
	if b[1] < 1 || b[1] > 12 || b[2] < 1 || b[2] > 31 {
		return time.Time{}
	}
	zone := time.UTC
	if off := int(int8(b[6])); off != 0 && off >= -48 && off <= 52 {
		zone = time.FixedZone("", off*15*60)
	}
	return time.Date(1900+int(b[0]), time.Month(b[1]), int(b[2]), int(b[3]), int(b[4]), int(b[5]), 0, zone)
}

func putWhen(b []byte, t time.Time) {
	if t.IsZero() {
		return
	}
	t = t.UTC()
	b[0], b[1], b[2] = byte(t.Year()-1900), byte(t.Month()), byte(t.Day())
	b[3], b[4], b[5] = byte(t.Hour()), byte(t.Minute()), byte(t.Second())
}

// putBoth32 writes v in both byte orders (7.3.3).
func putBoth32(b []byte, v uint32) {
	binary.LittleEndian.PutUint32(b, v)
	binary.BigEndian.PutUint32(b[4:], v)
}

// putBoth16 writes v in both byte orders (7.2.3).
func putBoth16(b []byte, v uint16) {
	binary.LittleEndian.PutUint16(b, v)
	binary.BigEndian.PutUint16(b[2:], v)
}

func sectors(bytes int64) int64 { return (bytes + SectorSize - 1) / SectorSize }
