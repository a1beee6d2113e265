package udf

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"

	"polytome/internal/format/fstree"
)

// A Volume is an opened UDF volume. It is an [io/fs.FS] (and ReadDirFS and StatFS),
// safe for several goroutines when its reader is.
type Volume struct {
	*fstree.FS
	// Identifier is the logical volume's identifier (3/10.6.4), without trailing
	// spaces.
	Identifier string
	// Revision is the UDF revision that the volume states, such as 0x0201; 0 for none.
	Revision int

	r         io.ReaderAt
	size      int64 // of the data behind r
	sector    int64 // bytes
	block     int64 // bytes of a logical block
	declared  int64
	maps      []partitionMap
	partition map[uint16]partition // by number
}

// partition is a run of sectors (3/10.5).
type partition struct{ start, length int64 }

// partitionMap turns blocks of a logical volume into blocks of a partition (3/10.7, UDF 2.2.8
// to 2.2.10).
type partitionMap struct {
	number   uint16
	vat      []uint32         // of a virtual one
	packet   uint32           // of a sparable one: blocks that move together
	moved    map[uint32]int64 // of a sparable one: packet -> sector it lies at now
	virtual  bool
	sparable []byte // the map itself, to find its table by
}

// Open reads the descriptors of the size bytes behind r. It returns [ErrNotUDF] when
// there is no volume, and a [*FormatError] when there is one whose
// descriptors are damaged. A volume longer than the data opens; compare
// [Volume.DeclaredSize] with the size.
func Open(r io.ReaderAt, size int64) (*Volume, error) {
	v := &Volume{r: r, size: size, partition: map[uint16]partition{}}
	anchor := v.anchor()
	if anchor == nil {
		return nil, ErrNotUDF
	}
	var first error
	for _, at := range []int{16, 24} { // the main sequence, and its reserve
		length := int64(binary.LittleEndian.Uint32(anchor[at:]))
		err := v.sequence(int64(binary.LittleEndian.Uint32(anchor[at+4:])), length)
		if err == nil {
			break
		}
		if first == nil {
			first = err
		}
		if at == 24 {
			return nil, first
		}
		v.maps, v.partition = nil, map[uint16]partition{}
	}
	return v, nil
}

// Recognised reports whether data have the mark of a UDF volume in their volume recognition
// sequence (2/8.3, 3/9.1). It reads one run of bytes, so it is quicker than [Open] for
// data that are none.
func Recognised(r io.ReaderAt, size int64) bool {
	const from, step, most = 32 << 10, 2048, 16
	b := make([]byte, min(step*most, max(0, size-from)))
	n, _ := r.ReadAt(b, from)
	for b = b[:n]; len(b) >= step; b = b[step:] {
		switch string(b[1:6]) {
		case "NSR02", "NSR03":
			return true
		case "CD001", "BEA01", "BOOT2", "TEA01":
		default:
			return false
		}
	}
	return false
}

// anchor finds the anchor volume descriptor pointer (3/10.2), and with it the length of
// a sector.
func (v *Volume) anchor() []byte {
	for _, v.sector = range []int64{SectorSize, 512, 4096} {
		last := v.size/v.sector - 1
		for _, at := range []int64{256, last - 256, last} {
			if at < 16 {
				continue
			}
			b := make([]byte, 512)
			if n, _ := v.r.ReadAt(b, at*v.sector); n < len(b) {
				continue
			}
			if id, err := tag(b); err == nil && id == tagAnchor && int64(binary.LittleEndian.Uint32(b[12:])) == at {
				return b
			}
		}
	}
	return nil
}

func (v *Volume) damage(sector int64, format string, args ...any) error {
	return &FormatError{sector * v.sector, fmt.Sprintf(format, args...)}
}

// read reads n bytes at a sector.
func (v *Volume) read(sector int64, n int64) ([]byte, error) {
	b := make([]byte, n)
	if k, err := v.r.ReadAt(b, sector*v.sector); int64(k) < n {
		if err == nil || errors.Is(err, io.EOF) {
			return nil, v.damage(sector, "the image ends before it")
		}
		return nil, err
	}
	return b, nil
}

