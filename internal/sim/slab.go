package sim

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"slices"
	"strings"
)

// A SlabGame is a title on the Vesper's own disk, as the console's menu shows it.
type SlabGame struct {
	ID, Name, Kind, Settings, Cover string
	Starts                          bool
	Why                             string // why it does not start
}

// A SlabDisk is the Vesper's own disk as the console reads it. It was written from docs/formats/slab.md.
type SlabDisk struct {
	Label string
	Games []SlabGame
	Files map[string][]byte // small files, by their names as they are written
}

const (
	vesperSlab = 4 << 20
	vesperHead = 4096
)

var vesperSums = crc32.MakeTable(crc32.Castagnoli)

// ReadSlab reads a disk as the Vesper does when it is switched on.
func ReadSlab(disk io.ReaderAt, size int64) (*SlabDisk, error) {
	get := func(at int64, n int) []byte {
		b := make([]byte, n)
		if k, _ := disk.ReadAt(b, at); k < n {
			return nil
		}
		return b
	}
	u32, u64 := binary.LittleEndian.Uint32, binary.LittleEndian.Uint64
	var h []byte
	for _, at := range []int64{0, vesperSlab - 512, vesperSlab - 4096} {
		b := get(at, 512)
		if b != nil && string(b[:8]) == "SLABDISK" && u32(b[508:]) == crc32.Checksum(b[:508], vesperSums) &&
			(at == 0 || at == vesperSlab-int64(u32(b[12:]))) {
			h = b
			break
		}
	}
	if h == nil {
		return nil, errors.New("no disk of the Vesper")
	}
	if h[8] != 1 || h[9] != 0 {
		return nil, errors.New("a disk of a newer Vesper")
	}
	sector, tables := int64(u32(h[12:])), int64(u32(h[20:]))
	if slabs := int64(u64(h[24:])); slabs*vesperSlab > size {
		return nil, errors.New("the disk is cut short")
	}
	var body []byte
	newest := uint64(0)
	for k := range int64(2) {
		at := vesperSlab * (1 + k*tables)
		b := get(at, 512)
		if b == nil || string(b[:8]) != "SLABTABL" || u32(b[508:]) != crc32.Checksum(b[:508], vesperSums) ||
			string(b[32:48]) != string(h[32:48]) || u64(b[16:]) > uint64(tables*vesperSlab-sector) {
			continue
		}
		records := get(at+sector, int(u64(b[16:])))
		if records == nil || crc32.Checksum(records, vesperSums) != u32(b[28:]) || u64(b[8:]) <= newest {
			continue
		}
		newest, body = u64(b[8:]), records
	}
	if newest == 0 {
		return nil, errors.New("both tables are damaged")
	}
	out := &SlabDisk{Label: strings.TrimRight(string(h[48:80]), "\x00"), Files: map[string][]byte{}}
	for len(body) > 0 {
		r := body[:u32(body[4:])]
		body = body[len(r):]
		length, want := int64(u64(r[8:])), u32(r[16:])
		extents := int(binary.LittleEndian.Uint16(r[42:]))
		at := 48 + 16*extents
		var texts []string
		for k := range 5 {
			n := int(binary.LittleEndian.Uint16(r[32+2*k:]))
			texts = append(texts, string(r[at:at+n]))
			at += n
		}
		content, skip := []byte{}, int64(0)
		title := r[0] == 1
		if title {
			skip = vesperHead
		}
		for k := range extents {
			first, count := int64(u64(r[48+16*k:])), int64(u64(r[56+16*k:]))
			n := min(count*sector-skip, length-int64(len(content)))
			content = append(content, get(first*sector+skip, int(n))...)
			skip = 0
		}
		right := int64(len(content)) == length && crc32.Checksum(content, vesperSums) == want
		if !title {
			if right {
				out.Files[texts[1]] = content
			}
			continue
		}
		g := SlabGame{ID: texts[0], Name: texts[1], Kind: texts[2], Settings: texts[3], Cover: texts[4], Starts: right}
		if !right {
			g.Why = fmt.Sprintf("its content is damaged: it has %d bytes of %d", len(content), length)
		}
		out.Games = append(out.Games, g)
	}
	slices.SortStableFunc(out.Games, func(a, b SlabGame) int {
		return strings.Compare(strings.ToUpper(a.Name), strings.ToUpper(b.Name))
	})
	return out, nil
}
