package iso9660

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf16"
)

// Names says where a volume's file names were read from.
type Names string

// The three name spaces of a volume. Rock Ridge is preferred to Joliet, and
// either to the primary names.
const (
	PrimaryNames   Names = "primary"
	JolietNames    Names = "joliet"
	RockRidgeNames Names = "rock ridge"
)

// A Volume is an opened ISO 9660 volume. It is an [io/fs.FS] (and ReadDirFS and
// StatFS), safe for several goroutines when its reader is.
type Volume struct {
	// Identifier is the volume identifier of the primary descriptor (8.4.8),
	// without trailing spaces.
	Identifier string
	// Names is the name space that the listing shows.
	Names Names

	r        io.ReaderAt
	size     int64 // of the data behind r
	declared int64
	skip     int // bytes to skip in system use fields
	root     *node
}

// node is a file or directory. Directories list themselves on first use.
type node struct {
	name   string
	dir    bool
	when   time.Time
	parent *node
	parts  []part
	size   int64
	mixed  bool // interleaved, so not readable as one run

	once     sync.Once
	children []*node // sorted by name
	err      error
}

// part is one run of bytes in the image.
type part struct{ at, length int64 }

// Open reads the volume descriptors of the size bytes behind r. It returns
// [ErrNotISO] when there is no volume, and a [*FormatError] when there is one
// whose descriptors are damaged. A volume longer than the data opens; compare
// [Volume.DeclaredSize] with the size.
func Open(r io.ReaderAt, size int64) (*Volume, error) {
	v := &Volume{r: r, size: size, Names: PrimaryNames}
	var primary, joliet []byte
	for sector := int64(systemArea); sector < systemArea+64; sector++ {
		if (sector+1)*SectorSize > size {
			if primary == nil {
				return nil, ErrNotISO
			}
			break
		}
		b := make([]byte, SectorSize)
		if n, err := r.ReadAt(b, sector*SectorSize); n < SectorSize {
			return nil, noEOF(err)
		}
		if string(b[1:6]) != "CD001" {
			if primary == nil {
				return nil, ErrNotISO
			}
			break
		}
		switch b[0] {
		case descriptorPrimary:
			if primary == nil {
				primary = b
			}
		case descriptorSupplementary:
			if joliet == nil && isJoliet(b) {
				joliet = b
			}
		}
		if b[0] == descriptorTerminator {
			break
		}
	}
	if primary == nil {
		return nil, &FormatError{systemArea * SectorSize, "there is no primary volume descriptor"}
	}
	if bs := binary.LittleEndian.Uint16(primary[128:]); bs != SectorSize {
		return nil, &FormatError{systemArea*SectorSize + 128, fmt.Sprintf("logical blocks of %d bytes are not supported", bs)}
	}
	v.Identifier = strings.TrimRight(string(primary[40:72]), " \x00")
	v.declared = int64(binary.LittleEndian.Uint32(primary[80:])) * SectorSize

	root, err := v.openRoot(primary)
	if err != nil {
		return nil, err
	}
	self, err := v.selfRecord(root.parts[0].at)
	if err == nil {
		if skip, ok := suspSkip(self.systemUse); ok {
			v.skip, v.Names = skip, RockRidgeNames
		}
	}
	if v.Names == PrimaryNames && joliet != nil {
		if jr, err := v.openRoot(joliet); err == nil {
			root, v.Names = jr, JolietNames
		}
	}
	v.root = root
	return v, nil
}

// DeclaredSize is the length of the volume space in bytes, as the volume itself
// states it (8.4.9). An image with fewer bytes is truncated.
func (v *Volume) DeclaredSize() int64 { return v.declared }

func isJoliet(b []byte) bool {
	esc := b[88:120]
	return bytes.HasPrefix(esc, []byte("%/@")) || bytes.HasPrefix(esc, []byte("%/C")) || bytes.HasPrefix(esc, []byte("%/E"))
}

func (v *Volume) openRoot(descriptor []byte) (*node, error) {
	rec, err := parseRecord(descriptor[156:190])
	if err != nil {
		return nil, &FormatError{systemArea*SectorSize + 156, err.Error()}
	}
	return &node{name: ".", dir: true, when: rec.when, parts: []part{v.partOf(rec)}, size: int64(rec.length)}, nil
}

func (v *Volume) partOf(rec record) part {
	return part{at: (int64(rec.extent) + int64(rec.xattrs)) * SectorSize, length: int64(rec.length)}
}

