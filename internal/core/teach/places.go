package teach

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"path"
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
	cut    bool     // it ends within a word
	within bool     // it begins behind a space: within a longer text
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

// valuesOf reads what was found in all samples.
func (c *class) valuesOf(f *Found, field string) []string {
	p := f.where
	if f.Pattern != "" {
		if p = p.with(field, f.Pattern); p == nil {
			return make([]string, len(c.all))
		}
	}
	return c.valuesAt(p, field)
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
	return slices.DeleteFunc(out, func(p *place) bool {
		return slices.ContainsFunc(out, func(o *place) bool { return o.completes(p) })
	})
}

// completes reports whether a place is the whole of another one, which begins with it and ends within words, between
// two, or where those of these games do.
func (p *place) completes(o *place) bool {
	a, b := p.read, o.read
	if a.Offset == nil || b.Offset == nil || *a.Offset != *b.Offset || a.Encoding != b.Encoding || a.Search ||
		a.Length <= b.Length || p.marker.File != o.marker.File || strings.HasPrefix(a.Encoding, "number") {
		return false
	}
	for i, v := range p.values {
		rest, ok := strings.CutPrefix(v, o.values[i])
		if !ok {
			return false
		}
		if rest == "" || o.values[i] == "" {
			continue
		}
		r, _ := utf8.DecodeRuneInString(strings.TrimPrefix(rest, " "))
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			return false // what follows is filled up to: another field
		}
	}
	return true
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
	encoding, ok := EncodingOf(texts)
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

// EncodingOf is how texts are written; ok is false where they are none.
func EncodingOf(texts [][]byte) (encoding string, ok bool) {
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
				if b[i] == 0 && i^1 < len(b) && b[i^1] == 0 {
					return false // no text has a zero character
				}
			}
			return len(b) > 3 && len(b)%2 == 0 && zeros*4 > len(b)
		}
	}
	whole := func(b []byte) bool { return bytes.IndexByte(b, 0) < 0 }
	switch {
	case all(wide(1)):
		return "utf-16le", true
	case all(wide(0)):
		return "utf-16be", true
	case all(func(b []byte) bool { return utf8.Valid(b) && printable(strings.TrimPrefix(string(b), "\uFEFF")) }):
		return "", true
	case !all(whole): // which no text has in one of these
		return "", false
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
