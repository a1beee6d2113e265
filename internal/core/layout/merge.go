package layout

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/reading"
)

// Lying is what a list that is on a target, or is to lie there, concerns.
type Lying struct {
	// Text is what the list says; There is unset where there is none.
	Text  string
	There bool
	// Last is what a run wrote of its own into it; "" for nothing that is remembered.
	Last string
	// Files are the paths of all files that will be on the target, but for those of titles that are known.
	Files []string
	// Stays reports whether there will be a file of a name.
	Stays func(base string) bool
}

// Merge brings what a list says into what it says already: rows that someone else made stay as they are, also those of
// a title that is listed again; rows that were written for games that are gone go; and games that are on the target
// are reported, as far as their paths report what a row needs. mine is what of it is not someone else's. ok is false
// when what is there cannot be understood as such a list: then it cannot be merged, only replaced.
func (f *ListFile) Merge(on Lying) (data, mine []byte, ok bool) {
	l := f.list
	if l.Bare() { // it is as it is, and a person's who changed it
		if !on.There || on.Text == on.Last {
			return f.Data, f.Data, true
		}
		return []byte(on.Text), f.Data, true
	}
	own := f.rows
	on.Text, on.Last = Decoded(l.Encoding, on.Text), Decoded(l.Encoding, on.Last)
	for _, file := range on.Files {
		if v, is := f.tree.read(l, file, f.Path); is {
			own = append(own, Row{Values: v})
		}
	}
	SortRows(own, l.Order)
	head, rows, foot, is := split(l, on.Text)
	if on.There && !is {
		return nil, nil, false
	}
	_, last, _, _ := split(l, on.Last)
	ours := map[string]bool{}
	for _, r := range last {
		ours[string(r)] = true
	}
	encoded := func(n int) []byte { return row(l, own[n], n+1) }
	about, same := map[string]int{}, map[string]int{} // what each of our rows is known by, and the rows themselves
	for n := range own {
		same[string(bare(l, encoded(n)))] = n
		for _, key := range keysOf(l, &own[n]) {
			if _, two := about[key]; two {
				about[key] = -1 // it tells none of them
			} else {
				about[key] = n
			}
		}
	}
	var stays []kept
	reported := make([]bool, len(own)) // by a row that stays as someone made it
	for _, r := range rows {
		at, is := same[string(bare(l, r))]
		if !is {
			at = -1
		}
		for _, key := range keysIn(l, r) {
			if n, ok := about[key]; ok && at < 0 {
				at = n
			}
		}
		if at >= 0 && (ours[string(r)] || bytes.Equal(bare(l, r), bare(l, encoded(at))) || !f.tree.standing(l, r,
			on.Stays)) {
			continue // it is written again
		}
		if at < 0 && ours[string(r)] && !f.tree.standing(l, r, on.Stays) {
			continue // its game is gone
		}
		if at >= 0 {
			reported[at] = true
		}
		stays = append(stays, keptOf(l, r))
	}
	var b, m bytes.Buffer
	all := loader.Values{loader.FieldDiscs: strconv.Itoa(len(own) + len(stays) - trues(reported))}
	n, mineCount := 0, 0
	put := func(r []byte) {
		if n++; n > 1 {
			b.WriteString(l.Between)
		}
		b.Write(r)
	}
	if l.HeaderLength > 0 {
		// it is made when the records are known
	} else if header := l.Header.Fill(&all); len(stays) == 0 || len(l.Header.Fields()) > 0 || head == "" {
		b.WriteString(header)
	} else {
		b.WriteString(head) // as someone left it
	}
	m.WriteString(l.Header.Fill(&all))
	for k := range own {
		if reported[k] {
			continue
		}
		for len(stays) > 0 && stays[0].before(&own[k], l) {
			put(stays[0].row)
			stays = stays[1:]
		}
		r := row(l, own[k], n+1)
		if mineCount++; mineCount > 1 {
			m.WriteString(l.Between)
		}
		m.Write(r)
		put(r)
	}
	for _, k := range stays {
		put(k.row)
	}
	if len(l.Footer.Fields()) > 0 || foot == "" {
		foot = l.Footer.Fill(&all)
	}
	b.WriteString(foot)
	m.WriteString(l.Footer.Fill(&all))
	if l.HeaderLength > 0 {
		return append(header(l, &all, b.Bytes()), b.Bytes()...), append(header(l, &all, m.Bytes()), m.Bytes()...), true
	}
	return Encoded(l.Encoding, b.Bytes()), Encoded(l.Encoding, m.Bytes()), true
}

