package udf

import (
	"encoding/binary"
	"fmt"
	"io"

	"polytome/internal/format/fstree"
)

// place is where a file or directory lies.
type place struct {
	kind    int // file type (4/14.6.6)
	extents []fstree.Extent
}

func of(n *fstree.Node) *place { return n.Data.(*place) }

// node reads the file entry at an address.
func (v *Volume) node(a address) (*fstree.Node, error) {
	sector, err := v.sectorOf(a)
	if err != nil {
		return nil, err
	}
	b, err := v.read(sector, v.block)
	if err != nil {
		return nil, err
	}
	return v.entry(b, sector)
}

// entry decodes a file entry (4/14.9) or extended file entry (4/14.17).
func (v *Volume) entry(b []byte, sector int64) (*fstree.Node, error) {
	id, err := tag(b)
	if err != nil {
		return nil, v.damage(sector, "%v", err)
	}
	modified, fixed := 84, 176
	switch id {
	case tagExtended:
		modified, fixed = 92, 216
	case tagFile:
	default:
		return nil, v.damage(sector, "a file entry was expected here, and it has kind %d", id)
	}
	if strategy := binary.LittleEndian.Uint16(b[20:]); strategy != 4 {
		return nil, v.damage(sector, "files of strategy %d are not supported", strategy)
	}
	p := &place{kind: int(b[27])}
	n := &fstree.Node{Dir: p.kind == 4, Size: int64(binary.LittleEndian.Uint64(b[56:])), Modified: when(b[modified:]),
		Data: p}
	n.Mark = fmt.Sprint(sector)
	attributes, allocation := int64(binary.LittleEndian.Uint32(b[fixed-8:])),
		int64(binary.LittleEndian.Uint32(b[fixed-4:]))
	from := int64(fixed) + attributes
	if n.Size < 0 || from+allocation > int64(len(b)) {
		return nil, v.damage(sector, "a file entry has impossible lengths")
	}
	part := uint16(0)
	if i, ok := v.mapAt(sector); ok {
		part = i
	}
	flags := binary.LittleEndian.Uint16(b[34:]) & 7
	if flags == 3 {
		n.Size = min(n.Size, allocation)
		p.extents = []fstree.Extent{{At: sector*v.sector + from, Length: n.Size}}
		return n, nil
	}
	return n, v.allocation(n, b[from:from+allocation], flags, part, sector)
}

// mapAt is the map whose partition a sector is in: short descriptors are relative to
// the partition that they stand in (4/14.14.1).
func (v *Volume) mapAt(sector int64) (uint16, bool) {
	for i := range v.maps {
		p := v.partition[v.maps[i].number]
		if sector >= p.start && sector < p.start+p.length && !(v.maps[i].virtual && v.maps[i].vat != nil) {
			return uint16(i), true
		}
	}
	return 0, false
}

// allocation decodes allocation descriptors (4/14.14), which may go on elsewhere.
func (v *Volume) allocation(n *fstree.Node, b []byte, flags, part uint16, sector int64) error {
	p := of(n)
	left := n.Size
	step := map[uint16]int{0: 8, 1: 16}[flags]
	if step == 0 {
		return v.damage(sector, "allocation of kind %d is not supported", flags)
	}
	for hops := 0; left > 0 && len(b) >= step; {
		d := b[:step]
		b = b[step:]
		var long [16]byte
		copy(long[:], d)
		if step == 8 {
			binary.LittleEndian.PutUint16(long[8:], part)
		}
		length, kind, at := longAD(long[:])
		if length == 0 {
			break
		}
		if kind == 3 {
			if hops++; hops > maxExtents/100 {
				return v.damage(sector, "a file's allocation has no end")
			}
			more, where, err := v.descriptor(at, tagAllocation)
			if err != nil {
				return err
			}
			size := int(binary.LittleEndian.Uint32(more[20:]))
			if 24+size > len(more) {
				return v.damage(where, "an allocation descriptor has an impossible length")
			}
			b = more[24 : 24+size]
			continue
		}
		if len(p.extents) >= maxExtents {
			return v.damage(sector, "a file has more than %d pieces", maxExtents)
		}
		e := fstree.Extent{At: -1, Length: min(int64(length), left)}
		if kind == 0 {
			if err := v.pieces(p, at, e.Length); err != nil {
				return err
			}
		} else {
			p.extents = append(p.extents, e)
		}
		left -= e.Length
	}
	if left > 0 && n.Dir {
		return v.damage(sector, "a directory's allocation falls short by %d bytes", left)
	}
	if left > 0 {
		p.extents = append(p.extents, fstree.Extent{At: -1, Length: left}) // 4/12.1: a tail that was never written
	}
	return nil
}

