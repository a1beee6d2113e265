package fat

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"polytome/internal/format/fstree"
	"polytome/internal/format/volume"
)

// Offsets in an entry (FAT specification, "FAT Directory Structure").
const (
	entry      = 32
	dirAttr    = 11
	dirCase    = 12 // bits that old systems set for names in small letters
	dirCreated = 14
	dirRead    = 18
	dirHigh    = 20
	dirTime    = 22
	dirDate    = 24
	dirLow     = 26
	dirSize    = 28

	attrVolume = 0x08
	attrLong   = 0x0F
	removed    = 0xE5
	longUnits  = 13
	lastLong   = 0x40
	smallBase  = 0x08
	smallExt   = 0x10
)

// oem is the upper half of code page 437, in which short names are read.
const oem = "ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜ¢£¥₧ƒáíóúñÑªº¿⌐¬½¼¡«»░▒▓│┤╡╢╖╕╣║╗╝╜╛┐└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀αßΓπΣσµτΦΘΩδ∞φε∩≡±≥≤⌠⌡÷≈°∙·√ⁿ²■\u00a0"

var oemRunes = []rune(oem)

func decodeOEM(b []byte) string {
	out := make([]rune, len(b))
	for i, c := range b {
		if out[i] = rune(c); c >= 0x80 {
			out[i] = oemRunes[c-0x80]
		}
	}
	return string(out)
}

// checksum binds a long name to its short one.
func checksum(short []byte) byte {
	var sum byte
	for _, c := range short[:11] {
		sum = sum<<7 | sum>>1
		sum += c
	}
	return sum
}

// longAt are the offsets of the 13 units in an entry of a long name.
var longAt = [longUnits]int{1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30}

// shortText is a short name as it is shown.
func shortText(e []byte) string {
	b := append([]byte(nil), e[:11]...)
	if b[0] == 0x05 {
		b[0] = removed
	}
	base, ext := strings.TrimRight(decodeOEM(b[:8]), " "), strings.TrimRight(decodeOEM(b[8:11]), " ")
	if e[dirCase]&smallBase != 0 {
		base = strings.ToLower(base)
	}
	if e[dirCase]&smallExt != 0 {
		ext = strings.ToLower(ext)
	}
	if ext != "" {
		base += "." + ext
	}
	return base
}

// dateOf reads a date, which FAT keeps in local time.
func dateOf(date, clock uint16) time.Time {
	if date == 0 {
		return time.Time{}
	}
	return time.Date(int(date>>9)+1980, time.Month(date>>5&15), int(date&31), int(clock>>11), int(clock>>5&63),
		int(clock&31)*2, 0, time.Local)
}

func dateBits(t time.Time) (date, clock uint16) {
	t = t.Local()
	switch y := t.Year(); {
	case t.IsZero() || y < 1980:
		return 1<<5 | 1, 0
	case y > 2107:
		t = time.Date(2107, 12, 31, 23, 59, 58, 0, time.Local)
	}
	return uint16(t.Year()-1980)<<9 | uint16(t.Month())<<5 | uint16(t.Day()),
		uint16(t.Hour())<<11 | uint16(t.Minute())<<5 | uint16(t.Second()/2)
}

// isHead reports whether an entry of a folder is that for the folder itself, which is the first, or for what is above
// it, the second. One of the two, its name or its cluster, may be wrong.
func (f *format) isHead(dir *volume.Node, at int, name string, n *volume.Node) bool {
	if dir.Path() == "." || at > entry || n.Size > 0 {
		return false
	}
	if at == 0 {
		return n.Folder && (name == "." || n.First == dir.First) || name == "." && n.First == dir.First
	}
	return n.Folder && (name == ".." || n.First == 0 || n.First == dir.Above()) || name == ".." &&
		n.First == dir.Above()
}

