package sim

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"unicode/utf16"
)

// A NetworkFile is a file of an exported volume as the Vesper finds it.
type NetworkFile struct {
	Path string
	Size int64
	runs [][2]int64 // where it lies: byte of the volume, and length
}

// exfatVolume reads an exFAT volume as a console does: it looks where files lie, once, and keeps that. It was written
// from the specification of the file system alone, and shares nothing with what writes volumes.
type exfatVolume struct {
	r                       io.ReaderAt
	sector, cluster         int64
	fat, heap, count, first int64
	files                   map[string]*NetworkFile // by their paths in upper case
	seen                    map[int64]bool          // first clusters of folders that were looked into
	followed                int                     // clusters of chains
}

// mountExFAT reads where the files of a volume lie.
func mountExFAT(r io.ReaderAt) (*exfatVolume, error) {
	b := make([]byte, 512)
	if n, err := r.ReadAt(b, 0); n < len(b) {
		return nil, fmt.Errorf("the volume cannot be read: %w", err)
	}
	if string(b[3:11]) != "EXFAT   " || b[510] != 0x55 || b[511] != 0xAA || b[108] < 9 || b[108] > 12 ||
		b[109] > 25-b[108] {
		return nil, errors.New("the volume is not exFAT")
	}
	if b[106]&2 != 0 {
		return nil, errors.New("the volume was not ejected in order")
	}
	u32 := func(at int) int64 { return int64(binary.LittleEndian.Uint32(b[at:])) }
	v := &exfatVolume{r: r, sector: 1 << b[108], fat: u32(80), heap: u32(88), count: u32(92), first: u32(96),
		files: map[string]*NetworkFile{}, seen: map[int64]bool{}}
	v.cluster = v.sector << b[109]
	return v, v.folder("", v.first, -1, false, 0)
}

// at is where a cluster lies.
func (v *exfatVolume) at(cluster int64) int64 { return v.heap*v.sector + (cluster-2)*v.cluster }

// chain is where n bytes from a cluster on lie; all of the chain with -1.
func (v *exfatVolume) chain(first, n int64, flat bool) (runs [][2]int64, err error) {
	if n == 0 {
		return nil, nil
	}
	if first < 2 || first >= v.count+2 {
		return nil, fmt.Errorf("cluster %d is none", first)
	}
	if flat {
		return [][2]int64{{v.at(first), n}}, nil
	}
	for c := first; ; {
		k := v.cluster
		if n >= 0 {
			k = min(k, n)
			n -= k
		}
		runs = append(runs, [2]int64{v.at(c), k})
		var b [4]byte
		if _, err := v.r.ReadAt(b[:], v.fat*v.sector+4*c); err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		v.followed++
		next := int64(binary.LittleEndian.Uint32(b[:]))
		switch {
		case n == 0 || next == 0xFFFFFFFF:
			return runs, nil
		case next < 2 || next >= v.count+2 || v.followed > mostFollowed:
			return nil, fmt.Errorf("the chain of cluster %d leads nowhere", first)
		}
		c = next
	}
}

// deepest is how deep folders nest at most that the console looks into, and largestFolder how many bytes one has.
const (
	deepest       = 8
	largestFolder = 16 << 20
	mostFollowed  = 1 << 20 // clusters of files and folders that do not lie in one piece
)

// folder looks into a folder.
func (v *exfatVolume) folder(name string, first, n int64, flat bool, depth int) error {
	if depth > deepest || v.seen[first] {
		return nil
	}
	v.seen[first] = true
	if n > largestFolder {
		return fmt.Errorf("the folder /%s is too long", name)
	}
	runs, err := v.chain(first, n, flat)
	if err != nil {
		return fmt.Errorf("the folder /%s: %w", name, err)
	}
	if int64(len(runs))*v.cluster > largestFolder {
		return fmt.Errorf("the folder /%s is too long", name)
	}
	var b []byte
	for _, r := range runs {
		piece := make([]byte, r[1])
		if k, err := v.r.ReadAt(piece, r[0]); k < len(piece) {
			return fmt.Errorf("the folder /%s cannot be read: %w", name, err)
		}
		b = append(b, piece...)
	}
	for at := 0; at+32 <= len(b) && b[at] != 0; {
		if b[at] != 0x85 || at+32*(2+int(b[at+1])-1) > len(b) {
			at += 32
			continue
		}
		set := b[at : at+32*(1+int(b[at+1]))]
		at += len(set)
		if err := v.entry(name, set, depth); err != nil {
			return err
		}
	}
	return nil
}

// entry takes in the entries of a file or folder.
func (v *exfatVolume) entry(in string, set []byte, depth int) error {
	if len(set) < 96 || set[32] != 0xC0 || !sumRight(set) {
		return nil
	}
	length, flat := int(set[35]), set[33]&2 != 0
	first, n := int64(binary.LittleEndian.Uint32(set[52:])), int64(binary.LittleEndian.Uint64(set[56:]))
	var name []uint16
	for at := 64; at < len(set) && set[at] == 0xC1; at += 32 {
		for k := 2; k < 32; k += 2 {
			name = append(name, binary.LittleEndian.Uint16(set[at+k:]))
		}
	}
	if length > len(name) || n < 0 {
		return nil
	}
	p := path.Join(in, string(utf16.Decode(name[:length])))
	if binary.LittleEndian.Uint16(set[4:])&0x10 != 0 {
		return v.folder(p, first, n, flat, depth+1)
	}
	runs, err := v.chain(first, n, flat)
	if err != nil {
		return fmt.Errorf("the file /%s: %w", p, err)
	}
	v.files[strings.ToUpper(p)] = &NetworkFile{p, n, runs}
	return nil
}

// sumRight reports whether a set of entries is whole, by its checksum.
func sumRight(set []byte) bool {
	var sum uint16
	for i, b := range set {
		if i != 2 && i != 3 {
			sum = sum<<15 | sum>>1
			sum += uint16(b)
		}
	}
	return sum == binary.LittleEndian.Uint16(set[2:])
}

// networkContent is what a file of the volume has.
type networkContent struct {
	r io.ReaderAt
	f *NetworkFile
}

func (c networkContent) ReadAt(b []byte, off int64) (done int, err error) {
	base := int64(0)
	for _, r := range c.f.runs {
		if at := off + int64(done) - base; at < r[1] && done < len(b) {
			k := min(int64(len(b)-done), r[1]-at)
			n, err := c.r.ReadAt(b[done:done+int(k)], r[0]+at)
			if done += n; n < int(k) {
				return done, err
			}
		}
		base += r[1]
	}
	if done < len(b) {
		return done, io.EOF
	}
	return done, nil
}
