// Package fat reads, writes and makes FAT volumes after the Microsoft FAT specification 1.03: FAT12, FAT16 and
// FAT32 with long names. [Open] gives a [volume.Volume], which does the work; [Format] makes a new one. FAT12 is read
// only. Extended attributes and volumes compressed by old systems are not supported.
package fat

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"

	"polytome/internal/format/volume"
	"polytome/internal/size"
)

// Offsets in a boot sector (FAT specification, "Boot Sector and BPB").
const (
	bpbSector     = 11 // bytes per sector
	bpbCluster    = 13 // sectors per cluster
	bpbReserved   = 14
	bpbTables     = 16
	bpbRoot       = 17 // entries of the root folder, not FAT32
	bpbTotal16    = 19
	bpbMedia      = 21
	bpbTable16    = 22
	bpbTrack      = 24
	bpbHeads      = 26
	bpbHidden     = 28
	bpbTotal32    = 32
	bpb32Table    = 36
	bpb32Flags    = 40
	bpb32Root     = 44
	bpb32FSInfo   = 48
	bpb32Backup   = 50
	tail16        = 36 // drive number, signature, serial, label and type of FAT12 and FAT16
	tail32        = 64
	tailSignature = 2
	tailSerial    = 3
	tailLabel     = 7
	tailKind      = 18
)

// The limits between the kinds, in clusters: what has fewer than the first is FAT12, than the second FAT16.
const (
	fat16From = 4085
	fat32From = 65525
	fat32Most = 0x0FFFFFF5 - 2
)

// geometry is what a boot sector tells.
type geometry struct {
	bits       int // 12, 16 or 32
	sector     int64
	perCluster int64 // sectors
	reserved   int64 // sectors
	tables     int
	tableSize  int64 // sectors
	rootSize   int64 // sectors of a fixed root folder
	rootFirst  uint32
	total      int64 // sectors
	clusters   uint32
	fsInfo     int64 // sector, 0 for none
	backup     int64 // sector, 0 for none
	active     int   // the only table in use, -1 for all
	media      byte
	serial     uint32
	label      string
	labelled   bool // there is a field for a label
}

func (g *geometry) heap() int64 {
	return (g.reserved + int64(g.tables)*g.tableSize + g.rootSize) * g.sector
}

