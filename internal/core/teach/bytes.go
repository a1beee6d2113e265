package teach

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"polytome/internal/core/loader"
)

// codes finds single bytes that are one of a few letters, digits or small numbers: what stands for a kind or region.
func (c *class) codes(all [][]byte, fromEnd bool, add func(*place)) {
	least := mostOffsets
	for _, b := range all {
		least = min(least, len(b))
	}
	for k := range least {
		distinct := map[byte]bool{}
		letters, small := true, true
		for _, b := range all {
			v := b[k]
			if fromEnd {
				v = b[len(b)-least+k]
			}
			distinct[v] = true
			letters = letters && (v >= '0' && v <= '9' || v >= 'A' && v <= 'Z' || v >= 'a' && v <= 'z')
			small = small && v < 32
		}
		if len(distinct) < 2 || len(distinct) > mostParts || !letters && !small {
			continue
		}
		at := int64(k)
		where := fmt.Sprintf("byte 0x%X", k)
		if fromEnd {
			at = int64(k - least)
			where = fmt.Sprintf("%d bytes before the end", -at)
		}
		p := &place{marker: loader.Marker{Syntax: loader.Binary}, where: where + ", 1 byte", cost: 4,
			read: loader.Reading{Offset: &at, Length: 1, Encoding: "ascii"}}
		if small {
			p.read.Encoding, p.cost = "number-le", 5
		}
		add(p)
	}
}

// inInnerBytes finds values at fixed places of a file that is no text.
func (c *class) inInnerBytes(file string, heads [][]byte, add func(*place)) {
	for _, fromEnd := range []bool{false, true} {
		c.standing(heads, fromEnd, func(p *place) {
			p.marker.File, p.where = file, file+", "+p.where
			add(p)
		})
	}
	c.atOffsets(heads, false, func(p *place) {
		p.marker.File, p.where = file, file+", "+p.where
		add(p)
	})
	c.atOffsets(heads, true, func(p *place) {
		p.marker.File, p.where = file, file+", "+p.where
		add(p)
	})
}

// inBytes finds values at fixed places of the games' own files.
func (c *class) inBytes(add func(*place)) {
	var heads, tails [][]byte
	for _, s := range c.all {
		heads, tails = append(heads, s.head), append(tails, s.tail)
	}
	c.standing(heads, false, add)
	c.standing(tails, true, add)
	c.atOffsets(heads, false, add)
	c.atOffsets(tails, true, add)
	c.codes(heads, false, add)
	c.codes(tails, true, add)
	texts := make([]string, len(heads))
	for i, b := range heads {
		b = b[:min(len(b), searchBytes)]
		texts[i] = strings.Map(func(r rune) rune {
			if r < ' ' || r > 0x7E {
				return '\n'
			}
			return r
		}, string(latin(b)))
	}
	c.searched(texts, func(p *place) {
		zero := int64(0)
		p.marker, p.read.Offset, p.read.Length = loader.Marker{Syntax: loader.Binary}, &zero, searchBytes
		p.where = "in the first bytes, " + p.where
	}, c.keep)
}

// searchBytes is how far from a file's beginning words are looked for that may stand anywhere.
const searchBytes = 4096

// latin has a character for each byte.
func latin(b []byte) []rune {
	out := make([]rune, len(b))
	for i, c := range b {
		out[i] = rune(c)
	}
	return out
}

// mostOffsets is up to where in a file's bytes values are looked for at every place.
const mostOffsets = 512

