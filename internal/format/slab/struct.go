// Package slab reads and writes slab disks: the disks of a console that keeps whole titles, each with a record, in
// slabs of 4 MiB. docs/formats/slab.md describes them; the sections named here are its own.
package slab

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"strings"
	"time"
	"unicode/utf8"
)

// What a disk is made of, in bytes (1, 2.1).
const (
	Slab        = 4 << 20
	headBytes   = 4096 // in front of a title's content (2.4)
	blockBytes  = 512  // of the header and of what begins a table
	recordBytes = 48   // of a record without its extents and texts (2.3)
	extentBytes = 16
)

// Limits (2.1, 2.3).
const (
	mostTableSlabs = 64
	mostRecord     = headBytes - 40
	MostExtents    = 128
	LongestID      = 32
	LongestName    = 128
	LongestKind    = 16
	LongestPath    = 255
	MostSettings   = 1024
	LongestLabel   = 32
)

const (
	headerMark = "SLABDISK"
	tableMark  = "SLABTABL"
	headMark   = "SLABHEAD"
)

// Errors of disks.
var (
	// ErrNotSlab reports a disk that is no slab disk.
	ErrNotSlab = errors.New("not a slab disk: neither of its headers starts with SLABDISK")
	// ErrNewer reports a slab disk of a newer version.
	ErrNewer = errors.New("a slab disk of a newer version")
	// ErrNoTable reports that both tables are damaged: [Repair] saves what can be saved.
	ErrNoTable = errors.New("both tables of the disk are damaged: repair saves the titles that can be found")
	// ErrNoSpace reports that there is not as much free space, or not in so few pieces.
	ErrNoSpace = errors.New("there is not enough free space on the disk")
	// ErrPieces reports that there is enough free space, and not in one piece.
	ErrPieces = errors.New("there is not enough free space in one piece: compact makes it one")
	// ErrNotFound reports that there is no such title or small file.
	ErrNotFound = errors.New("no such title or file on the disk")
	// ErrExists reports that another title has the ID, or another small file the name.
	ErrExists = errors.New("the disk has one already")
	// ErrTableFull reports that no further record fits into a table.
	ErrTableFull = errors.New("the table is full: no further title fits into it")
)

var (
	castagnoli = crc32.MakeTable(crc32.Castagnoli)
	le         = binary.LittleEndian
)

func sum(b []byte) uint32 { return crc32.Checksum(b, castagnoli) }

// A header says what a disk is like (2.1).
type header struct {
	sector     int64
	tableSlabs int64
	slabs      int64
	number     [16]byte
	label      string
	formatted  time.Time
}

func (h *header) put() []byte {
	b := make([]byte, blockBytes)
	copy(b, headerMark)

	le.PutUint16(b[8:], 1)
	le.PutUint32(b[12:], uint32(h.sector))
	le.PutUint32(b[16:], Slab)
	le.PutUint32(b[20:], uint32(h.tableSlabs))
	le.PutUint64(b[24:], uint64(h.slabs))
	copy(b[32:48], h.number[:])
	copy(b[48:80], h.label)
	le.PutUint64(b[80:], uint64(h.formatted.Unix()))
	le.PutUint32(b[508:], sum(b[:508]))
	return b
}

func parseHeader(b []byte) (h header, err error) {

	switch {
	case string(b[:8]) != headerMark:
		return h, ErrNotSlab
	case le.Uint16(b[8:]) > 1:
		return h, ErrNewer
	case le.Uint32(b[508:]) != sum(b[:508]):
		return h, errors.New("the disk's header is damaged: its checksum is wrong")
	}
	h = header{sector: int64(le.Uint32(b[12:])), tableSlabs: int64(le.Uint32(b[20:])),
		slabs: int64(le.Uint64(b[24:])), number: [16]byte(b[32:48]),
		label: strings.TrimRight(string(b[48:80]), "\x00"), formatted: time.Unix(int64(le.Uint64(b[80:])), 0).UTC()}
	if h.sector != 512 && h.sector != 4096 || le.Uint32(b[16:]) != Slab || h.tableSlabs < 1 ||
		h.tableSlabs > mostTableSlabs || h.slabs < 2*h.tableSlabs+2 || h.slabs > 1<<40 {
		return h, errors.New("the disk's header makes no sense: its sectors, slabs or tables cannot be so")
	}
	return h, nil
}

