package learn

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"polytome/internal/core/infer"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/teach"
	"polytome/internal/size"
	"polytome/internal/target"
)

// A List is a file in which titles are listed.
type List struct {
	Path                          string
	Platforms                     []string
	When                          string
	PerTitle                      bool
	Make, Key                     string
	Encoding                      string
	Header, Line, Between, Footer string
	Record, HeaderLength          int
	HeaderFields, Fields          []infer.Field
	Order                         []string
	Why                           string
}

// listing is a file that names titles.
type listing struct {
	entry target.Entry
	raw   []byte
	text  string // decoded
	lines []line // in the order of the file
}

// line is a place in a list that names a title, or one of its discs.
type line struct {
	of   *placed
	disc int // -1 for the whole title
	at   int
}

func (l *line) values() loader.Values {
	if l.disc >= 0 {
		return l.of.discs[l.disc]
	}
	return l.of.whole
}

// lists finds files that name several titles.
func (s *student) lists() {
	clusters := map[string][]*listing{}
	var order []string
	for _, e := range s.unexplained() {
		raw, ok := s.read(e.Path)
		if !ok || len(raw) == 0 {
			continue
		}
		base := strings.TrimSuffix(path.Base(e.Path), path.Ext(e.Path))
		number := base[len(strings.TrimRight(base, "0123456789")):] // lists of one kind have one
		key := fmt.Sprintf("%s %d %s", strings.ToLower(path.Ext(e.Path)), strings.Count(e.Path, "/"), number)
		if clusters[key] == nil {
			order = append(order, key)
		}
		clusters[key] = append(clusters[key], &listing{entry: e, raw: raw})
	}
	for _, key := range order {
		all := clusters[key]
		if len(all) > 1 && s.listed(all) {
			continue
		}
		for _, l := range all {
			if s.used[l.entry.Path] == "" {
				s.listed([]*listing{l})
			}
		}
	}
}

// listed finds the rule for files that are made alike.
func (s *student) listed(all []*listing) bool {
	var raw [][]byte
	for _, l := range all {
		raw = append(raw, l.raw)
	}
	as, text := teach.EncodingOf(raw)
	for _, l := range all {
		if l.text = string(l.raw); text {
			l.text = layout.Decoded(as, l.text)
		}
	}
	for _, perTitle := range []bool{false, true} {
		for _, f := range []loader.Field{loader.FieldFile, loader.FieldFolder, loader.FieldBase, loader.FieldID,
			loader.FieldTitle, loader.FieldName} {
			if s.stopped() {
				return false
			}
			if !s.tells(f) {
				continue
			}
			for _, order := range listOrders {
				c := &List{Encoding: as, PerTitle: perTitle, Order: []string{order}}
				if slices.ContainsFunc(all, func(l *listing) bool {
					return text && !s.lines(l, f, perTitle, order) || !text && !s.records(l, f, perTitle, order)
				}) || !s.pathOf(c, all) {
					continue
				}
				if text && s.textList(c, all) || !text && s.recordList(c, all) {
					s.takeList(c, all)
					return true
				}
				break // another order would find the same places
			}
		}
	}
	return false
}

// own are the fields that are no part of another title's.
var own = map[loader.Field]bool{loader.FieldFile: true, loader.FieldID: true}

// listOrders are by what lists are sorted.
var listOrders = []string{"title", "id", "path", "kind", "number"}

// sortKey is what a list sorts an entry by.
func sortKey(v *loader.Values, order string) string {
	switch order {
	case "id":
		return strings.ToUpper(v[loader.FieldID])
	case "path":
		return strings.ToUpper(v[loader.FieldFile])
	case "kind":
		return strings.ToUpper(v[loader.FieldKind])
	case "number":
		return fmt.Sprintf("%06s", v[loader.FieldNumber])
	}
	return strings.ToUpper(v[loader.FieldTitle])
}

