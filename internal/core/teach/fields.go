package teach

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"polytome/internal/core/infer"
	"polytome/internal/core/loader"
	"polytome/internal/core/sanitize"
)

// bare is a word without what is lost or added where it is written: case, accents, what divides words.
func bare(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, sanitize.ASCII(s))
}

// alike reports whether a name may have been made of a value.
func alike(value, word string) bool {
	v, w := bare(value), bare(word)
	return w != "" && (v == w || len(w) >= 6 && strings.HasPrefix(v, w) || v != "" && len(v) >= 4 &&
		strings.HasPrefix(w, v))
}

// looksLikeID is what IDs are made of: few characters, a digit among them.
var looksLikeID = regexp.MustCompile(
	`^[A-Za-z0-9]{0,8}[-_. ]?[A-Za-z0-9]{0,4}[0-9][A-Za-z0-9]{0,6}([-_.][A-Za-z0-9]{1,4})?$`)

// idWord is a word of a sample's path that is an ID, and stands in a text.
func idWord(s *sample, text string) (from, to int, ok bool) {
	upper := strings.ToUpper(text)
	if len(upper) != len(text) {
		return 0, 0, false
	}
	for _, w := range append(s.words(), s.inner()...) {
		if len(w) < 3 || len(w) > 16 || !looksLikeID.MatchString(w) {
			continue
		}
		if at := strings.Index(upper, strings.ToUpper(w)); at >= 0 {
			return at, at + len(w), true
		}
	}
	return 0, 0, false
}

// id finds where the ID stands: a value that the games' paths have too, or else one that is another in each and looks
// like an ID.
func (c *class) id(places []*place) (Found, bool) {
	var best Found
	score := 0
	take := func(p *place, values []string, pattern, as, how string) {
		hits, whole, beside, distinct := 0, 0, 0, map[string]bool{}
		for i, v := range values {
			distinct[strings.ToUpper(v)] = true
			if c.said.has(v) {
				beside++
			}
			is := func(w string) bool { return strings.EqualFold(bare(w), bare(v)) }
			switch {
			case v == "":
			case slices.ContainsFunc(slices.Concat(c.all[i].words(), c.all[i].inner()), is) || len(v) > 4 &&
				looksLikeID.MatchString(v) && infer.WordIn(strings.ToUpper(c.all[i].path), strings.ToUpper(v)) >= 0:
				hits++
				whole++
			case slices.ContainsFunc(c.all[i].divided(), is):
				hits++
			}
		}
		worth, who := 100, "their paths have"
		if beside > hits && !p.read.FileName && len(distinct) == len(values) {
			hits, whole, worth, who = beside, beside, 90, "files beside them have"
		}
		if hits*10 < len(c.all)*8 || len(distinct) < 2 || len(distinct)*10 < len(values)*3 ||
			p.within || p.cut && len(distinct) < len(values) || marked(values) || slices.ContainsFunc(values,
			ofWords) ||
			slices.ContainsFunc(values, hasControl) {
			return // a piece of an ID, more than it, or words
		}
		if p.read.FileName && !slices.ContainsFunc(values, func(v string) bool { return !counts.MatchString(v) }) {
			return // numbers that count files are no IDs
		}
		length := 0 // of the shortest: a piece of an ID is none
		for i, v := range values {
			if length = min(length, len(v)); i == 0 {
				length = len(v)
			}
		}
		if n := hits*worth - p.cost*4 - len(pattern)/8 + min(length, 16); n > score {
			score = n
			best = p.found(values, pattern, as, fmt.Sprintf("in %d of %d, %s; %s it too", hits, len(c.all), how, who))
			best.Sure = whole == len(c.all) && len(c.all) >= 3 && p.cost < 6
		}
	}
	for _, p := range places {
		whole := p.values
		// the name of a file is an ID where it looks like nothing else
		if p.read.FileName && slices.ContainsFunc(whole, func(v string) bool {
			return v != "" && !strictID.MatchString(strings.ToUpper(v))
		}) {
			whole = nil
		}
		if whole != nil && !p.read.Search && !slices.ContainsFunc(whole,
			func(v string) bool { return v != "" && !looksLikeID.MatchString(v) }) {
			take(p, whole, "", "", p.where)
			c.padded(p, take)
		}
		if p.text {
			if pattern, ok := carve(p, "id", func(i int, text string) (int, int,
				bool) {
				return idWord(c.all[i], text)
			}); ok {
				if q := p.with("id", pattern); q != nil {
					q.values = c.valuesAt(q, "id")
					take(q, q.values, pattern, "", p.where)
				}
			}
		}
	}
	if score > 0 {
		return best, true
	}
	for _, p := range places { // nothing in the paths: what looks like one
		distinct := map[string]bool{}
		fits := p.cost < 6 && !p.read.FileName && !p.read.Search
		for _, v := range p.values {
			distinct[v] = true
			fits = fits && strictID.MatchString(v)
		}
		if fits && (len(distinct) == len(p.values) || p.read.Volume && c.discsAlike(p.values)) &&
			(score == 0 || p.cost < score) {
			score = p.cost
			best = p.found(p.values, "", "", fmt.Sprintf("in %d of %d, %s; it looks like one, and no path has it",
				filled(p.values), len(c.all), p.where))
			best.Plain = true
		}
		if !p.text || p.read.FileName {
			continue
		}
		pattern, ok := carve(p, "id", func(_ int, text string) (int, int, bool) {
			if m := innerID.FindStringIndex(text); m != nil {
				return m[0], m[1], true
			}
			return 0, 0, false
		})
		if q := p.with("id", pattern); ok && q != nil && (score == 0 || q.cost < score) {
			q.values = c.valuesAt(q, "id")
			distinct = map[string]bool{}
			for _, v := range q.values {
				distinct[v] = true
			}
			if len(distinct) == len(q.values) && !distinct[""] {
				score = q.cost
				best = q.found(q.values, pattern, "",
					fmt.Sprintf("in %d of %d, %s; it looks like one, and no path has it",
						filled(q.values), len(c.all), q.where))
			}
		}
	}
	if score > 0 {
		best = c.aligned(best)
	}
	return best, score > 0
}

