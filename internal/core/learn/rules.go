package learn

import (
	"errors"
	"fmt"
	"math"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/infer"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/size"
)

// group is titles of one platform and form, for which rules are looked for.
type group struct {
	platform string
	form     title.Form
	all      []*sample
}

// rules groups the samples by platform and form, and finds rules for each.
func (s *student) rules() {
	var groups []*group
	for _, x := range s.all {
		i := slices.IndexFunc(groups, func(g *group) bool { return g.platform == x.t.Platform && g.form == x.t.Form })
		if i < 0 {
			i = len(groups)
			groups = append(groups, &group{platform: x.t.Platform, form: x.t.Form})
		}
		groups[i].all = append(groups[i].all, x)
	}
	for _, g := range groups {
		s.ruled(g, g.all)
	}
}

// ruled finds rules for samples of a group: one for all of them, or else one for the most, and where a condition tells
// those from the others, further ones for these.
func (s *student) ruled(g *group, all []*sample) {
	f := s.template(all)
	var agree, others []*sample
	for i, x := range all {
		if f.made[i] {
			agree = append(agree, x)
		} else {
			others = append(others, x)
		}
	}
	if len(agree) == 0 || f.text == "" || titlesOf(all) > 1 && (titlesOf(agree) < 2 || constant(f.text, all)) {
		s.guessed(g, all) // what is made of one title alone is no rule
		return
	}
	f.text, f.chance = s.grouped(f, agree)
	r := Rule{Platforms: []string{g.platform}, Form: g.form, Path: s.spelled(g, agree, f.text), naming: f.naming,
		Numbers: f.numbers}
	if f.order != "" && f.order != "title" {
		s.d.ListOrder = []string{f.order}
	}
	if len(others) > 0 {
		if r.When = separates(agree, others); r.When == "" {
			// these may be the exception
			if when, o := separates(others, agree), s.template(others); when != "" && !slices.Contains(o.made, false) {
				agree, others, f = others, agree, o
				r.When, r.Path, r.naming, r.Numbers = when, s.spelled(g, agree, f.text), f.naming, f.numbers
			}
		}
	}
	r.Archives = archives(agree)
	s.packed(&r, agree)
	s.paged(&r, agree)
	s.packages(&r, agree)
	s.tracks(&r, agree)
	s.written(&r, agree)
	s.cut(&r, agree)
	r.Why = fmt.Sprintf("learnt from %s, such as %s", size.Count(len(agree), "title"), agree[0].path)
	c := Certain
	if s.unseen(&r) || len(agree) < 3 || f.chance || coincides.MatchString(r.Path) || len(others) > 0 &&
		(r.When == "" || strings.HasPrefix(r.When, "size ") ||
			titlesOf(all)-len(distinct(all, fieldOf(r.When))) < enough) {
		c = Likely
	}
	when := ""
	if r.When != "" {
		when = ", where " + r.When + ","
	}
	s.find(c, fmt.Sprintf("%s %s%s go to %s", g.platform, formWords[g.form], when, r.Path),
		"%d of %d are stored like this, such as %s", len(agree), len(all), agree[0].path)
	for _, x := range agree {
		s.made(r.Path, s.filesOf(x)...)
	}
	if r.Numbers != "" {
		s.find(Likely, "paths have running numbers, "+map[string]string{"in-order": "in the order of the list",
			"append": "and a new title gets the next one"}[r.Numbers], "%d of %d have one, such as %s", len(agree),
			len(all),
			agree[0].path)
	}
	if (g.form == title.Image || g.form == title.Tracks || g.form == title.Folder) &&
		!slices.ContainsFunc(agree, func(x *sample) bool { return x.t.Of > 1 }) {
		r.noDiscs = true
	}
	if len(others) > 0 && r.When == "" {
		for _, x := range others {
			s.wonder(x.where(), "why is %s not with the other %s titles?", x.where(), g.platform)
		}
		others = nil
	}
	s.add(r)
	if len(others) > 0 {
		s.ruled(g, others)
	}
}

// filesOf are the paths of a sample and of the files that belong to it.
func (s *student) filesOf(x *sample) []string {
	out := append([]string{x.where()}, s.look.Packed[x.path]...)
	for _, p := range x.of().Parts {
		out = append(out, s.rel(p.File.Path))
	}
	return out
}

