// Package packed reads and writes packed images (.pkd): a disc image without the blocks that hold
// nothing, each block compressed or not, that can be read at any offset. The format is described in
// docs/formats/packed-image.md, and section numbers in this package are that page's.
package packed

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
)

// The format (2).
const (
	headerSize  = 2048
	trailerSize = 64
	// Smallest is how many bytes a packed image has at least.
	Smallest = headerSize + trailerSize

	entrySize = 16
	version   = 1

	headerMagic  = "PKDIMAGE"
	trailerMagic = "PKDINDEX"

	flagZstd = 1 << 0 // some blocks may be compressed
)

// Blocks have from 4 KiB to 1 MiB; these are the usual ones.
const (
	smallestBlock = 4 << 10
	largestBlock  = 1 << 20
	DefaultBlock  = 32 << 10
)

// A kind is how a block is kept (2.3).
type kind uint8

const (
	zeros  kind = iota // left out: nothing but zeros
	unused             // left out: the disc's own structures do not use it
	plain              // as it is
	zstd               // as one Zstandard frame (RFC 8878)
	kinds
)

// Left-out and wrong images.
var (
	// ErrNotPacked reports a file that is not a packed image.
	ErrNotPacked = errors.New("not a packed image: it does not start with PKDIMAGE")
	// ErrNewer reports a packed image of a newer version.
	ErrNewer = errors.New("a packed image of a newer version")
)

// A FormatError reports damage in a packed image's own structures, or a missing part.
type FormatError struct {
	Offset int64 // in bytes
	What   string
}

func (e *FormatError) Error() string {
	return fmt.Sprintf("damaged packed image at byte %d: %s", e.Offset, e.What)
}

// A BlockError reports a block whose content does not match its checksum.
type BlockError struct {
	Block         int64
	Start, Length int64 // of the block in the unpacked image, in bytes
	At, Stored    int64 // where it is in the file, and with how many bytes
	What          string
}

func (e *BlockError) Error() string {
	return fmt.Sprintf("block %d is damaged (bytes %d to %d of the image, %d to %d of the file): %s", e.Block, e.Start,
		e.Start+e.Length-1, e.At, e.At+e.Stored-1, e.What)
}

// A header begins the file (2.1).
type header struct {
	flags  uint32
	block  int64 // bytes in a block
	length int64 // of the image
}

func (h *header) put() []byte {
	b := make([]byte, headerSize)
	copy(b, headerMagic)
	binary.LittleEndian.PutUint16(b[8:], version)
	binary.LittleEndian.PutUint32(b[12:], h.flags)
	binary.LittleEndian.PutUint32(b[16:], uint32(h.block))
	binary.LittleEndian.PutUint64(b[24:], uint64(h.length))
	binary.LittleEndian.PutUint32(b[60:], crc32.ChecksumIEEE(b[:60]))
	return b
}

func parseHeader(b []byte) (h header, err error) {
	switch {
	case string(b[:8]) != headerMagic:
		return h, ErrNotPacked
	case binary.LittleEndian.Uint16(b[8:]) > version:
		return h, fmt.Errorf("%w: %d, and this reads up to %d", ErrNewer, binary.LittleEndian.Uint16(b[8:]), version)
	case crc32.ChecksumIEEE(b[:60]) != binary.LittleEndian.Uint32(b[60:]):
		return h, &FormatError{0, "the checksum of the header does not match"}
	}
	h = header{flags: binary.LittleEndian.Uint32(b[12:]), block: int64(binary.LittleEndian.Uint32(b[16:])),
		length: int64(binary.LittleEndian.Uint64(b[24:]))}
	if h.block < smallestBlock || h.block > largestBlock || h.block&(h.block-1) != 0 {
		return h, &FormatError{16, fmt.Sprintf("blocks of %d bytes are not possible", h.block)}
	}
	if h.length < 0 || h.length > 1<<56 {
		return h, &FormatError{24, "the image's length is not possible"}
	}
	return h, nil
}

func (h *header) blocks() int64 { return (h.length + h.block - 1) / h.block }

// blockLength is how many bytes of the image block n holds.
func (h *header) blockLength(n int64) int64 { return min(h.block, h.length-n*h.block) }

// A trailer ends the file (2.4).
type trailer struct {
	index    int64  // where the index begins
	blocks   int64  // entries in it
	indexSum uint32 // its CRC-32
	imageSum uint32 // CRC-32 of the image, as it is given back
	lost     int64  // bytes in blocks left out as unused that held something else than zeros
}

func (t *trailer) put() []byte {
	b := make([]byte, trailerSize)
	copy(b, trailerMagic)
	binary.LittleEndian.PutUint64(b[8:], uint64(t.index))
	binary.LittleEndian.PutUint64(b[16:], uint64(t.blocks))
	binary.LittleEndian.PutUint32(b[24:], t.indexSum)
	binary.LittleEndian.PutUint32(b[28:], t.imageSum)
	binary.LittleEndian.PutUint64(b[32:], uint64(t.lost))
	binary.LittleEndian.PutUint32(b[60:], crc32.ChecksumIEEE(b[:60]))
	return b
}

func parseTrailer(b []byte, at int64) (t trailer, err error) {
	if string(b[:8]) != trailerMagic {
		return t, &FormatError{at, "the end with the index is missing: the file is cut short, or a part of it is not " +
			"there"}
	}
	if crc32.ChecksumIEEE(b[:60]) != binary.LittleEndian.Uint32(b[60:]) {
		return t, &FormatError{at, "the checksum of the end does not match"}
	}
	return trailer{
		index: int64(binary.LittleEndian.Uint64(b[8:])), blocks: int64(binary.LittleEndian.Uint64(b[16:])),
		indexSum: binary.LittleEndian.Uint32(b[24:]), imageSum: binary.LittleEndian.Uint32(b[28:]),
		lost: int64(binary.LittleEndian.Uint64(b[32:])),
	}, nil
}

// An entry describes one block (2.3).
type entry struct {
	at     int64
	stored uint32
	kind   kind
	sum    uint32 // CRC-32 of the block, unpacked
}

func (e *entry) put(b []byte) {
	binary.LittleEndian.PutUint64(b, uint64(e.at))
	binary.LittleEndian.PutUint32(b[8:], e.stored|uint32(e.kind)<<28)
	binary.LittleEndian.PutUint32(b[12:], e.sum)
}

func parseEntry(b []byte) entry {
	n := binary.LittleEndian.Uint32(b[8:])
	return entry{int64(binary.LittleEndian.Uint64(b)), n & (1<<28 - 1), kind(n >> 28),
		binary.LittleEndian.Uint32(b[12:])}
}

// AtMost is how many bytes a packed image has at most of an image of so many bytes, when so many
// bytes of it are kept.
func AtMost(length, kept int64, block int64) int64 {
	if block == 0 {
		block = DefaultBlock
	}
	return headerSize + min(length, kept) + (length+block-1)/block*entrySize + trailerSize
}