// isData reports whether an entry whose kind is wrong is really that of a file or folder: it has a name that there can
// be, and a chain as long as it says.
func (f *format) isData(e []byte) bool {
	le := binary.LittleEndian
	n := volume.Node{First: uint32(le.Uint16(e[dirLow:])), Size: int64(le.Uint32(e[dirSize:]))}
	if f.g.bits == 32 {
		n.First |= uint32(le.Uint16(e[dirHigh:])) << 16
	}
	if n.First == 0 || badShort(e) || e[0] == ' ' {
		return false
	}
	runs, err := f.chain(n.First)
	var clusters int64
	for _, r := range runs {
		clusters += int64(r.Count)
	}
	return err == nil && (clusters == (n.Size+f.info.Cluster-1)/f.info.Cluster || n.Size == 0 && f.foldered(n.First))
}

// Entries takes a folder apart.
func (f *format) Entries(dir *volume.Node, data []byte) (kids []*volume.Node, slots []volume.Slot, end int,
	wrong []volume.Wrong) {
	le := binary.LittleEndian
	var units []uint16
	longFrom, want, sum := -1, 0, byte(0)
	orphan := func(at int) {
		if longFrom >= 0 {
			wrong = append(wrong, volume.Wrong{At: longFrom, N: (at - longFrom) / entry,
				Say: "a part of a long name has no file"})
		}
		longFrom, want, units = -1, 0, nil
	}
	at := 0
	for ; at+entry <= len(data) && data[at] != 0; at += entry {
		e := data[at : at+entry]
		attr := e[dirAttr]
		var kind *volume.Wrong // it says that it is something else than a file or folder
		if e[0] != removed && attr&attrVolume != 0 && f.isData(e) && (attr&0x3F != attrLong || longFrom >= 0 &&
			want == 1 && sum == checksum(e) || e[dirCase]&^(smallBase|smallExt) != 0 || le.Uint16(e[dirLow:]) != 0) {
			was := attr
			attr &= volume.ReadOnlyAttr | volume.HiddenAttr | volume.SystemAttr | volume.FolderAttr | volume.ArchiveAttr
			if was&0x3F == attrLong {
				attr = volume.ArchiveAttr
			}
			kind = &volume.Wrong{At: at, N: 1, Say: fmt.Sprintf("the entry of %q has the wrong type", shortText(e)),
				Repair: func(e []byte) { e[dirAttr] = attr }}
		}
		switch {
		case e[0] == removed:
			orphan(at)
		case attr&0x3F == attrLong:
			if le.Uint16(e[dirLow:]) != 0 || e[dirCase] != 0 {
				wrong = append(wrong, volume.Wrong{At: at, N: 1, Say: "a part of a long name has a cluster",
					Repair: func(e []byte) { clear(e[dirLow:dirSize]); e[dirCase] = 0 }})
			}
			order := int(e[0])
			if order&lastLong != 0 {
				orphan(at)
				longFrom, want, sum = at, order&^lastLong, e[13]
				units = make([]uint16, want*longUnits)
			} else if longFrom < 0 || order != want-1 || e[13] != sum {
				orphan(at)
				longFrom = at // a single piece
				orphan(at + entry)
				continue
			} else {
				want--
			}
			if want < 1 || want > 20 {
				orphan(at + entry)
				continue
			}
			for i, p := range longAt {
				units[(want-1)*longUnits+i] = le.Uint16(e[p:])
			}
		case attr&attrVolume != 0:
			orphan(at)
			if b, err := labelBytes(strings.TrimRight(decodeOEM(e[:11]), " ")); err != nil ||
				string(b) != string(e[:11]) {
				wrong = append(wrong, volume.Wrong{At: at, N: 1, Say: "the volume has an invalid label"})
			} else if dir.Path() != "." {
				wrong = append(wrong, volume.Wrong{At: at, N: 1, Say: "there is a label outside the root folder"})
			} else if le.Uint16(e[dirLow:]) != 0 || le.Uint16(e[dirHigh:]) != 0 || le.Uint32(e[dirSize:]) != 0 {
				wrong = append(wrong, volume.Wrong{At: at, N: 1, Say: "the label has a length or a cluster",
					Repair: func(e []byte) { clear(e[dirHigh : dirHigh+2]); clear(e[dirLow:]) }})
			}
		default:
			n := &volume.Node{Attr: uint16(attr), Folder: attr&volume.FolderAttr != 0,
				First: uint32(le.Uint16(e[dirLow:])),
				Size:  int64(le.Uint32(e[dirSize:])), Modified: dateOf(le.Uint16(e[dirDate:]), le.Uint16(e[dirTime:]))}
			if f.g.bits == 32 {
				n.First |= uint32(le.Uint16(e[dirHigh:])) << 16
			}
			if badShort(e) {
				wrong = append(wrong, volume.Wrong{At: at, N: 1, Say: "a short name has invalid characters",
					Repair: repairShort})
			}
			copy(n.Short[:], e[:11])
			slot := volume.Slot{At: at, N: 1}
			if longFrom >= 0 && want == 1 && sum == checksum(e) {
				slot = volume.Slot{At: longFrom, N: (at-longFrom)/entry + 1}
				for i, u := range units {
					if u == 0 {
						units = units[:i]
						break
					}
				}
				n.Name = string(utf16.Decode(units))
				longFrom, want, units = -1, 0, nil
			} else {
				orphan(at)
				n.Name = shortText(e)
			}
			if f.isHead(dir, at, n.Name, n) {
				continue
			}
			if kind != nil {
				wrong = append(wrong, *kind)
			}
			if !n.Folder && n.Size == 0 && n.First != 0 && f.foldered(n.First) {
				n.Folder = true
				n.Attr |= volume.FolderAttr
				wrong = append(wrong, volume.Wrong{At: at, N: 1, Say: fmt.Sprintf("the folder %q is marked as a file",
					n.Name), Repair: func(e []byte) { e[dirAttr] |= volume.FolderAttr }})
			}
			if n.Folder && n.Size > 0 {
				if f.foldered(n.First) {
					n.Size = 0
					wrong = append(wrong, volume.Wrong{At: at, N: 1,
						Say:    fmt.Sprintf("the folder %q has a length; folders have none", n.Name),
						Repair: func(e []byte) { clear(e[dirSize:]) }})
				} else {
					n.Folder = false
					n.Attr &^= volume.FolderAttr
					wrong = append(wrong, volume.Wrong{At: at, N: 1,
						Say:    fmt.Sprintf("the file %q is marked as a folder", n.Name),
						Repair: func(e []byte) { e[dirAttr] &^= volume.FolderAttr }})
				}
			}
			n.Valid = n.Size
			if why := f.check(n.Name); why != "" && (slot.N > 1 || n.Name == "." || n.Name == ".." || n.Name == "" ||
				strings.Contains(n.Name, "/")) {
				wrong = append(wrong, volume.Wrong{At: slot.At, N: slot.N,
					Say: fmt.Sprintf("the name %q is not possible: %s", n.Name, why), Rename: true})
				n.Name = fstree.SafeName(n.Name)
			}
			kids, slots = append(kids, n), append(slots, slot)
		}
	}
	orphan(at)
	for p := at; p+entry <= len(data); p += entry {
		e := slices.Clone(data[p : p+entry])
		if p == at {
			e[0] = '_'
		}
		if e[dirAttr]&attrVolume != 0 || e[0] == removed || !f.isData(e) {
			continue
		}
		return kids, slots, at, append(wrong, volume.Wrong{At: at, N: 1,
			Say: "the folder's end mark is before its last files", Repair: func(e []byte) {
				if e[0] = removed; p == at {
					e[0] = '_'
				}
			}})
	}
	for p := at; p+entry <= len(data); p += entry {
		if data[p] != 0 { // most systems stop reading before, some do not
			wrong = append(wrong, volume.Wrong{At: p, N: 1, Say: "there is data after the folder's end mark",
				Repair: func(e []byte) { clear(e) }})
		}
	}
	return kids, slots, at, wrong
}