// mostBefore is how many letters that belong to something else may stand in front of an ID.
const mostBefore = 6

// aligned is an ID that stands at a place without the letters in front of it, where the folders of all games begin with
// what follows these.
func (c *class) aligned(f Found) Found {
	if f.Reading.Offset == nil || f.Pattern != "" {
		return f
	}
	for k := range mostBefore {
		if !c.foldersBegin(f.values, k) {
			continue
		}
		if k == 0 {
			return f
		}
		p := *f.where
		at := *p.read.Offset + int64(k)
		p.read.Offset, p.read.Length = &at, p.read.Length-int64(k)
		p.where = fmt.Sprintf("%s, %d bytes, %s", offsetWords(at), p.read.Length, p.read.Encoding)
		p.values = c.valuesAt(&p, "id")
		out := p.found(p.values, "", "", fmt.Sprintf("in %d of %d, %s; their folders begin like it", len(p.values),
			len(c.all), p.where))
		out.Plain = f.Plain
		return out
	}
	return f
}

// foldersBegin reports whether each game lies in a folder that begins like its value, so many letters from its
// beginning.
func (c *class) foldersBegin(values []string, from int) bool {
	for i, v := range values {
		if len(v) <= from {
			return false
		}
		v = strings.ToUpper(v[from:])
		if !slices.ContainsFunc(strings.Split(path.Dir(c.all[i].path), "/"), func(dir string) bool {
			return len(dir) > 2 && strings.HasPrefix(v, strings.ToUpper(dir))
		}) {
			return false
		}
	}
	return true
}

// discsAlike reports whether all games with one value are discs of one title: their paths differ in a digit alone.
func (c *class) discsAlike(values []string) bool {
	of := map[string]string{}
	for i, v := range values {
		at := count.ReplaceAllString(c.all[i].path, "0")
		if was, ok := of[v]; ok && was != at {
			return false
		}
		of[v] = at
	}
	return len(of)*2 >= len(values)
}

// counts is how files are counted.
var counts = regexp.MustCompile(`^[0-9]{0,4}$`)

func hasControl(v string) bool { return strings.ContainsFunc(v, unicode.IsControl) }

// ofWords reports whether a value is words, as names are.
func ofWords(v string) bool {
	return strings.Contains(strings.TrimSpace(v), " ") && strings.ContainsFunc(v, unicode.IsLower)
}

// marked reports whether all values begin with the same sign: it stands in front of them.
func marked(values []string) bool {
	return !slices.ContainsFunc(values, func(v string) bool {
		return v == "" || v[0] != values[0][0] || v[0] >= 0x80 || unicode.IsLetter(rune(v[0])) ||
			unicode.IsDigit(rune(v[0]))
	})
}

