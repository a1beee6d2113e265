package check

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/fix"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/size"
	"polytome/internal/target"
)

// discs looks for titles of which a disc is missing, and for those that are there twice.
func (y *loaderAudit) discs() {
	type set struct {
		lines []*line
		of    int
	}
	sets := map[string]*set{}
	ids := map[string]*line{}
	for _, l := range y.lines {
		id, number := l.ID, 1
		if l.in == nil && !l.by.Keeps(loader.FieldID) {
			id = "" // the path has a part of it
		}
		if l.in != nil {
			id, number = cmp.Or(l.in.Discs[0].ID, id), l.in.Discs[0].Number
		}
		if id != "" {
			key := fmt.Sprintf("%s\x00%s\x00%d\x00%s", l.Platform, strings.ToUpper(id), number, l.v[loader.FieldDisc])
			if first, twice := ids[key]; twice {
				y.report(Finding{Kind: Double, Grade: Remark, Path: l.Path, Say: fmt.Sprintf("it is the same %s as %s",
					id, first.Path), Remedy: "remove the one you do not want"})
			} else {
				ids[key] = l
			}
		}
		if l.in == nil || l.in.Of == 1 || l.sheets != nil || l.rule.Joins() || l.in.Of == 0 && number == 1 {
			continue
		}
		key := l.Platform + "\x00" + strings.ToLower(l.in.Name)
		if sets[key] == nil {
			sets[key] = &set{}
		}
		sets[key].lines = append(sets[key].lines, l)
		sets[key].of = max(sets[key].of, l.in.Of, number)
	}
	for _, s := range sets {
		for n := 1; n <= s.of; n++ {
			if slices.ContainsFunc(s.lines, func(l *line) bool { return l.in.Discs[0].Number == n }) ||
				y.firstOf(s.lines[0], n) {
				continue
			}
			l := s.lines[0]
			f := Finding{Kind: Disc, Grade: Fault, Path: l.Path, Say: fmt.Sprintf("disc %d of %d of %s is missing", n,
				s.of, l.in.Name)}
			f.Remedy, f.Fixes = y.again("put that disc here too", l.Path)
			y.report(f)
		}
	}
}

// numbers looks for running numbers that two titles of a folder have.
func (y *loaderAudit) numbers() {
	first := map[string]string{} // the folder and the number -> the path up to where the number stands
	for _, l := range y.lines {
		number := l.v[loader.FieldNumber]
		if number == "" || !l.rule.Numbered() || l.by.String() != l.rule.Path.String() { // where it is counted
			continue
		}
		before, _ := l.by.Before(loader.FieldNumber, &l.v)
		depth := strings.Count(before, "/")
		parts := strings.Split(y.tree.fold(l.Path), "/")
		if depth >= len(parts) {
			continue
		}
		key := strings.Join(parts[:depth], "/") + "\x00" + number
		at := strings.Join(parts[:depth+1], "/")
		if was, taken := first[key]; taken && was != at {
			y.report(Finding{Kind: Number, Grade: Remark, Path: l.Path, Say: fmt.Sprintf(
				"another title in its folder has the number %s too", number),
				Remedy: "give one of them a number that is free, " +
					"or fill the target again"})
		} else {
			first[key] = at
		}
	}
}

// firstOf reports whether the first disc of a title that does not say how many it has is there: it looks like any title
// of one disc.
func (y *loaderAudit) firstOf(l *line, n int) bool {
	return n == 1 && slices.ContainsFunc(y.lines, func(o *line) bool {
		return o.in != nil && o.Platform == l.Platform && o.in.Of == 0 && strings.EqualFold(o.in.Name, l.in.Name) &&
			o.in.Discs[0].Number == 1
	})
}

// crowds looks for folders with more entries than the console shows.
func (y *loaderAudit) crowds() {
	for _, rule := range y.held {
		if rule.OverflowAfter <= 0 {
			continue
		}
		page := pageOf(rule)
		if page == nil {
			continue
		}
		seen := map[string]bool{}
		for i := range y.tree.entries {
			e := &y.tree.entries[i]
			_, v, ok := layout.TitleAt(y.set, rule, e.Path, e.Folder)
			if !ok {
				continue
			}
			dir := y.counted(e.Path, v[loader.FieldTitle])
			if key := y.tree.fold(dir); dir != "" && !seen[key] {
				seen[key] = true
				y.crowded(dir, rule, page)
			}
		}
	}
}

// counted is the folder whose entries are counted: the one in which the first part with the title's name lies.
func (y *loaderAudit) counted(file, name string) string {
	parts := strings.Split(file, "/")
	for i, p := range parts {
		if name != "" && strings.HasPrefix(y.tree.fold(p), y.tree.fold(name)) && i > 0 {
			return strings.Join(parts[:i], "/")
		}
	}
	return ""
}