// first is the first slab that titles and small files may have.
func (h *header) first() int64 { return 2*h.tableSlabs + 1 }

// perSlab is how many sectors a slab has.
func (h *header) perSlab() int64 { return Slab / h.sector }

// A tableHead is what begins a table (2.2).
type tableHead struct {
	generation uint64
	length     int64
	records    int64
	sum        uint32
	number     [16]byte
}

func (t *tableHead) put() []byte {
	b := make([]byte, blockBytes)
	copy(b, tableMark)

	le.PutUint64(b[8:], t.generation)
	le.PutUint64(b[16:], uint64(t.length))
	le.PutUint32(b[24:], uint32(t.records))
	le.PutUint32(b[28:], t.sum)
	copy(b[32:48], t.number[:])
	le.PutUint32(b[508:], sum(b[:508]))
	return b
}

func parseTableHead(b []byte) (t tableHead, ok bool) {

	if string(b[:8]) != tableMark || le.Uint32(b[508:]) != sum(b[:508]) {
		return t, false
	}
	return tableHead{le.Uint64(b[8:]), int64(le.Uint64(b[16:])), int64(le.Uint32(b[24:])), le.Uint32(b[28:]),
		[16]byte(b[32:48])}, true
}

// An Extent is a run of sectors.
type Extent struct {
	First int64 `json:"first"`
	Count int64 `json:"count"`
}

// Kinds of records (2.3).
const (
	ofTitle = 1
	ofFile  = 2
)

// A record is a title or a small file (2.3).
type record struct {
	what     uint16
	size     int64
	sum      uint32
	written  time.Time
	id, name string // of a small file, name is its path
	kind     string
	settings string
	cover    string
	extents  []Extent
}

// fold is what names are compared by: the case of ASCII letters makes no difference.
func fold(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'A' && r <= 'Z' {
			return r + 'a' - 'A'
		}
		return r
	}, s)
}

func (r *record) length() int {
	n := recordBytes + extentBytes*len(r.extents) + len(r.id) + len(r.name) + len(r.kind) + len(r.settings) + len(
		r.cover)
	return (n + 7) &^ 7
}

func (r *record) put() []byte {
	b := make([]byte, r.length())

	le.PutUint16(b, r.what)
	le.PutUint32(b[4:], uint32(len(b)))
	le.PutUint64(b[8:], uint64(r.size))
	le.PutUint32(b[16:], r.sum)
	le.PutUint64(b[24:], uint64(r.written.Unix()))
	for i, s := range []string{r.id, r.name, r.kind, r.settings, r.cover} {
		le.PutUint16(b[32+2*i:], uint16(len(s)))
	}
	le.PutUint16(b[42:], uint16(len(r.extents)))
	at := recordBytes
	for _, e := range r.extents {
		le.PutUint64(b[at:], uint64(e.First))
		le.PutUint64(b[at+8:], uint64(e.Count))
		at += extentBytes
	}
	for _, s := range []string{r.id, r.name, r.kind, r.settings, r.cover} {
		at += copy(b[at:], s)
	}
	return b
}

// parseRecord reads the record at the beginning of b, and how long it is.
func parseRecord(b []byte) (r record, n int, err error) {

	if len(b) < recordBytes {
		return r, 0, errors.New("a record is cut short")
	}
	n = int(le.Uint32(b[4:]))
	if n < recordBytes || n%8 != 0 || n > mostRecord || n > len(b) {
		return r, 0, fmt.Errorf("a record claims to have %d bytes", n)
	}
	r = record{what: le.Uint16(b), size: int64(le.Uint64(b[8:])), sum: le.Uint32(b[16:]),
		written: time.Unix(int64(le.Uint64(b[24:])), 0).UTC()}
	extents := int(le.Uint16(b[42:]))
	at := recordBytes + extentBytes*extents
	var texts [5]string
	for i := range texts {
		length := int(le.Uint16(b[32+2*i:]))
		if at+length > n {
			return r, 0, errors.New("the texts of a record are longer than it")
		}
		texts[i] = string(b[at : at+length])
		at += length
	}
	if len(bytes.Trim(b[at:n], "\x00")) > 0 || n-at > 7 {
		return r, 0, errors.New("a record has something behind its texts")
	}
	r.id, r.name, r.kind, r.settings, r.cover = texts[0], texts[1], texts[2], texts[3], texts[4]
	for k := range extents {
		e := b[recordBytes+extentBytes*k:]
		r.extents = append(r.extents, Extent{int64(le.Uint64(e)), int64(le.Uint64(e[8:]))})
	}
	return r, n, r.wrong()
}

