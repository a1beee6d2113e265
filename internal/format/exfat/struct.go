// Package exfat reads, writes and makes exFAT volumes after the exFAT specification, revision 1.00. [Open] gives a
// [volume.Volume], which does the work; [Format] makes a new one. The transactional variant with two tables is read
// only; entries of vendors are kept with the files that they belong to.
package exfat

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"polytome/internal/format/volume"
	"polytome/internal/size"
)

// Offsets in the boot sector (exFAT specification, 3.1).
const (
	bootPartition = 0x40
	bootLength    = 0x48 // sectors
	bootTableAt   = 0x50 // sectors
	bootTable     = 0x54 // sectors
	bootHeap      = 0x58 // sectors
	bootClusters  = 0x5C
	bootRoot      = 0x60
	bootSerial    = 0x64
	bootRevision  = 0x68
	bootFlags     = 0x6A
	bootSector    = 0x6C // as a power of two
	bootCluster   = 0x6D // sectors, as a power of two
	bootTables    = 0x6E
	bootDrive     = 0x6F
	bootUsed      = 0x70 // per cent

	flagActive = 1
	flagDirty  = 2
)

// bootSectors is how many sectors the boot region has, of which there are two.
const bootSectors = 12

// The marks in the table of clusters.
const (
	chainEnd   = 0xFFFFFFFF
	badCluster = 0xFFFFFFF7
)

// geometry is what a boot sector tells.
type geometry struct {
	sector, cluster int64 // bytes
	total           int64 // sectors
	tableAt, table  int64 // sectors
	heapAt          int64 // sectors
	clusters        uint32
	root            uint32
	serial          uint32
	flags           uint16
	tables          int
	hidden          int64 // sectors
}

func parse(b []byte, length int64) (*geometry, error) {
	le := binary.LittleEndian
	bad := func(format string, args ...any) (*geometry, error) {
		return nil, fmt.Errorf("it is not an exFAT boot sector: "+format, args...)
	}
	if string(b[3:11]) != "EXFAT   " || b[510] != 0x55 || b[511] != 0xAA {
		return bad("its start or end is wrong")
	}
	if b[bootSector] < 9 || b[bootSector] > 12 || int(b[bootCluster]) > 25-int(b[bootSector]) {
		return bad("it has sectors of 2^%d bytes and clusters of 2^%d sectors", b[bootSector], b[bootCluster])
	}
	g := &geometry{sector: 1 << b[bootSector], total: int64(le.Uint64(b[bootLength:])),
		tableAt: int64(le.Uint32(b[bootTableAt:])), table: int64(le.Uint32(b[bootTable:])),
		heapAt: int64(le.Uint32(b[bootHeap:])), clusters: le.Uint32(b[bootClusters:]), root: le.Uint32(b[bootRoot:]),
		serial: le.Uint32(b[bootSerial:]),
		flags:  le.Uint16(b[bootFlags:]), tables: int(b[bootTables])}
	g.cluster = g.sector << b[bootCluster]
	switch {
	case b[bootRevision+1] != 1:
		return bad("it has revision %d", b[bootRevision+1])
	case g.tables != 1 && g.tables != 2:
		return bad("it has %d tables", g.tables)
	case g.total <= 0 || g.total > 1<<62/g.sector:
		return bad("it has %d sectors", g.total)
	case g.clusters == 0 || g.clusters > 0xFFFFFFF5:
		return bad("it has %d clusters", g.clusters)
	case g.tableAt < 2*bootSectors || g.table*g.sector < (int64(g.clusters)+2)*4 ||
		g.tableAt+g.table*int64(g.tables) > g.heapAt:
		return bad("its table does not fit in front of its clusters")
	case g.heapAt+int64(g.clusters)*(g.cluster/g.sector) > g.total:
		return bad("its %[2]d sectors have no space for %[1]d clusters", g.clusters, g.total)
	case g.root < 2 || g.root >= g.clusters+2:
		return bad("its root folder is in cluster %d", g.root)
	}
	if g.total*g.sector > length {
		return nil, fmt.Errorf("the volume should have %s but %s are there: the partition was shrunk or the image "+
			"cut off", size.Format(g.total*g.sector), size.Format(length))
	}
	return g, nil
}

// Is reports whether bytes that begin a volume are those of exFAT.
func Is(boot []byte) bool { return len(boot) >= 512 && string(boot[3:11]) == "EXFAT   " }

// Open opens a volume that begins at byte 0 of a device and has at most so many bytes.
func Open(dev volume.Device, length int64) (*volume.Volume, error) {
	b := make([]byte, 512)
	if _, err := dev.ReadAt(b, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("reading the boot sector: %w", err)
	}
	g, err := parse(b, length)
	byCopy := false
	if err != nil || !summed(dev, 0, g) { // the copy counts, where it is whole
		for _, sector := range []int64{512, 1024, 2048, 4096} {
			c := make([]byte, 512)
			if _, readErr := dev.ReadAt(c, bootSectors*sector); readErr != nil {
				break
			}
			if copied, copyErr := parse(c, length); copyErr == nil && copied.sector == sector &&
				summed(dev, bootSectors*sector, copied) {
				g, err, byCopy = copied, nil, true
				break
			}
		}
	}
	if err != nil {
		return nil, err
	}
	f := &format{dev: dev, g: g, byCopy: byCopy}
	f.info = volume.Info{Filesystem: "exfat", Serial: g.serial, Size: g.total * g.sector, Sector: g.sector,
		Cluster: g.cluster, Clusters: g.clusters,
		Heap: g.heapAt * g.sector, Tables: g.tables, Dirty: g.flags&flagDirty != 0}
	tableAt := g.tableAt * g.sector
	if g.tables == 2 {
		f.info.ReadOnly = "exFAT with two tables can only be read"
		if g.flags&flagActive != 0 {
			tableAt += g.table * g.sector
		}
	}
	f.table = volume.Pages{Dev: dev, At: []int64{tableAt}, From: tableAt, Length: g.table * g.sector, Sector: g.sector,
		Name: "the cluster table"}
	if err := f.system(); err != nil {
		return nil, err
	}
	return volume.New(dev, f), nil
}

// summed reports whether a boot region has the checksum that it should have.
func summed(dev volume.Device, at int64, g *geometry) bool {
	region := make([]byte, bootSectors*g.sector)
	if _, err := dev.ReadAt(region, at); err != nil {
		return false
	}
	sum := bootChecksum(region[:11*g.sector])
	for i := 11 * g.sector; i < int64(len(region)); i += 4 {
		if binary.LittleEndian.Uint32(region[i:]) != sum {
			return false
		}
	}
	return true
}

// bootChecksum is that over the first eleven sectors of a boot region (exFAT specification, 3.4).
func bootChecksum(region []byte) uint32 {
	var sum uint32
	for i, c := range region {
		if i == bootFlags || i == bootFlags+1 || i == bootUsed {
			continue
		}
		sum = sum<<31 | sum>>1
		sum += uint32(c)
	}
	return sum
}

// region makes a boot region of a boot sector.
func region(boot []byte) []byte {
	sector := len(boot)
	out := make([]byte, bootSectors*sector)
	copy(out, boot)
	for i := 1; i <= 8; i++ {
		binary.LittleEndian.PutUint32(out[(i+1)*sector-4:], 0xAA550000)
	}
	sum := bootChecksum(out[:11*sector])
	for at := 11 * sector; at < len(out); at += 4 {
		binary.LittleEndian.PutUint32(out[at:], sum)
	}
	return out
}