// pageOf reports how the further folders of a rule are named; nil where it has none.
func pageOf(rule *loader.Accept) func(name string) (n int, ok bool) {
	const title, number = "\x01t", "7777"
	var v loader.Values
	v[loader.FieldTitle], v[loader.FieldPage], v[loader.FieldPlatform] = title, number, "p"
	for part := range strings.SplitSeq(rule.Path.FillPath(&v), "/") {
		if !strings.Contains(part, number) || strings.Contains(part, title) {
			continue
		}
		re := regexp.MustCompile("(?i)^" + strings.Replace(regexp.QuoteMeta(part), number, "([0-9]+)", 1) + "$")
		return func(name string) (int, bool) {
			m := re.FindStringSubmatch(name)
			if m == nil {
				return 0, false
			}
			n, err := strconv.Atoi(m[1])
			return n, err == nil
		}
	}
	return nil
}

// crowded hides what a folder holds beyond what is shown, and reports where it should go.
func (y *loaderAudit) crowded(dir string, rule *loader.Accept, page func(string) (int, bool)) {
	var in []*target.Entry
	pages := map[int]int{1: rule.OverflowAfter}
	_, isPage := page(path.Base(dir))
	for _, e := range y.tree.within(dir) {
		if n, ok := page(path.Base(e.Path)); ok && e.Folder && !isPage {
			pages[n] = len(y.tree.within(e.Path))
			continue
		}
		if !y.isList(e.Path) { // which is no entry of its own list
			in = append(in, e)
		}
	}
	if len(in) <= rule.OverflowAfter {
		return
	}
	slices.SortFunc(in, func(a, b *target.Entry) int {
		return cmp.Or(strings.Compare(strings.ToLower(path.Base(a.Path)), strings.ToLower(path.Base(b.Path))),
			strings.Compare(a.Path, b.Path))
	})
	over := in[rule.OverflowAfter:]
	f := Finding{Kind: Crowded, Grade: Fault, Path: dir, Remedy: "move them into another folder"}
	var names []string
	for _, e := range over {
		y.hidden[y.tree.fold(e.Path)] = true
		if names = append(names, path.Base(e.Path)); len(names) > 3 {
			names[3] = "…"
			names = names[:4]
		}
		if isPage {
			continue
		}
		n := 2
		for pages[n] >= rule.OverflowAfter {
			n++
		}
		pages[n]++
		var v loader.Values
		v[loader.FieldTitle], v[loader.FieldPage], v[loader.FieldPlatform] = "\x01", strconv.Itoa(n), path.Base(dir)
		for part := range strings.SplitSeq(y.made(rule.Path, &v), "/") {
			if k, ok := page(part); ok && k == n {
				f.Fixes = append(f.Fixes, fix.Fix{Do: fix.Rename, Path: e.Path, To: path.Join(dir, part,
					path.Base(e.Path))})
			}
		}
	}
	f.Say = fmt.Sprintf("it holds %d entries but %s shows only %d: %s not shown (%s)", len(in), y.profile.Shown,
		rule.OverflowAfter, are(len(over)), strings.Join(names, ", "))
	y.report(f)
}

func are(n int) string {
	if n == 1 {
		return "1 is"
	}
	return fmt.Sprintf("%d are", n)
}

// isHidden reports whether a path lies beyond what a folder shows.
func (y *loaderAudit) isHidden(key string) bool {
	if len(y.hidden) == 0 {
		return false
	}
	for ; key != "."; key = path.Dir(key) {
		if y.hidden[key] {
			return true
		}
	}
	return false
}

// largestDiscs works out how large the largest disc of every line's title is.
func (y *loaderAudit) largestDiscs() {
	largest := map[[2]string]int64{}
	of := func(l *line) [2]string {
		name, _ := withoutDisc(l)
		return [2]string{l.Platform, name}
	}
	for _, l := range y.lines {
		largest[of(l)] = max(largest[of(l)], l.Size)
	}
	for _, l := range y.lines {
		l.largest = largest[of(l)]
	}
}

// lists compares the files in which titles are listed with what is here.
func (y *loaderAudit) lists() {
	for i := range y.profile.Lists {
		l := &y.profile.Lists[i]
		if len(l.On) > 0 && !slices.Contains(l.On, y.on) {
			continue
		}
		rows := y.rowsOf(l)
		for _, at := range slices.Sorted(maps.Keys(rows)) {
			y.list(l, at, rows[at])
		}
	}
}