// wrong says what about a record cannot be, whatever the disk; nil for nothing.
func (r *record) wrong() error {
	all := r.id + r.name + r.kind + r.settings + r.cover
	switch {
	case r.what != ofTitle && r.what != ofFile:
		return fmt.Errorf("a record is of the unknown kind %d", r.what)
	case r.size < 0:
		return errors.New("the content of a record has a length that cannot be")
	case !utf8.ValidString(all) || strings.ContainsRune(all, 0):
		return errors.New("a text of a record is no UTF-8")
	case r.length() > mostRecord:
		return fmt.Errorf("the record of %q has %d bytes, and at most %d fit", r.shown(), r.length(), mostRecord)
	case len(r.extents) > MostExtents:
		return fmt.Errorf("%q lies in %d pieces, and at most %d are allowed", r.shown(), len(r.extents), MostExtents)
	}
	if r.what == ofFile {
		return pathWrong(r.name, r.id+r.kind+r.settings+r.cover)
	}
	switch {
	case r.id == "" || len(r.id) > LongestID:
		return fmt.Errorf("an ID has 1 to %d bytes; %q has %d", LongestID, r.id, len(r.id))
	case r.name == "" || len(r.name) > LongestName:
		return fmt.Errorf("a name has 1 to %d bytes; %q has %d", LongestName, r.name, len(r.name))
	case strings.ContainsAny(r.id+r.name+r.kind, "\r\n"):
		return fmt.Errorf("the ID, name or kind of %q has several lines", r.shown())
	case strings.ContainsAny(r.id, `/\\`) || r.id == "." || r.id == "..":
		return fmt.Errorf("%q is no ID: it has a slash in it, or is nothing but dots", r.id)
	case len(r.kind) > LongestKind:
		return fmt.Errorf("a kind has up to %d bytes; %q has %d", LongestKind, r.kind, len(r.kind))
	case len(r.cover) > LongestPath:
		return fmt.Errorf("the cover's name of %q is longer than %d bytes", r.shown(), LongestPath)
	}
	return settingsWrong(r.settings)
}

func pathWrong(name, rest string) error {
	if rest != "" {
		return fmt.Errorf("the small file %q has what only titles have", name)
	}
	if name == "" || len(name) > LongestPath {
		return fmt.Errorf("the name of a small file has 1 to %d bytes; %q has %d", LongestPath, name, len(name))
	}
	for part := range strings.SplitSeq(name, "/") {
		if part == "" || part == "." || part == ".." || strings.ContainsAny(part, "\\\r\n") {
			return fmt.Errorf("%q is no name for a small file", name)
		}
	}
	return nil
}

func settingsWrong(settings string) error {
	if len(settings) > MostSettings {
		return fmt.Errorf("settings have up to %d bytes; these have %d", MostSettings, len(settings))
	}
	if settings != "" && !strings.HasSuffix(settings, "\n") {
		return errors.New("the last line of the settings has no end")
	}
	for line := range strings.Lines(settings) {
		if key, _, ok := strings.Cut(line, "="); !ok || strings.TrimSpace(key) != key || key == "" {
			return fmt.Errorf("%q is no setting: key=value", strings.TrimRight(line, "\n"))
		}
	}
	return nil
}

// shown is how a record is named in sentences.
func (r *record) shown() string {
	if r.what == ofTitle && r.id != "" {
		return r.id + " " + r.name
	}
	return r.name
}

// key is by what no two records of one kind are alike.
func (r *record) key() string {
	if r.what == ofTitle {
		return "title " + fold(r.id)
	}
	return "file " + fold(r.name)
}
