package archive

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"polytome/internal/format/joined"
)

// Archives in parts (APPNOTE 6.3.10, 8.5): name.z01, name.z02 … and at the end name.zip, which has the list. Where
// things are is given by the number of a part and an offset in it.

var zipPart = regexp.MustCompile(`(?i)^(.*)\.z([0-9]{2,})$`)

// zipVolume reports which part of a zip archive a file is. The one that it is opened by ends in .zip, and is reported
// as the first.
func zipVolume(name string) (v Volume, ok bool) {
	m := zipPart.FindStringSubmatch(name)
	if m == nil {
		return v, false
	}
	n := 0
	if _, err := fmt.Sscan(strings.TrimLeft(m[2], "0")+" ", &n); err != nil || n < 1 {
		return v, false
	}
	zip, z := ".zip", ".z"
	if upper := name[len(m[1])+1]; upper == 'Z' {
		zip, z = ".ZIP", ".Z"
	}
	return Volume{Base: strings.ToLower(m[1]) + ".zip", Number: n + 1, name: func(n int) string {
		if n == 1 {
			return m[1] + zip
		}
		return fmt.Sprintf("%s%s%02d", m[1], z, n-1)
	}}, true
}

// The records at the end of an archive (APPNOTE 4.3.12 to 4.3.16).
const (
	endMagic   = "PK\x05\x06"
	endLength  = 22
	end64Magic = "PK\x06\x06"
	locMagic   = "PK\x06\x07"
	locLength  = 20
	dirMagic   = "PK\x01\x02"
	dirLength  = 46
	zip64Extra = 1
	longestEnd = endLength + 1<<16
	mostList   = 256 << 20 // bytes of a list
)

// zipEnd is what the end of an archive tells.
type zipEnd struct {
	disk, dirDisk uint32
	entries       uint64
	dirSize       int64
	dirAt         int64  // in its part
	loc           []byte // the record that reports where that of Zip64 is, nil for none
}

// readEnd reads the end of an archive; ok is false for what has none.
func readEnd(r io.ReaderAt, size int64) (e zipEnd, ok bool) {
	b := make([]byte, min(size, longestEnd))
	if _, err := r.ReadAt(b, size-int64(len(b))); err != nil && !errors.Is(err, io.EOF) {
		return e, false
	}
	le := binary.LittleEndian
	for at := len(b) - endLength; at >= 0; at-- {
		if string(b[at:at+4]) != endMagic || int(le.Uint16(b[at+20:]))+at+endLength != len(b) {
			continue
		}
		r := b[at:]
		e = zipEnd{disk: uint32(le.Uint16(r[4:])), dirDisk: uint32(le.Uint16(r[6:])),
			entries: uint64(le.Uint16(r[10:])), dirSize: int64(le.Uint32(r[12:])), dirAt: int64(le.Uint32(r[16:]))}
		if at >= locLength && string(b[at-locLength:at-locLength+4]) == locMagic {
			e.loc = b[at-locLength : at]
			if e.disk == 0xFFFF {
				e.disk = le.Uint32(e.loc[16:]) - 1
			}
		}
		return e, true
	}
	return e, false
}

// zipParts finds the other parts of an archive whose last one is open. names are all of them in their order; nil for an
// archive in one file.
func zipParts(name string, f *os.File, size int64) (names []string, err error) {
	if !strings.EqualFold(filepath.Ext(name), ".zip") {
		return nil, nil
	}
	e, ok := readEnd(f, size)
	if !ok || e.disk == 0 || e.disk > 9999 {
		return nil, nil
	}
	there, err := os.ReadDir(filepath.Dir(name))
	if err != nil {
		return nil, err
	}
	stem := strings.TrimSuffix(filepath.Base(name), filepath.Ext(name))
	for n := range e.disk {
		want := fmt.Sprintf("%s.z%02d", stem, n+1)
		found := ""
		for _, t := range there {
			if strings.EqualFold(t.Name(), want) {
				found = t.Name()
			}
		}
		if found == "" {
			return nil, &MissingPart{want}
		}
		names = append(names, filepath.Join(filepath.Dir(name), found))
	}
	return append(names, name), nil
}

