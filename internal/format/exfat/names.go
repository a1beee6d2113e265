package exfat

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
	"unicode/utf16"
	"unicode/utf8"

	"polytome/internal/format/fstree"
	"polytome/internal/format/volume"
)

// The types of entries (exFAT specification, chapter 7). The uppermost bit says that an entry is in use.
const (
	entry = 32

	inUse      = 0x80
	typeBitmap = 0x81
	typeUpcase = 0x82
	typeLabel  = 0x83
	typeFile   = 0x85
	typeStream = 0xC0
	typeName   = 0xC1

	secondary = 0x40 // a type of an entry that belongs to the one before
	critical  = 0x20 // not set: the entry must be understood

	nameUnits  = 15
	flagAlloc  = 1
	flagFlat   = 2
	mostBehind = 18
)

func unitsOf(s string) []uint16 { return utf16.Encode([]rune(s)) }

// setChecksum is that over all entries of a set, but for itself (exFAT specification, 6.3.3).
func setChecksum(set []byte) uint16 {
	var sum uint16
	for i, c := range set {
		if i == 2 || i == 3 {
			continue
		}
		sum = sum<<15 | sum>>1
		sum += uint16(c)
	}
	return sum
}

// nameHash is that of a name in upper case (exFAT specification, 7.6.4).
func (f *format) nameHash(units []uint16) uint16 {
	var sum uint16
	for _, u := range units {
		u = f.up[u]
		for _, c := range [2]byte{byte(u), byte(u >> 8)} {
			sum = sum<<15 | sum>>1
			sum += uint16(c)
		}
	}
	return sum
}

// dateOf reads a date, its hundredths of a second, and how far its clock is from UTC.
func dateOf(stamp uint32, hundredths, zone byte) time.Time {
	if stamp == 0 {
		return time.Time{}
	}
	loc := time.Local
	if zone&0x80 != 0 {
		quarter := int(int8(zone<<1)) >> 1
		loc = time.FixedZone("", quarter*15*60)
	}
	return time.Date(int(stamp>>25)+1980, time.Month(stamp>>21&15), int(stamp>>16&31), int(stamp>>11&31),
		int(stamp>>5&63), int(stamp&31)*2, int(hundredths)*10_000_000, loc)
}