// rowsOf are the entries that a rule's lists should have, by the paths of the lists. Lists of which no title is here
// have none.
func (y *loaderAudit) rowsOf(l *loader.List) map[string][]layout.Row {
	out := map[string][]layout.Row{}
	if len(l.Path.Fields()) == 0 {
		out[y.made(l.Path, &loader.Values{})] = nil
	} else {
		for i := range y.tree.entries {
			if e := &y.tree.entries[i]; !e.Folder {
				if _, ok := l.Path.Match(e.Path); ok {
					out[y.tree.fold(e.Path)] = nil
				}
			}
		}
	}
	spelled := map[string]string{}
	for at := range out {
		spelled[y.tree.fold(at)] = at
	}
	for _, n := range y.byTitle() {
		if len(l.Platforms) > 0 && !slices.Contains(l.Platforms, n.Platform) {
			continue
		}
		first := n
		if furtherDisc(n) && !l.When.Empty() {
			first = y.discsOf(n)[0]
		}
		if _, listed := y.asks(l.When, first); !listed || l.Per == "title" && furtherDisc(n) {
			continue
		}
		v := y.values(n)
		if n.in == nil && slices.ContainsFunc(l.Path.Needs(), func(f loader.Field) bool { return v[f] == "" }) {
			continue // only a look inside tells where it is listed
		}
		at := y.made(l.Path, v)
		key := y.tree.fold(at)
		if spelled[key] == "" {
			spelled[key] = at
		}
		row := layout.Row{Values: *v}
		if l.Per == "title" {
			name, _ := withoutDisc(n)
			row = layout.OfTitle(name, y.discRows(n))
		}
		out[spelled[key]] = append(out[spelled[key]], row)
	}
	return out
}

// byTitle are the lines with the discs of each title one after another, as lists have them that sort titles.
func (y *loaderAudit) byTitle() (out []*line) {
	discs := map[discKey][]*line{}
	for _, l := range y.lines {
		if k, one := discKeyOf(l); one {
			discs[k] = append(discs[k], l)
		}
	}
	for _, l := range y.lines {
		k, one := discKeyOf(l)
		if !one {
			out = append(out, l)
			continue
		}
		all := discs[k]
		delete(discs, k) // they stand where the first of them does
		slices.SortStableFunc(all, func(a, b *line) int { return discNumber(a) - discNumber(b) })
		out = append(out, all...)
	}
	return out
}

// list compares one file in which titles are listed with what is here.
func (y *loaderAudit) list(l *loader.List, at string, rows []layout.Row) {
	e, there := y.tree.file(at)
	if there {
		y.claim(e.Path)
	}
	if len(rows) == 0 && !there || there && (y.o.Depth == Names || l.Bare() && e.Size > 0) {
		return
	}
	want := layout.ListData(l, rows)
	f := Finding{Kind: List, Grade: Fault, Path: at, Remedy: "rebuild it from what is here",
		Fixes: []fix.Fix{{Do: fix.Write, Path: at, Text: fix.Text(want)}}}
	if layout.Vague(l, rows) { // what is here does not tell all that stands in it
		f.Remedy, f.Fixes = "fill the target again: not all that it says can be read from what is here", nil
	}
	if !there || l.Bare() {
		f.Say = fmt.Sprintf("the list of %s is missing", size.Count(len(rows), "title"))
		if l.Bare() {
			f.Say, f.Remedy = "a file that the loader needs beside its titles is missing, or has no bytes", "write it"
		}
		y.report(f)
		return
	}
	text, err := y.tree.text(e)
	switch {
	case err != nil:
		f.Say = fmt.Sprintf("the list cannot be read: %v", err)
	case text == string(want):
		return
	default:
		if say, ok := layout.Amiss(l, text, rows); ok {
			if f.Say = say; say == "" {
				return
			}
		} else {
			f.Say = differs(layout.Decoded(l.Encoding, text), layout.Decoded(l.Encoding, string(want)))
		}
	}
	f.Path = e.Path
	for i := range f.Fixes {
		f.Fixes[i].Path = e.Path
	}
	y.report(f)
}

// differs says in what a list of lines is not the one that is wanted.
func differs(got, want string) string {
	has := func(text, line string) bool {
		return slices.Contains(strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n"), line)
	}
	for line := range strings.Lines(want) {
		if line = strings.TrimRight(line, "\n"); !has(got, line) {
			return fmt.Sprintf("the list lacks %q, which is here", line)
		}
	}
	for line := range strings.Lines(got) {
		if line = strings.TrimRight(line, "\r\n"); !has(want, line) && line != "" {
			return fmt.Sprintf("the list has %q, which is not here", line)
		}
	}
	return "the list has another order, or a title twice"
}