// coincides finds words of a path that depend on something else than what they say, which may be by chance.
var coincides = regexp.MustCompile(`\{else\}|\|table:|\{if [^}]*\}[^{]*\{end\}`)

// discs asks what distinguishes the discs of one title, where rules are about titles that may have several and none
// has.
func (s *student) discs() {
	var paths []string
	for i := range s.d.Rules {
		if s.d.Rules[i].noDiscs {
			paths = append(paths, s.d.Rules[i].Path)
		}
	}
	if len(paths) == 0 {
		return
	}
	shown := strings.Join(paths[:min(len(paths), 3)], ", ")
	s.ask(Question{Key: "discs", Usual: " (Disc {disc})", Say: fmt.Sprintf(
		"what distinguishes the discs of one title at %s? No title there has several", shown)},
		func(text string) error {
			if _, err := loader.ParseTemplate(text); err != nil {
				return err
			}
			if text != "" && !strings.Contains(text, "{disc") {
				return errors.New("it needs {disc}, such as (Disc {disc})")
			}
			for i := range s.d.Rules {
				if r := &s.d.Rules[i]; r.noDiscs {
					r.Discs = text
				}
			}
			return nil
		})
}

// enough is how many titles more than values of a field must agree with a condition on it, so that it is none by
// chance.
const enough = 7

func titlesOf(all []*sample) int {
	keys := map[string]bool{}
	for _, x := range all {
		keys[x.t.Key] = true
	}
	return len(keys)
}

// fieldOf is the field that a condition asks for.
func fieldOf(when string) loader.Field {
	for _, w := range strings.Fields(when) {
		if f, ok := loader.FieldNamed(w); ok {
			return f
		}
	}
	return loader.FieldID
}

// guessed puts samples of whose paths no rule makes two into the folder that all have in common, and asks.
func (s *student) guessed(g *group, all []*sample) {
	dir := path.Dir(all[0].path)
	for _, x := range all {
		for dir != "." && !strings.HasPrefix(x.path, dir+"/") {
			dir = path.Dir(dir)
		}
	}
	file := "{title}"
	if g.form != title.Folder {
		file += infer.Literal(path.Ext(all[0].path))
	}
	r := Rule{Platforms: []string{g.platform}, Form: g.form, Path: path.Join(infer.Literal(dir), file),
		Archives: archives(all),
		Why:      "guessed: no rule makes the paths of those that are there"}
	s.find(Guess, fmt.Sprintf("%s %s go to %s", g.platform, formWords[g.form], r.Path), "nothing else is known of %s",
		size.Count(len(all), "path"))
	for _, x := range all {
		s.made(r.Path, s.filesOf(x)...)
	}
	for _, x := range all[:min(len(all), 3)] {
		s.wonder(x.where(), "why is %s there? No rule makes its path", x.where())
	}
	s.add(r)
}

// written says how titles are written.
func (s *student) written(r *Rule, all []*sample) {
	r.ASCII, r.Forbidden, r.Longest = r.naming.ascii, r.naming.forbidden, r.naming.longest
	if r.ASCII {
		s.find(Likely, "titles are written in ASCII", "letters of other scripts in the games' own names were replaced")
	}
	if r.Forbidden != "" {
		s.find(Likely, "titles hold none of "+r.Forbidden, "the games' own names do, and the files' names do not")
	}
	if r.Longest > 0 {
		i := slices.IndexFunc(all, func(x *sample) bool { return len([]rune(x.t.Name)) > r.Longest })
		s.find(Likely, fmt.Sprintf("a title has at most %d characters", r.Longest),
			"names were cut, such as in %s from %q",
			all[max(0, i)].path, all[max(0, i)].t.Name)
	}
}

// whens are conditions that a part of a path may depend on.
func whens(all []*sample) (out []string) {
	for _, f := range []loader.Field{loader.FieldKind, loader.FieldRegion} {
		values := distinct(all, f)
		if len(values) < 2 || len(values) > 5 {
			continue
		}
		for _, v := range values {
			if v != "" {
				out = append(out, f.String()+" is "+v)
			}
		}
	}
	return out
}

func distinct(all []*sample, f loader.Field) (out []string) {
	for _, x := range all {
		if v := x.values[f]; !slices.Contains(out, v) {
			out = append(out, v)
		}
	}
	slices.Sort(out)
	return out
}