// unsplit makes one archive of parts: their bytes one behind the other, with a list whose offsets count from the
// beginning of all.
func unsplit(parts []joined.Part) (io.ReaderAt, int64, error) {
	begins := make([]int64, len(parts))
	var total int64
	for i, p := range parts {
		begins[i] = total
		total += p.Size
	}
	at := func(disk uint32, off int64) (int64, error) {
		if int(disk) >= len(parts) || off < 0 || off > parts[disk].Size {
			return 0, fmt.Errorf("the archive's list names part %d of %d", disk+1, len(parts))
		}
		return begins[disk] + off, nil
	}
	all := joined.New(parts...)
	last := parts[len(parts)-1]
	e, ok := readEnd(last, last.Size)
	if !ok {
		return nil, 0, errors.New("the archive's list at its end is missing")
	}
	le := binary.LittleEndian
	if e.loc != nil && (e.entries == 0xFFFF || e.dirSize == 0xFFFFFFFF || e.dirAt == 0xFFFFFFFF ||
		e.dirDisk == 0xFFFF) {
		from, err := at(le.Uint32(e.loc[4:]), int64(le.Uint64(e.loc[8:])))
		if err != nil {
			return nil, 0, err
		}
		b := make([]byte, 56)
		if _, err := all.ReadAt(b, from); err != nil || string(b[:4]) != end64Magic {
			return nil, 0, errors.New("the archive's Zip64 list is missing")
		}
		e.dirDisk, e.entries, e.dirSize, e.dirAt = le.Uint32(b[20:]), le.Uint64(b[32:]), int64(le.Uint64(b[40:])),
			int64(le.Uint64(b[48:]))
	}
	from, err := at(e.dirDisk, e.dirAt)
	if err != nil {
		return nil, 0, err
	}
	if e.dirSize < 0 || e.dirSize > mostList || from+e.dirSize > total {
		return nil, 0, fmt.Errorf("the archive's list would have %d bytes", e.dirSize)
	}
	list := make([]byte, e.dirSize)
	if _, err := all.ReadAt(list, from); err != nil && !errors.Is(err, io.EOF) {
		return nil, 0, err
	}
	var out []byte
	n := uint64(0)
	for len(list) >= dirLength && string(list[:4]) == dirMagic {
		name, extra, comment := int(le.Uint16(list[28:])), int(le.Uint16(list[30:])), int(le.Uint16(list[32:]))
		length := dirLength + name + extra + comment
		if length > len(list) {
			break
		}
		r, err := rebase(list[:length], name, extra, at)
		if err != nil {
			return nil, 0, err
		}
		out = append(out, r...)
		list = list[length:]
		n++
	}
	if len(list) > 0 || n != e.entries {
		return nil, 0, fmt.Errorf("the archive's list announces %d files but has %d", e.entries, n)
	}
	// The end, always as Zip64 has it.
	dirSize := int64(len(out))
	end64 := make([]byte, 56+locLength+endLength)
	copy(end64, end64Magic)
	le.PutUint64(end64[4:], 44)
	le.PutUint16(end64[12:], 45)
	le.PutUint16(end64[14:], 45)
	le.PutUint64(end64[24:], n)
	le.PutUint64(end64[32:], n)
	le.PutUint64(end64[40:], uint64(dirSize))
	le.PutUint64(end64[48:], uint64(total))
	loc := end64[56:]
	copy(loc, locMagic)
	le.PutUint64(loc[8:], uint64(total+dirSize))
	le.PutUint32(loc[16:], 1)
	end := loc[locLength:]
	copy(end, endMagic)
	le.PutUint16(end[8:], 0xFFFF)
	le.PutUint16(end[10:], 0xFFFF)
	le.PutUint32(end[12:], 0xFFFFFFFF)
	le.PutUint32(end[16:], 0xFFFFFFFF)
	out = append(out, end64...)
	tail := joined.Part{ReaderAt: strings.NewReader(string(out)), Size: int64(len(out))}
	return joined.New(append(parts[:len(parts):len(parts)], tail)...), total + tail.Size, nil
}

// rebase is an entry of the list with the offset of its file counted from the beginning of all parts, in a field of
// Zip64.
func rebase(r []byte, name, extra int, at func(disk uint32, off int64) (int64, error)) ([]byte, error) {
	le := binary.LittleEndian
	packed, unpacked := uint64(le.Uint32(r[20:])), uint64(le.Uint32(r[24:]))
	disk, off := uint32(le.Uint16(r[34:])), uint64(le.Uint32(r[42:]))
	var rest []byte // other extra fields
	for x := r[dirLength+name : dirLength+name+extra]; len(x) >= 4; {
		n := int(le.Uint16(x[2:]))
		if 4+n > len(x) {
			break
		}
		if le.Uint16(x) != zip64Extra {
			rest = append(rest, x[:4+n]...)
			x = x[4+n:]
			continue
		}
		f := x[4 : 4+n]
		take := func(is bool, width int) (v uint64, ok bool) {
			if !is || len(f) < width {
				return 0, false
			}
			if v = uint64(le.Uint32(f)); width == 8 {
				v = le.Uint64(f)
			}
			f = f[width:]
			return v, true
		}
		if v, ok := take(unpacked == 0xFFFFFFFF, 8); ok {
			unpacked = v
		}
		if v, ok := take(packed == 0xFFFFFFFF, 8); ok {
			packed = v
		}
		if v, ok := take(off == 0xFFFFFFFF, 8); ok {
			off = v
		}
		if v, ok := take(disk == 0xFFFF, 4); ok {
			disk = uint32(v)
		}
		x = x[4+n:]
	}
	from, err := at(disk, int64(min(off, 1<<62)))
	if err != nil {
		return nil, err
	}
	field := make([]byte, 4+24)
	le.PutUint16(field, zip64Extra)
	le.PutUint16(field[2:], 24)
	le.PutUint64(field[4:], unpacked)
	le.PutUint64(field[12:], packed)
	le.PutUint64(field[20:], uint64(from))
	out := append([]byte(nil), r[:dirLength+name]...)
	le.PutUint32(out[20:], 0xFFFFFFFF)
	le.PutUint32(out[24:], 0xFFFFFFFF)
	le.PutUint16(out[30:], uint16(len(field)+len(rest)))
	le.PutUint16(out[34:], 0)
	le.PutUint32(out[42:], 0xFFFFFFFF)
	out = append(append(out, field...), rest...)
	return append(out, r[dirLength+name+extra:]...), nil
}