// sequence reads a volume descriptor sequence (3/8.4.2).
func (v *Volume) sequence(at, length int64) error {
	var logical []byte
	start := at
	for range maxSequence {
		if length < v.sector {
			break
		}
		b, err := v.read(at, v.sector)
		if err != nil {
			return err
		}
		id, err := tag(b)
		if err != nil {
			return v.damage(at, "%v", err)
		}
		switch id {
		case tagPointer:
			length, at = int64(binary.LittleEndian.Uint32(b[20:])), int64(binary.LittleEndian.Uint32(b[24:]))
			continue
		case tagLogical:
			logical = b
		case tagPartition:
			p := partition{int64(binary.LittleEndian.Uint32(b[188:])), int64(binary.LittleEndian.Uint32(b[192:]))}
			v.partition[binary.LittleEndian.Uint16(b[22:])] = p
			v.declared = max(v.declared, (p.start+p.length)*v.sector)
		}
		if id == tagTerminating {
			break
		}
		at, length = at+1, length-v.sector
	}
	if logical == nil || len(v.partition) == 0 {
		return v.damage(start, "the volume descriptors name no logical volume or no partition")
	}
	return v.logical(start, logical)
}

// logical reads a logical volume descriptor (3/10.6), and through it the file set
// (4/14.1).
func (v *Volume) logical(at int64, b []byte) error {
	v.block = int64(binary.LittleEndian.Uint32(b[212:]))
	if v.block != v.sector {
		return v.damage(at, "logical blocks of %d bytes on sectors of %d are not supported", v.block, v.sector)
	}
	v.Identifier = dstring(b[84:212])
	if strings.HasPrefix(string(b[217:240]), "*OSTA UDF Compliant") {
		v.Revision = int(binary.LittleEndian.Uint16(b[240:]))
	}
	maps := b[440:]
	maps = maps[:min(len(maps), int(binary.LittleEndian.Uint32(b[264:])))]
	for range binary.LittleEndian.Uint32(b[268:]) {
		if len(maps) < 6 || int(maps[1]) < 6 || int(maps[1]) > len(maps) {
			return v.damage(at, "a partition map has an impossible length")
		}
		m, err := readMap(maps[:maps[1]])
		if err != nil {
			return v.damage(at, "%v", err)
		}
		v.maps = append(v.maps, m)
		maps = maps[maps[1]:]
	}
	for i := range v.maps {
		if err := v.ready(i); err != nil {
			return err
		}
	}
	_, _, set := longAD(b[248:264])
	data, where, err := v.descriptor(set, tagFileSet)
	if err != nil {
		return err
	}
	_, _, root := longAD(data[400:416])
	n, err := v.node(root)
	if err != nil {
		return err
	}
	if !n.Dir {
		return v.damage(where, "the root is no directory")
	}
	v.FS = fstree.New(n, tree{v})
	return nil
}

// readMap decodes one partition map.
func readMap(b []byte) (m partitionMap, err error) {
	switch {
	case b[0] == 1:
		m.number = binary.LittleEndian.Uint16(b[4:])
	case b[0] == 2 && len(b) == 64:
		m.number = binary.LittleEndian.Uint16(b[38:])
		switch name := strings.TrimRight(string(b[5:28]), "\x00"); name {
		case "*UDF Virtual Partition":
			m.virtual = true
		case "*UDF Sparable Partition":
			m.packet, m.sparable = uint32(binary.LittleEndian.Uint16(b[40:])), b
		default:
			return m, fmt.Errorf("partitions of the kind %q are not supported", fstree.SafeName(name))
		}
	default:
		return m, errors.New("a partition map has an unknown type")
	}
	return m, nil
}

// ready loads the table that a map goes by, if it has one.
func (v *Volume) ready(i int) error {
	m := &v.maps[i]
	if _, ok := v.partition[m.number]; !ok {
		return v.damage(0, "there is no partition %d", m.number)
	}
	switch {
	case m.sparable != nil:
		return v.sparingTable(m)
	case m.virtual:
		return v.vat(i)
	}
	return nil
}

// sparingTable reads the first good table of moved packets (UDF 2.2.12).
func (v *Volume) sparingTable(m *partitionMap) error {
	b := m.sparable
	m.moved = map[uint32]int64{}
	if m.packet == 0 {
		return v.damage(0, "a sparable partition has packets without blocks")
	}
	size := int64(binary.LittleEndian.Uint32(b[44:]))
	if size < 56 || size > maxVATBytes {
		return v.damage(0, "a sparing table has an impossible length")
	}
	for k := range min(int(b[42]), 4) {
		at := int64(binary.LittleEndian.Uint32(b[48+4*k:]))
		t, err := v.read(at, size)
		if err != nil || !strings.HasPrefix(string(t[17:40]), "*UDF Sparing Table") {
			continue
		}
		t = t[56:min(int64(len(t)), 56+8*int64(binary.LittleEndian.Uint16(t[48:])))]
		for ; len(t) >= 8; t = t[8:] {
			if from := binary.LittleEndian.Uint32(t); from < 0xFFFFFFF0 {
				m.moved[from/m.packet] = int64(binary.LittleEndian.Uint32(t[4:]))
			}
		}
		return nil
	}
	return v.damage(0, "no sparing table can be read")
}

