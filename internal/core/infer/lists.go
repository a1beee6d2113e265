package infer

import (
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"polytome/internal/core/loader"
)

// An Entry is what a list may say of one title or disc.
type Entry struct {
	loader.Values
	Discs []loader.Values // of a title that has one entry for all of them
	At    int             // where in the text one of its values stands
}

// A Listing is one file of a list, with its entries in the order in which they stand there.
type Listing struct {
	Text    string
	Entries []Entry
}

// A List is how the files of a list are made.
type List struct {
	Header, Line, Between, Footer string // templates, but for Between
	Cost                          int
}

// separators may stand between two entries, and not behind the last one.
var separators = []string{"", ",\n", ",\r\n", ", ", ",", ";", "|", "\n", "\r\n", " "}

// mostAround is how many lines of an entry stand in front of the one that a value was found in.
const mostAround = 6

// Entries finds how files are made in which titles are listed.
func Entries(files []Listing, o Options) (best List, ok bool) {
	for lines := range mostAround {
		for _, sep := range separators {
			if l, is := entries(files, lines, sep, o); is && (!ok || l.Cost < best.Cost) {
				best, ok = l, true
			}
		}
		if ok {
			break
		}
	}
	return best, ok
}

// begins are where the entries of a file begin: so many lines in front of the line that they were found in, or, where
// several stand in one line, behind what they have in common in front.
func (l *Listing) begins(lines int) []int {
	var out []int
	for _, e := range l.Entries {
		at := e.At
		for n := 0; n <= lines && at >= 0; n++ {
			if n > 0 {
				at--
			}
			at = strings.LastIndexByte(l.Text[:max(at, 0)], '\n') + 1
		}
		out = append(out, max(at, 0))
	}
	if !slices.IsSortedFunc(out, func(a, b int) int {
		if a == b {
			return 1
		}
		return a - b
	}) {
		return nil
	}
	for i := 1; i < len(out); i++ {
		if out[i] == out[i-1] {
			return nil
		}
	}
	return out
}

// inline are where the entries of a file begin that stand in one line: as far in front of their values as all have the
// same there.
func (l *Listing) inline() []int {
	common := l.Text[:l.Entries[0].At]
	for _, e := range l.Entries[1:] {
		n := 0
		for n < min(len(common), e.At) && common[len(common)-1-n] == l.Text[e.At-1-n] {
			n++
		}
		common = common[len(common)-n:]
	}
	var out []int
	for _, e := range l.Entries {
		out = append(out, e.At-len(common))
	}
	return out
}

// entries tries one way to divide files.
func entries(files []Listing, lines int, sep string, o Options) (List, bool) {
	var rows []Row
	var last []struct {
		text string
		row  Entry
	}
	var heads, all []Row
	whole := 0
	var several []Entry // with their texts
	var texts []string
	for i := range files {
		f := &files[i]
		begins := f.begins(lines)
		if lines == mostAround-1 {
			begins = f.inline()
		}
		if begins == nil {
			return List{}, false
		}
		heads = append(heads, Row{loader.Values{loader.FieldDiscs: strconv.Itoa(len(begins))}, f.Text[:begins[0]]})
		for k, at := range begins {
			e := f.Entries[k]
			e.Values[loader.FieldIndex] = strconv.Itoa(k + 1)
			if k+1 == len(begins) {
				last = append(last, struct {
					text string
					row  Entry
				}{f.Text[at:], e})
				continue
			}
			text, ok := strings.CutSuffix(f.Text[at:begins[k+1]], sep)
			if !ok {
				return List{}, false
			}
			if len(e.Discs) > 1 {
				several, texts = append(several, e), append(texts, text)
				continue
			}
			rows = append(rows, Row{e.Values, text})
			whole++
		}
	}
	if whole == 0 {
		return List{}, false
	}
	if whole == 1 { // one entry tells too little
		if len(files) > 1 || len(last) == 0 {
			return List{}, false
		}
	}
	line, ok := Template(rows, o)
	if !ok || !strings.Contains(line.Text, "{") {
		return List{}, false
	}
	t, _ := templateOf(line.Text)
	var feet []Row
	single := true
	for i := range last {
		if len(last[i].row.Discs) > 1 {
			single = false
			continue
		}
		made := t.FillEscaped(&last[i].row.Values, nil, o.Escape)
		rest, ok := strings.CutPrefix(last[i].text, made)
		if !ok {
			return List{}, false
		}
		feet = append(feet, Row{loader.Values{loader.FieldDiscs: heads[i].Values[loader.FieldDiscs]}, rest})
	}
	if len(several) > 0 || !single {
		foot := ""
		if len(feet) > 0 {
			foot = feet[0].Text
		}
		for i := range last {
			if len(last[i].row.Discs) > 1 {
				text, ok := strings.CutSuffix(last[i].text, foot)
				if !ok {
					return List{}, false
				}
				several, texts = append(several, last[i].row), append(texts, text)
				feet = append(feet, Row{loader.Values{loader.FieldDiscs: heads[i].Values[loader.FieldDiscs]}, foot})
			}
		}
		if line.Text, ok = repeated(line.Text, rows, several, texts, o); !ok {
			return List{}, false
		}
		line.Cost += 10
	}
	of := Options{Fields: []loader.Field{loader.FieldDiscs}}
	header, ok1 := around(heads, of)
	footer, ok2 := around(feet, of)
	all = append(all, rows...)
	return List{Header: header.Text, Line: line.Text, Between: sep, Footer: footer.Text,
		Cost: line.Cost + header.Cost + footer.Cost + 2*len(sep)}, ok1 && ok2 && len(all) > 0
}

