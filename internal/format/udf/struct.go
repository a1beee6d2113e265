// Package udf reads volumes of the Universal Disk Format as discs carry them:
// OSTA UDF 1.02 to 2.01, on ECMA-167 (3rd edition), alone or as a bridge beside
// ISO 9660; section numbers in this package are ECMA-167's unless they say UDF.
//
// Understood are plain and sparable partitions and the virtual ones of discs that
// were written at once (UDF 2.2.8, 2.2.9, 2.2.11), files and extended files with
// short, long or embedded allocation, continued descriptors, and names in 8 or 16
// bits. Symbolic links, streams and strategy 4096 are not shown. A [Volume] is an
// [io/fs.FS].
package udf

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf16"

	"polytome/internal/format/crcs"
)

// SectorSize is the length of a sector on discs, in bytes. Volumes with logical
// blocks of another length are read where their anchor is found.
const SectorSize = 2048

// The identifiers of descriptor tags (3/7.2.1, 4/7.2.1).
const (
	tagPrimary     = 1
	tagAnchor      = 2
	tagPointer     = 3
	tagPartition   = 5
	tagLogical     = 6
	tagTerminating = 8
	tagFileSet     = 256
	tagFileID      = 257
	tagAllocation  = 258
	tagFile        = 261
	tagExtended    = 266
)

// Limits, beyond which a structure is damage.
const (
	maxDirBytes = 64 << 20
	maxExtents  = 1 << 20
	maxVATBytes = 16 << 20
	maxSequence = 256 // descriptors in a volume descriptor sequence
)

// ErrNotUDF is returned by [Open] for data without a UDF volume.
var ErrNotUDF = errors.New("not a UDF volume: no anchor at sector 256 or at the end")

// A FormatError reports damage in a volume's own structures.
type FormatError struct {
	Offset int64  // where in the image, in bytes
	What   string // what is wrong there, in words
}

func (e *FormatError) Error() string {
	return fmt.Sprintf("damaged UDF volume at byte %d: %s", e.Offset, e.What)
}

// tag checks the descriptor tag (3/7.2) at the start of b and returns its
// identifier. Where the descriptor is whole in b, its CRC is checked too.
func tag(b []byte) (int, error) {
	if len(b) < 16 {
		return 0, errors.New("a descriptor is cut short")
	}
	var sum byte
	for i, c := range b[:16] {
		if i != 4 {
			sum += c
		}
	}
	if sum != b[4] {
		return 0, errors.New("a descriptor's tag has a wrong checksum")
	}
	id := int(binary.LittleEndian.Uint16(b))
	if n := int(binary.LittleEndian.Uint16(b[10:])); n > 0 && 16+n <= len(b) {
		if crcs.CCITT(0, b[16:16+n]) != binary.LittleEndian.Uint16(b[8:]) {
			return id, errors.New("a descriptor has a wrong CRC")
		}
	}
	return id, nil
}

// text decodes compressed unicode (UDF 2.1.1): 8 or 16 bits a character.
func text(b []byte) string {
	if len(b) == 0 {
		return ""
	}
	switch b[0] {
	case 8, 254:
		r := make([]rune, len(b)-1)
		for i, c := range b[1:] {
			r[i] = rune(c)
		}
		return string(r)
	case 16, 255:
		u := make([]uint16, (len(b)-1)/2)
		for i := range u {
			u[i] = binary.BigEndian.Uint16(b[1+2*i:])
		}
		return string(utf16.Decode(u))
	}
	return ""
}

// dstring decodes a text of fixed length whose last byte reports how much is used
// (1/7.2.12).
func dstring(b []byte) string {
	n := int(b[len(b)-1])
	if n > len(b)-1 {
		n = len(b) - 1
	}
	return strings.TrimRight(text(b[:n]), " \x00")
}

// when decodes a timestamp (1/7.3). An impossible one gives the zero time.
func when(b []byte) time.Time {
	kind := binary.LittleEndian.Uint16(b)
	month, day := int(b[4]), int(b[5])
	if month < 1 || month > 12 || day < 1 || day > 31 {
		return time.Time{}
	}
	zone := time.UTC
	if minutes := int(int16(kind<<4) >> 4); kind>>12 == 1 && minutes != 0 && minutes >= -1440 && minutes <= 1440 {
		zone = time.FixedZone("", minutes*60)
	}
	micro := int(b[9])*10000 + int(b[10])*100 + int(b[11])
	return time.Date(int(int16(binary.LittleEndian.Uint16(b[2:]))), time.Month(month), day, int(b[6]), int(b[7]),
		int(b[8]), micro*1000, zone)
}

// An address is a position in a partition (4/7.1).
type address struct {
	block     uint32
	partition uint16 // index of its map
}

// longAD decodes a long allocation descriptor (4/14.14.2).
func longAD(b []byte) (length uint32, kind byte, at address) {
	n := binary.LittleEndian.Uint32(b)
	return n & 0x3FFFFFFF, byte(n >> 30), address{binary.LittleEndian.Uint32(b[4:]), binary.LittleEndian.Uint16(b[8:])}
}