// foldered reports whether a cluster begins like a folder.
func (f *format) foldered(first uint32) bool {
	b := make([]byte, entry)
	if first < 2 || first >= f.g.clusters+2 {
		return false
	}
	if _, err := f.dev.ReadAt(b, f.info.Heap+int64(first-2)*f.info.Cluster); err != nil {
		return false
	}
	return string(b[:11]) == ".          " && b[dirAttr]&volume.FolderAttr != 0
}

// badShort reports whether a short name has bytes that it must not have.
func badShort(e []byte) bool {
	b := append([]byte(nil), e[:11]...)
	repairShort(b)
	return string(b) != string(e[:11])
}

// repairShort replaces the bytes that a short name must not have.
func repairShort(e []byte) {
	if string(e[:11]) == ".          " || string(e[:11]) == "..         " {
		return
	}
	for _, part := range [][]byte{e[:8], e[8:11]} {
		end := len(strings.TrimRight(string(part), " "))
		for i, c := range part[:end] {
			if c <= ' ' && (i > 0 || len(part) == 3 || c != 0x05) || c >= 'a' && c <= 'z' || c == 0x7F ||
				strings.IndexByte(`"*+,./:;<=>?[\]|`, c) >= 0 {
				part[i] = '_'
			}
		}
	}
	if e[0] == ' ' {
		e[0] = '_'
	}
}