// around is the template of what stands in front of all entries, or behind: the number of these may stand in it.
func around(rows []Row, o Options) (Made, bool) {
	differ := slices.ContainsFunc(rows, func(r Row) bool { return r != rows[0] })
	if differ {
		return Template(rows, o)
	}
	if len(rows) == 0 || rows[0].Text == "" {
		return Made{}, true
	}
	text, n := rows[0].Text, rows[0].Values[loader.FieldDiscs]
	out := ""
	for text != "" {
		at := strings.Index(text, n)
		if at < 0 {
			break
		}
		if end := at + len(n); end < len(text) && digit(text[end]) || at > 0 && digit(text[at-1]) {
			out, text = out+Literal(text[:at+len(n)]), text[at+len(n):]
			continue
		}
		return Made{out + Literal(text[:at]) + "{discs}" + Literal(text[at+len(n):]), 5}, true
	}
	return Made{Literal(rows[0].Text), 2}, true
}

// repeated finds which part of an entry is written again for each disc, from entries of several discs. Rows are those
// of one disc.
func repeated(line string, rows []Row, several []Entry, texts []string, o Options) (string, bool) {
	parts := tokens(line)
	for length := 1; length <= len(parts); length++ {
		for from := 0; from+length <= len(parts); from++ {
			if !strings.Contains(strings.Join(parts[from:from+length], ""), "{") {
				continue
			}
			for _, before := range alternatives(parts[:from], rows, o) {
				for _, body := range alternatives(parts[from:from+length], rows, o) {
					for _, behind := range alternatives(parts[from+length:], rows, o) {
						if made, ok := each(before, body, behind, several, texts, o); ok {
							return made, true
						}
					}
				}
			}
		}
	}
	return "", false
}

// alternatives are a part of a template, and what says the same of titles of one disc but not of others: with another
// field in the place of one.
func alternatives(parts []string, rows []Row, o Options) (out []string) {
	out = append(out, strings.Join(parts, ""))
	for k, part := range parts {
		t, ok := templateOf(part)
		if !ok || !strings.HasPrefix(part, "{") || strings.HasPrefix(part, "{{") {
			continue
		}
		for _, f := range o.Fields {
			field := "{" + f.String() + "}"
			if field == part || slices.ContainsFunc(rows, func(r Row) bool {
				return r.Values[f] == "" || t.FillEscaped(&r.Values, nil, o.Escape) != escaped(r.Values[f], o)
			}) {
				continue
			}
			other := slices.Clone(parts)
			other[k] = field
			out = append(out, strings.Join(other, ""))
		}
	}
	return out
}

