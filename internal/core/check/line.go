package check

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
)

// A line is one of the loader's list, with what is known of it.
type line struct {
	Listed
	v    loader.Values
	rule *loader.Accept
	e    *target.Entry
	in   *title.Title    // what was found inside; nil where nothing was looked at
	path string          // of its game's file, by which companions are named
	by   loader.Template // what the entry's path was read by
	// parts are the files that it is in where it was cut, in their order; nil for one that lies whole.
	parts []*target.Entry
	// sheets are the cue sheets behind the line, in the order of its discs.
	sheets []*target.Entry
	// largest is how large the largest disc of its title is, where there are several; 0 while that is not known, as the
	// others are other lines.
	largest int64
}

// limits says in what a path is more than the attachment bears, "" for nothing.
func (y *loaderAudit) limits(file string) string {
	count := func(s string) int { r := loader.TitleRule{Count: y.at.Count}; return r.Length(s) }
	if y.at.LongestPath > 0 && count(file) > y.at.LongestPath {
		return fmt.Sprintf("its path has %d characters, but at most %d are allowed", count(file), y.at.LongestPath)
	}
	for part := range strings.SplitSeq(file, "/") {
		if y.at.LongestName > 0 && count(part) > y.at.LongestName {
			return fmt.Sprintf("the name %s has %d characters, but at most %d are allowed", part, count(part),
				y.at.LongestName)
		}
		for _, r := range part {
			if strings.ContainsRune(y.at.Forbidden, r) || !y.at.Permitted.Has(r) {
				return fmt.Sprintf("the character %q is not allowed in a name", r)
			}
		}
	}
	return ""
}

// line takes a title up into the list. Its path was read by one of the rule's templates.
func (y *loaderAudit) line(e *target.Entry, rule *loader.Accept, by loader.Template, v loader.Values, platform string) {
	l := &line{Listed: Listed{Loader: y.profile.Name, ID: v[loader.FieldID], Name: v[loader.FieldTitle],
		Platform: platform, Section: v[loader.FieldSection], Path: e.Path, Size: e.Size, Starts: true},
		v: v, rule: rule, e: e, by: by, path: e.Path}
	l.v[loader.FieldPlatform] = platform
	if l.Name == "" {
		l.Name = l.ID
		if disc := v[loader.FieldDisc]; disc != "" {
			l.Name += " disc " + disc
		}
	}
	l.Name = y.shownAs(l)
	wrong := func(kind Kind, say string) {
		f := Finding{Kind: kind, Grade: Fault, Path: e.Path, Say: fmt.Sprintf("%s ignores it: %s", y.profile.Shown,
			say), Remedy: "remove it"}
		if kind == Name {
			f.Remedy, f.Fixes = y.renamed(e, rule, &v)
		}
		y.report(f)
	}
	if say := y.limits(e.Path); say != "" {
		wrong(Name, say)
		return
	}
	largest := y.facts.Filesystem.LargestFile
	if y.at.LargestFile > 0 {
		largest = min(largest, int64(y.at.LargestFile))
	}
	if e.Size > largest {
		wrong(TooLarge, fmt.Sprintf("it is too large: %s for %s", size.Format(e.Size), y.facts.Filesystem.Shown))
		return
	}
	if rule.Unlisted {
		return
	}
	if oneLine(rule) && slices.Contains(rule.Forms, title.Tracks) && !y.sheetsOf(l) {
		return
	}
	if y.isHidden(y.tree.fold(e.Path)) {
		return // it is reported with its folder
	}
	if e.Folder {
		for _, f := range y.below(e.Path) {
			l.Size += f.Size
		}
	}
	if !e.Folder {
		if l.parts = y.cut(l); l.parts != nil {
			l.Size = 0
			for _, p := range l.parts {
				l.Size += p.Size
			}
		}
	}
	y.inside(l)
	y.contiguous(l)
	y.lines = append(y.lines, l)
}

// shownAs is the name of a line as its path tells it: with what stands behind the title for the number of its disc.
func (y *loaderAudit) shownAs(l *line) string {
	name, disc := l.v[loader.FieldTitle], l.v[loader.FieldDisc]
	if name == "" || disc == "" || !l.by.Uses(loader.FieldDisc) || oneLine(l.rule) {
		return l.Name
	}
	made := path.Base(y.made(l.by, &loader.Values{loader.FieldTitle: name, loader.FieldDisc: disc}))
	if i := strings.Index(strings.ToLower(made), strings.ToLower(name)); i >= 0 {
		rest := made[i+len(name):]
		return name + strings.TrimSuffix(rest, path.Ext(rest))
	}
	return l.Name
}

