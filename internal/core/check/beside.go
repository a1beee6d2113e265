package check

import (
	"cmp"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/fix"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/settings"
	"polytome/internal/format/picture"
	"polytome/internal/size"
	"polytome/internal/target"
)

// companions looks for the files that belong to titles by their names: exactly right, nearly, or not there.
func (y *loaderAudit) companions() {
	for i := range y.profile.Companions {
		c := &y.profile.Companions[i]
		if c.Decides() || len(c.On) > 0 && !slices.Contains(c.On, y.on) {
			continue
		}
		has, lacks := 0, []*line(nil)
		done := map[string]bool{} // two titles may have one ID
		for _, l := range y.lines {
			if !y.has(c, l) {
				continue
			}
			at := y.made(c.Path, y.valuesFor(c, l))
			key := y.tree.fold(at)
			if e, ok := y.tree.file(at); ok && (!y.cased || e.Path == at) {
				has++
				y.need(at)
				if c.InList() {
					y.shownBy(c, l, e)
				}
				if c.Is == "cover" && !done[key] {
					y.picture(c, l, e)
				}
				done[key] = true
				continue
			}
			lacks = append(lacks, l)
		}
		lacks = slices.DeleteFunc(lacks, func(l *line) bool { return y.nearMiss(c, l) })
		if c.Is == "cover" && has > 0 && len(lacks) > 0 && !y.o.NoCovers {
			y.report(Finding{Kind: NoCover, Grade: Remark, Say: fmt.Sprintf("%d of %s have no %s cover: %s", len(lacks),
				size.Count(has+len(lacks), "title"), pictured(c), some(lacks)),
				Remedy: "download covers or choose pictures (C, or polytome covers), and run again"})
		}
	}
	known := map[*loader.Companion]bool{} // it can be reported whose they are, or cannot
	knows := func(c *loader.Companion) bool {
		is, asked := known[c]
		if !asked {
			is = !slices.ContainsFunc(y.lines, func(l *line) bool { return y.unknown(c, l) })
			known[c] = is
		}
		return is
	}
	for key, e := range y.beside { // what no title of the list calls its own
		if c := y.companionRule(e); c != nil && !y.needed[key] && !y.isHidden(key) && knows(c) {
			y.report(Finding{Kind: Orphan, Grade: Remark, Path: e.Path,
				Say:    fmt.Sprintf("it is a %s, but no title here has that name", c.Is),
				Remedy: "keep it in case the title returns, or remove it"})
		}
	}
}

// shownBy has a line stand in the list as its text says: under which name, in which section, and where.
func (y *loaderAudit) shownBy(c *loader.Companion, l *line, e *target.Entry) {
	if y.o.Depth == Names && UsualDepth(y.o.Via) == Names { // every file costs a transfer
		y.unread = true
		return
	}
	text, err := y.tree.text(e)
	if err != nil {
		y.report(Finding{Kind: Unreadable, Grade: Fault, Path: e.Path, Say: fmt.Sprintf("it cannot be read: %v", err),
			Remedy: "copy the title here again"})
		return
	}
	text = layout.Decoded(c.Encoding, text)
	value := func(key string) string {
		if key == "" {
			return ""
		}
		return settings.Text(text, settings.Syntax(c.Syntax), "", key)
	}
	l.Name, l.Section = cmp.Or(value(c.Shows), l.Name), cmp.Or(value(c.Sections), l.Section)
	plain := func(key string) string {
		value, _, _ := settings.Get(text, settings.Syntax(c.Syntax), "", key)
		return value
	}
	if place, err := strconv.Atoi(plain(c.Places)); err == nil && place > 0 && c.Places != "" {
		l.Place = place
	}
	if c.Favours != "" {
		l.Favourite = slices.Contains([]string{"true", "yes", "on", "1"}, strings.ToLower(plain(c.Favours)))
	}
}

func pictured(c *loader.Companion) string {
	if c.Picture.Of == "" {
		return "front"
	}
	return c.Picture.Of
}

// some names the first titles of several.
func some(lines []*line) string {
	var names []string
	for _, l := range lines[:min(len(lines), 3)] {
		names = append(names, l.Name)
	}
	out := strings.Join(names, ", ")
	if len(lines) > len(names) {
		out += ", …"
	}
	return out
}