// atOffsets finds texts and numbers that stand at the same place of all, counted from the beginning or the end.
func (c *class) atOffsets(all [][]byte, fromEnd bool, add func(*place)) {
	least := mostOffsets
	for _, b := range all {
		least = min(least, len(b))
	}
	if least < 2 {
		return
	}
	window := make([][]byte, len(all)) // what is looked at of each
	for i, b := range all {
		if window[i] = b[:least]; fromEnd {
			window[i] = b[len(b)-least:]
		}
	}
	put := func(at, length int, encoding string, cost int, text bool) {
		offset := int64(at)
		where := fmt.Sprintf("byte 0x%X, %d bytes, %s", at, length, encoding)
		if fromEnd {
			offset = int64(at - least)
			where = fmt.Sprintf("%d bytes before the end, %d bytes, %s", least-at, length, encoding)
		}
		add(&place{marker: loader.Marker{Syntax: loader.Binary}, where: where, cost: cost, text: text,
			within: behindWord(window[0], at),
			read:   loader.Reading{Offset: &offset, Length: int64(length), Encoding: encoding}})
	}
	for _, encoding := range []string{"ascii", "shift-jis", "latin-1", "utf-8", "utf-16be", "utf-16le"} {
		for at := 0; at < least; at++ {
			if length := field(window, at, encoding); length > 0 {
				put(at, length, encoding, 3, length > 24)
			}
		}
	}
	for at := 0; at < min(least, 96); at++ {
		for _, width := range []int{1, 2, 3, 4} {
			for _, encoding := range []string{"number-be", "number-le"} {
				if at+width <= least && (width > 1 || encoding == "number-le") {
					put(at, width, encoding, 6+width, false)
				}
			}
		}
	}
}

// field is how long a text is that stands at a place of all: from behind what is no text, up to where something else
// begins; 0 where there is none.
func field(all [][]byte, at int, encoding string) int {
	unit := 1
	if strings.HasPrefix(encoding, "utf-16") {
		unit = 2
	}
	least, longest, high := len(all[0])-at, 0, false
	differ := false
	column := len(all[0])
	if unit == 1 {
		column = at + nextColumn(all, at)
	}
	for _, b := range all {
		b = b[:column]
		text, after := run(b[at:], encoding, unit)
		if text == 0 || at >= unit && isText(b[at-unit:at], encoding) && !allAlike(all, at) {
			return 0
		}
		least, longest = min(least, after), max(longest, text)
		differ = differ || string(b[at:at+text]) != string(all[0][at:at+text])
		high = high || slices.ContainsFunc(b[at:at+text], func(c byte) bool { return c >= 0x80 })
	}
	if longest > least || !differ || longest < 2*unit || (encoding != "ascii" && unit == 1) != high {
		return 0
	}
	return min(least, 128) / unit * unit
}

// nextColumn is how many bytes on the next text begins behind one that is filled up with spaces: at the same place in
// all.
func nextColumn(all [][]byte, at int) int {
	for n := 2; at+n < len(all[0]); n++ {
		filled := false
		if slices.ContainsFunc(all, func(b []byte) bool {
			filled = filled || b[at+n-2] == ' '
			return b[at+n-1] != ' ' || b[at+n] <= ' '
		}) || !filled {
			continue
		}
		return n
	}
	return len(all[0]) - at
}

// allAlike reports whether the byte before a place is the same in all: a fixed text ends there.
func allAlike(all [][]byte, at int) bool {
	return !slices.ContainsFunc(all, func(b []byte) bool { return b[at-1] != all[0][at-1] })
}

// run is how many bytes of text stand at the beginning, and up to where nothing but filling stands behind.
func run(b []byte, encoding string, unit int) (text, after int) {
	for text+unit <= len(b) && isText(b[text:text+unit], encoding) {
		text += unit
	}
	after = text
	if after < len(b) {
		fill := b[after]
		if fill != 0 && fill != ' ' && fill != 0xFF {
			return text, after
		}
		for after < len(b) && b[after] == fill {
			after++
		}
	}
	return text, after
}

// isText reports whether a unit of an encoding may stand in a name.
func isText(b []byte, encoding string) bool {
	switch encoding {
	case "utf-16be":
		return b[0] == 0 && b[1] >= ' ' && b[1] < 0x7F || b[0] >= 0x30 && b[0] < 0xA0
	case "utf-16le":
		return b[1] == 0 && b[0] >= ' ' && b[0] < 0x7F || b[1] >= 0x30 && b[1] < 0xA0
	case "ascii":
		return b[0] >= ' ' && b[0] < 0x7F
	}
	return b[0] >= ' ' && b[0] != 0x7F && (b[0] < 0x80 || b[0] >= 0x81)
}

