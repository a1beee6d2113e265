package iso9660

import (
	"bytes"
	"encoding/binary"
	"strings"
	"time"
	"unicode/utf16"
)

// putHead builds everything in front of the first file's data.
func (im *Image) putHead(rr *continuations) {
	b := im.head
	at := int64(systemArea)
	for _, s := range im.spaces {
		im.putDescriptor(b[at*SectorSize:], s)
		at++
	}
	term := b[at*SectorSize:]
	term[0], term[6] = descriptorTerminator, 1
	copy(term[1:], "CD001")
	at++
	var end int64
	for _, s := range im.spaces {
		s.putPathTables(b)
		for _, d := range s.dirs {
			r := &d.in[s.n]
			putDirectory(b[r.sector*SectorSize:][:r.size], d, s.n)
			end = r.sector + sectors(r.size)
		}
	}
	copy(b[end*SectorSize:], rr.data)
	if im.bridge != nil {
		im.bridge.Put(b, at, udfMain, udfReserve, udfIntegrity, udfAnchor, udfPartition, im.meta, im.total)
	}
}

// putDescriptor writes the primary volume descriptor (8.4), or the supplementary one of Joliet (8.5).
func (im *Image) putDescriptor(b []byte, s *space) {
	b[0], b[6] = descriptorPrimary, 1
	copy(b[1:], "CD001")
	pad := func(at, n int, text string) {
		copy(b[at:at+n], bytes.Repeat([]byte(" "), n))
		copy(b[at:at+n], text)
	}
	label := strings.ToUpper(im.opts.VolumeID)
	if s.n == 1 {
		b[0] = descriptorSupplementary
		copy(b[88:], "%/E") // UCS-2, level 3
		pad = func(at, n int, text string) {
			for i := 0; i+1 < n; i += 2 {
				binary.BigEndian.PutUint16(b[at+i:], ' ')
			}
			for i, c := range utf16.Encode([]rune(text)) {
				if 2*i+1 < n {
					binary.BigEndian.PutUint16(b[at+2*i:], c)
				}
			}
		}
		label = im.opts.VolumeID
	}
	pad(8, 32, "")
	pad(40, 32, label)
	putBoth32(b[80:], uint32(im.total))
	putBoth16(b[120:], 1)
	putBoth16(b[124:], 1)
	putBoth16(b[128:], SectorSize)
	putBoth32(b[132:], uint32(s.table))
	binary.LittleEndian.PutUint32(b[140:], uint32(s.at))
	binary.BigEndian.PutUint32(b[148:], uint32(s.at+sectors(s.table)))
	root := &im.root.in[s.n]
	putRecord(b[156:], im.root, "\x00", root.sector, root.size, false, nil)
	pad(190, 3*128, "")
	pad(574, 128, im.opts.ApplicationID)
	pad(702, 3*37, "")
	for i := range 4 {
		putLongDate(b[813+17*i:], im.opts.Created, i < 2)
	}
	b[881] = 1
}

// putLongDate writes a date of 17 bytes (8.4.26.1).
func putLongDate(b []byte, t time.Time, known bool) {
	copy(b, "0000000000000000")
	if known && !t.IsZero() {
		copy(b, t.UTC().Format("2006010215040500"))
	}
}

func (s *space) putPathTables(b []byte) {
	l := b[s.at*SectorSize:]
	m := b[(s.at+sectors(s.table))*SectorSize:]
	for _, d := range s.dirs {
		r := &d.in[s.n]
		id := r.id
		if id == "" {
			id = "\x00"
		}
		for i, t := range [][]byte{l, m} {
			var order binary.ByteOrder = binary.LittleEndian
			if i == 1 {
				order = binary.BigEndian
			}
			t[0] = byte(len(id))
			order.PutUint32(t[2:], uint32(r.sector))
			order.PutUint16(t[6:], uint16(d.parent.in[s.n].number))
			copy(t[8:], id)
		}
		n := 8 + len(id) + len(id)%2
		l, m = l[n:], m[n:]
	}
}

func putDirectory(b []byte, d *entry, space int) {
	r, up := &d.in[space], &d.parent.in[space]
	at := putRecord(b, d, "\x00", r.sector, r.size, false, r.self[0])
	at += putRecord(b[at:], d.parent, "\x01", up.sector, up.size, false, r.self[1])
	for _, c := range r.kids {
		k := &c.in[space]
		left, sector := c.size, c.sector
		if c.dir {
			left, sector = k.size, k.sector
		}
		for i := range c.extents() {
			n := left
			if !c.dir {
				n = min(left, maxExtent)
			}
			l := recordLength(len(k.id), len(k.use))
			if at%SectorSize+l > SectorSize {
				at = (at/SectorSize + 1) * SectorSize
			}
			at += putRecord(b[at:], c, k.id, sector, n, i < c.extents()-1, k.use)
			left -= n
			sector += sectors(n)
		}
	}
}

// putRecord writes one directory record (9.1) and returns its length.
func putRecord(b []byte, e *entry, id string, sector, length int64, more bool, use []byte) int {
	n := recordLength(len(id), len(use))
	b[0] = byte(n)
	if length > 0 || e.dir {
		putBoth32(b[2:], uint32(sector))
	}
	putBoth32(b[10:], uint32(length))
	putWhen(b[18:25], e.when)
	if e.dir {
		b[25] |= flagDirectory
	}
	if more {
		b[25] |= flagMultiExtent
	}
	putBoth16(b[28:], 1)
	b[32] = byte(len(id))
	copy(b[33:], id)
	copy(b[recordFixed+len(id)+(len(id)+1)%2:], use)
	return n
}