// selfRecord reads the first record of the directory at the byte offset at.
func (v *Volume) selfRecord(at int64) (record, error) {
	b := make([]byte, SectorSize)
	n, err := v.r.ReadAt(b, at)
	if n < recordFixed+1 {
		return record{}, fmt.Errorf("reading a directory at byte %d: %w", at, noEOF(err))
	}
	return parseRecord(b[:n])
}

// list returns a directory's entries, sorted by name.
func (v *Volume) list(d *node) ([]*node, error) {
	d.once.Do(func() { d.children, d.err = v.readDirectory(d) })
	return d.children, d.err
}

func (v *Volume) readDirectory(d *node) ([]*node, error) {
	at, length := d.parts[0].at, d.parts[0].length
	if length > maxDirBytes || at+length > v.size {
		return nil, &FormatError{at, fmt.Sprintf("the directory %q lies outside of the image", d.name)}
	}
	depth := 0
	for a := d.parent; a != nil; a = a.parent {
		if depth++; depth > maxDepth || a.parts[0].at == at {
			return nil, &FormatError{at, fmt.Sprintf("the directory %q contains itself", d.name)}
		}
	}
	data := make([]byte, length)
	if _, err := v.r.ReadAt(data, at); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}

	var out []*node
	var open *node // a multi-extent file whose last extent is still to come
	for off := 0; off < len(data); {
		if data[off] == 0 { // the rest of the sector is padding (6.8.1.1)
			off = (off/SectorSize + 1) * SectorSize
			continue
		}
		rec, err := parseRecord(data[off:])
		if err != nil {
			return out, &FormatError{at + int64(off), err.Error()}
		}
		off += int(data[off])
		if len(rec.id) == 1 && rec.id[0] <= 1 { // the directory itself, its parent
			continue
		}
		n := v.entry(d, rec)
		if n == nil {
			continue
		}
		if open != nil && open.name == n.name {
			open.parts = append(open.parts, n.parts...)
			open.size += n.size
		} else {
			out = append(out, n)
		}
		open = nil
		if rec.flags&flagMultiExtent != 0 && !n.dir {
			open = out[len(out)-1]
		}
	}
	slices.SortStableFunc(out, func(a, b *node) int { return strings.Compare(a.name, b.name) })
	return slices.CompactFunc(out, func(a, b *node) bool { return a.name == b.name }), nil
}

// entry makes the node of one record, or nil for a record that is not shown.
func (v *Volume) entry(d *node, rec record) *node {
	if rec.flags&flagAssociated != 0 {
		return nil
	}
	n := &node{
		dir: rec.flags&flagDirectory != 0, when: rec.when, parent: d,
		parts: []part{v.partOf(rec)}, size: int64(rec.length), mixed: rec.unit != 0,
	}
	switch v.Names {
	case JolietNames:
		n.name = trimVersion(decodeUCS2(rec.id), n.dir)
	case RockRidgeNames:
		rr := readRockRidge(v.r, rec.systemUse, v.skip)
		if rr.symlink || rr.relocated {
			return nil
		}
		if rr.child != 0 {
			at := int64(rr.child) * SectorSize
			self, err := v.selfRecord(at)
			if err != nil {
				return nil
			}
			n.dir, n.size, n.parts = true, int64(self.length), []part{{at, int64(self.length)}}
		}
		n.name = rr.name
	}
	if n.name == "" {
		n.name = trimVersion(string(rec.id), n.dir)
	}
	n.name = safeName(n.name)
	return n
}

// trimVersion takes the version number (7.5.1) and an empty extension off.
func trimVersion(name string, dir bool) string {
	if dir {
		return name
	}
	if i := strings.LastIndexByte(name, ';'); i > 0 {
		name = name[:i]
	}
	if s := strings.TrimSuffix(name, "."); s != "" {
		return s
	}
	return name
}

func decodeUCS2(b []byte) string {
	u := make([]uint16, len(b)/2)
	for i := range u {
		u[i] = binary.BigEndian.Uint16(b[2*i:])
	}
	return string(utf16.Decode(u))
}

// safeName makes any name usable as one element of an [io/fs] path.
func safeName(s string) string {
	s = strings.Map(func(r rune) rune {
		if r == '/' || r == '\\' || r < ' ' || r == 0x7F {
			return '_'
		}
		return r
	}, strings.ToValidUTF8(s, "_"))
	if s == "" || s == "." || s == ".." {
		return "_"
	}
	return s
}

// noEOF makes an error of an end that came too early.
func noEOF(err error) error {
	if err == nil || errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}
