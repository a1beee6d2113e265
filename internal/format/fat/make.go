package fat

import (
	"encoding/binary"
	"errors"
	"fmt"
	"time"

	"polytome/internal/format/volume"
	"polytome/internal/size"
)

// Options say how a volume is made.
type Options struct {
	Bits    int   // 16 or 32
	Cluster int64 // bytes, a power of two from a sector to 64 KiB
	Sector  int64 // bytes, 512 or 4096
	Label   string
	Serial  uint32    // 0 for one made of the time
	Hidden  int64     // bytes of the disk in front of the volume
	Made    time.Time // zero for now
}

// firstAlign is the multiple of bytes at which the clusters of larger volumes begin.
const firstAlign = 4 * size.MiB

// plan lays the volume out.
func (o Options) plan(length int64) (*geometry, error) {
	if o.Sector == 0 {
		o.Sector = 512
	}
	if o.Sector != 512 && o.Sector != 4096 {
		return nil, fmt.Errorf("sectors of %d bytes are not supported; 512 and 4096 are", o.Sector)
	}
	if o.Cluster < o.Sector || o.Cluster > 64*size.KiB || o.Cluster&(o.Cluster-1) != 0 {
		return nil, fmt.Errorf("a FAT volume with sectors of %d bytes cannot have clusters of %s: use a power of two "+
			"from one sector to 64 KiB", o.Sector, size.Format(o.Cluster))
	}
	if why := CheckLabel(o.Label); why != "" {
		return nil, fmt.Errorf("the label %q is not possible: %s", o.Label, why)
	}
	g := &geometry{bits: o.Bits, sector: o.Sector, perCluster: o.Cluster / o.Sector, tables: 2, active: -1, media: 0xF8,
		total: min(length/o.Sector, 1<<32-1), serial: o.Serial, label: o.Label}
	least := int64(1)
	switch o.Bits {
	case 16:
		g.rootSize = 512 * entry / o.Sector
	case 32:
		least, g.rootFirst, g.fsInfo, g.backup = 32, 2, 1, 6
	default:
		return nil, fmt.Errorf("FAT%d is not supported; FAT16 and FAT32 are", o.Bits)
	}
	if most := (int64(1)<<32 - 1) * o.Sector; length-most > size.MiB {
		return nil, fmt.Errorf("FAT holds at most %s with sectors of %d bytes, but this is %s: make it smaller, or "+
			"use exFAT", size.Format(most), o.Sector, size.Format(length))
	}
	g.reserved = least
	// The table is made as large as it would have to be if it took no space itself: at most a few sectors too much.
	n := (g.total - g.reserved) / g.perCluster
	g.tableSize = ((n+2)*int64(o.Bits)/8 + o.Sector - 1) / o.Sector
	align := o.Cluster
	if length >= size.GiB && o.Bits == 32 {
		align = firstAlign
	}
	if rest := g.heap() % align; rest > 0 && o.Bits == 32 {
		g.reserved += (align - rest) / o.Sector
	}
	n = (g.total - g.heap()/o.Sector) / g.perCluster
	what := fmt.Sprintf("%s with clusters of %s", size.Format(length), size.Format(o.Cluster))
	switch {
	case o.Bits == 16 && n < fat16From:
		return nil, fmt.Errorf(
			"%s is too small for FAT16: it would have %d clusters but needs %d; use smaller clusters", what, max(n, 0),
			fat16From)
	case o.Bits == 16 && n >= fat32From:
		return nil, fmt.Errorf("%s is too large for FAT16: it would have %d clusters; at most %d are possible; use "+
			"larger clusters, or FAT32", what, n, fat32From-1)
	case o.Bits == 32 && n < fat32From:
		return nil, fmt.Errorf("%s is too small for FAT32: it would have %d clusters but needs %d; use smaller "+
			"clusters, or FAT16", what, max(n, 0), fat32From)
	case n > fat32Most:
		return nil, fmt.Errorf("%s is too large for FAT32: it would have %d clusters; at most %d are possible; use "+
			"larger clusters", what, n, fat32Most)
	}
	g.clusters = uint32(n)
	return g, nil
}

// Check says whether a volume can be made like that.
func Check(length int64, o Options) error {
	_, err := o.plan(length)
	return err
}