// separates is the simplest condition that holds for all of some samples and for none of others; "" for none.
func separates(some, others []*sample) string {
	tells := func(when string) bool {
		var c loader.Condition
		if c.UnmarshalText([]byte(when)) != nil {
			return false
		}
		holds := func(x *sample) bool { return c.Holds(&x.facts) }
		return !slices.ContainsFunc(some, func(x *sample) bool { return !holds(x) }) && !slices.ContainsFunc(others,
			holds)
	}
	var try []string
	for _, f := range []loader.Field{loader.FieldKind, loader.FieldRegion, loader.FieldExt} {
		values := slices.DeleteFunc(distinct(some, f), func(v string) bool { return v == "" })
		switch {
		case len(values) == 1:
			try = append(try, f.String()+" is "+values[0])
		case len(values) > 1 && len(values) < 6 && !slices.ContainsFunc(values, func(v string) bool {
			return strings.Contains(v, ",")
		}):
			try = append(try, f.String()+" in "+strings.Join(values, ", "))
		}
		try = append(try, f.String(), "not "+f.String())
	}
	try = append(try, "discs", "not discs", "parts over 1")
	bytes := func(of []*sample) (least, most int64) {
		for i, x := range of {
			n, _ := strconv.ParseInt(x.facts[loader.FieldSize], 10, 64)
			if least = min(least, n); i == 0 {
				least = n
			}
			most = max(most, n)
		}
		return least, most
	}
	a, b := bytes(some)
	c, d := bytes(others)
	switch {
	case b < c:
		try = append(try, "size under "+between(b, c))
	case d < a:
		try = append(try, "size over "+between(d, a))
	}
	for _, when := range try {
		if tells(when) {
			return when
		}
	}
	return ""
}

// roundNumbers are those that people write in front of a unit.
var roundNumbers = []int64{1, 2, 3, 4, 5, 6, 8, 10, 12, 15, 16, 20, 24, 25, 30, 32, 40, 48, 50, 60, 64, 70, 80, 90, 100,
	120, 128, 150, 200, 250, 256, 300, 350, 400, 500, 512, 600, 650, 700, 750, 800, 900}

// between is a round number of bytes from one on, below another one: that nearest to their middle, as nothing tells
// more.
func between(from, below int64) string {
	middle := math.Sqrt(float64(max(from, 1)) * float64(below))
	best, off := strconv.FormatInt(from, 10), math.Inf(1)
	for _, unit := range []struct {
		word  string
		bytes int64
	}{{"GiB", 1 << 30}, {"GB", 1e9}, {"MiB", 1 << 20}, {"MB", 1e6}, {"KiB", 1 << 10}, {"KB", 1e3}} {
		for _, n := range roundNumbers {
			d := math.Abs(math.Log(float64(n*unit.bytes) / middle))
			if n*unit.bytes >= from && n*unit.bytes < below && d < off-0.1 {
				best, off = strconv.FormatInt(n, 10)+unit.word, d
			}
		}
	}
	return best
}

// spelled is a template as a person would write it: with the extension and the platform as fields, where that says the
// same.
func (s *student) spelled(g *group, all []*sample, text string) string {
	if (g.form == title.Cartridge || g.form == title.Package) && len(s.look.Packed[all[0].path]) == 0 {
		ext := path.Ext(all[0].path)
		if bare, ok := strings.CutSuffix(text, infer.Literal(ext)); ok && ext == strings.ToLower(ext) {
			text = bare + "{ext}"
		} else if ok {
			text = bare + "{ext|upper}"
			if s.shouts(all) {
				text = bare + "{ext}"
			}
		}
	}
	parts := strings.Split(text, "/")
	for i, part := range parts[:len(parts)-1] { // a folder with the name of what all have is named after it
		for _, f := range []loader.Field{loader.FieldPlatform, loader.FieldKind, loader.FieldRegion} {
			v := distinct(all, f)
			if len(v) == 1 && v[0] != "" && strings.EqualFold(part, v[0]) && (f != loader.FieldPlatform ||
				s.taughtBy(v[0]) == nil || s.taughtBy(v[0]).Shelf) {
				parts[i] = "{" + f.String() + cased(part, v[0]) + "}"
				break
			}
		}
	}
	return strings.Join(parts, "/")
}

// cased is the transform that makes got of value.
func cased(got, value string) string {
	switch {
	case got == value:
		return ""
	case got == strings.ToUpper(value):
		return "|upper"
	}
	return "|lower"
}