var innerID = regexp.MustCompile(`\b[A-Z]{1,5}[-_. ]?[0-9]{2,8}[A-Z]?\b`)

var strictID = regexp.MustCompile(`^[A-Z]{1,5}[-_. ]?[0-9]{2,8}[A-Z]?$`)

// padded tries a number that paths have with zeros in front.
func (c *class) padded(p *place, take func(p *place, values []string, pattern, as, how string)) {
	if !strings.HasPrefix(p.read.Encoding, "number") {
		return
	}
	length, hits := 0, 0
	for i, v := range p.values {
		for _, w := range c.all[i].words() {
			if len(w) > len(v) && strings.TrimLeft(w, "0") == v && (length == 0 || length == len(w)) {
				length = len(w)
				hits++
				break
			}
		}
	}
	if length == 0 || hits*2 < len(c.all) {
		return
	}
	padded := make([]string, len(p.values))
	for i, v := range p.values {
		padded[i] = strings.Repeat("0", max(0, length-len(v))) + v
	}
	take(p, padded, "", "pad:"+strconv.Itoa(length), p.where)
}

// name finds where the name stands: a value that a name in the paths may have been made of.
func (c *class) name(places []*place, id Found) (Found, bool) {
	var best Found
	score := 0
	take := func(p *place, values []string, pattern, how string) {
		if p.within || slices.ContainsFunc(values, hasControl) || slices.ContainsFunc(values, misread) {
			return // the rest of a longer name, more than a name, or none
		}
		hits, beside, longer, distinct := 0, 0, 0, map[string]bool{}
		for i, v := range values {
			distinct[v] = true
			if v == "" || i < len(id.values) && id.values[i] != "" &&
				(strings.Contains(bare(v), bare(id.values[i])) || strings.Contains(bare(id.values[i]), bare(v))) ||
				!strings.ContainsFunc(v, unicode.IsLetter) {
				continue
			}
			isSaid := c.said.has(v)
			if isSaid {
				beside++
			}
			if is := slices.ContainsFunc(c.all[i].words(), func(w string) bool { return alike(v, w) }); is || isSaid {
				if is {
					hits++
				}
				if strings.ContainsAny(v, " ") || v != strings.ToUpper(v) {
					longer++
				}
			}
		}
		worth, who := 100, "the files are named so"
		if beside > hits && !p.read.FileName && len(distinct)*10 >= len(values)*4 {
			hits, worth, who = beside, 90, "files beside them have it too"
		}
		// where most paths have no name, what reads like one, and stands in some of them, is it
		reads := !p.read.FileName && hits > 1 && areNames(values)
		if hits*10 < len(c.all)*6 && !reads || len(distinct) < 2 || len(distinct)*10 < len(values)*4 {
			return
		}
		n := hits*worth + longer*10 - p.cost*4 - len(pattern)/8
		if reads {
			n += len(c.all) * 60
		}
		if p.read.FileName { // which agrees with itself, and may be shortened
			n = n * 8 / 10
		}
		for _, v := range values { // spaces between words are how people write
			if strings.Contains(v, " ") {
				n++
			}
		}
		if n > score {
			score = n
			best = p.found(values, pattern, "", fmt.Sprintf("in %d of %d, %s; %s", hits, len(c.all), how, who))
			best.Sure = hits == len(c.all) && len(c.all) >= 3 && !p.read.FileName
		}
	}
	for _, p := range places {
		if !p.read.Search {
			take(p, p.values, "", p.where)
			if !slices.ContainsFunc(p.values, func(v string) bool { return strings.Contains(v, " ") }) &&
				slices.ContainsFunc(p.values, func(v string) bool { return strings.Contains(v, "_") }) {
				spaced := make([]string, len(p.values))
				for i, v := range p.values {
					spaced[i] = strings.ReplaceAll(v, "_", " ")
				}
				take(p, spaced, "", p.where)
				if best.where == p && best.As == "" && slices.Equal(best.values, spaced) {
					best.As = "replace:_: "
				}
			}
		}
		if !p.text {
			continue
		}
		if pattern, ok := carve(p, "name", func(i int, text string) (int, int,
			bool) {
			return nameIn(c.all[i], text)
		}); ok {
			if q := p.with("name", pattern); q != nil {
				q.values = c.valuesAt(q, "name")
				take(q, q.values, pattern, p.where)
			}
		}
	}
	if score > 0 {
		return best, true
	}
	for _, p := range places { // nothing in the paths: what people call things
		if p.read.FileName || p.read.Search || p.read.Volume || strings.HasPrefix(p.read.Encoding, "number") ||
			id.where != nil && id.where.overlaps(p, c.length()) {
			continue
		}
		spaced := 0
		for _, v := range p.values {
			if strings.Contains(v, " ") {
				spaced++
			}
		}
		if n := spaced*20 - p.cost*4; spaced > 0 && n > score && areNames(p.values) {
			score = n
			best = p.found(p.values, "", "", fmt.Sprintf("in %d of %d, %s; it reads like one, and no path has it",
				len(c.all),
				len(c.all), p.where))
		}
	}
	return best, score > 0
}

