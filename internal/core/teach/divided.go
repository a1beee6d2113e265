package teach

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/infer"
	"polytome/internal/core/loader"
)

// A partition divides the games of a class by something that can be seen on the target: the folder that they lie in,
// the list that names them, whether a file lies beside them.
type partition struct {
	words []string // by game; "" for those that have none, apart for those that it is not about
	how   string
	// few is set where so few games agree that words must begin like the values that decide them.
	few bool
}

func (d *partition) key() string { return strings.Join(d.words, "\x01") }

// apart stands for a game that a partition is not about.
const apart = "\x00"

// mostParts is how many parts a partition has at most that a kind or region decides.
const mostParts = 6

// partitions are those of the class; known are values of each game that lists may name it by.
func (c *class) partitions(known [][]string) (out []partition) {
	add := func(words []string, how string) {
		distinct, n := map[string]bool{}, 0
		for _, w := range words {
			if w != apart {
				distinct[w] = true
				n++
			}
		}
		if few := n-len(distinct) < 3; len(distinct) > 1 && len(distinct) <= mostParts && (!few || len(distinct) > 2) &&
			!c.follows(words, known) {
			out = append(out, partition{words, how, few})
		}
	}
	shapes := map[string]int{}
	depths := make([]string, len(c.all))
	for i, s := range c.all {
		if depths[i] = apart; !s.part {
			shapes[infer.Shape(path.Base(s.path))]++
			depths[i] = strconv.Itoa(strings.Count(s.path, "/"))
		}
	}
	add(depths, "it decides how deep in folders a game lies")
	for depth := range 6 {
		words := make([]string, len(c.all))
		for i, s := range c.all {
			if parts := strings.Split(s.path, "/"); s.part {
				words[i] = apart
			} else if depth < len(parts)-1 {
				words[i] = parts[depth]
			}
		}
		add(words, "it decides in which folder a game lies")
		above := map[string]bool{}
		for i := range words {
			if words[i] != "" && words[i] != apart {
				above[upTo(c.all[i].path, depth)] = true
			}
		}
		for _, dir := range slices.Sorted(maps.Keys(above)) { // those of one rule lie in one folder
			some := slices.Clone(words)
			for i, s := range c.all {
				if words[i] == "" || words[i] == apart || upTo(s.path, depth) != dir {
					some[i] = apart
				}
			}
			if len(above) > 1 {
				add(some, "it decides in which folder a game lies")
			}
		}
		for of, n := range shapes { // names that begin alike may be of one rule
			if n == len(c.all)-c.parted() {
				continue
			}
			some := slices.Clone(words)
			for i, s := range c.all {
				if infer.Shape(path.Base(s.path)) != of {
					some[i] = apart
				}
			}
			add(some, "it decides in which folder a game lies")
		}
	}
	for k, what := range []string{"ID", "name"} {
		words := make([]string, len(c.all))
		for i, s := range c.all {
			if v := bare(known[i][k]); s.part || v == "" {
				words[i] = apart
			} else if strings.Contains(bare(s.path), v) {
				words[i] = "with"
			}
		}
		add(words, "it decides which games have their "+what+" in their path")
	}
	bases := map[string]int{}
	for _, s := range c.all {
		bases[strings.ToUpper(path.Base(s.path))]++
	}
	groups := map[string][]saying{}
	for _, x := range c.besides {
		base := strings.TrimSuffix(path.Base(x.path), path.Ext(x.path))
		number := base[len(strings.TrimRight(base, "0123456789")):] // lists of one kind have one
		key := path.Dir(x.path) + " " + strings.ToLower(path.Ext(x.path)) + " " + number
		if filled(c.listed([]saying{x}, known, bases))*10 > len(c.all)*9 { // one that lists all of them divides none
			key += " all"
		}
		groups[key] = append(groups[key], x)
	}
	for _, x := range c.besides { // files beside games may lie in the folders of these
		if key := strings.ToLower(path.Ext(x.path)); key != "" {
			groups[key] = append(groups[key], x)
		}
	}
	for _, key := range slices.Sorted(maps.Keys(groups)) {
		with, in := make([]string, len(c.all)), c.listed(groups[key], known, bases)
		for i, s := range c.all {
			own := slices.Clone(known[i])
			if bases[strings.ToUpper(path.Base(s.path))] < 2 {
				own = append(own, s.called())
			}
			if known[i][0] == "" && known[i][1] == "" {
				own = s.words()
			}
			for _, x := range groups[key] {
				base := bare(strings.TrimSuffix(path.Base(x.path), path.Ext(x.path)))
				beside := path.Dir(x.path) == path.Dir(s.path) &&
					strings.TrimSuffix(path.Base(x.path), path.Ext(x.path)) == s.called()
				if beside || len(base) > 2 && slices.ContainsFunc(own, func(w string) bool { return bare(w) == base }) {
					with[i] = "with"
				}
			}
		}
		for i := range with { // a title's discs share its file
			for k := range with {
				if known[i][1] != "" && known[i][1] == known[k][1] {
					with[i], in[i] = cmp.Or(with[i], with[k]), cmp.Or(in[i], in[k])
				}
			}
		}
		add(with, "it decides which games have a file beside them")
		if strings.Contains(key, " ") { // of one folder and kind
			add(in, "it decides in which list a game is")
		}
	}
	for _, x := range c.besides {
		if filled(c.listed([]saying{x}, known, bases))*10 < len(c.all)*8 {
			continue
		}
		for column := range mostColumns {
			words := make([]string, len(c.all))
			for i, s := range c.all {
				for _, name := range names(s, known[i], bases) {
					if all := x.beside(name); len(all) > column {
						words[i] = all[len(all)-1-column]
						break
					}
				}
			}
			if !slices.Contains(words, "") {
				add(words, "a list says so")
			}
		}
	}
	return out
}

