package layout

import (
	"bytes"
	"cmp"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
)

// A Row is one entry of a list: a disc, or a title with its discs.
type Row struct {
	loader.Values
	Discs []loader.Values // what {each} of an entry is written for
}

// A ListFile is a file in which titles are listed.
type ListFile struct {
	Path string
	Data []byte
	Rule string

	tree *Tree
	list *loader.List
	rows []Row
}

// lists reports whether a title is listed in a file of that rule.
func (l *layer) lists(list *loader.List, t *title.Title, p *Placement) bool {
	return p.Refusal == nil && list.Match(t.Platform, t.Form, l.destination.attachment(),
		l.destination.Filesystem.Name) &&
		(list.When.Empty() || list.When.Holds(l.factsAt(t, p)))
}

// rowsOf are the entries of a title in a list.
func (l *layer) rowsOf(list *loader.List, t *title.Title, p *Placement) []Row {
	discs := l.rows(t, p)
	if list.Per == "title" {
		return []Row{OfTitle(p.Name, discs)}
	}
	out := make([]Row, len(discs))
	for d := range discs {
		out[d].Values = discs[d]
	}
	return out
}

// OfTitle is the entry of a title that has one for all its discs.
func OfTitle(name string, discs []loader.Values) Row {
	r := Row{discs[0], discs}
	r.Values[loader.FieldTitle], r.Values[loader.FieldDisc] = name, ""
	return r
}

// listPath is the file in which an entry stands by a rule.
func (l *layer) listPath(list *loader.List, r *Row) string {
	return l.cased(list.Path.FillPath(&r.Values))
}

// listed are the rules for lists that hold where the tree is laid for.
func (t *Tree) listed() (out []*loader.List) {
	for k := range t.l.p.Lists {
		if l := &t.l.p.Lists[k]; (t.whole != nil) == t.apart() && (len(l.On) == 0 || slices.Contains(l.On,
			t.l.destination.attachment())) {
			out = append(out, l)
		}
	}
	return out
}

// Lists writes the files in which the loader wants its titles listed, for the titles that include says yes to. Where
// the path of a list has fields, there is one for each path that comes about.
func (t *Tree) Lists(include func(i int) bool) (out []ListFile) {
	rules := t.listed()
	if t.whole != nil { // they say where titles are in the whole tree
		t = t.whole
	}
	for _, l := range rules {
		at := map[string]int{}
		for i := range t.titles {
			tt, p := &t.titles[i], &t.Placements[i]
			if p.Refusal != nil || !include(i) || !t.l.lists(l, tt, p) {
				continue
			}
			for _, r := range t.l.rowsOf(l, tt, p) {
				file := t.l.listPath(l, &r)
				key := t.l.destination.Filesystem.Fold(file)
				k, known := at[key]
				if !known {
					k = len(out)
					at[key], out = k, append(out, ListFile{Path: file, Rule: l.Why, tree: t, list: l})
				}
				out[k].rows = append(out[k].rows, r)
			}
		}
	}
	for k := range out {
		out[k].Data = ListData(out[k].list, out[k].rows)
	}
	return out
}

// Entries is how many titles or discs stand in it.
func (f *ListFile) Entries() int { return len(f.rows) }

// A ListLine is how many bytes titles add to a file in which they are listed.
type ListLine struct {
	Path string
	tree *Tree
	list *loader.List
	only map[int]bool // the titles that are listed in it; nil for all that the rule is about
	most string       // the number of all discs
}

// ListLines are the files in which the loader wants its titles listed, where the tree is laid for.
func (t *Tree) ListLines() (out []ListLine) {
	discs := 0
	for i := range t.titles {
		discs += len(t.titles[i].Discs)
	}
	most := strconv.Itoa(discs)
	rules := t.listed()
	if t.whole != nil {
		t = t.whole
	}
	for _, l := range rules {
		if len(l.Path.Fields()) == 0 {
			out = append(out, ListLine{t.l.cased(l.Path.FillPath(&loader.Values{})), t, l, nil, most})
			continue
		}
		at := map[string]int{}
		for i := range t.titles {
			tt, p := &t.titles[i], &t.Placements[i]
			if p.Refusal != nil || !t.l.lists(l, tt, p) {
				continue
			}
			for _, r := range t.l.rowsOf(l, tt, p) {
				file := t.l.listPath(l, &r)
				key := t.l.destination.Filesystem.Fold(file)
				k, known := at[key]
				if !known {
					k = len(out)
					at[key], out = k, append(out, ListLine{file, t, l, map[int]bool{}, most})
				}
				out[k].only[i] = true
			}
		}
	}
	return out
}