// below lists the files below a folder.
func (y *loaderAudit) below(dir string) (out []*target.Entry) {
	for _, e := range y.tree.within(dir) {
		if e.Folder {
			out = append(out, y.below(e.Path)...)
		} else {
			out = append(out, e)
		}
	}
	return out
}

// oneLine reports whether the discs of a title lie in one folder, which is one line of the list.
func oneLine(rule *loader.Accept) bool {
	return rule.Path.Uses(loader.FieldDisc) && strings.Contains(path.Dir(rule.Path.String()), "{title")
}

// sheetsOf finds the cue sheets behind the line of a folder. It returns false for one that is not the line's first: the
// line is made once.
func (y *loaderAudit) sheetsOf(l *line) bool {
	plain := l.v
	plain[loader.FieldDisc] = ""
	at := func(disc string) (*target.Entry, bool) {
		v := plain
		v[loader.FieldDisc] = disc
		return y.tree.file(y.made(l.rule.Path, &v))
	}
	l.Path = path.Dir(l.e.Path)
	if name := path.Base(l.Path); strings.EqualFold(name, l.Name) {
		l.Name = name // as the folder spells it
	}
	if e, ok := at(""); ok {
		l.sheets = []*target.Entry{e}
		return l.v[loader.FieldDisc] == "" // others beside it are not looked at
	}
	first, ok := at("1")
	if !ok {
		if y.firstDisc(l, at) {
			f := Finding{Kind: Disc, Grade: Fault, Path: l.e.Path,
				Say: fmt.Sprintf("%s ignores the folder: the first disc of %s is not in it", y.profile.Shown,
					l.Name),
				Matters: "the game will not be in the list"}
			v := plain
			v[loader.FieldDisc] = "1"
			f.Remedy, f.Fixes = y.again("put the disc beside it", y.made(l.rule.Path, &v))
			y.report(f)
		}
		return false
	}
	if l.v[loader.FieldDisc] != "1" {
		return false
	}
	l.sheets = []*target.Entry{first}
	for n := 2; ; n++ {
		e, ok := at(strconv.Itoa(n))
		if !ok {
			break
		}
		l.sheets = append(l.sheets, e)
	}
	l.Discs = len(l.sheets)
	l.v[loader.FieldDiscs] = strconv.Itoa(max(2, len(l.sheets))) // one that is named disc 1 has others
	return true
}

// firstDisc reports whether a disc is the first of those that are in a folder.
func (y *loaderAudit) firstDisc(l *line, at func(string) (*target.Entry, bool)) bool {
	n, _ := strconv.Atoi(l.v[loader.FieldDisc])
	for k := 2; k < n; k++ {
		if _, ok := at(strconv.Itoa(k)); ok {
			return false
		}
	}
	return true
}

// fragmented says what keeps a file of the loader's from starting where it must are contiguous, "" for nothing.
func (y *loaderAudit) fragmented(file string) string {
	if !y.pieces {
		return ""
	}
	n, err := y.target.(target.FragmentCounter).Fragments(y.ctx, y.real(file))
	switch {
	case err != nil:
		return fmt.Sprintf("its position on the volume cannot be read: %v", err)
	case n > 1:
		return fmt.Sprintf("it is in %d fragments, but %s starts only contiguous files", n, y.profile.Shown)
	}
	return ""
}

// order brings the list into the loader's order.
func (y *loaderAudit) order() {
	if y.unread {
		y.r.Unchecked = append(
			y.r.Unchecked,
			"under which names and where the list shows titles: that stands in texts "+
				"beside them, which are read at the depth inside",
		)
	}
	order := y.profile.ListOrder
	if len(order) == 0 {
		order = []string{"title", "id"}
	}
	field := func(l *line, by string) string {
		switch by {
		case "id":
			return l.ID
		case "kind":
			return l.Kind
		case "platform":
			return l.Platform
		case "path":
			return l.Path
		case "section":
			return l.Section
		case "place":
			if l.Place > 0 {
				return strconv.Itoa(l.Place)
			}
			return ""
		}
		return l.Name
	}
	slices.SortStableFunc(y.lines, func(a, b *line) int {
		for _, by := range order {
			if c := layout.CompareBy(by, field(a, by), field(b, by)); c != 0 {
				return c
			}
		}
		return 0
	})
}