// upTo is the folder at the front of a path, of so many names.
func upTo(p string, depth int) string {
	return strings.Join(strings.Split(p, "/")[:depth], "/")
}

// mostColumns is how many words at the end of a list's lines may tell a kind or region.
const mostColumns = 4

// names are the words by which a list may name a game: those that are of this one alone.
func names(s *sample, known []string, bases map[string]int) (out []string) {
	for _, name := range append([]string{path.Base(s.path)}, known...) {
		if name = strings.ToUpper(name); bases[name] < 2 && len(name) > 3 {
			out = append(out, name)
		}
	}
	return out
}

// listed are the files of a group that name the games, each as the part in which its own name differs from theirs; ""
// for those that none names. They name all by their files, by their IDs or by their names.
func (c *class) listed(group []saying, known [][]string, bases map[string]int) (best []string) {
	for kind := range 3 {
		words := make([]string, len(c.all))
		for i, s := range c.all {
			w := strings.ToUpper(path.Base(s.path))
			if kind > 0 {
				w = strings.ToUpper(known[i][kind-1])
			} else if s.part { // another one may be named
				w = strings.TrimSuffix(w, path.Ext(w)) + "."
			}
			if len(w) > 2 && (kind > 0 || bases[w] < 2) {
				words[i] = w
			}
		}
		in := make([]string, len(c.all))
		for _, x := range group {
			around := infer.Contexts(x.text, slices.DeleteFunc(slices.Clone(words),
				func(w string) bool { return w == "" }))
			for i, w := range words {
				if len(around) > 0 && in[i] == "" && w != "" && around[0].Within(x.text, 0, w) >= 0 {
					in[i] = varying(group, x)
				}
			}
		}
		if filled(in) > filled(best) || best == nil {
			best = in
		}
	}
	return best
}

// follows reports whether the words are made of the IDs or names of the games.
func (c *class) follows(words []string, known [][]string) bool {
	var rows []infer.Row
	for i, w := range words {
		if w == apart {
			continue
		}
		v := loader.Values{loader.FieldID: known[i][0], loader.FieldTitle: known[i][1]}
		rows = append(rows, infer.Row{Values: v, Text: w})
	}
	m, ok := infer.Template(rows, infer.Options{Fields: []loader.Field{loader.FieldID, loader.FieldTitle},
		Simple: true})
	return ok && strings.Contains(m.Text, "{") && !strings.Contains(m.Text, "{if ")
}

// varying is the part of a file's name in which it differs from the others.
func varying(group []saying, x saying) string {
	name := path.Base(x.path)
	if len(group) < 2 {
		return name
	}
	front, back := len(name), len(name)
	for _, o := range group {
		other := path.Base(o.path)
		if other == name {
			continue
		}
		n := 0
		for n < min(len(name), len(other)) && name[n] == other[n] {
			n++
		}
		front = min(front, n)
		n = 0
		for n < min(len(name), len(other)) && name[len(name)-1-n] == other[len(other)-1-n] {
			n++
		}
		back = min(back, n)
	}
	if front+back >= len(name) {
		return name
	}
	return name[front : len(name)-back]
}