func dateBits(t time.Time) (stamp uint32, hundredths, zone byte) {
	if t.Year() < 1980 || t.Year() > 2107 {
		t = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	t = t.Local()
	_, offset := t.Zone()
	if offset%(15*60) != 0 {
		t, offset = t.UTC(), 0
	}
	stamp = uint32(t.Year()-1980)<<25 | uint32(t.Month())<<21 | uint32(t.Day())<<16 | uint32(t.Hour())<<11 | uint32(
		t.Minute())<<5 | uint32(t.Second()/2)
	return stamp, byte(t.Second()%2*100 + t.Nanosecond()/10_000_000), 0x80 | byte(offset/(15*60))&0x7F
}

// Entries takes a folder apart.
func (f *format) Entries(dir *volume.Node, data []byte) (kids []*volume.Node, slots []volume.Slot, end int,
	wrong []volume.Wrong) {
	at := 0
	for at+entry <= len(data) && data[at] != 0 {
		e := data[at : at+entry]
		n := 1
		switch {
		case e[0]&inUse == 0:
		case e[0] == typeFile:
			set, problem := setAt(data[at:])
			n = len(set) / entry
			if problem != "" {
				w := volume.Wrong{At: at, N: n, Say: problem}
				if node, k := f.remains(data[at:]); node != nil {
					n = k
					w.N, w.Rename = k, true
					kids, slots = append(kids, node), append(slots, volume.Slot{At: at, N: k})
				}
				wrong = append(wrong, w)
				break
			}
			node, say, repair, rename := f.node(set)
			if say != "" {
				wrong = append(wrong, volume.Wrong{At: at, N: n, Say: say, Repair: repair, Rename: rename})
			}
			kids, slots = append(kids, node), append(slots, volume.Slot{At: at, N: n})
		case e[0]&secondary != 0:
			w := volume.Wrong{At: at, N: 1, Say: "a directory entry has no file"}
			if node, k := f.remains(data[at:]); node != nil {
				n = k
				w.N, w.Rename = k, true
				kids, slots = append(kids, node), append(slots, volume.Slot{At: at, N: k})
			}
			wrong = append(wrong, w)
		case e[0] == typeBitmap, e[0] == typeUpcase:
		case e[0] == typeLabel:
			if e[1] > 11 {
				wrong = append(wrong, volume.Wrong{At: at, N: 1, Say: "the label is too long"})
			}
		case e[0]&critical == 0 && f.isFile(data[at:]): // all the rest agrees
			set := fileOf(data[at:])
			n = len(set) / entry
			wrong = append(wrong, volume.Wrong{At: at, N: n, Say: fmt.Sprintf("a file's entry has the type %#02x",
				e[0]), Repair: func(set []byte) { copy(set, fileOf(set)) }})
			node, _, _, _ := f.node(set)
			kids, slots = append(kids, node), append(slots, volume.Slot{At: at, N: n})
		case e[0]&critical == 0:
			wrong = append(wrong, volume.Wrong{At: at, N: 1,
				Say: fmt.Sprintf("there is an entry of the unknown type %#02x", e[0])})
		default: // of a vendor, with what belongs to it
			for at+(n+1)*entry <= len(data) && data[at+n*entry]&(inUse|secondary) == inUse|secondary {
				n++
			}
		}
		at += n * entry
	}
	end = at
	for p := at + entry; p+entry <= len(data); p += entry {
		// whole entries of files do not come about by chance
		if data[p] == typeFile && f.isFile(data[p:]) || f.isFile(data[at:]) {
			return kids, slots, end, append(wrong, volume.Wrong{At: at, N: 1,
				Say: "the folder's end mark is before its last files", Repair: func(e []byte) {
					if e[0] = typeFile &^ inUse; f.isFile(data[at:]) {
						set := fileOf(data[at:])
						copy(e, set[:entry])
					}
				}})
		}
	}
	for ; at+entry <= len(data); at += entry {
		if data[at] != 0 {
			wrong = append(wrong, volume.Wrong{At: at, N: 1, Say: "there is data after the folder's end mark",
				Repair: func(e []byte) { clear(e) }})
		}
	}
	return kids, slots, end, wrong
}

// setAt is the entries of a file, as far as they can be reported to be its own, and what is wrong with their order.
func setAt(data []byte) (set []byte, problem string) {
	n := 1
	for n <= int(data[1]) && (n+1)*entry <= len(data) && data[n*entry]&(inUse|secondary) == inUse|secondary {
		n++
	}
	set = data[:n*entry]
	switch {
	case data[1] < 2 || data[1] > mostBehind:
		return set, fmt.Sprintf("a file claims to have %d further entries", data[1])
	case n <= int(data[1]):
		return set, "a file lacks some of its entries"
	case set[entry] != typeStream:
		return set, "a file lacks its stream entry"
	}
	names := (int(set[entry+3]) + nameUnits - 1) / nameUnits
	if names < 1 || names+2 > n {
		return set, "a file lacks a part of its name"
	}
	for i := range names {
		if set[(2+i)*entry] != typeName {
			return set, "a file lacks a part of its name"
		}
	}
	return set, ""
}

// node makes a node of a set, and reports what is wrong with it.
func (f *format) node(set []byte) (n *volume.Node, say string, repair func([]byte), rename bool) {
	le := binary.LittleEndian
	s := set[entry:]
	units := make([]uint16, int(s[3]))
	for i := range units {
		units[i] = le.Uint16(set[(2+i/nameUnits)*entry+2+2*(i%nameUnits):])
	}
	n = &volume.Node{Name: string(utf16.Decode(units)), Attr: le.Uint16(set[4:]), First: le.Uint32(s[20:]),
		Size: int64(le.Uint64(s[24:])), Valid: int64(le.Uint64(s[8:])),
		Flat: s[1]&flagFlat != 0, Modified: dateOf(le.Uint32(set[12:]), set[21], set[23])}
	n.Folder = n.Attr&volume.FolderAttr != 0
	if n.Size < 0 {
		n.Size = math.MaxInt64
	}
	if n.Valid < 0 {
		n.Valid = n.Size
	}
	if n.Folder != f.foldered(n) && n.First != 0 && n.Size > 0 {
		n.Folder = !n.Folder
		n.Attr ^= volume.FolderAttr
		what := "the file %q is marked as a folder"
		if n.Folder {
			what = "the folder %q is marked as a file"
		}
		attr := n.Attr
		say = fmt.Sprintf(what, n.Name)
		repair = func(set []byte) {
			f.pad(set)
			le.PutUint16(set[4:], attr)
			le.PutUint16(set[entry+4:], f.nameHash(units))
			le.PutUint16(set[2:], setChecksum(set))
		}
	}
	if why := f.check(n.Name); why != "" {
		rename = true
		say, repair = fmt.Sprintf("the name %q is not possible: %s", n.Name, why), nil
		n.Name = fstree.SafeName(n.Name)
		return n, say, repair, rename
	}
	again := func(set []byte) {
		f.pad(set)
		if n.Size < math.MaxInt64 && uint64(n.Size) < le.Uint64(set[entry+8:]) {
			le.PutUint64(set[entry+8:], uint64(n.Size))
		}
		le.PutUint16(set[entry+4:], f.nameHash(units))
		le.PutUint16(set[2:], setChecksum(set))
	}
	if say != "" {
		return n, say, repair, false
	}
	if n.First == 0 && n.Flat {
		n.Flat = false
		say = fmt.Sprintf("%q claims to have clusters but has none", n.Name)
		repair = func(set []byte) { set[entry+1] &^= flagFlat; again(set) }
	}
	if le.Uint16(set[2:]) != setChecksum(set) || le.Uint16(s[4:]) != f.nameHash(units) {
		say, repair = fmt.Sprintf("the checksum of %q is wrong", n.Name), again
	}
	if s[1]&flagAlloc == 0 && n.First != 0 {
		say, repair = fmt.Sprintf("%q claims that it can have no clusters", n.Name),
			func(set []byte) { set[entry+1] |= flagAlloc; again(set) }
	}
	n.Name = fstree.SafeName(n.Name)
	return n, say, repair, false
}

// pad makes the units behind the end of a name zeros.
func (f *format) pad(set []byte) {
	for i := int(set[entry+3]); i < (len(set)/entry-2)*nameUnits; i++ {
		if e := set[(2+i/nameUnits)*entry:]; e[0] == typeName {
			e[2+2*(i%nameUnits)], e[3+2*(i%nameUnits)] = 0, 0
		}
	}
}

// fileOf is a set of entries with the type and number that its first one must have.
func fileOf(data []byte) []byte {
	n := 1
	for n <= mostBehind && (n+1)*entry <= len(data) && data[n*entry]&(inUse|secondary) == inUse|secondary {
		n++
	}
	set := bytes.Clone(data[:n*entry])
	set[0], set[1] = typeFile, byte(n-1)
	return set
}

// isFile reports whether entries are those of a file but for the type of the first one, as their checksum tells.
func (f *format) isFile(data []byte) bool {
	set := fileOf(data)
	_, problem := setAt(set)
	return problem == "" && binary.LittleEndian.Uint16(set[2:]) == setChecksum(set)
}

// remains makes a node of what is left of a file's entries, if the one that reports where it lies is among them; n is
// how many entries they are.
func (f *format) remains(data []byte) (node *volume.Node, n int) {
	from := 0
	if data[0] == typeFile {
		n, from = 1, entry
	}
	if from+entry > len(data) || data[from] != typeStream {
		return nil, 0
	}
	n++
	var units []uint16
	for (n+1)*entry <= len(data) && n <= mostBehind && data[n*entry] == typeName {
		for i := range nameUnits {
			units = append(units, binary.LittleEndian.Uint16(data[n*entry+2+2*i:]))
		}
		n++
	}
	set := make([]byte, 2*entry)
	copy(set[entry:], data[from:from+entry])
	if from > 0 {
		copy(set, data[:entry])
	} else {
		set[4] = volume.ArchiveAttr
	}
	if end := slices.Index(units, 0); end >= 0 {
		units = units[:end]
	}
	if k := int(set[entry+3]); k > 0 && k < len(units) {
		units = units[:k]
	}
	set[entry+3] = 0
	node, _, _, _ = f.node(set)
	if node.First == 0 {
		return nil, 0
	}
	if node.Name = fstree.SafeName(string(utf16.Decode(units))); len(units) == 0 {
		node.Name = "found"
	}
	return node, n
}

// foldered reports whether what is where a node says is a folder, or may be one where that does not tell.
func (f *format) foldered(n *volume.Node) bool {
	if n.First < 2 || n.First >= f.g.clusters+2 {
		return n.Folder
	}
	if n.Folder && (n.Size%f.g.cluster != 0) {
		return false
	}
	b := make([]byte, min(f.g.cluster, 64<<10))
	if _, err := f.dev.ReadAt(b, f.offset(n.First)); err != nil {
		return n.Folder
	}
	if n.Folder {
		return f.IsFolder(n, b)
	}
	if n.Size%f.g.cluster != 0 || b[0] != typeFile {
		return false
	}
	_, problem := setAt(b)
	set := fileOf(b)
	return problem == "" && binary.LittleEndian.Uint16(set[2:]) == setChecksum(set)
}

// IsFolder reports whether all entries of the first cluster are of types that there are.
func (f *format) IsFolder(_ *volume.Node, data []byte) bool {
	data = data[:min(int64(len(data)), f.g.cluster)]
	wrong := 0
	for at := 0; at+entry <= len(data) && data[at] != 0; at += entry {
		switch t := data[at] | inUse; {
		case t == typeFile, t == typeStream, t == typeName, t == typeBitmap, t == typeUpcase, t == typeLabel,
			t&critical != 0:
		default:
			wrong++
		}
	}
	return wrong <= 1 // which may be damaged
}

// Encode makes the entries of a node.
func (f *format) Encode(n *volume.Node, _ func([11]byte) bool) ([]byte, error) {
	if why := f.check(n.Name); why != "" {
		return nil, errors.New(why)
	}
	le := binary.LittleEndian
	units := unitsOf(n.Name)
	names := (len(units) + nameUnits - 1) / nameUnits
	set := make([]byte, (2+names)*entry)
	set[0], set[1] = typeFile, byte(1+names)
	s := set[entry:]
	s[0], s[1], s[3] = typeStream, flagAlloc, byte(len(units))
	le.PutUint16(s[4:], f.nameHash(units))
	for i := range names {
		e := set[(2+i)*entry:]
		e[0] = typeName
		for k, u := range units[i*nameUnits : min((i+1)*nameUnits, len(units))] {
			le.PutUint16(e[2+2*k:], u)
		}
	}
	stamp, hundredths, zone := dateBits(n.Modified)
	le.PutUint32(set[8:], stamp)
	set[20], set[22] = hundredths, zone
	f.Patch(set, n)
	return set, nil
}

// Patch changes what a folder says of a file beside its name.
func (f *format) Patch(set []byte, n *volume.Node) {
	le := binary.LittleEndian
	le.PutUint16(set[4:], n.Attr)
	stamp, hundredths, zone := dateBits(n.Modified)
	le.PutUint32(set[12:], stamp)
	le.PutUint32(set[16:], stamp)
	set[21], set[23], set[24] = hundredths, zone, zone
	s := set[entry:]
	s[1] &^= flagFlat
	if n.Flat && n.First != 0 {
		s[1] |= flagFlat
	}
	if n.First != 0 {
		s[1] |= flagAlloc
	}
	le.PutUint64(s[8:], uint64(n.Valid))
	le.PutUint32(s[20:], n.First)
	le.PutUint64(s[24:], uint64(n.Size))
	le.PutUint16(set[2:], setChecksum(set))
}

// Gone takes the mark of use away. What was never used gets a type, as 0 would end the folder.
func (f *format) Gone(set []byte) {
	for i := 0; i < len(set); i += entry {
		if set[i] &^= inUse; set[i] == 0 {
			set[i] = typeFile &^ inUse
		}
	}
}

// Vacant reports whether an entry is not in use.
func (f *format) Vacant(e []byte) bool { return e[0] != 0 && e[0]&inUse == 0 }

// check says why there can be no file of that name.
func (f *format) check(name string) string { return volume.CheckName("exFAT", name) }

func labelOf(e []byte) string {
	units := make([]uint16, min(int(e[1]), 11))
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(e[2+2*i:])
	}
	return string(utf16.Decode(units))
}

// IsLabel reports whether an entry names the volume.
func (f *format) IsLabel(e []byte) bool { return e[0] == typeLabel }

// LabelEntry names the volume.
func (f *format) LabelEntry(label string, _ time.Time) ([]byte, error) {
	if label == "" {
		return nil, nil
	}
	if why := CheckLabel(label); why != "" {
		return nil, errors.New(why)
	}
	e := make([]byte, entry)
	units := unitsOf(label)
	e[0], e[1] = typeLabel, byte(len(units))
	for i, u := range units {
		binary.LittleEndian.PutUint16(e[2+2*i:], u)
	}
	return e, nil
}

// CheckLabel says why a volume cannot be named so.
func (f *format) CheckLabel(label string) string { return CheckLabel(label) }

// CheckLabel says why an exFAT volume cannot be named so, "" for a label that it can have.
func CheckLabel(label string) string {
	if n := len(unitsOf(label)); n > 11 {
		return fmt.Sprintf("it has %d characters; an exFAT label has at most 11", n)
	}
	for _, r := range label {
		if r < ' ' || strings.ContainsRune(`"*/:<>?\|`, r) || r == utf8.RuneError {
			return fmt.Sprintf("an exFAT label cannot hold the character %q", r)
		}
	}
	return ""
}