// Amiss says what is wrong with a list that is there: what it lacks of the rows that are wanted, or has beside them, in
// words; "" for nothing. An entry that is known by what a row is known by counts as that, whatever else someone made of
// it. ok is false for a list that cannot be taken apart.
func Amiss(l *loader.List, text string, rows []Row) (say string, ok bool) {
	_, has, _, ok := split(l, Decoded(l.Encoding, text))
	if !ok || text == "" {
		return "", false
	}
	SortRows(rows, l.Order)
	about := map[string][]int{} // rows by how they are written, as they are and without what counts them, and by keys
	note := func(key string, n int) {
		if !slices.Contains(about[key], n) {
			about[key] = append(about[key], n)
		}
	}
	for n := range rows {
		encoded := row(l, rows[n], n+1)
		note("="+string(encoded), n)
		note(string(bare(l, encoded)), n)
		for _, key := range keysOf(l, &rows[n]) {
			note(key, n)
		}
	}
	listed, last := make([]bool, len(rows)), -1
	sorted := !slices.ContainsFunc(rows, func(r Row) bool { // where all is known by which they are
		return slices.ContainsFunc(l.Order, func(by string) bool { return r.Values[orderFields[by]] == "" })
	})
	var vague []int // rows of which not all is known, that are not found yet
	for n := range rows {
		if l.Record == 0 && !l.Line.Repeats() && slices.ContainsFunc(l.Line.Fields(),
			func(f loader.Field) bool { return rows[n].Values[f] == "" && !counting(f) }) {
			vague = append(vague, n)
		}
	}
	for _, r := range has {
		n, is, twice := 0, false, false
		for _, key := range append([]string{"=" + string(r), string(bare(l, r))}, keysIn(l, r)...) {
			if all := about[key]; !is && len(all) > 0 { // of several that look alike, one that was not listed yet
				k := slices.IndexFunc(all, func(n int) bool { return !listed[n] })
				n, is, twice = all[max(0, k)], true, k < 0
			}
		}
		if !is && len(vague) > 0 { // in a list in its order, the next one is the one that is meant
			if got, read := readLine(l, string(r)); read {
				k := slices.IndexFunc(vague, func(n int) bool { return mayBe(l, rows[n], &got, r) })
				if k >= 0 {
					n, is = vague[k], true
					vague = slices.Delete(vague, k, k+1)
				}
			}
		}
		switch {
		case !is:
			return fmt.Sprintf("the list has %q, which is not here", strings.TrimSpace(shownRow(l, r))), true
		case twice && say == "":
			say = fmt.Sprintf("the list has %q twice", strings.TrimSpace(shownRow(l, r)))
		case last >= 0 && say == "" && sorted && comesBefore(&rows[n], &rows[last], l.Order):
			say = fmt.Sprintf("the list is in another order: %q stands too late", strings.TrimSpace(shownRow(l, r)))
		}
		listed[n], last = true, max(last, n)
	}
	for n := range rows {
		if !listed[n] {
			return fmt.Sprintf("the list lacks %q, which is here",
				strings.TrimSpace(shownRow(l, row(l, rows[n], n+1)))), true
		}
	}
	return say, true
}

// comesBefore reports whether a row must stand in front of another one: by what the list is sorted by, and as an
// earlier disc of one title.
func comesBefore(a, b *Row, order []string) bool {
	if c := compareRows(a, b, order); c != 0 || len(order) == 0 {
		return c < 0
	}
	disc := func(r *Row) int { n, _ := strconv.Atoi(r.Values[loader.FieldDisc]); return n }
	return a.Values[loader.FieldTitle] == b.Values[loader.FieldTitle] && disc(a) < disc(b)
}

// mayBe reports whether an entry is about a row of which not all is known, when what is not known is as the entry says.
func mayBe(l *loader.List, row Row, got *loader.Values, entry []byte) bool {
	for _, f := range l.Line.Fields() {
		if row.Values[f] == "" || counting(f) {
			row.Values[f] = got[f]
		}
	}
	return strings.EqualFold(line(l, &row), string(entry))
}