// decides reports whether equal values always have equal words, so that more games speak for it than could by chance.
func (d *partition) decides(values []string) bool {
	to, n := map[string]string{}, 0
	all := map[string]bool{}
	for i, v := range values {
		if all[v] = true; d.words[i] == apart {
			continue
		}
		if was, seen := to[v]; seen && was != d.words[i] || d.few && !begins(d.words[i], v) {
			return false
		}
		to[v] = d.words[i]
		n++
	}
	return len(all) <= mostParts && (n-len(to) >= 2 || d.few)
}

// alike reports whether all words begin like the values.
func (d *partition) alike(values []string) bool {
	for i, w := range d.words {
		if w != apart && !begins(w, values[i]) {
			return false
		}
	}
	return true
}

// begins reports whether a word begins like a value.
func begins(word, value string) bool {
	return value != "" && len(word) >= len(value) && strings.EqualFold(word[:len(value)], value)
}

// parted is how many of the samples are parts of a game.
func (c *class) parted() (n int) {
	for _, s := range c.all {
		if s.part {
			n++
		}
	}
	return n
}

// withParts is the class with those parts of games that have what their platform is known by: what decides where games
// lie decides it for these too. It must be closed.
func (c *class) withParts(dir string, p *Platform, all []*class) *class {
	out := *c
	out.all = slices.Clone(c.all)
	i := slices.IndexFunc(p.Markers, func(m loader.Marker) bool { return len(m.Hex) > 0 })
	for _, o := range all {
		if i < 0 || !o.cut() {
			continue
		}
		for _, s := range o.all {
			if x := (sample{path: s.path, size: s.size, part: true}); x.marked(dir, o.form, &p.Markers[i]) &&
				x.open(dir, o.form) == nil {
				out.all = append(out.all, &x)
			}
		}
	}
	return &out
}

// divided finds values that decide how the games are divided: their kind and region. Further samples may stand behind
// those that the places were found in.
func (c *class) divided(places []*place, p *Platform) {
	known := make([][]string, len(c.all))
	for _, field := range []string{"id", "name"} {
		f := p.Fields[field]
		if f.where != nil && len(f.values) < len(c.all) {
			f.values = append(slices.Clone(f.values), c.valuesOf(&f, field)[len(f.values):]...)
		}
		for i := range known {
			v := ""
			if f.values != nil {
				v = f.values[i]
			}
			known[i] = append(known[i], v)
		}
	}
	for i, at := range places {
		if len(at.values) < len(c.all) && at.marker.File == "" && !at.read.FileName && !at.read.Search {
			longer := *at
			longer.values = append(slices.Clone(at.values), c.valuesAt(at, "name")[len(at.values):]...)
			places[i] = &longer
		}
	}
	places = slices.DeleteFunc(places, func(at *place) bool { return len(at.values) < len(c.all) })
	open := c.partitions(known)
	// a partition whose words begin like values is decided by these, and by no others that happen to agree
	usable := func(at *place) bool {
		return !at.read.FileName && !at.read.Volume && !at.read.Search && filled(at.values) == len(c.all) &&
			readable(at.values)
	}
	words := map[string]bool{}
	for _, d := range open {
		if slices.ContainsFunc(places, func(at *place) bool {
			return usable(at) && d.decides(at.values) && d.alike(at.values)
		}) {
			words[d.key()] = true
		}
	}
	if disc, ok := p.Fields["disc"]; ok { // what several discs have, and others not, says nothing of a kind
		values := disc.values
		if len(values) < len(c.all) {
			values = c.valuesOf(&disc, "disc")
		}
		several := make([]string, len(values))
		for i, v := range values {
			_, several[i], _ = strings.Cut(v, "/")
		}
		open = slices.DeleteFunc(open, func(d partition) bool { return d.decides(several) && !words[d.key()] })
	}
	length := c.length()
	for range 2 {
		var best *place
		var explained []partition
		score := 0
		for _, at := range places {
			if !usable(at) || slices.ContainsFunc([]string{"id", "name", "disc", "kind", "region"},
				func(f string) bool { return p.Fields[f].where != nil && p.Fields[f].where.overlaps(at, length) }) {
				continue
			}
			var some []partition
			for _, d := range open {
				if d.decides(at.values) && (!words[d.key()] || d.alike(at.values)) {
					some = append(some, d)
				}
			}
			if n := len(some)*100 + alikeWords(at.values, some)*10 - at.cost; len(some) > 0 && n > score {
				best, explained, score = at, some, n
			}
		}
		if best == nil {
			return
		}
		f := best.found(best.values, "", "", fmt.Sprintf("in %d of %d, %s: %s", len(c.all), len(c.all), best.where,
			explained[0].how))
		f.Values = meanings(best.values, explained)
		for _, v := range best.values {
			if f.Values[v] == "" && len(f.Values) > 0 && !slices.Contains(f.Unseen, v) {
				f.Unseen = append(f.Unseen, v)
			}
		}
		for _, v := range f.Unseen {
			if w := direction(v, f.Values); w != "" {
				f.Values[v] = w
			}
		}
		field := "kind"
		if slices.ContainsFunc(slices.Concat(best.values, slices.Collect(maps.Values(f.Values))), isRegion) {
			field = "region"
		}
		if _, taken := p.Fields[field]; taken {
			field = map[string]string{"kind": "region", "region": "kind"}[field]
		}
		p.Fields[field] = f
		open = slices.DeleteFunc(open, func(d partition) bool {
			return slices.ContainsFunc(explained, func(e partition) bool { return slices.Equal(e.words, d.words) })
		})
	}
}

