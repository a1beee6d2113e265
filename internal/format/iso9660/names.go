package iso9660

import (
	"cmp"
	"encoding/binary"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"
)

// name gives all entries their identifiers in every name space.
func (im *Image) name() { im.nameIn(im.root) }

func (im *Image) nameIn(d *entry) {
	primary, joliet := map[string]bool{}, map[string]bool{}
	for _, c := range d.children {
		c.in[0].id = primaryName(c.name, c.dir, im.opts.Level, primary)
		if shown := trimVersion(c.in[0].id, c.dir); shown != c.name {
			im.Renamed++
		}
		if im.opts.Joliet {
			c.in[1].id = jolietName(c.name, c.dir, joliet)
		}
		if c.dir {
			im.nameIn(c)
		}
	}
	for n := range d.in {
		d.in[n].kids = slices.Clone(d.children)
	}
	slices.SortFunc(d.in[0].kids, func(a, b *entry) int { return compareIDs(a.in[0].id, b.in[0].id) })
	slices.SortFunc(d.in[1].kids, func(a, b *entry) int { return strings.Compare(a.in[1].id, b.in[1].id) })
}

// compareIDs orders identifiers as 9.3 asks: names and extensions as if padded
// with spaces.
func compareIDs(a, b string) int {
	an, ae, _ := strings.Cut(strings.TrimSuffix(a, ";1"), ".")
	bn, be, _ := strings.Cut(strings.TrimSuffix(b, ";1"), ".")
	return cmp.Or(strings.Compare(an, bn), strings.Compare(ae, be))
}

// primaryName makes a legal identifier (7.5, 7.6, 10.1) that is not yet taken.
func primaryName(name string, dir bool, level int, taken map[string]bool) string {
	legal := func(s string) string {
		return strings.Map(func(r rune) rune {
			switch {
			case r >= 'A' && r <= 'Z', r >= '0' && r <= '9', r == '_':
				return r
			case r >= 'a' && r <= 'z':
				return r - 'a' + 'A'
			}
			return '_'
		}, s)
	}
	base, ext := name, ""
	if i := strings.LastIndexByte(name, '.'); !dir && i >= 0 {
		base, ext = name[:i], name[i+1:]
	}
	base, ext = legal(base), legal(ext)
	longest := 30
	if level == 1 {
		ext = ext[:min(len(ext), 3)]
		longest = 8 + len(ext)
	}
	ext = ext[:min(len(ext), 8)]
	for n := 0; ; n++ {
		mark := ""
		if n > 0 {
			mark = "_" + strconv.Itoa(n)
		}
		id := base[:min(len(base), longest-len(ext)-len(mark))] + mark
		if !dir {
			id += "." + ext + ";1"
		}
		if !taken[id] {
			taken[id] = true
			return id
		}
	}
}

// longestJoliet is how many UCS-2 characters a Joliet name has at most.
const longestJoliet = 64

// jolietName makes a Joliet identifier, in UCS-2 with the higher byte first, that is not yet taken.
func jolietName(name string, dir bool, taken map[string]bool) string {
	legal := strings.Map(func(r rune) rune {
		if r < ' ' || strings.ContainsRune(`*/:;?\`, r) || r > 0xFFFF {
			return '_'
		}
		return r
	}, name)
	base, ext := utf16.Encode([]rune(legal)), []uint16(nil)
	if i := strings.LastIndexByte(legal, '.'); !dir && i > 0 && len(legal)-i <= 16 {
		base, ext = utf16.Encode([]rune(legal[:i])), utf16.Encode([]rune(legal[i:]))
	}
	version := ""
	if !dir {
		version = ";1"
	}
	for n := 0; ; n++ {
		mark := ""
		if n > 0 {
			mark = "_" + strconv.Itoa(n)
		}
		keep := min(len(base), longestJoliet-len(ext)-len(mark)-len(version))
		u := slices.Concat(base[:keep], utf16.Encode([]rune(mark)), ext, utf16.Encode([]rune(version)))
		b := make([]byte, 2*len(u))
		for i, c := range u {
			binary.BigEndian.PutUint16(b[2*i:], c)
		}
		if key := strings.ToUpper(string(utf16.Decode(u))); !taken[key] {
			taken[key] = true
			return string(b)
		}
	}
}