func escaped(v string, o Options) string {
	if o.Escape == nil {
		return v
	}
	return o.Escape(v)
}

// each tries one part of an entry.
func each(before, body, behind string, several []Entry, texts []string, o Options) (string, bool) {
	a, ok1 := templateOf(before)
	b, ok2 := templateOf(body)
	c, ok3 := templateOf(behind)
	if !ok1 || !ok2 || !ok3 {
		return "", false
	}
	sep, known := "", false
	for i := range several {
		e := &several[i]
		rest, ok := strings.CutPrefix(texts[i], a.FillEscaped(&e.Values, nil, o.Escape))
		if !ok {
			return "", false
		}
		if rest, ok = strings.CutSuffix(rest, c.FillEscaped(&e.Values, nil, o.Escape)); !ok {
			return "", false
		}
		for d := range e.Discs {
			v := e.Discs[d]
			v[loader.FieldIndex] = strconv.Itoa(d + 1)
			made := b.FillEscaped(&v, nil, o.Escape)
			if d > 0 && !known {
				at := strings.Index(rest, made)
				if made == "" || at < 0 || at > 8 {
					return "", false
				}
				sep, known = rest[:at], true
			}
			if d > 0 {
				if rest, ok = strings.CutPrefix(rest, sep); !ok {
					return "", false
				}
			}
			if rest, ok = strings.CutPrefix(rest, made); !ok {
				return "", false
			}
		}
		if rest != "" {
			return "", false
		}
	}
	if sep != "" {
		body = "{if index over 1}" + Literal(sep) + "{end}" + body
	}
	return before + "{each}" + body + "{end}" + behind, true
}

// tokens divides a template into fields, sections and single characters.
func tokens(text string) (out []string) {
	for text != "" {
		switch {
		case strings.HasPrefix(text, "{{") || strings.HasPrefix(text, "}}"):
			out, text = append(out, text[:2]), text[2:]
		case text[0] == '{':
			end := strings.IndexByte(text, '}') + 1
			if strings.HasPrefix(text, "{if ") {
				end = strings.Index(text, "{end}") + len("{end}")
			}
			out, text = append(out, text[:end]), text[end:]
		default:
			_, n := utf8.DecodeRuneInString(text)
			out, text = append(out, text[:n]), text[n:]
		}
	}
	return out
}

// Each finds how texts are made of a title and of each of its discs: what playlists are.
func Each(texts []string, of []Entry, o Options) (Made, bool) {
	for _, whole := range []bool{true, false} {
		for head := range 4 {
			for foot := range 3 {
				if m, ok := eachLine(texts, of, head, foot, whole, o); ok {
					return m, true
				}
			}
		}
	}
	return Made{}, false
}

// eachLine tries texts with so many lines in front of those of the discs, and behind.
func eachLine(texts []string, of []Entry, head, foot int, single bool, o Options) (Made, bool) {
	var heads, bodies, feet []Row
	for i, text := range texts {
		lines := strings.SplitAfter(text, "\n")
		if lines[len(lines)-1] == "" {
			lines = lines[:len(lines)-1]
		}
		n := len(lines) - head - foot
		if n < len(of[i].Discs) || len(of[i].Discs) == 0 || n%len(of[i].Discs) != 0 || single && n != len(of[i].Discs) {
			return Made{}, false
		}
		per := n / len(of[i].Discs)
		heads = append(heads, Row{of[i].Values, strings.Join(lines[:head], "")})
		feet = append(feet, Row{of[i].Values, strings.Join(lines[len(lines)-foot:], "")})
		for d := range of[i].Discs {
			v := of[i].Discs[d]
			v[loader.FieldIndex] = strconv.Itoa(d + 1)
			bodies = append(bodies, Row{v, strings.Join(lines[head+d*per:head+(d+1)*per], "")})
		}
	}
	b, ok := Template(bodies, o)
	if !ok || !strings.Contains(b.Text, "{") {
		return Made{}, false
	}
	h, ok1 := Template(heads, o)
	f, ok2 := Template(feet, o)
	return Made{h.Text + "{each}" + b.Text + "{end}" + f.Text, h.Cost + b.Cost + f.Cost}, ok1 && ok2
}