// Vague reports whether values are not known that entries of a list must have.
func Vague(l *loader.List, rows []Row) bool {
	needs := l.Line.Needs()
	for i := range l.Fields {
		needs = append(needs, l.Fields[i].Value.Needs()...)
	}
	return slices.ContainsFunc(needs, func(f loader.Field) bool {
		return !counting(f) && f != loader.FieldRegion &&
			slices.ContainsFunc(rows, func(r Row) bool { return r.Values[f] == "" })
	})
}

// shownRow is an entry for people.
func shownRow(l *loader.List, r []byte) string {
	if l.Record == 0 {
		return string(r)
	}
	var out []string
	for k := range l.Fields {
		if f := &l.Fields[k]; !strings.HasPrefix(f.Encoding, "number") {
			text, _, _ := strings.Cut(string(r[f.Offset:f.Offset+f.Length]), "\x00")
			out = append(out, strings.ToValidUTF8(text, "?"))
		}
	}
	return strings.Join(out, " ")
}

// header are the bytes before the records of a binary list.
func header(l *loader.List, all *loader.Values, records []byte) []byte {
	out := bytes.Repeat([]byte{0}, l.HeaderLength)
	for k := range l.HeaderFields {
		f := &l.HeaderFields[k]
		value := f.Value.Fill(all)
		if f.Sum != "" {
			value = strconv.FormatUint(reading.Sum(f.Sum, records), 10)
		}
		encode(out[f.Offset:f.Offset+f.Length], f, value)
	}
	return out
}

// kept is a row that stays, with what it reports where that can be read.
type kept struct {
	row  []byte
	v    loader.Values
	read bool
}

func keptOf(l *loader.List, r []byte) kept {
	k := kept{row: r}
	if l.Record == 0 {
		k.v, k.read = readLine(l, string(r))
	}
	return k
}

// before reports whether a row that stays comes before another one. What cannot be read stays where it was.
func (k *kept) before(r *Row, l *loader.List) bool {
	if !k.read || len(l.Order) == 0 {
		return true
	}
	both := []Row{*r, {Values: k.v}}
	SortRows(both, l.Order)
	return both[0].Values == k.v && k.v != r.Values
}

func trues(all []bool) (n int) {
	for _, b := range all {
		if b {
			n++
		}
	}
	return n
}

// row is one row of a list, as number n of it.
func row(l *loader.List, r Row, n int) []byte {
	r.Values[loader.FieldIndex] = strconv.Itoa(n)
	if l.Record == 0 {
		return []byte(line(l, &r))
	}
	record := make([]byte, l.Record)
	for k := range l.Fields {
		f := &l.Fields[k]
		encode(record[f.Offset:f.Offset+f.Length], f, f.Value.Fill(&r.Values))
	}
	return record
}

// counting reports whether a field counts titles, and so tells none of them.
func counting(f loader.Field) bool { return f == loader.FieldIndex || f == loader.FieldNumber }

// bare is a row without the number that it has in the list, or that its title has.
func bare(l *loader.List, r []byte) []byte {
	if l.Record == 0 {
		if v, ok := readLine(l, string(r)); ok && !l.Line.Repeats() {
			v[loader.FieldIndex], v[loader.FieldNumber] = "", ""
			return []byte(line(l, &Row{Values: v}))
		}
		return r
	}
	r = bytes.Clone(r)
	for k := range l.Fields {
		if f := &l.Fields[k]; slices.ContainsFunc(f.Value.Fields(), counting) {
			clear(r[f.Offset : f.Offset+f.Length])
		}
	}
	return r
}

// split takes a list apart. ok is false for what is none.
func split(l *loader.List, text string) (head string, rows [][]byte, foot string, ok bool) {
	if text == "" {
		return "", nil, "", true
	}
	if l.Record > 0 {
		if l.HeaderLength > 0 {
			if len(text) < l.HeaderLength {
				return "", nil, "", false
			}
			head, text = text[:l.HeaderLength], text[l.HeaderLength:]
		} else {
			if head, text, ok = l.Header.Begins(text); !ok {
				return "", nil, "", false
			}
			if text, foot, ok = l.Footer.Ends(text); !ok {
				return "", nil, "", false
			}
		}
		if len(text)%l.Record != 0 {
			return "", nil, "", false
		}
		for ; len(text) > 0; text = text[l.Record:] {
			rows = append(rows, []byte(text[:l.Record]))
		}
		return head, rows, foot, true
	}
	if line := l.Line.String(); l.Make == "" && (strings.Count(line, "\n") != 1 || !strings.HasSuffix(line, "\n")) {
		return "", nil, "", false // rows of several lines cannot be separated
	}
	head, rows, foot, err := taken(l, text)
	return head, rows, foot, err == nil
}