// Fold is the form in which two names are the same: in upper case.
func (f *format) Fold(name string) string { return strings.Map(unicode.ToUpper, name) }

const shortSigns = "$%'-_@~`!(){}^#&"

// shortOf makes a short name of one that is one as it stands.
func shortOf(name string) (s [11]byte, ok bool) {
	for i := range s {
		s[i] = ' '
	}
	base, ext, dotted := strings.Cut(name, ".")
	if base == "" || len(base) > 8 || len(ext) > 3 || dotted && ext == "" || !plainShort(base) || !plainShort(ext) {
		return s, false
	}
	copy(s[:8], base)
	copy(s[8:], ext)
	return s, true
}

func plainShort(s string) bool {
	for _, c := range []byte(s) {
		if !(c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte(shortSigns, c) >= 0) {
			return false
		}
	}
	return true
}

// squeeze makes the characters of a name those of short ones.
func squeeze(s string) string {
	var b strings.Builder
	for _, r := range s {
		switch r = unicode.ToUpper(r); {
		case r == ' ' || r == '.':
		case r < utf8.RuneSelf && plainShort(string(r)):
			b.WriteRune(r)
		default:
			b.WriteByte('_')
		}
	}
	return b.String()
}

// number finds a short name with a number that is free in the folder (FAT specification, "The Numeric-Tail
// Generation Algorithm").
func (f *format) number(name string, taken func([11]byte) bool) (s [11]byte, err error) {
	name = strings.TrimLeft(name, ". ")
	base, ext := name, ""
	if i := strings.LastIndexByte(name, '.'); i > 0 {
		base, ext = name[:i], name[i+1:]
	}
	base, ext = squeeze(base), squeeze(ext)
	ext = ext[:min(3, len(ext))]
	if base == "" {
		base = "_"
	}
	if f.counts == nil {
		f.counts = map[string]int{}
	}
	key := base[:min(2, len(base))] + "." + ext
	if len(base) > 6 {
		key = base[:6] + "." + ext
	}
	try := func(n int) bool {
		for i := range s {
			s[i] = ' '
		}
		mark := "~" + strconv.Itoa(n)
		copy(s[:8], base[:min(len(base), 8-len(mark))]+mark)
		copy(s[8:], ext)
		return !taken(s)
	}
	for n := 1; n <= 4; n++ { // in another folder they may be free again
		if try(n) {
			return s, nil
		}
	}
	for n := max(5, f.counts[key]); n < 1_000_000; n++ {
		if try(n) {
			f.counts[key] = n
			return s, nil
		}
	}
	for n := 5; n < max(5, f.counts[key]); n++ {
		if try(n) {
			return s, nil
		}
	}
	return s, fmt.Errorf("there is no short name left for %q in this folder", name)
}