// parse takes a boot sector apart.
func parse(b []byte, length int64) (*geometry, error) {
	le := binary.LittleEndian
	bad := func(format string, args ...any) (*geometry, error) {
		return nil, fmt.Errorf("it is not a FAT boot sector: "+format, args...)
	}
	if b[510] != 0x55 || b[511] != 0xAA {
		return bad("it does not end in 55 AA")
	}
	g := &geometry{sector: int64(le.Uint16(b[bpbSector:])), perCluster: int64(b[bpbCluster]),
		reserved: int64(le.Uint16(b[bpbReserved:])), tables: int(b[bpbTables]), media: b[bpbMedia], active: -1}
	switch {
	case g.sector != 512 && g.sector != 1024 && g.sector != 2048 && g.sector != 4096:
		return bad("it has sectors of %d bytes", g.sector)
	case g.perCluster == 0 || g.perCluster&(g.perCluster-1) != 0:
		return bad("it has clusters of %d sectors", g.perCluster)
	case g.reserved == 0:
		return bad("it reserves no sectors")
	case g.tables < 1 || g.tables > 4:
		return bad("it has %d tables", g.tables)
	}
	g.rootSize = (int64(le.Uint16(b[bpbRoot:]))*32 + g.sector - 1) / g.sector
	g.total, g.tableSize = int64(le.Uint16(b[bpbTotal16:])), int64(le.Uint16(b[bpbTable16:]))
	if g.total == 0 {
		g.total = int64(le.Uint32(b[bpbTotal32:]))
	}
	tail := tail16
	is32 := g.tableSize == 0
	if is32 {
		g.tableSize = int64(le.Uint32(b[bpb32Table:]))
		tail = tail32
	}
	if g.tableSize == 0 || g.total == 0 {
		return bad("it has no table or no sectors")
	}
	data := g.total - g.heap()/g.sector
	if data < g.perCluster {
		return bad("its tables leave no space for files")
	}
	n := data / g.perCluster
	switch {
	case is32:
		g.bits = 32
	case n < fat16From:
		g.bits = 12
	default:
		g.bits = 16
	}
	if n > fat32Most {
		return bad("it has %d clusters", n)
	}
	space := g.tableSize*g.sector*8/int64(g.bits) - 2
	if space < 1 {
		return bad("its table has no space for a cluster")
	}
	g.clusters = uint32(min(n, space))
	if is32 {
		flags := le.Uint16(b[bpb32Flags:])
		if flags&0x80 != 0 {
			if g.active = int(flags & 15); g.active >= g.tables {
				return bad("it uses table %d of %d", g.active+1, g.tables)
			}
		}
		g.rootFirst = le.Uint32(b[bpb32Root:])
		if g.rootFirst < 2 || g.rootFirst >= g.clusters+2 {
			return bad("its root folder is in cluster %d of %d", g.rootFirst, g.clusters)
		}
		if s := int64(le.Uint16(b[bpb32FSInfo:])); s > 0 && s < g.reserved {
			g.fsInfo = s
		}
		if s := int64(le.Uint16(b[bpb32Backup:])); s > 0 && s < g.reserved {
			g.backup = s
		}
	} else if g.rootSize == 0 {
		return bad("it has no root folder")
	}
	g.labelled = hasLabel(b, int64(tail))
	if b[tail+tailSignature] == 0x29 {
		g.serial = le.Uint32(b[tail+tailSerial:])
		g.label = labelText(b[tail+tailLabel : tail+tailLabel+11])
	}
	if g.total*g.sector > length {
		return nil, fmt.Errorf("the volume should have %s but %s are there: the partition was shrunk or the image "+
			"cut off", size.Format(g.total*g.sector), size.Format(length))
	}
	return g, nil
}

// labelText is a label as it is shown.
func labelText(b []byte) string {
	s := strings.TrimRight(decodeOEM(b), " ")
	if s == "NO NAME" {
		return ""
	}
	return s
}

// Is reports whether bytes that begin a volume are those of FAT.
func Is(boot []byte) bool {
	if len(boot) < 512 || boot[0] != 0xEB && boot[0] != 0xE9 {
		return false
	}
	_, err := parse(boot, 1<<62)
	return err == nil && string(boot[3:11]) != "NTFS    "
}

// twofold reports whether the backup of the boot sector is a good one, and of another volume: one of the two is
// damaged, and nothing reports which.
func (f *format) twofold(length int64) bool {
	if f.g.backup == 0 {
		return false
	}
	b := make([]byte, 512)
	if _, err := f.dev.ReadAt(b, f.g.backup*f.g.sector); err != nil {
		return false
	}
	g, err := parse(b, length)
	if err != nil {
		return false
	}
	mine := *f.g
	mine.label, mine.labelled, mine.serial, mine.media, mine.fsInfo, mine.backup = g.label, g.labelled, g.serial,
		g.media, g.fsInfo, g.backup
	return mine != *g
}

// Open opens a volume that begins at byte 0 of a device and has at most so many bytes.
func Open(dev volume.Device, length int64) (*volume.Volume, error) {
	b := make([]byte, 512)
	if _, err := dev.ReadAt(b, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("reading the boot sector: %w", err)
	}
	g, err := parse(b, length)
	if err != nil {
		return nil, err
	}
	f := &format{dev: dev, g: g}
	f.open()
	f.info = volume.Info{Filesystem: fmt.Sprintf("fat%d", g.bits), Label: g.label, Serial: g.serial,
		Size: g.total * g.sector, Sector: g.sector,
		Cluster: g.perCluster * g.sector, Clusters: g.clusters, Heap: g.heap(), Tables: g.tables}
	if g.bits == 12 {
		f.info.ReadOnly = "FAT12 can only be read"
	}
	if f.twofold(length) {
		f.info.ReadOnly = "its boot sector and the backup describe different volumes"
	}
	if err := f.readState(); err != nil {
		return nil, err
	}
	return volume.New(dev, f), nil
}
