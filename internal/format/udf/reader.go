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

// DeclaredSize is where the volume's last partition ends in bytes, as the volume itself
// states it. An image with fewer bytes is truncated.
func (v *Volume) DeclaredSize() int64 { return v.declared }

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