// listable is all that a list may name, in an order.
func (s *student) listable(perTitle bool, order string) (out []line) {
	for _, x := range s.placed {
		if perTitle {
			out = append(out, line{of: x, disc: -1})
			continue
		}
		for d := range x.discs {
			out = append(out, line{of: x, disc: d})
		}
	}
	slices.SortStableFunc(out, func(a, b line) int {
		x, y := a.values(), b.values()
		return strings.Compare(sortKey(&x, order), sortKey(&y, order))
	})
	return out
}

// lines finds where a list names titles by a field, one behind the other in an order; false where it names none, or in
// another order.
func (s *student) lines(l *listing, f loader.Field, perTitle bool, order string) bool {
	all := s.listable(perTitle, order)
	text := strings.ToUpper(l.text)
	if len(text) != len(l.text) {
		text = l.text // letters that are longer as capitals
	}
	l.lines = all
	if c := infer.Contexts(text, l.words(f)); len(c) > 0 &&
		l.named(all, f, func(from int, word string) int { return c[0].Within(text, from, word) }) {
		return true
	}
	return perTitle && l.named(all, f, func(from int, word string) int {
		if at := infer.WordIn(text[from:], word); at >= 0 {
			return from + at
		}
		return -1
	})
}

// named takes those titles or discs that can be found in the list, one behind the other; false for none, for those that
// stand in another order, and for discs of titles of which it names others alone.
func (l *listing) named(all []line, f loader.Field, find func(from int, word string) int) bool {
	in := map[*placed]bool{}
	l.lines = slices.DeleteFunc(slices.Clone(all), func(n line) bool {
		v := n.values()
		is := len(v[f]) > 1 && find(0, strings.ToUpper(v[f])) >= 0
		in[n.of] = in[n.of] || is
		return !is
	})
	from := 0
	for i := range l.lines {
		v := l.lines[i].values()
		at := find(from, strings.ToUpper(v[f]))
		if at < 0 {
			return false
		}
		l.lines[i].at, from = at, at+1
	}
	text := strings.ToUpper(l.text)
	return len(l.lines) > 0 && !slices.ContainsFunc(all, func(n line) bool {
		v := n.values()
		return !slices.ContainsFunc(l.lines, n.is) && (in[n.of] || own[f] && len(v[f]) > 1 &&
			infer.WordIn(text, strings.ToUpper(v[f])) >= 0) // it stands there otherwise than the others
	})
}

func (n *line) is(o line) bool { return n.of == o.of && n.disc == o.disc }

// words are the values of a field of all that may be in the list.
func (l *listing) words(f loader.Field) (out []string) {
	for i := range l.lines {
		if v := l.lines[i].values(); v[f] != "" {
			out = append(out, strings.ToUpper(v[f]))
		}
	}
	return out
}

// tells reports whether a field tells most titles and discs from each other.
func (s *student) tells(f loader.Field) bool {
	all, distinct := 0, map[string]bool{}
	for _, x := range s.placed {
		for d := range x.discs {
			distinct[x.discs[d][f]] = true
			all++
		}
	}
	return len(distinct)*3 >= all
}

var listFields = []loader.Field{loader.FieldFolder, loader.FieldKind, loader.FieldRegion, loader.FieldPlatform,
	loader.FieldForm, loader.FieldExt}

// pathOf finds the path of lists: one, or one for each value of what their titles have in common.
func (s *student) pathOf(c *List, all []*listing) bool {
	if len(all) == 1 && !s.apart(all[0]) {
		c.Path = infer.Literal(all[0].entry.Path)
		return true
	}
	var rows []infer.Row
	for _, l := range all {
		v := l.lines[0].values()
		for i := range l.lines {
			o := l.lines[i].values()
			for _, f := range listFields {
				if o[f] != v[f] {
					v[f] = ""
				}
			}
		}
		text := l.entry.Path
		if path.Dir(text) == v[loader.FieldFolder] {
			text = v[loader.FieldFolder] + "/" + path.Base(text)
		}
		rows = append(rows, infer.Row{Values: v, Text: text})
	}
	m, ok := infer.Template(rows, infer.Options{Fields: listFields, Whole: true, Simple: true, Fold: s.fold})
	if ok && strings.Contains(m.Text, "{") {
		c.Path = m.Text
		return true
	}
	if len(all) == 1 {
		c.Path = infer.Literal(all[0].entry.Path)
		return true
	}
	return false
}