// vat reads the virtual allocation table, whose file entry is the last thing that was
// written (UDF 2.2.11).
func (v *Volume) vat(i int) error {
	m := &v.maps[i]
	p := v.partition[m.number]
	last := v.size/v.sector - 1
	for at := last; at >= max(p.start, last-1024); at-- { // run-out sectors may follow it
		b, err := v.read(at, v.block)
		if err != nil {
			return err
		}
		if id, err := tag(b); err != nil || (id != tagFile && id != tagExtended) {
			continue
		}
		// Its addresses count in the partition itself.
		plain := partitionMap{number: m.number}
		keep := v.maps
		v.maps = append([]partitionMap{}, keep...)
		v.maps[i] = plain
		n, err := v.entry(b, at)
		if err == nil && (n.Size > maxVATBytes || of(n).kind != 248 && of(n).kind != 0) {
			err = errors.New("no table")
		}
		var table []byte
		if err == nil {
			table = make([]byte, n.Size)
			_, err = io.ReadFull(io.NewSectionReader(fstree.Extents(v.r, of(n).extents), 0, n.Size), table)
		}
		kind := 0
		if err == nil {
			kind = of(n).kind
		}
		v.maps = keep
		if err != nil {
			continue
		}
		if kind == 248 { // UDF 2.00: a header in front
			if len(table) < 152 || int(binary.LittleEndian.Uint16(table)) > len(table) {
				continue
			}
			table = table[binary.LittleEndian.Uint16(table):]
		} else { // UDF 1.50: an identifier behind
			if len(table) < 36 || !strings.HasPrefix(string(table[len(table)-35:]), "*UDF Virtual Alloc Tbl") {
				continue
			}
			table = table[:len(table)-36]
		}
		for ; len(table) >= 4; table = table[4:] {
			m.vat = append(m.vat, binary.LittleEndian.Uint32(table))
		}
		return nil
	}
	return v.damage(last, "there is no virtual allocation table at the end: the disc was not finished, or the image is cut short")
}

// DeclaredSize is where the volume's last partition ends in bytes, as the volume itself
// states it. An image with fewer bytes is truncated.
func (v *Volume) DeclaredSize() int64 { return v.declared }

// sectorOf finds where a block lies in the image.
func (v *Volume) sectorOf(a address) (int64, error) {
	if int(a.partition) >= len(v.maps) {
		return 0, v.damage(0, "there is no partition map %d", a.partition)
	}
	m := &v.maps[a.partition]
	block := int64(a.block)
	if m.virtual && m.vat != nil {
		if block >= int64(len(m.vat)) || m.vat[block] == 1<<32-1 {
			return 0, v.damage(0, "block %d is in no table", block)
		}
		block = int64(m.vat[block])
	}
	if m.moved != nil {
		if to, ok := m.moved[uint32(block)/m.packet]; ok {
			return to + block%int64(m.packet), nil
		}
	}
	p := v.partition[m.number]
	if block >= p.length {
		return 0, v.damage(p.start, "block %d lies outside of its partition of %d blocks", block, p.length)
	}
	return p.start + block, nil
}

// descriptor reads the descriptor at an address and checks its tag.
func (v *Volume) descriptor(a address, want int) (b []byte, sector int64, err error) {
	if sector, err = v.sectorOf(a); err != nil {
		return nil, 0, err
	}
	if b, err = v.read(sector, v.block); err != nil {
		return nil, sector, err
	}
	id, err := tag(b)
	if err == nil && id != want {
		err = fmt.Errorf("a descriptor of kind %d was expected here, and it has kind %d", want, id)
	}
	if err != nil {
		return nil, sector, v.damage(sector, "%v", err)
	}
	return b, sector, nil
}

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
	n := &fstree.Node{Dir: p.kind == 4, Size: int64(binary.LittleEndian.Uint64(b[56:])), Modified: when(b[modified:]), Data: p}
	n.Mark = fmt.Sprint(sector)
	attributes, allocation := int64(binary.LittleEndian.Uint32(b[fixed-8:])), int64(binary.LittleEndian.Uint32(b[fixed-4:]))
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

// mapAt is the map whose partition a sector lies in: short descriptors are relative to
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
		if k := len(p.extents); k > 0 && p.extents[k-1].At >= 0 && p.extents[k-1].At+p.extents[k-1].Length == s*v.sector {
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

// Where tells the runs of bytes in the image that a file lies in; those at negative
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
