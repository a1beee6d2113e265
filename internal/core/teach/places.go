package teach

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"polytome/internal/core/loader"
	"polytome/internal/core/reading"
)

// A place is where a value may stand in every game of a class, with what stands there in each.
type place struct {
	marker loader.Marker // the file that it is in, and how that is written
	read   loader.Reading
	where  string   // in words
	values []string // by sample; "" for none
	cost   int      // the simpler the place, the less
	text   bool     // it is a longer text, of which a part may be the value
}

// valuesAt reads a place in all samples.
func (c *class) valuesAt(p *place, field string) []string {
	out := make([]string, len(c.all))
	for i, s := range c.all {
		at, _, err := s.source.Marked(&loader.Marker{File: p.marker.File, Syntax: p.marker.Syntax,
			Encoding: p.marker.Encoding})
		if err != nil || at == nil {
			continue
		}
		if v, err := at.Read(field, &p.read, &p.marker, nil); err == nil && v.Found && !v.Odd {
			out[i] = v.Text
		}
	}
	return out
}

// places are all in which something stands in nearly every sample.
func (c *class) places() []*place {
	var out []*place
	add := func(p *place) {
		p.values = c.valuesAt(p, "name")
		if filled(p.values)*10 >= len(c.all)*8 {
			out = append(out, p)
		}
	}
	c.keep = func(p *place) {
		if filled(p.values)*10 >= len(c.all)*8 {
			out = append(out, p)
		}
	}
	add(&place{read: loader.Reading{FileName: true}, where: "the name of the file", cost: 30, text: true})
	add(&place{read: loader.Reading{Volume: true}, where: "the volume identifier", cost: 1, text: true})
	for _, file := range c.common() {
		c.inText(file, add)
	}
	if c.all[0].source.FS == nil || len(c.common()) == 0 {
		c.inBytes(add)
	}
	return out
}

func filled(values []string) (n int) {
	for _, v := range values {
		if v != "" {
			n++
		}
	}
	return n
}

// common are the files that lie in nearly all samples, as patterns.
func (c *class) common() (out []string) {
	count := map[string]int{}
	for _, s := range c.all {
		seen := map[string]int{}
		for _, f := range s.files {
			f = strings.ToLower(f)
			seen[f]++
			dir, base := path.Split(f)
			if ext := path.Ext(base); ext != "" && ext != base {
				seen[dir+"*"+ext]++
			}
			if parts := strings.Split(f, "/"); len(parts) > 1 { // a folder of another name in each
				parts[len(parts)-2] = "*"
				seen[strings.Join(parts, "/")]++
			}
		}
		for f, n := range seen {
			if n == 1 {
				count[f]++
			}
		}
	}
	for f, n := range count {
		if n*10 < len(c.all)*9 {
			continue
		}
		if strings.Contains(f, "*") && slices.ContainsFunc(slices.Collect(keysOf(count)), func(o string) bool {
			ok, _ := path.Match(f, o)
			return ok && !strings.Contains(o, "*") && count[o]*10 >= len(c.all)*9
		}) {
			continue // one of that name lies in all
		}
		out = append(out, f)
	}
	slices.SortFunc(out, func(a, b string) int {
		if d := strings.Count(a, "/") - strings.Count(b, "/"); d != 0 {
			return d
		}
		return strings.Compare(a, b)
	})
	return out[:min(len(out), mostCommon)]
}

// mostCommon is how many files of a game are looked into.
const mostCommon = 24