// Encode makes the entries of a node: those of its long name, from behind, and the short one.
func (f *format) Encode(n *volume.Node, taken func([11]byte) bool) ([]byte, error) {
	if why := f.check(n.Name); why != "" {
		return nil, errors.New(why)
	}
	short, plain := shortOf(n.Name)
	if !plain || taken(short) {
		plain = false
		var err error
		if short, err = f.number(n.Name, taken); err != nil {
			return nil, err
		}
	}
	n.Short = short
	var long []byte
	if !plain {
		units := utf16.Encode([]rune(n.Name))
		k := (len(units) + longUnits - 1) / longUnits
		if len(units) < k*longUnits {
			units = append(units, 0)
		}
		for len(units) < k*longUnits {
			units = append(units, 0xFFFF)
		}
		sum := checksum(short[:])
		for i := k; i >= 1; i-- {
			e := make([]byte, entry)
			if e[0] = byte(i); i == k {
				e[0] |= lastLong
			}
			e[dirAttr], e[13] = attrLong, sum
			for j, p := range longAt {
				binary.LittleEndian.PutUint16(e[p:], units[(i-1)*longUnits+j])
			}
			long = append(long, e...)
		}
	}
	e := make([]byte, entry)
	copy(e, short[:])
	f.fill(e, n)
	date, clock := dateBits(n.Modified)
	binary.LittleEndian.PutUint16(e[dirCreated:], clock)
	binary.LittleEndian.PutUint16(e[dirCreated+2:], date)
	return append(long, e...), nil
}

// check says why there can be no file of that name.
func (f *format) check(name string) string { return volume.CheckName("FAT", name) }

// fill writes what is known of a node into its short entry.
func (f *format) fill(e []byte, n *volume.Node) {
	le := binary.LittleEndian
	e[dirAttr] = byte(n.Attr)
	le.PutUint16(e[dirLow:], uint16(n.First))
	if f.g.bits == 32 {
		le.PutUint16(e[dirHigh:], uint16(n.First>>16))
	}
	if !n.Folder {
		le.PutUint32(e[dirSize:], uint32(n.Size))
	}
	date, clock := dateBits(n.Modified)
	le.PutUint16(e[dirTime:], clock)
	le.PutUint16(e[dirDate:], date)
	le.PutUint16(e[dirRead:], date)
}

// Patch changes the short entry, the last one of a set.
func (f *format) Patch(set []byte, n *volume.Node) { f.fill(set[len(set)-entry:], n) }

// Gone marks entries as removed.
func (f *format) Gone(set []byte) {
	for i := 0; i < len(set); i += entry {
		set[i] = removed
	}
}

// Vacant reports whether an entry was removed.
func (f *format) Vacant(e []byte) bool { return e[0] == removed }

// NewFolder are the entries for the folder itself and for what is above it.
func (f *format) NewFolder(n, parent *volume.Node) []byte {
	out := make([]byte, 2*entry)
	self, up := *n, *parent
	self.Attr, up.Attr = volume.FolderAttr, volume.FolderAttr
	self.Folder, up.Folder = true, true
	up.Modified = n.Modified
	if parent.Path() == "." {
		up.First = 0
	}
	for i, k := range []*volume.Node{&self, &up} {
		e := out[i*entry : (i+1)*entry]
		copy(e, []string{".          ", "..         "}[i])
		f.fill(e, k)
	}
	return out
}