// Bare reports whether no title is named in the file.
func (l *ListLine) Bare() bool { return l.list.Bare() }

// Titles goes through those that may be listed in the file, by their numbers.
func (l *ListLine) Titles(each func(i int)) {
	if l.only == nil {
		for i := range l.tree.titles {
			each(i)
		}
		return
	}
	for i := range l.only {
		each(i)
	}
}

// Around is how many bytes the file has before and behind what titles add, at most.
func (l *ListLine) Around() int {
	all := loader.Values{loader.FieldDiscs: l.most}
	return l.list.HeaderLength + len(Encoded(l.list.Encoding,
		[]byte(l.list.Header.Fill(&all)+l.list.Footer.Fill(&all))))
}

// Bytes is how many title i adds, at most; 1 where the file is there for it and does not name it.
func (l *ListLine) Bytes(i int) (n int) {
	t := l.tree
	tt, p := &t.titles[i], &t.Placements[i]
	if p.Refusal != nil || l.only != nil && !l.only[i] || !t.l.lists(l.list, tt, p) {
		return 0
	}
	if l.list.Bare() {
		return 1
	}
	for _, row := range t.l.rowsOf(l.list, tt, p) {
		if l.only != nil && !strings.EqualFold(t.l.listPath(l.list, &row), l.Path) {
			continue // a disc of it that another list has
		}
		if l.list.Record > 0 {
			n += l.list.Record
		} else {
			row.Values[loader.FieldIndex] = l.most
			n += len(Encoded(l.list.Encoding, []byte(line(l.list, &row)+l.list.Between)))
		}
	}
	return n
}

// orderFields are what lists are sorted by, by the names of [loader.List.Order].
var orderFields = map[string]loader.Field{"title": loader.FieldTitle, "id": loader.FieldID, "kind": loader.FieldKind,
	"platform": loader.FieldPlatform, "path": loader.FieldFile, "number": loader.FieldNumber,
	"section": loader.FieldSection, "place": loader.FieldPlace}

// SortRows orders by the named fields, without regard to letter case.
func SortRows(rows []Row, order []string) {
	slices.SortStableFunc(rows, func(a, b Row) int { return compareRows(&a, &b, order) })
}

// CompareBy compares values of what a list is sorted by, without regard to letter case. What has no place or section
// comes behind what has one.
func CompareBy(by, a, b string) int {
	c := strings.Compare(strings.ToLower(a), strings.ToLower(b))
	switch none := a == "" || b == ""; {
	case none && (by == "place" || by == "section"):
		return -c
	case by == "number", by == "place": // which have no zeros in front
		return cmp.Or(len(a)-len(b), c)
	}
	return c
}

// compareRows compares rows by the named fields.
func compareRows(a, b *Row, order []string) int {
	for _, by := range order {
		f := orderFields[by]
		if c := CompareBy(by, a.Values[f], b.Values[f]); c != 0 {
			return c
		}
	}
	return 0
}

// ListData is a file in which titles are listed, with its rows in the order of the list.
func ListData(l *loader.List, rows []Row) []byte {
	SortRows(rows, l.Order)
	var b bytes.Buffer
	for i := range rows {
		if i > 0 {
			b.WriteString(l.Between)
		}
		b.Write(row(l, rows[i], i+1))
	}
	all := loader.Values{loader.FieldDiscs: strconv.Itoa(len(rows))}
	if l.HeaderLength > 0 {
		return append(header(l, &all, b.Bytes()), b.Bytes()...)
	}
	return Encoded(l.Encoding, []byte(l.Header.Fill(&all)+b.String()+l.Footer.Fill(&all)))
}
