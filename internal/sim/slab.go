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

// ReadSlab reads a disk as the Vesper does when it is switched on, and starts every title, which is then read whole.
func ReadSlab(disk io.ReaderAt, size int64) (*SlabDisk, error) { return readSlab(disk, size, true) }

// ListSlab reads a disk as the Vesper does when it is switched on, and starts nothing.
func ListSlab(disk io.ReaderAt, size int64) (*SlabDisk, error) { return readSlab(disk, size, false) }

func readSlab(disk io.ReaderAt, size int64, start bool) (*SlabDisk, error) {
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
		title, skip := r[0] == 1, int64(0)
		if title {
			skip = vesperHead
		}
		c := &slabContent{disk: disk, length: length}
		for k := range extents {
			first, count := int64(u64(r[48+16*k:])), int64(u64(r[56+16*k:]))
			c.runs = append(c.runs, [2]int64{first*sector + skip, count*sector - skip})
			skip = 0
		}
		if !title {
			if length > vesperSlab || strings.HasSuffix(texts[1], ".begun") { // nothing that the console looks for
				continue
			}
			if data, err := io.ReadAll(io.NewSectionReader(c, 0, length)); err == nil && crc32.Checksum(data,
				vesperSums) == want {
				out.Files[texts[1]] = data
			}
			continue
		}
		g := SlabGame{ID: texts[0], Name: texts[1], Kind: texts[2], Settings: texts[3], Cover: texts[4]}
		if start {
			g.Why = c.wrong(want)
		}
		g.Starts = g.Why == ""
		out.Games = append(out.Games, g)
	}
	slices.SortStableFunc(out.Games, func(a, b SlabGame) int {
		return strings.Compare(strings.ToUpper(a.Name), strings.ToUpper(b.Name))
	})
	return out, nil
}

// slabContent is what is in the runs of a record, of which each has a place and a length.
type slabContent struct {
	disk   io.ReaderAt
	length int64
	runs   [][2]int64
}

// ReadAt reads.
func (c *slabContent) ReadAt(b []byte, off int64) (n int, err error) {
	for _, r := range c.runs {
		if off >= r[1] {
			off -= r[1]
			continue
		}
		k, err := c.disk.ReadAt(b[n:min(int64(len(b)), int64(n)+r[1]-off)], r[0]+off)
		if n += k; n == len(b) || err != nil {
			return n, err
		}
		off = 0
	}
	return n, io.EOF
}

// wrong says why a title does not start; "" where it does.
func (c *slabContent) wrong(want uint32) string {
	h := crc32.New(vesperSums)
	n, err := io.Copy(h, io.NewSectionReader(c, 0, c.length))
	if err != nil || n != c.length || h.Sum32() != want {
		return fmt.Sprintf("its content is damaged: it has %d bytes of %d", n, c.length)
	}
	return ""
}