// FolderSizes is false: a folder is as long as its chain.
func (f *format) FolderSizes() bool { return false }

// LargestFile is what the length of a file can tell.
func (f *format) LargestFile() int64 { return 1<<32 - 1 }

// LargestFolder is 65,536 entries.
func (f *format) LargestFolder() int64 { return 1 << 21 }

// IsLabel reports whether an entry names the volume.
func (f *format) IsLabel(e []byte) bool {
	return e[0] != 0 && e[0] != removed && e[dirAttr]&0x3F != attrLong && e[dirAttr]&attrVolume != 0
}

// LabelEntry names the volume.
func (f *format) LabelEntry(label string, at time.Time) ([]byte, error) {
	if label == "" {
		return nil, nil
	}
	e := make([]byte, entry)
	b, err := labelBytes(label)
	if err != nil {
		return nil, err
	}
	copy(e, b)
	e[dirAttr] = attrVolume
	date, clock := dateBits(at)
	binary.LittleEndian.PutUint16(e[dirTime:], clock)
	binary.LittleEndian.PutUint16(e[dirDate:], date)
	return e, nil
}

// CheckLabel says why a volume cannot be called so.
func (f *format) CheckLabel(label string) string { return CheckLabel(label) }

// CheckLabel says why a FAT volume cannot be called so, "" for a label that it can have.
func CheckLabel(label string) string {
	if _, err := labelBytes(label); err != nil {
		return err.Error()
	}
	return ""
}

// labelBytes are the 11 bytes of a label.
func labelBytes(label string) ([]byte, error) {
	out := []byte("           ")
	if label == "" {
		return []byte("NO NAME    "), nil
	}
	i := 0
	for _, r := range strings.Map(unicode.ToUpper, label) {
		c := byte(r)
		if r >= utf8.RuneSelf {
			k := strings.IndexRune(oem, r)
			if k < 0 || r == '\u00a0' {
				return nil, fmt.Errorf("a FAT label cannot hold the character %q", r)
			}
			c = byte(0x80 + utf8.RuneCountInString(oem[:k]))
		} else if r < ' ' || strings.ContainsRune(`"*+,./:;<=>?[\]|`, r) {
			return nil, fmt.Errorf("a FAT label cannot hold the character %q", r)
		}
		if i == 11 {
			return nil, fmt.Errorf("it has %d characters; a FAT label has at most 11", utf8.RuneCountInString(label))
		}
		out[i] = c
		i++
	}
	if out[0] == ' ' {
		return nil, errors.New("a FAT label does not begin with a space")
	}
	if out[0] == removed {
		out[0] = 0x05
	}
	return out, nil
}

// hasLabel reports whether a boot sector has a field for a label: it says so, or names its kind as those do that have
// one.
func hasLabel(boot []byte, tail int64) bool {
	return boot[tail+tailSignature] == 0x29 || string(boot[tail+tailKind:tail+tailKind+3]) == "FAT"
}

// SetLabel writes the label into the boot sector and its backup.
func (f *format) SetLabel(label string) error {
	b, err := labelBytes(label)
	if err != nil {
		return err
	}
	tail := int64(tail16)
	if f.g.bits == 32 {
		tail = tail32
	}
	at := []int64{0}
	if f.g.backup > 0 {
		at = append(at, f.g.backup)
	}
	for _, s := range at {
		boot := make([]byte, f.g.sector)
		if _, err := f.dev.ReadAt(boot, s*f.g.sector); err != nil {
			return err
		}
		if !hasLabel(boot, tail) || boot[510] != 0x55 || boot[511] != 0xAA {
			continue
		}
		boot[tail+tailSignature] = 0x29
		copy(boot[tail+tailLabel:], b)
		if _, err := f.dev.WriteAt(boot, s*f.g.sector); err != nil {
			return fmt.Errorf("writing the label: %w", err)
		}
	}
	f.info.Label, f.g.label = label, label
	return nil
}