// inText finds values in a text that lies in the games.
func (c *class) inText(file string, add func(*place)) {
	var texts [][]byte
	for _, s := range c.all {
		at, err := reading.LookFor(s.source.FS, file)
		if err != nil || at == "" {
			continue
		}
		b, err := s.text(at)
		if err != nil {
			return
		}
		texts = append(texts, b)
	}
	encoding, ok := encodingOf(texts)
	if !ok {
		c.inInnerBytes(file, texts, add)
		return
	}
	decoded := make([]string, len(texts))
	for i, b := range texts {
		decoded[i] = strings.TrimPrefix(reading.Decode(b, encoding), "\uFEFF")
	}
	spelled := file
	put := func(syntax string, read loader.Reading, where string, cost int, text bool) {
		add(&place{marker: loader.Marker{File: spelled, Syntax: syntax, Encoding: encoding}, read: read,
			where: file + ", " + where, cost: cost, text: text})
	}
	switch first := decoded[0]; {
	case json.Valid([]byte(first)):
		for _, pointer := range pointers(first) {
			put(loader.JSON, loader.Reading{Key: pointer}, "key "+pointer, 2, true)
		}
		return
	case strings.HasPrefix(strings.TrimSpace(first), "<"):
		for _, key := range elements(first) {
			put(loader.XML, loader.Reading{Key: key}, key, 2, true)
		}
		return
	}
	section, pairs := "", 0
	for line := range strings.Lines(decoded[0]) {
		line = strings.TrimSpace(line)
		key, _, is := strings.Cut(line, "=")
		switch key = strings.TrimSpace(key); {
		case strings.HasPrefix(line, "[") && strings.HasSuffix(line, "]"):
			section = line[1 : len(line)-1]
		case is && key != "" && !strings.ContainsAny(key, `"' `):
			pairs++
			if section != "" {
				put(loader.INI, loader.Reading{Section: section, Key: key}, "["+section+"] "+key, 2, true)
			} else {
				put(loader.KeyValue, loader.Reading{Key: key}, "key "+key, 2, true)
			}
		}
	}
	c.searched(decoded, func(p *place) {
		p.marker = loader.Marker{File: spelled, Syntax: loader.Lines, Encoding: encoding}
		p.where = file + ", " + p.where
	}, c.keep)
	for n := range min(strings.Count(decoded[0], "\n")+1, 12) {
		put(loader.Lines, loader.Reading{Line: n + 1}, "line "+strconv.Itoa(n+1), 4+pairs, true)
	}
}

// searched finds lines that have a word of the games' paths, or of the names of files in them, wherever they stand.
func (c *class) searched(texts []string, at func(*place), keep func(*place)) {
	if len(texts) != len(c.all) {
		return
	}
	for _, of := range []struct {
		field string
		find  func(s *sample, text string) (int, int, bool)
	}{{"id", idWord}, {"name", nameIn}} {
		lines := make([]string, len(texts))
		for i, text := range texts {
			for line := range strings.Lines(text) {
				line = strings.TrimRight(line, "\r\n")
				if _, _, ok := of.find(c.all[i], line); ok {
					lines[i] = strings.TrimSpace(line)
					break
				}
			}
		}
		p := &place{read: loader.Reading{Search: true}, where: "wherever it stands", cost: 6, text: true, values: lines}
		at(p)
		keep(p)
	}
}

// encodingOf is how texts are written; ok is false where they are none.
func encodingOf(texts [][]byte) (encoding string, ok bool) {
	all := func(is func(b []byte) bool) bool {
		return len(texts) > 0 && !slices.ContainsFunc(texts, func(b []byte) bool { return !is(b) })
	}
	printable := func(s string) bool {
		return s != "" && !strings.ContainsFunc(s, func(r rune) bool {
			return r == utf8.RuneError || unicode.IsControl(r) && !strings.ContainsRune("\t\r\n\x1a", r)
		})
	}
	wide := func(at int) func(b []byte) bool {
		return func(b []byte) bool {
			zeros := 0
			for i := at; i < len(b); i += 2 {
				if b[i] == 0 {
					zeros++
				}
			}
			return len(b) > 3 && zeros*4 > len(b)
		}
	}
	switch {
	case all(wide(1)):
		return "utf-16le", true
	case all(wide(0)):
		return "utf-16be", true
	case all(func(b []byte) bool { return utf8.Valid(b) && printable(strings.TrimPrefix(string(b), "\uFEFF")) }):
		return "", true
	case all(func(b []byte) bool { return printable(reading.Decode(b, "shift-jis")) && manyWide(b) }):
		return "shift-jis", true
	case all(func(b []byte) bool { return printable(reading.Decode(b, "latin-1")) }):
		return "latin-1", true
	}
	return "", false
}

// manyWide reports whether bytes over 0x7F mostly begin characters of two bytes (JIS X 0208).
func manyWide(b []byte) bool {
	high, pairs := 0, 0
	for i := 0; i < len(b); i++ {
		if b[i] < 0x80 {
			continue
		}
		high++
		if i+1 < len(b) && (b[i] >= 0x81 && b[i] <= 0x9F || b[i] >= 0xE0 && b[i] <= 0xEF) && b[i+1] >= 0x40 {
			pairs++
			i++
		}
	}
	return high > 0 && pairs*10 >= high*8
}

