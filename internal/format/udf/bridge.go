package udf

import (
	"encoding/binary"
	"fmt"
	"time"
	"unicode/utf16"

	"polytome/internal/format/crcs"
)

// A Node is a file or directory that a bridge describes.
type Node struct {
	Name     string
	Dir      bool
	Size     int64 // bytes of a file
	Modified time.Time
	Sector   int64 // where a file's data begin on the disc
	Children []*Node

	block int64 // of its file entry, in the partition
	data  int64 // of a directory's content, in the partition
	bytes int64 // of that
	id    uint64
	name  []byte
}

// A Bridge is the structures of UDF 1.02 for files that are on a disc already, beside those of ISO 9660.
// The volume is read-only: it has one partition of type 1, from behind the anchor to the sector before the
// last one.
type Bridge struct {
	label string
	when  time.Time
	root  *Node
	dirs  []*Node // the root first
	files []*Node
	total int64 // blocks of its structures in the partition
	// positions of the volume's structures, for the anchors
	main, reserve int64
}

// sequence is how many sectors a volume descriptor sequence has (UDF 2.2.3.1).
const sequence = 16

// NewBridge lays the structures for a tree. Names that UDF cannot hold are an error.
func NewBridge(root *Node, label string, when time.Time) (*Bridge, error) {
	b := &Bridge{label: label, when: when, root: root, total: 2} // the file set, and its end
	if err := b.number(root, 0); err != nil {
		return nil, err
	}
	for _, d := range b.dirs {
		d.data = b.total
		d.bytes = fileIDLength(nil)
		for _, c := range d.Children {
			d.bytes += fileIDLength(c.name)
		}
		b.total += (d.bytes + SectorSize - 1) / SectorSize
	}
	return b, nil
}

// number gives every node its file entry.
func (b *Bridge) number(n *Node, id uint64) error {
	n.block, n.id = b.total, id
	b.total++
	if n != b.root {
		n.name = compressed(n.Name)
		if len(n.name) > 255 {
			return fmt.Errorf("the name %s is too long for UDF", n.Name)
		}
	}
	if !n.Dir {
		if n.Size > maxShort*int64((SectorSize-fileEntrySize)/8) {
			return fmt.Errorf("%s has %d bytes, more than one file entry of UDF can tell of", n.Name, n.Size)
		}
		b.files = append(b.files, n)
		return nil
	}
	b.dirs = append(b.dirs, n)
	for _, c := range n.Children {
		if err := b.number(c, uint64(len(b.dirs)+len(b.files))+15); err != nil { // from 16 on (UDF 3.2.1.1)
			return err
		}
	}
	return nil
}

// Sectors is how many sectors the structures take that are in the partition.
func (b *Bridge) Sectors() int64 { return b.total }

// compressed encodes a text (UDF 2.1.1).
func compressed(s string) []byte {
	u := utf16.Encode([]rune(s))
	wide := false
	for _, c := range u {
		wide = wide || c > 0xFF
	}
	if !wide {
		out := []byte{8}
		for _, c := range u {
			out = append(out, byte(c))
		}
		return out
	}
	out := []byte{16}
	for _, c := range u {
		out = binary.BigEndian.AppendUint16(out, c)
	}
	return out
}

// putDstring writes a text of fixed length (1/7.2.12).
func putDstring(b []byte, s string) {
	if s == "" {
		return
	}
	c := compressed(s)
	if len(c) > len(b)-1 {
		c = c[:(len(b)-1)&^1|1]
		c = c[:min(len(c), len(b)-1)]
	}
	copy(b, c)
	b[len(b)-1] = byte(len(c))
}