// namelike is how names are written: words that begin with a letter or digit, none of them all of signs.
var namelike = regexp.MustCompile(`^\p{L}[\p{L}\p{N}.'!?,:&-]*( [\p{L}\p{N}&–-][\p{L}\p{N}.'!?,:-]*)*$`)

// areNames reports whether values read like names of titles: discs of one title share its name.
func areNames(values []string) bool {
	distinct := map[string]bool{}
	for _, v := range values {
		if distinct[v] = true; !namelike.MatchString(v) {
			return false
		}
	}
	return len(distinct) > 2 && len(distinct)*2 >= len(values)
}

// nameIn is where a text has what a word of a sample's path may have been made of.
func nameIn(s *sample, text string) (from, to int, ok bool) {
	for _, w := range s.words() {
		if len(w) < 3 || looksLikeID.MatchString(w) {
			continue
		}
		if from, to, ok = within(text, bare(w)); ok {
			return from, to, true
		}
	}
	return 0, 0, false
}

// within finds the part of a text that is a word but for case, accents and what divides words.
func within(text, word string) (from, to int, ok bool) {
	if word == "" {
		return 0, 0, false
	}
	before := rune(0)
	for at, r := range text {
		inWord := unicode.IsLetter(before) || unicode.IsDigit(before)
		before = r
		if inWord || !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			continue
		}
		made := ""
		for end, r := range text[at:] {
			piece := bare(string(r))
			if piece == "" {
				continue
			}
			if made += piece; !strings.HasPrefix(word, made) {
				break
			}
			if made == word {
				return at, at + end + utf8.RuneLen(r), true
			}
		}
	}
	return 0, 0, false
}

var ofDiscs = regexp.MustCompile(`^[1-9]/[1-9]$`)

// disc finds where the number of the disc stands.
func (c *class) disc(places []*place) (Found, bool) {
	for _, p := range places {
		if p.read.FileName || p.read.Search || slices.ContainsFunc(p.values,
			func(v string) bool { return !ofDiscs.MatchString(v) }) {
			continue
		}
		return p.found(p.values, "", "", fmt.Sprintf("in %d of %d, %s: a number of so many", filled(p.values),
			len(c.all),
			p.where)), true
	}
	if c.all[0].source.FS != nil {
		return Found{}, false
	}
	for at := 0; at < mostOffsets; at++ { // whatever stands around it
		offset, values := int64(at), make([]string, len(c.all))
		for i, s := range c.all {
			if at+3 > len(s.head) || !ofDiscs.Match(s.head[at:at+3]) {
				break
			}
			values[i] = string(s.head[at : at+3])
		}
		if filled(values) == len(c.all) {
			p := &place{marker: loader.Marker{Syntax: loader.Binary}, where: fmt.Sprintf("byte 0x%X, 3 bytes", at),
				read: loader.Reading{Offset: &offset, Length: 3, Encoding: "ascii"}}
			return p.found(values, "", "", fmt.Sprintf("in %d of %d, %s: a number of so many", len(values), len(values),
				p.where)), true
		}
	}
	return Found{}, false
}

// with is the place with a pattern; nil for one that is none.
func (p *place) with(field, pattern string) *place {
	q := *p
	if strings.ContainsFunc(pattern, unicode.IsControl) {
		return nil
	}
	if q.read.Pattern.UnmarshalText([]byte(pattern)) != nil {
		return nil
	}
	q.cost += 2
	return &q
}

func (p *place) found(values []string, pattern, as, evidence string) Found {
	f := Found{File: p.marker.File, Marker: p.marker, Reading: p.read, Pattern: pattern, As: as, Evidence: evidence,
		values: values, where: p}
	if i := slices.IndexFunc(values, func(v string) bool { return v != "" }); i >= 0 {
		f.Example = values[i]
	}
	return f
}