// pointers are those of all values in a JSON text (RFC 6901).
func pointers(text string) (out []string) {
	var v any
	if json.Unmarshal([]byte(text), &v) != nil {
		return nil
	}
	var walk func(at string, v any)
	walk = func(at string, v any) {
		if len(out) > 200 {
			return
		}
		switch x := v.(type) {
		case map[string]any:
			for _, k := range slices.Sorted(keysOf(x)) {
				walk(at+"/"+strings.NewReplacer("~", "~0", "/", "~1").Replace(k), x[k])
			}
		case []any:
			for i := range x {
				walk(at+"/"+strconv.Itoa(i), x[i])
			}
		case nil:
		default:
			out = append(out, at)
		}
	}
	walk("", v)
	return out
}

// elements are the paths of all texts and attributes in an XML text.
func elements(text string) (out []string) {
	d := xml.NewDecoder(strings.NewReader(text))
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil }
	var at []string
	for len(out) < 200 {
		token, err := d.Token()
		if errors.Is(err, io.EOF) || err != nil {
			break
		}
		switch x := token.(type) {
		case xml.StartElement:
			at = append(at, x.Name.Local)
			for _, a := range x.Attr {
				out = append(out, strings.Join(at, "/")+"/@"+a.Name.Local)
			}
		case xml.EndElement:
			at = at[:len(at)-1]
		case xml.CharData:
			if len(bytes.TrimSpace(x)) > 0 {
				out = append(out, strings.Join(at, "/"))
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// inInnerBytes finds values at fixed places of a file that is no text.
func (c *class) inInnerBytes(file string, heads [][]byte, add func(*place)) {
	for _, fromEnd := range []bool{false, true} {
		c.aligned(heads, fromEnd, func(p *place) {
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
	c.aligned(heads, false, add)
	c.aligned(tails, true, add)
	c.atOffsets(heads, false, add)
	c.atOffsets(tails, true, add)
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

// aligned finds places where the bytes of all have a word of their paths, whatever stands around it.
func (c *class) aligned(all [][]byte, fromEnd bool, add func(*place)) {
	count, length := map[int]int{}, map[int]int{}
	for i, b := range all {
		seen := map[int]bool{}
		for _, w := range append(c.all[i].words(), c.all[i].inner()...) {
			if len(w) < 3 || len(w) > 16 || !looksLikeID.MatchString(w) {
				continue
			}
			at := bytes.Index(upper(b), []byte(strings.ToUpper(w)))
			if at < 0 {
				continue
			}
			if fromEnd {
				at -= len(b)
			}
			if !seen[at] {
				seen[at] = true
				count[at]++
				length[at] = max(length[at], len(w))
			}
		}
	}
	for at, n := range count {
		if n*10 < len(all)*8 {
			continue
		}
		offset, where := int64(at), fmt.Sprintf("byte 0x%X, %d bytes", max(at, 0), length[at])
		if at < 0 {
			where = fmt.Sprintf("%d bytes before the end, %d bytes", -at, length[at])
		}
		add(&place{marker: loader.Marker{Syntax: loader.Binary}, where: where, cost: 3,
			read: loader.Reading{Offset: &offset, Length: int64(length[at]), Encoding: "ascii"}})
	}
}

// upper has the small letters of ASCII as capitals, and every other byte as it is.
func upper(b []byte) []byte {
	out := bytes.Clone(b)
	for i, c := range out {
		if c >= 'a' && c <= 'z' {
			out[i] = c - 'a' + 'A'
		}
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
			read: loader.Reading{Offset: &offset, Length: int64(length), Encoding: encoding}})
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
	for _, b := range all {
		text, after := run(b[at:], encoding, unit)
		if text == 0 || at >= unit && isText(b[at-unit:at], encoding) && !allAlike(all, at) {
			return 0
		}
		least, longest = min(least, after), max(longest, text)
		differ = differ || string(b[at:at+min(text, len(all[0])-at)]) != string(all[0][at:min(len(all[0]), at+text)])
		high = high || slices.ContainsFunc(b[at:at+text], func(c byte) bool { return c >= 0x80 })
	}
	if longest > least || !differ || longest < 2*unit || (encoding != "ascii" && unit == 1) != high {
		return 0
	}
	return min(least, 128) / unit * unit
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