// apart reports whether the folder separates titles that are listed from others, which are not.
func (s *student) apart(l *listing) bool {
	some, others := s.inList([]*listing{l})
	if len(others) == 0 || tells(some, others) != "" {
		return false
	}
	folder := l.lines[0].values()[loader.FieldFolder]
	for i := range l.lines {
		if l.lines[i].values()[loader.FieldFolder] != folder {
			return false
		}
	}
	return !slices.ContainsFunc(others, func(x *placed) bool { return x.whole[loader.FieldFolder] == folder })
}

// inList divides titles into those that lists name and the others.
func (s *student) inList(all []*listing) (some, others []*placed) {
	for _, x := range s.placed {
		if slices.ContainsFunc(all, func(l *listing) bool {
			return slices.ContainsFunc(l.lines, func(n line) bool { return n.of == x })
		}) {
			some = append(some, x)
		} else {
			others = append(others, x)
		}
	}
	return some, others
}

// textList finds of what entries of texts are made.
func (s *student) textList(c *List, all []*listing) bool {
	var files []infer.Listing
	for _, l := range all {
		f := infer.Listing{Text: l.text}
		for i := range l.lines {
			e := infer.Entry{Values: l.lines[i].values(), At: l.lines[i].at}
			if c.PerTitle {
				e.Discs = l.lines[i].of.discs
			}
			f.Entries = append(f.Entries, e)
		}
		files = append(files, f)
	}
	var whens []string
	for _, f := range []loader.Field{loader.FieldKind, loader.FieldRegion} {
		for _, x := range s.placed {
			if w := f.String() + " is " + x.whole[f]; x.whole[f] != "" && !slices.Contains(whens, w) && len(whens) < 8 {
				whens = append(whens, w)
			}
		}
	}
	for _, e := range escapes(all[0].text) {
		m, ok := infer.Entries(files, infer.Options{Fields: textFields, Said: said, Escape: e.do, Simple: true})
		if !ok {
			m, ok = infer.Entries(files, infer.Options{Fields: textFields, Said: said, Escape: e.do, Whens: whens})
		}
		if ok {
			c.Make, c.Header, c.Line, c.Between, c.Footer = e.make, m.Header, m.Line, m.Between, m.Footer
			if c.Make == "" {
				c.Make = makeOf(all[0].entry.Path, m.Line)
			}
			c.Key = keyOf(c.Make, m.Line)
			return true
		}
	}
	return false
}

// takeList says what was found of lists.
func (s *student) takeList(c *List, all []*listing) {
	some, others := s.inList(all)
	for _, x := range some {
		if !slices.Contains(c.Platforms, x.t.Platform) {
			c.Platforms = append(c.Platforms, x.t.Platform)
		}
	}
	others = slices.DeleteFunc(others, func(x *placed) bool { return !slices.Contains(c.Platforms, x.t.Platform) })
	c.When = tells(some, others)
	n := 0
	for _, l := range all {
		s.used[l.entry.Path] = Lists
		n += len(l.lines)
	}
	first := all[0].entry.Path
	c.Why = fmt.Sprintf("learnt from %s of %s", size.Count(n, "title"), first)
	s.d.Lists = append(s.d.Lists, *c)
	how := Certain
	if n < 3 || c.When == "" && len(others) > 0 {
		how = Likely
	}
	s.find(how, "titles are listed in "+c.Path, "%s, such as in %s", size.Count(n, "title"), first)
	for _, l := range all {
		s.made(c.Path, l.entry.Path)
	}
	if c.When == "" && len(others) > 0 {
		s.doubted(first, "why is %s not listed in %s?", others[0].whole[loader.FieldName], first)
	}
}