// Format makes an empty volume on a device of so many bytes. What was there before is lost. The boot sector is
// written last, so that a cut leaves no volume rather than a broken one.
func Format(dev volume.Device, length int64, o Options) error {
	g, err := o.plan(length)
	if err != nil {
		return err
	}
	if g.serial == 0 {
		g.serial = uint32(time.Now().UnixNano()>>10) | 1
	}
	if o.Made.IsZero() {
		o.Made = time.Now()
	}
	do := func(what string, err error) error {
		if err != nil {
			return fmt.Errorf("making the volume, %s: %w", what, err)
		}
		return nil
	}
	write := func(at int64, b []byte) error { _, err := dev.WriteAt(b, at); return err }
	zero := make([]byte, 64<<10)
	rootAt, rootLength := g.heap(), o.Cluster
	if g.bits == 16 {
		rootAt, rootLength = g.heap()-g.rootSize*g.sector, g.rootSize*g.sector
	}
	// The first sectors are written, never left to be zeros by other means: what begins there counts.
	for _, step := range []struct {
		what string
		do   func() error
	}{
		{"clearing its start", func() error { return write(0, zero[:min(int64(len(zero)), g.reserved*g.sector)]) }},
		{"clearing its tables", func() error { return volume.Zero(dev, g.reserved*g.sector, 2*g.tableSize*g.sector) }},
		{"clearing its root folder", func() error { return volume.Zero(dev, rootAt, rootLength) }},
		{"writing its tables", func() error { return writeFirst(dev, g) }},
		{"writing its label", func() error {
			f := &format{g: g}
			e, err := f.LabelEntry(g.label, o.Made)
			if err != nil || e == nil {
				return err
			}
			return write(rootAt, append(e, make([]byte, g.sector-entry)...))
		}},
		{"flushing", dev.Sync},
		{"writing the free space", func() error {
			if g.bits == 16 {
				return nil
			}
			return errors.Join(write(g.fsInfo*g.sector, g.infoSector()), write((g.backup+g.fsInfo)*g.sector,
				g.infoSector()), write(g.backup*g.sector, g.bootSector(o.Hidden)))
		}},
		{"writing its first sector", func() error { return write(0, g.bootSector(o.Hidden)) }},
		{"flushing", dev.Sync},
	} {
		if err := do(step.what, step.do()); err != nil {
			return err
		}
	}
	return nil
}

// writeFirst writes the first entries of each table: two of no cluster, and the root folder.
func writeFirst(dev volume.Device, g *geometry) error {
	b := make([]byte, g.sector)
	le := binary.LittleEndian
	if g.bits == 16 {
		le.PutUint16(b, 0xFF00|uint16(g.media))
		le.PutUint16(b[2:], 0xFFFF)
	} else {
		le.PutUint32(b, 0x0FFFFF00|uint32(g.media))
		le.PutUint32(b[4:], 0x0FFFFFFF)
		le.PutUint32(b[8:], 0x0FFFFFFF)
	}
	for k := range g.tables {
		if _, err := dev.WriteAt(b, (g.reserved+int64(k)*g.tableSize)*g.sector); err != nil {
			return err
		}
	}
	return nil
}

func (g *geometry) infoSector() []byte {
	b := make([]byte, g.sector)
	le := binary.LittleEndian
	le.PutUint32(b, infoLead)
	le.PutUint32(b[484:], infoStruct)
	le.PutUint32(b[infoCount:], g.clusters-1) // the root folder has one
	le.PutUint32(b[infoNext:], 3)
	le.PutUint32(b[508:], infoTrail)
	return b
}

// bootSector is the first sector. The program in it halts: nothing starts from this volume.
func (g *geometry) bootSector(hidden int64) []byte {
	b := make([]byte, g.sector)
	le := binary.LittleEndian
	tail, kind := tail32, "FAT32   "
	if g.bits == 16 {
		tail, kind = tail16, "FAT16   "
	}
	program := tail + tailKind + 8
	copy(b, []byte{0xEB, byte(program - 2), 0x90})
	copy(b[3:], "POLYTOME")
	copy(b[program:], []byte{0xF4, 0xEB, 0xFD}) // halt, and again
	le.PutUint16(b[bpbSector:], uint16(g.sector))
	b[bpbCluster] = byte(g.perCluster)
	le.PutUint16(b[bpbReserved:], uint16(g.reserved))
	b[bpbTables] = byte(g.tables)
	le.PutUint16(b[bpbRoot:], uint16(g.rootSize*g.sector/entry))
	b[bpbMedia] = g.media
	le.PutUint16(b[bpbTrack:], 63)
	le.PutUint16(b[bpbHeads:], 255)
	le.PutUint32(b[bpbHidden:], uint32(min(hidden/g.sector, 1<<32-1)))
	if g.bits == 16 && g.total < 1<<16 {
		le.PutUint16(b[bpbTotal16:], uint16(g.total))
	} else {
		le.PutUint32(b[bpbTotal32:], uint32(g.total))
	}
	if g.bits == 16 {
		le.PutUint16(b[bpbTable16:], uint16(g.tableSize))
	} else {
		le.PutUint32(b[bpb32Table:], uint32(g.tableSize))
		le.PutUint32(b[bpb32Root:], g.rootFirst)
		le.PutUint16(b[bpb32FSInfo:], uint16(g.fsInfo))
		le.PutUint16(b[bpb32Backup:], uint16(g.backup))
	}
	b[tail], b[tail+tailSignature] = 0x80, 0x29
	le.PutUint32(b[tail+tailSerial:], g.serial)
	label, _ := labelBytes(g.label) // it was checked
	copy(b[tail+tailLabel:], label)
	copy(b[tail+tailKind:], kind)
	b[510], b[511] = 0x55, 0xAA
	return b
}