// carve finds the part of longer texts that counts: what stands between the same texts in all samples. wants are what
// may count in each.
func carve(p *place, field string, wants func(i int, text string) (from, to int, ok bool)) (pattern string, ok bool) {
	var before, parts, behind []string
	texts := filled(p.values)
	for i, v := range p.values {
		if v == "" {
			continue
		}
		if from, to, found := wants(i, v); found {
			before, parts, behind = append(before, v[:from]), append(parts, v[from:to]), append(behind, v[to:])
		}
	}
	if len(parts) == 0 || len(parts)*10 < texts*8 {
		return "", false
	}
	left, right := commonEnd(before), commonBegin(behind)
	begins, ends := !slices.ContainsFunc(before, isSome), !slices.ContainsFunc(behind, isSome)
	if right == "" && !ends { // marks at its end may belong to it
		if mark := nextMark(behind, map[string]int{"id": 4, "name": 60}[field]); mark != "" {
			for i := range behind {
				at := strings.Index(behind[i], mark)
				parts[i], behind[i] = parts[i]+behind[i][:at], behind[i][at:]
			}
			right = mark
		}
	}
	left, right = last(strings.ToValidUTF8(left, ""), 8), firstOf(strings.ToValidUTF8(right, ""), 4)
	if begins && ends || !begins && left == "" || !ends && right == "" { // all of it, or nothing tells where it stands
		return "", false
	}
	b := regexp.QuoteMeta(left)
	if begins {
		b = "^"
	}
	b += "(?P<" + field + ">" + shapeOf(parts, right) + ")"
	if ends {
		return b + "$", true
	}
	return b + regexp.QuoteMeta(right), true
}

func isSome(s string) bool { return s != "" }

// nextMark is the character with which the shortest text begins, where it stands in all others too, at most so many
// bytes from their beginning; "" for none.
func nextMark(texts []string, within int) string {
	shortest := slices.MinFunc(texts, func(a, b string) int { return len(a) - len(b) })
	if shortest == "" {
		return ""
	}
	mark := firstOf(shortest, 1)
	for _, t := range texts {
		if at := strings.Index(t, mark); at < 0 || at > within {
			return ""
		}
	}
	return mark
}

// commonEnd is with what all texts end, and commonBegin with what they begin.
func commonEnd(texts []string) string {
	out := texts[0]
	for _, t := range texts {
		for !strings.HasSuffix(t, out) {
			out = out[1:]
		}
	}
	return out
}

func commonBegin(texts []string) string {
	out := texts[0]
	for _, t := range texts {
		for !strings.HasPrefix(t, out) {
			out = out[:len(out)-1]
		}
	}
	return out
}

func last(s string, n int) string {
	r := []rune(s)
	return string(r[max(0, len(r)-n):])
}

func firstOf(s string, n int) string {
	r := []rune(s)
	return string(r[:min(len(r), n)])
}

// shapeOf is an expression for values like these, as narrow as they all allow: letters, digits and what is between.
func shapeOf(values []string, right string) string {
	var shape []string // by runs of characters
	var lengths [][2]int
	for n, v := range values {
		kinds, counts := runsOf(v)
		if n == 0 {
			for k := range kinds {
				shape, lengths = append(shape, kinds[k]), append(lengths, [2]int{counts[k], counts[k]})
			}
			continue
		}
		if len(kinds) != len(shape) || !slices.Equal(kinds, shape) {
			if right != "" {
				return "[^" + regexp.QuoteMeta(firstOf(right, 1)) + "]+?"
			}
			return ".+"
		}
		for k := range counts {
			lengths[k] = [2]int{min(lengths[k][0], counts[k]), max(lengths[k][1], counts[k])}
		}
	}
	var b strings.Builder
	for k, kind := range shape {
		b.WriteString(kind)
		switch l := lengths[k]; {
		case !strings.HasPrefix(kind, "["):
		case l[0] != l[1]:
			b.WriteString("+")
		case l[0] > 1:
			fmt.Fprintf(&b, "{%d}", l[0])
		}
	}
	return b.String()
}

func runsOf(v string) (kinds []string, counts []int) {
	for _, r := range v {
		kind := regexp.QuoteMeta(string(r))
		switch {
		case r >= '0' && r <= '9':
			kind = "[0-9]"
		case r >= 'A' && r <= 'Z':
			kind = "[A-Z]"
		case r >= 'a' && r <= 'z':
			kind = "[a-z]"
		}
		if n := len(kinds); n > 0 && kinds[n-1] == kind && kind[0] == '[' {
			counts[n-1]++
			continue
		}
		kinds, counts = append(kinds, kind), append(counts, 1)
	}
	return kinds, counts
}
