package iso9660

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf16"

	"polytome/internal/format/fstree"
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
	*fstree.FS
	// Identifier is the volume identifier of the primary descriptor (8.4.8),
	// without trailing spaces.
	Identifier string
	// Names is the name space that the listing shows.
	Names Names

	r        io.ReaderAt
	size     int64 // of the data behind r
	declared int64
	skip     int // bytes to skip in system use fields
}

// place is where a file or directory is in the image.
type place struct {
	parts []fstree.Extent
	mixed bool // interleaved, so not readable as one run
}

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
		return nil, &FormatError{systemArea*SectorSize + 128,
			fmt.Sprintf("logical blocks of %d bytes are not supported", bs)}
	}
	v.Identifier = strings.TrimRight(string(primary[40:72]), " \x00")
	v.declared = int64(binary.LittleEndian.Uint32(primary[80:])) * SectorSize

	root, err := v.openRoot(primary)
	if err != nil {
		return nil, err
	}
	self, err := v.selfRecord(of(root).parts[0].At)
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
	v.FS = fstree.New(root, tree{v})
	return v, nil
}

func of(n *fstree.Node) *place { return n.Data.(*place) }

// tree hands the volume's files and directories to [fstree].
type tree struct{ v *Volume }

// Content opens a file.
func (t tree) Content(n *fstree.Node) (io.ReaderAt, error) {
	p := of(n)
	if p.mixed {
		return nil, errors.New("interleaved files are not supported")
	}
	return fstree.Extents(t.v.r, p.parts), nil
}

// Where tells the runs of bytes in the image that a file is in.
func (v *Volume) Where(name string) ([]fstree.Extent, error) {
	n, err := v.Find(name)
	if err != nil {
		return nil, err
	}
	return of(n).parts, nil
}

// DeclaredSize is the length of the volume space in bytes, as the volume itself
// states it (8.4.9). An image with fewer bytes is truncated.
func (v *Volume) DeclaredSize() int64 { return v.declared }

func isJoliet(b []byte) bool {
	esc := b[88:120]
	return bytes.HasPrefix(esc, []byte("%/@")) || bytes.HasPrefix(esc, []byte("%/C")) || bytes.HasPrefix(esc,
		[]byte("%/E"))
}

func (v *Volume) openRoot(descriptor []byte) (*fstree.Node, error) {
	rec, err := parseRecord(descriptor[156:190])
	if err != nil {
		return nil, &FormatError{systemArea*SectorSize + 156, err.Error()}
	}
	n := &fstree.Node{Modified: rec.when, Size: int64(rec.length), Data: &place{parts: []fstree.Extent{v.partOf(rec)}}}
	n.Mark = mark(n)
	return n, nil
}

// mark tells a directory from those above it.
func mark(n *fstree.Node) string { return strconv.FormatInt(of(n).parts[0].At, 10) }

func (v *Volume) partOf(rec record) fstree.Extent {
	return fstree.Extent{At: (int64(rec.extent) + int64(rec.xattrs)) * SectorSize, Length: int64(rec.length)}
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

// List reads a directory.
func (t tree) List(d *fstree.Node) ([]*fstree.Node, error) {
	v := t.v
	at, length := of(d).parts[0].At, of(d).parts[0].Length
	if length > maxDirBytes || at+length > v.size {
		return nil, &FormatError{at, fmt.Sprintf("the directory %q is outside the image", d.Name)}
	}
	data := make([]byte, length)
	if _, err := v.r.ReadAt(data, at); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}

	var out []*fstree.Node
	var open *fstree.Node // a multi-extent file whose last extent is still to come
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
		n := v.entry(rec)
		if n == nil {
			continue
		}
		if open != nil && open.Name == n.Name {
			of(open).parts = append(of(open).parts, of(n).parts...)
			open.Size += n.Size
		} else {
			out = append(out, n)
		}
		open = nil
		if rec.flags&flagMultiExtent != 0 && !n.Dir {
			open = out[len(out)-1]
		}
	}
	return out, nil
}

// entry makes the node of one record, or nil for a record that is not shown.
func (v *Volume) entry(rec record) *fstree.Node {
	if rec.flags&flagAssociated != 0 {
		return nil
	}
	n := &fstree.Node{
		Dir: rec.flags&flagDirectory != 0, Modified: rec.when, Size: int64(rec.length),
		Data: &place{parts: []fstree.Extent{v.partOf(rec)}, mixed: rec.unit != 0},
	}
	switch v.Names {
	case JolietNames:
		n.Name = trimVersion(decodeUCS2(rec.id), n.Dir)
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
			n.Dir, n.Size = true, int64(self.length)
			of(n).parts = []fstree.Extent{{At: at, Length: int64(self.length)}}
		}
		n.Name = rr.name
	}
	if n.Name == "" {
		n.Name = trimVersion(string(rec.id), n.Dir)
	}
	n.Name = fstree.SafeName(n.Name)
	if n.Dir {
		n.Mark = mark(n)
	}
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

// noEOF makes an error of an end that came too early.
func noEOF(err error) error {
	if err == nil || errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}