// companionRule is the rule by which a path would be a companion's.
func (y *loaderAudit) companionRule(e *target.Entry) *loader.Companion {
	for i := range y.profile.Companions {
		c := &y.profile.Companions[i]
		if len(c.On) > 0 && !slices.Contains(c.On, y.on) {
			continue
		}
		if _, ok := c.Path.Match(e.Path); ok {
			return c
		}
	}
	return nil
}

// nearMiss looks for a file that would be a title's companion, if its name were exact.
func (y *loaderAudit) nearMiss(c *loader.Companion, l *line) bool {
	at := y.made(c.Path, y.valuesFor(c, l))
	takes := func(e *target.Entry) bool {
		return c.Is != "cover" || picture.Named(e.Path) || strings.EqualFold(path.Ext(e.Path), path.Ext(at))
	}
	e, how := y.nearest(at, takes)
	if e == nil {
		return false
	}
	y.need(e.Path)
	f := Finding{Kind: Companion, Grade: Fault, Path: e.Path,
		Say: fmt.Sprintf("it is almost the %s of %s, which must be named %s: %s", c.Is, l.Name, path.Base(at), how)}
	if c.Is == "cover" && y.o.Depth != Names {
		rule := pictureRule(c)
		if s, err := y.measure(e); err == nil && rule.Off(s, e.Size) != "" {
			f.Remedy, f.Fixes = "resize it and give it the exact name", []fix.Fix{{Do: fix.Fit, Path: e.Path, To: at,
				Picture: rule}}
			y.report(f)
			return true
		}
	}
	f.Remedy, f.Fixes = "rename it to "+at, []fix.Fix{{Do: fix.Rename, Path: e.Path, To: at}}
	y.report(f)
	return true
}

// pictureRule is how a companion's picture is wanted.
func pictureRule(c *loader.Companion) *picture.Rule { return layout.PictureRule(&c.Picture) }

// measure reads the size of a picture.
func (a *audit) measure(e *target.Entry) (picture.Size, error) {
	m := once(a.known, a.known.pictures, a.real(e.Path), func() (m measured) {
		c, err := a.open(e.Path)
		if err != nil {
			return measured{err: err}
		}
		defer c.Close()
		m.size, m.err = picture.Measure(io.NewSectionReader(c, 0, c.Size()))
		return m
	})
	return m.size, m.err
}

// picture looks at the cover of a line.
func (y *loaderAudit) picture(c *loader.Companion, l *line, e *target.Entry) {
	y.covers = true
	front := l.Cover == "" && pictured(c) == "front"
	if y.o.Depth == Names {
		if front {
			l.Cover = e.Path
		}
		return
	}
	f := Finding{Kind: Cover, Grade: Fault, Path: e.Path, Title: l.Name}
	s, err := y.measure(e)
	rule := pictureRule(c)
	switch off := ""; {
	case err != nil:
		f.Say = fmt.Sprintf("the %s cover of %s: %v", pictured(c), l.Name, err)
		f.Remedy, f.Fixes = "put the right picture there", nil
		y.report(f)
	default:
		if off = rule.Off(s, e.Size); off == "" {
			if front {
				l.Cover = e.Path
			}
			return
		}
		f.Say = fmt.Sprintf("the %s cover of %s: %s", pictured(c), l.Name, off)
		f.Remedy, f.Fixes = "resize it", []fix.Fix{{Do: fix.Fit, Path: e.Path, To: e.Path, Picture: rule}}
		y.report(f)
	}
}

// spares describes tracks that no cue sheet names.
func (y *loaderAudit) spares() {
	if y.o.Depth == Names {
		return
	}
	spare := map[string][]string{} // by folder
	for key, e := range y.tracks {
		if dir := path.Dir(e.Path); !y.needed[key] && !y.isHidden(key) && !y.unsure[y.tree.fold(dir)] {
			spare[dir] = append(spare[dir], e.Path)
		}
	}
	for dir, all := range spare {
		slices.Sort(all)
		f := Finding{Kind: Spare, Grade: Remark, Path: all[0], Say: "no cue sheet here names it",
			Remedy: "put its cue sheet beside it, or remove it"}
		if len(all) > 1 {
			f.Path, f.Say = dir, fmt.Sprintf("no cue sheet here names %s in it, such as %s",
				size.Count(len(all), "file"), path.Base(all[0]))
		}
		y.report(f)
	}
}