// keysOf are what a row about a game is known by: its file, and its ID, as the list has them.
func keysOf(l *loader.List, r *Row) (keys []string) {
	v := &r.Values
	if l.Key != "" {
		return keysIn(l, row(l, *r, 1))
	}
	for _, by := range []loader.Field{loader.FieldFile, loader.FieldID} {
		if v[by] == "" {
			continue
		}
		if l.Record == 0 && l.Line.Uses(by) {
			keys = append(keys, keyOf(int(by), []byte(v[by])))
		}
		for k := range l.Fields {
			if f := &l.Fields[k]; l.Record > 0 && f.Value.Uses(by) {
				want := make([]byte, f.Length)
				encode(want, f, f.Value.Fill(v))
				keys = append(keys, keyOf(f.Offset, want))
			}
		}
	}
	return keys
}

func keyOf(at int, what []byte) string {
	return strconv.Itoa(at) + " " + string(bytes.ToUpper(what))
}

// keysIn are what a row that is there is known by.
func keysIn(l *loader.List, r []byte) (keys []string) {
	if l.Key != "" {
		if key := makeOf(l).key(string(r), l.Key); key != "" {
			return []string{keyOf(0, []byte(key))}
		}
		return nil
	}
	if l.Record > 0 {
		for k := range l.Fields {
			if f := &l.Fields[k]; f.Value.Uses(loader.FieldID) || f.Value.Uses(loader.FieldFile) {
				keys = append(keys, keyOf(f.Offset, r[f.Offset:f.Offset+f.Length]))
			}
		}
		return keys
	}
	if v, ok := readLine(l, string(r)); ok {
		for _, by := range []loader.Field{loader.FieldFile, loader.FieldID} {
			if v[by] != "" {
				keys = append(keys, keyOf(int(by), []byte(v[by])))
			}
		}
	}
	return keys
}

// standing reports whether the file that a row names will be on the target. A row that names none stands.
func (t *Tree) standing(l *loader.List, r []byte, stays func(base string) bool) bool {
	file := ""
	if l.Record == 0 {
		v, ok := readLine(l, string(r))
		if !ok {
			return true
		}
		file = v[loader.FieldFile]
	}
	return file == "" || stays(file)
}

// read makes a row of a file that is on the target and belongs into a list, as far as its path reports what the row
// needs.
func (t *Tree) read(l *loader.List, file, list string) (v loader.Values, ok bool) {
	for k := range t.l.p.Accepts {
		a := &t.l.p.Accepts[k]
		if !slices.ContainsFunc(a.Platforms,
			func(p string) bool { return len(l.Platforms) == 0 || slices.Contains(l.Platforms, p) }) {
			continue
		}
		if len(a.On) > 0 && !slices.Contains(a.On, t.l.destination.attachment()) {
			continue
		}
		if v, ok = a.Path.Match(file); !ok || !t.likely(a, &v) || slices.ContainsFunc(t.listed(),
			func(l *loader.List) bool { _, is := l.Path.Match(file); return is }) {
			continue
		}
		v[loader.FieldFile], v[loader.FieldFolder] = path.Base(file), path.Dir(file)
		v[loader.FieldBase] = strings.TrimSuffix(path.Base(file), path.Ext(file))
		if len(a.Platforms) == 1 {
			v[loader.FieldPlatform] = a.Platforms[0]
		}
		v[loader.FieldKind] = strings.ToLower(v[loader.FieldKind])
		if len(l.Path.Fields()) > 0 && !strings.EqualFold(t.l.cased(l.Path.FillPath(&v)), list) {
			continue
		}
		needs := l.Line.Needs()
		for i := range l.Fields {
			needs = append(needs, l.Fields[i].Value.Needs()...)
		}
		if !slices.ContainsFunc(needs, func(f loader.Field) bool {
			return v[f] == "" && !counting(f) && f != loader.FieldDiscs && f != loader.FieldRegion &&
				f != loader.FieldSize
		}) {
			return v, true
		}
	}
	return v, false
}