// pieces adds one extent, taken apart where its partition moves blocks.
func (v *Volume) pieces(p *place, at address, length int64) error {
	step := length
	if m := v.maps[min(int(at.partition), len(v.maps)-1)]; m.virtual && m.vat != nil || len(m.moved) > 0 {
		step = v.block
	}
	for length > 0 {
		s, err := v.sectorOf(at)
		if err != nil {
			return err
		}
		n := min(step, length)
		if k := len(p.extents); k > 0 && p.extents[k-1].At >= 0 &&
			p.extents[k-1].At+p.extents[k-1].Length == s*v.sector {
			p.extents[k-1].Length += n
		} else if k >= maxExtents {
			return v.damage(s, "a file has more than %d pieces", maxExtents)
		} else {
			p.extents = append(p.extents, fstree.Extent{At: s * v.sector, Length: n})
		}
		length -= n
		at.block += uint32(n / v.block)
	}
	return nil
}

// tree hands the volume's files and directories to [fstree].
type tree struct{ v *Volume }

// Content opens a file.
func (t tree) Content(n *fstree.Node) (io.ReaderAt, error) {
	return fstree.Extents(t.v.r, of(n).extents), nil
}

// Where tells the runs of bytes in the image that a file is in; those at negative
// offsets are zeros that are not stored.
func (v *Volume) Where(name string) ([]fstree.Extent, error) {
	n, err := v.Find(name)
	if err != nil {
		return nil, err
	}
	return of(n).extents, nil
}

// List reads a directory: file identifier descriptors (4/14.4), one after another.
func (t tree) List(d *fstree.Node) (out []*fstree.Node, err error) {
	v := t.v
	if d.Size > maxDirBytes {
		return nil, fmt.Errorf("the directory %q would have %d bytes", d.Name, d.Size)
	}
	data := make([]byte, d.Size)
	if n, err := fstree.Extents(v.r, of(d).extents).ReadAt(data, 0); n < len(data) {
		return nil, fmt.Errorf("the directory %q cannot be read: %w", d.Name, err)
	}
	at := int64(0)
	if e := of(d).extents; len(e) > 0 {
		at = max(0, e[0].At)
	}
	for off := 0; off+38 <= len(data); {
		b := data[off:]
		fail := func(say string) ([]*fstree.Node, error) {
			return out, &FormatError{at + int64(off), say}
		}
		if id, err := tag(b[:16]); err != nil || id != tagFileID {
			return fail("an entry of a directory was expected here")
		}
		name, use := int(b[19]), int(binary.LittleEndian.Uint16(b[36:]))
		whole := (38 + use + name + 3) &^ 3
		if 38+use+name > len(b) {
			return fail("a name reaches past its directory")
		}
		off += whole
		if flags := b[18]; flags&(4|8) != 0 { // deleted, or the parent
			continue
		}
		_, _, icb := longAD(b[20:36])
		c, bad := v.node(icb)
		if bad != nil { // the others are shown
			if err == nil {
				err = bad
			}
			continue
		}
		if kind := of(c).kind; kind != 4 && kind != 5 && kind != 0 && kind != 249 {
			continue // links, streams, tables
		}
		c.Name = fstree.SafeName(text(b[38+use : 38+use+name]))
		out = append(out, c)
	}
	return out, err
}