// readable reports whether values are short words in ASCII.
func readable(values []string) bool {
	return !slices.ContainsFunc(values, func(v string) bool {
		return len(v) > 24 || strings.ContainsFunc(v, func(r rune) bool { return r <= ' ' && r != ' ' || r > '~' })
	})
}

// overlaps reports whether two places share a byte in files of a length, or are the same one. The length is 0 where the
// files differ in it.
func (p *place) overlaps(o *place, length int64) bool {
	a, b := p.read, o.read
	if p == o || a.Offset == nil || b.Offset == nil || p.marker.File != o.marker.File {
		return p == o
	}
	from, other := *a.Offset, *b.Offset
	if (from < 0) != (other < 0) { // one is counted from the end
		if length == 0 || p.marker.File != "" {
			return false
		}
		from, other = fromBegin(from, length), fromBegin(other, length)
	}
	return from < other+b.Length && other < from+a.Length
}

// fromBegin is an offset in a file of a length, counted from its beginning.
func fromBegin(offset, length int64) int64 {
	if offset < 0 {
		return offset + length
	}
	return offset
}

// length is that of all the files of a class; 0 where they differ in it.
func (c *class) length() int64 {
	if slices.ContainsFunc(c.all, func(s *sample) bool { return s.size != c.all[0].size }) {
		return 0
	}
	return c.all[0].size
}

// alikeWords counts values that begin like the words that they decide.
func alikeWords(values []string, explained []partition) (n int) {
	alike := map[string]bool{}
	for _, d := range explained {
		for i, v := range values {
			if d.words[i] != apart && begins(d.words[i], v) {
				alike[v] = true
			}
		}
	}
	return len(alike)
}

// directions are the parts of the world that regions are named after.
var directions = []string{"north", "east", "south", "west"}

// direction is the word for the first letter of a direction, where all others that are known are words for such
// letters; "" where it is not.
func direction(letter string, known map[string]string) string {
	word := func(v string) string {
		for _, d := range directions {
			if strings.EqualFold(v, d[:1]) {
				return d
			}
		}
		return ""
	}
	as := word(letter)
	for v, w := range known {
		if word(v) != strings.ToLower(w) {
			return ""
		}
		switch w {
		case strings.ToUpper(w):
			as = strings.ToUpper(as)
		case strings.ToLower(w):
		default:
			as = strings.ToUpper(as[:min(1, len(as))]) + as[min(1, len(as)):]
		}
	}
	return as
}

// isRegion reports whether a word is one for a part of the world.
func isRegion(word string) bool {
	return slices.Contains([]string{"north", "east", "west", "south", "world", "n", "e", "w"}, strings.ToLower(word))
}

// sameWord is how many letters more a word is worth that is the value itself.
const sameWord = 100

// meanings are the words that stand for values, where each value has its own: the longest there are.
func meanings(values []string, explained []partition) map[string]string {
	best, length := map[string]string{}, 0
	for _, d := range explained {
		to, back, total := map[string]string{}, map[string]string{}, 0
		ok := true
		for i, v := range values {
			w := d.words[i]
			if w == apart {
				continue
			}
			if was, seen := back[w]; seen && was != v || w == "" || w == "with" || len(w) < len(v) && begins(v, w) {
				ok = false
				break
			}
			if len(v) == 1 && v[0] > '9' && !strings.EqualFold(v, w[:1]) {
				w = v // a letter that stands for a word is its first one
			}
			if to[v] == "" {
				total += len(w)
				if len(v) > 2 && strings.EqualFold(v, w) { // it says what it stands for
					total += sameWord
				}
			}
			to[v], back[w] = w, v
		}
		if ok && total > length {
			best, length = to, total
		}
	}
	for v, w := range best {
		if v == w {
			delete(best, v)
		}
	}
	return best
}
