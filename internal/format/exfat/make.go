package exfat

import (
	"encoding/binary"
	"fmt"
	"math/bits"
	"time"

	"polytome/internal/format/volume"
	"polytome/internal/size"
)

// Options say how a volume is made.
type Options struct {
	Cluster int64 // bytes, a power of two from a sector to 32 MiB
	Sector  int64 // bytes, 512 or 4096
	Label   string
	Serial  uint32 // 0 for one made of the time
	Hidden  int64  // bytes of the disk in front of the volume
}

// The multiples of bytes at which the table and the clusters of a volume begin.
const (
	alignLarge = 4 * size.MiB
	alignSmall = 64 * size.KiB
)

func (o Options) plan(length int64) (*geometry, error) {
	if o.Sector == 0 {
		o.Sector = 512
	}
	if o.Sector != 512 && o.Sector != 4096 {
		return nil, fmt.Errorf("sectors of %d bytes are not supported; 512 and 4096 are", o.Sector)
	}
	if o.Cluster < o.Sector || o.Cluster > 32*size.MiB || o.Cluster&(o.Cluster-1) != 0 {
		return nil, fmt.Errorf("an exFAT volume with sectors of %d bytes cannot have clusters of %s: use a power of "+
			"two from one sector to 32 MiB", o.Sector, size.Format(o.Cluster))
	}
	if why := CheckLabel(o.Label); why != "" {
		return nil, fmt.Errorf("the label %q is not possible: %s", o.Label, why)
	}
	g := &geometry{sector: o.Sector, cluster: o.Cluster, total: length / o.Sector, tables: 1, serial: o.Serial,
		hidden: o.Hidden / o.Sector}
	align := int64(alignSmall)
	if length >= size.GiB {
		align = alignLarge
	}
	align = max(align, o.Sector*2*bootSectors)
	round := func(n int64) int64 { return (n + align - 1) / align * align }
	most := length / o.Cluster
	g.tableAt = round(2*bootSectors*o.Sector) / o.Sector
	g.table = ((most+2)*4 + o.Sector - 1) / o.Sector
	g.heapAt = round((g.tableAt+g.table)*o.Sector) / o.Sector
	n := (g.total*o.Sector - g.heapAt*o.Sector) / o.Cluster
	switch {
	case n < 8:
		return nil, fmt.Errorf("%s is too small for exFAT with clusters of %s", size.Format(length),
			size.Format(o.Cluster))
	case n > 0xFFFFFFF5 || g.heapAt > 1<<32-1:
		return nil, fmt.Errorf("%s is too large for exFAT with clusters of %s; use larger clusters",
			size.Format(length), size.Format(o.Cluster))
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
	clusters := func(n int64) uint32 { return uint32((n + g.cluster - 1) / g.cluster) }
	letters := usual().pack()
	bitmapLength := (int64(g.clusters) + 7) / 8
	bitmap := volume.Run{First: 2, Count: clusters(bitmapLength)}
	upper := volume.Run{First: bitmap.End(), Count: clusters(int64(len(letters)))}
	root := volume.Run{First: upper.End(), Count: 1}
	if root.End() > g.clusters+2 {
		return fmt.Errorf("%s is too small for exFAT with clusters of %s", size.Format(length), size.Format(o.Cluster))
	}
	g.root = root.First
	at := func(c uint32) int64 { return g.heapAt*g.sector + int64(c-2)*g.cluster }
	f := &format{dev: dev, g: g}
	f.info.Heap = g.heapAt * g.sector
	f.table = volume.Pages{Dev: dev, At: []int64{g.tableAt * g.sector}, From: g.tableAt * g.sector,
		Length: g.table * g.sector, Sector: g.sector, Name: "the cluster table"}
	f.bitmap = volume.Pages{Dev: runReader{dev, f, []volume.Run{bitmap}}, At: []int64{0}, Length: bitmapLength,
		Sector: g.sector, Name: "the cluster bitmap"}
	write := func(at int64, b []byte) error { _, err := dev.WriteAt(b, at); return err }
	boot := region(g.bootSector(o))
	for _, step := range []struct {
		what string
		do   func() error
	}{
		{"clearing its start", func() error { return write(0, make([]byte, 2*bootSectors*g.sector)) }},
		{"clearing its table", func() error { return volume.Zero(dev, g.tableAt*g.sector, g.table*g.sector) }},
		{"clearing its first clusters", func() error { return volume.Zero(dev, at(2), int64(root.End()-2)*g.cluster) }},
		{"flushing", dev.Sync},
		{"writing its tables", func() error {
			if err := f.put(0, 0xFFFFFFF8); err != nil {
				return err
			}
			if err := f.put(1, chainEnd); err != nil {
				return err
			}
			for _, r := range []volume.Run{bitmap, upper, root} {
				if err := f.Link([]volume.Run{r}, false); err != nil {
					return err
				}
			}
			return f.WriteTables()
		}},
		{"writing its upcase table", func() error { return write(at(upper.First), letters) }},
		{"writing its root folder", func() error {
			le := binary.LittleEndian
			b := make([]byte, g.sector)
			e, err := f.LabelEntry(o.Label, time.Time{})
			if err != nil {
				return err
			}
			if e == nil {
				e = make([]byte, entry)
				e[0] = typeLabel &^ inUse
			}
			copy(b, e)
			e = b[entry:]
			e[0] = typeBitmap
			le.PutUint32(e[20:], bitmap.First)
			le.PutUint64(e[24:], uint64(bitmapLength))
			e = b[2*entry:]
			e[0] = typeUpcase
			le.PutUint32(e[4:], tableChecksum(letters))
			le.PutUint32(e[20:], upper.First)
			le.PutUint64(e[24:], uint64(len(letters)))
			return write(at(root.First), b)
		}},
		{"writing the backup of its first sectors", func() error { return write(bootSectors*g.sector, boot) }},
		{"flushing", dev.Sync},
		{"writing its first sectors", func() error {
			if err := write(g.sector, boot[g.sector:]); err != nil {
				return err
			}
			return write(0, boot[:g.sector])
		}},
		{"flushing", dev.Sync},
	} {
		if err := step.do(); err != nil {
			return fmt.Errorf("making the volume, %s: %w", step.what, err)
		}
	}
	return nil
}

// bootSector is the first sector. The program in it halts: nothing starts from this volume.
func (g *geometry) bootSector(o Options) []byte {
	b := make([]byte, g.sector)
	le := binary.LittleEndian
	copy(b, []byte{0xEB, 0x76, 0x90})
	copy(b[3:], "EXFAT   ")
	le.PutUint64(b[bootPartition:], uint64(g.hidden))
	le.PutUint64(b[bootLength:], uint64(g.total))
	le.PutUint32(b[bootTableAt:], uint32(g.tableAt))
	le.PutUint32(b[bootTable:], uint32(g.table))
	le.PutUint32(b[bootHeap:], uint32(g.heapAt))
	le.PutUint32(b[bootClusters:], g.clusters)
	le.PutUint32(b[bootRoot:], g.root)
	le.PutUint32(b[bootSerial:], g.serial)
	le.PutUint16(b[bootRevision:], 0x0100)
	b[bootSector] = byte(bits.TrailingZeros64(uint64(g.sector)))
	b[bootCluster] = byte(bits.TrailingZeros64(uint64(g.cluster / g.sector)))
	b[bootTables], b[bootDrive], b[bootUsed] = 1, 0x80, 0
	copy(b[0x78:], []byte{0xF4, 0xEB, 0xFD})
	b[510], b[511] = 0x55, 0xAA
	return b
}