// putWhen writes a timestamp in UTC (1/7.3).
func putWhen(b []byte, t time.Time) {
	if t.IsZero() {
		t = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	t = t.UTC()
	binary.LittleEndian.PutUint16(b, 1<<12)
	binary.LittleEndian.PutUint16(b[2:], uint16(t.Year()))
	b[4], b[5], b[6], b[7], b[8] = byte(t.Month()), byte(t.Day()), byte(t.Hour()), byte(t.Minute()), byte(t.Second())
	ns := t.Nanosecond()
	b[9], b[10], b[11] = byte(ns/1e7), byte(ns/1e5%100), byte(ns/1e3%100)
}

// putEntity writes an entity identifier (1/7.4); the suffix begins with the revision of UDF where it is
// one of OSTA's.
func putEntity(b []byte, id string, suffix ...byte) {
	copy(b[1:24], id)
	copy(b[24:32], suffix)
}

const implementation = "*Polytome"

var revision = []byte{0x02, 0x01} // 1.02

func putCharset(b []byte) { copy(b[1:], "OSTA Compressed Unicode") } // type 0 (1/7.2.1)

// putLongAD writes a long allocation descriptor in partition 0.
func putLongAD(b []byte, length uint32, block int64, id uint64) {
	binary.LittleEndian.PutUint32(b, length)
	binary.LittleEndian.PutUint32(b[4:], uint32(block))
	binary.LittleEndian.PutUint32(b[12:], uint32(id)) // UDF 2.3.4.3
}

// sealTag writes the tag (3/7.2) of a descriptor of n bytes that is at a sector, or at a block of the
// partition.
func sealTag(b []byte, id, n int, at int64) {
	binary.LittleEndian.PutUint16(b, uint16(id))
	binary.LittleEndian.PutUint16(b[2:], 2)
	binary.LittleEndian.PutUint16(b[6:], 1)
	binary.LittleEndian.PutUint16(b[8:], crcs.CCITT(0, b[16:n]))
	binary.LittleEndian.PutUint16(b[10:], uint16(n-16))
	binary.LittleEndian.PutUint32(b[12:], uint32(at))
	b[4] = 0
	var sum byte
	for _, c := range b[:16] {
		sum += c
	}
	b[4] = sum
}

// Put writes all structures into the head of a disc of so many sectors: the recognition sequence at
// a sector, the volume descriptors and the anchor at theirs, and those of the partition, which
// begins at one, at another.
func (b *Bridge) Put(head []byte, recognition, main, reserve, integrity, anchor, partition, meta, total int64) {
	b.main, b.reserve = main, reserve
	sector := func(n int64) []byte { return head[n*SectorSize:][:SectorSize] }
	for i, id := range []string{"BEA01", "NSR02", "TEA01"} { // 2/9.1
		s := sector(recognition + int64(i))
		copy(s[1:], id)
		s[6] = 1
	}
	length := total - 1 - partition
	for _, at := range []int64{main, reserve} {
		b.volume(sector, at, partition, length, integrity, meta-partition)
	}
	b.putIntegrity(sector(integrity), integrity, length)
	sealTag(sector(integrity+1), tagTerminating, 512, integrity+1)
	copy(sector(anchor), b.Anchor(anchor))
	b.putPartition(head[meta*SectorSize:][:b.total*SectorSize], partition, meta-partition)
}

// Anchor is an anchor volume descriptor pointer (3/10.2) for a sector.
func (b *Bridge) Anchor(sector int64) []byte {
	out := make([]byte, SectorSize)
	binary.LittleEndian.PutUint32(out[16:], sequence*SectorSize)
	binary.LittleEndian.PutUint32(out[20:], uint32(b.main))
	binary.LittleEndian.PutUint32(out[24:], sequence*SectorSize)
	binary.LittleEndian.PutUint32(out[28:], uint32(b.reserve))
	sealTag(out, tagAnchor, 512, sector)
	return out
}

// The descriptors that only writing needs to name.
const (
	tagImplementation = 4
	tagUnallocated    = 7
	tagIntegrity      = 9
)

// volume writes a volume descriptor sequence (3/8.4.2).
func (b *Bridge) volume(sector func(int64) []byte, at, partition, length, integrity, fileSet int64) {
	set := fmt.Sprintf("%08X%08X %s", uint32(b.when.Unix()), uint32(b.total), b.label)

	p := sector(at) // primary (3/10.1)
	putDstring(p[24:56], b.label)
	for i, v := range []uint16{1, 1, 2, 2} {
		binary.LittleEndian.PutUint16(p[56+2*i:], v)
	}
	binary.LittleEndian.PutUint32(p[64:], 1)
	binary.LittleEndian.PutUint32(p[68:], 1)
	putDstring(p[72:200], set)
	putCharset(p[200:264])
	putCharset(p[264:328])
	putEntity(p[344:376], implementation)
	putWhen(p[376:388], b.when)
	putEntity(p[388:420], implementation)
	sealTag(p, tagPrimary, 512, at)

	u := sector(at + 1) // implementation use (UDF 2.2.7)
	binary.LittleEndian.PutUint32(u[16:], 1)
	putEntity(u[20:52], "*UDF LV Info", revision...)
	putCharset(u[52:116])
	putDstring(u[116:244], b.label)
	putEntity(u[352:384], implementation)
	sealTag(u, tagImplementation, 512, at+1)

	d := sector(at + 2) // partition (3/10.5)
	binary.LittleEndian.PutUint32(d[16:], 2)
	binary.LittleEndian.PutUint16(d[20:], 1)
	putEntity(d[24:56], "+NSR02")
	binary.LittleEndian.PutUint32(d[184:], 1) // read only
	binary.LittleEndian.PutUint32(d[188:], uint32(partition))
	binary.LittleEndian.PutUint32(d[192:], uint32(length))
	putEntity(d[196:228], implementation)
	sealTag(d, tagPartition, 512, at+2)

	l := sector(at + 3) // logical volume (3/10.6)
	binary.LittleEndian.PutUint32(l[16:], 3)
	putCharset(l[20:84])
	putDstring(l[84:212], b.label)
	binary.LittleEndian.PutUint32(l[212:], SectorSize)
	putEntity(l[216:248], "*OSTA UDF Compliant", revision[0], revision[1], 3) // write protected
	putLongAD(l[248:264], 2*SectorSize, fileSet, 0)
	binary.LittleEndian.PutUint32(l[264:], 6)
	binary.LittleEndian.PutUint32(l[268:], 1)
	putEntity(l[272:304], implementation)
	binary.LittleEndian.PutUint32(l[432:], 2*SectorSize)
	binary.LittleEndian.PutUint32(l[436:], uint32(integrity))
	l[440], l[441], l[442] = 1, 6, 1 // a map of type 1, of volume 1, to partition 0
	sealTag(l, tagLogical, 446, at+3)

	f := sector(at + 4)
	binary.LittleEndian.PutUint32(f[16:], 4)
	sealTag(f, tagUnallocated, 24, at+4)
	sealTag(sector(at+5), tagTerminating, 512, at+5)
}

// putIntegrity writes the logical volume integrity descriptor (3/10.10, UDF 2.2.6).
func (b *Bridge) putIntegrity(s []byte, at, length int64) {
	putWhen(s[16:28], b.when)
	binary.LittleEndian.PutUint32(s[28:], 1)                                   // closed
	binary.LittleEndian.PutUint64(s[40:], uint64(len(b.dirs)+len(b.files))+16) // the next unique number
	binary.LittleEndian.PutUint32(s[72:], 1)                                   // partitions
	binary.LittleEndian.PutUint32(s[76:], 46)                                  // bytes of implementation use
	binary.LittleEndian.PutUint32(s[84:], uint32(length))                      // size; nothing is free
	putEntity(s[88:120], implementation)
	binary.LittleEndian.PutUint32(s[120:], uint32(len(b.files)))
	binary.LittleEndian.PutUint32(s[124:], uint32(len(b.dirs)))
	for i := range 3 {
		copy(s[128+2*i:], revision)
	}
	sealTag(s, tagIntegrity, 134, at)
}

// fileEntrySize is the bytes of a file entry in front of its allocation descriptors (4/14.9), and
// maxShort how many bytes one of these describes: as many as are whole sectors below 2^30.
const (
	fileEntrySize = 176
	maxShort      = 1<<30 - SectorSize
)

// fileIDLength is the bytes of a file identifier descriptor (4/14.4).
func fileIDLength(name []byte) int64 { return int64(38+len(name)+3) &^ 3 }

// putPartition writes the file set, the file entries and the directories. First is the block at which they
// begin.
func (b *Bridge) putPartition(s []byte, partition, first int64) {
	set := s[:SectorSize] // 4/14.1
	putWhen(set[16:28], b.when)
	binary.LittleEndian.PutUint16(set[28:], 3)
	binary.LittleEndian.PutUint16(set[30:], 3)
	binary.LittleEndian.PutUint32(set[32:], 1)
	binary.LittleEndian.PutUint32(set[36:], 1)
	putCharset(set[48:112])
	putDstring(set[112:240], b.label)
	putCharset(set[240:304])
	putDstring(set[304:336], b.label)
	putLongAD(set[400:416], SectorSize, first+b.root.block, 0)
	putEntity(set[416:448], "*OSTA UDF Compliant", revision[0], revision[1], 3)
	sealTag(set, tagFileSet, 512, first)
	sealTag(s[SectorSize:], tagTerminating, 512, first+1)
	b.putDirectory(s, b.root, b.root, first)
	for _, n := range b.files {
		b.putEntry(s[n.block*SectorSize:], n, 1, n.Size, n.Sector-partition, first)
	}
}

func (b *Bridge) putDirectory(s []byte, d, parent *Node, first int64) {
	subdirs := 0
	at := d.data * SectorSize
	id := func(n *Node, name []byte, characteristics byte) {
		f := s[at:]
		l := fileIDLength(name)
		binary.LittleEndian.PutUint16(f[16:], 1)
		f[18], f[19] = characteristics, byte(len(name))
		putLongAD(f[20:36], SectorSize, first+n.block, n.id)
		copy(f[38:], name)
		sealTag(f, tagFileID, int(l), first+at/SectorSize)
		at += l
	}
	id(parent, nil, 0x0A) // a directory, and the one above
	for _, c := range d.Children {
		characteristics := byte(0)
		if c.Dir {
			characteristics = 2
			subdirs++
		}
		id(c, c.name, characteristics)
	}
	b.putEntry(s[d.block*SectorSize:], d, 1+subdirs, d.bytes, first+d.data, first)
	for _, c := range d.Children {
		if c.Dir {
			b.putDirectory(s, c, d, first)
		}
	}
}

// putEntry writes a file entry (4/14.9) with its data in one run of blocks.
func (b *Bridge) putEntry(f []byte, n *Node, links int, length, block, first int64) {
	binary.LittleEndian.PutUint16(f[20:], 4) // strategy
	binary.LittleEndian.PutUint16(f[24:], 1)
	f[27] = 5
	if n.Dir {
		f[27] = 4
	}
	binary.LittleEndian.PutUint32(f[36:], 1<<32-1) // no owner
	binary.LittleEndian.PutUint32(f[40:], 1<<32-1)
	binary.LittleEndian.PutUint32(f[44:], 0b00101_00101_00101) // everybody may read and enter
	binary.LittleEndian.PutUint16(f[48:], uint16(links))
	binary.LittleEndian.PutUint64(f[56:], uint64(length))
	binary.LittleEndian.PutUint64(f[64:], uint64((length+SectorSize-1)/SectorSize))
	for _, at := range []int{72, 84, 96} {
		putWhen(f[at:at+12], n.Modified)
	}
	binary.LittleEndian.PutUint32(f[108:], 1)
	putEntity(f[128:160], implementation)
	binary.LittleEndian.PutUint64(f[160:], n.id)
	at := fileEntrySize
	for left := length; left > 0; left -= maxShort {
		binary.LittleEndian.PutUint32(f[at:], uint32(min(left, maxShort)))
		binary.LittleEndian.PutUint32(f[at+4:], uint32(block))
		block += maxShort / SectorSize
		at += 8
	}
	binary.LittleEndian.PutUint32(f[172:], uint32(at-fileEntrySize))
	sealTag(f, tagFile, at, first+n.block)
}
