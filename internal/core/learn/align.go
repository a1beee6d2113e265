package learn

import (
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"polytome/internal/core/layout"
	"polytome/internal/core/teach"
	"polytome/internal/core/title"
	"polytome/internal/target"
)

// Marks in a template that stand for what is settled later, over all titles.
const (
	pageMark = "\x01" // where the folder of a page may stand
	discMark = "\x02" // where the number of a disc may stand
)

// align finds the template that a sample's path was made by: its values are looked for in
// each part of the path.
func (s *student) align(x *sample) {
	parts := strings.Split(x.path, "/")
	var out []string
	where := -1 // the part before which a page's folder may stand
	for i, part := range parts {
		last := i == len(parts)-1
		tpl := s.part(x, part, last)
		if !last && tpl == part && i > 0 {
			if page := pageOf(part); page != "" {
				x.page = page
				where = len(out)
				continue
			}
		}
		out = append(out, tpl)
	}
	if where < 0 { // pages divide the folder in which titles begin to differ
		where = len(out) - 1
		for i, part := range out {
			if strings.Contains(part, "{title") {
				where = i
				break
			}
		}
	}
	x.group = strings.Join(parts[:min(len(parts)-1, where)], "/")
	if x.page != "" {
		x.group = strings.Join(parts[:where+1], "/")
	}
	out[where] = pageMark + out[where]
	x.at = strings.Join(out, "/")
}

var numbered = regexp.MustCompile(`^([^0-9A-Za-z]*(?:[Pp]age|[Pp]art)?[^0-9A-Za-z]*)([0-9]{1,4})$`)

// pageOf is the template of a page's folder, "" for a folder that is none.
func pageOf(part string) string {
	m := numbered.FindStringSubmatch(part)
	if m == nil || m[1] == "" {
		return ""
	}
	return m[1] + "{page}"
}

// part describes one part of a path.
func (s *student) part(x *sample, part string, last bool) string {
	d := x.of()
	whole := func(value, field string) (string, bool) {
		if value == "" || !strings.EqualFold(part, value) {
			return "", false
		}
		return "{" + field + cased(part, value) + "}", true
	}
	if !last {
		mine := slices.ContainsFunc(s.d.Taught, func(p *teach.Platform) bool { return p.Name == x.t.Platform })
		if tpl, ok := whole(x.t.Platform, "platform"); ok && !mine { // whose name nobody but us knows
			return tpl
		}
		if tpl, ok := whole(d.Kind, "kind"); ok {
			return tpl
		}
		if tpl, ok := whole(x.t.Region, "region"); ok {
			return tpl
		}
	}
	base, ext := part, ""
	if last && x.t.Form != title.Folder {
		ext = path.Ext(part)
		base = strings.TrimSuffix(part, ext)
		if x.t.Form == title.Cartridge || x.t.Form == title.Package {
			ext = "{ext}"
		}
	}
	return s.name(x, base, last) + literal(ext)
}

// literal escapes braces, which are fields in a template.
func literal(s string) string {
	if s == "{ext}" {
		return s
	}
	return strings.NewReplacer("{", "{{", "}", "}}").Replace(s)
}

var discInName = regexp.MustCompile(`(?i)([ _-]*[(\[]?(?:disc|disk|side)[ _-]?)([0-9]{1,2})([)\]]?)`)

// name describes the base of a name: ID, title and disc number in it.
func (s *student) name(x *sample, base string, last bool) string {
	d := x.of()
	tail := ""
	if m := discInName.FindStringSubmatchIndex(base); last && m != nil && base[m[4]:m[5]] == strconv.Itoa(d.Number) {
		before, number, after := base[m[2]:m[3]], base[m[4]:m[5]], base[m[6]:m[7]]
		if m[0] == 0 { // nothing but the disc
			return literal(before) + "{if disc}{disc}{else}" + number + "{end}" + literal(after+base[m[1]:])
		}
		if m[1] == len(base) && x.t.Of > 1 {
			x.discs = literal(before) + "{disc}" + literal(after)
			base = base[:m[0]]
		}
	}
	if last {
		tail = discMark
	}
	for _, id := range []string{d.ID, x.t.ID} {
		if id == "" {
			continue
		}
		i := strings.Index(strings.ToUpper(base), strings.ToUpper(id))
		if i < 0 || len(base) != len(strings.ToUpper(base)) {
			continue
		}
		field := "{id" + cased(base[i:i+len(id)], id) + "}"
		return s.titled(x, base[:i]) + field + s.titled(x, base[i+len(id):]) + tail
	}
	return s.titled(x, base) + tail
}

// titled describes text that may hold the title, with separators around it.
func (s *student) titled(x *sample, text string) string {
	word := func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }
	from := strings.IndexFunc(text, word)
	if from < 0 {
		return literal(text)
	}
	// A bracket or mark at the ends belongs to the title; spaces and hyphens do not.
	for from > 0 && strings.ContainsRune(`('"&!`, rune(text[from-1])) {
		from--
	}
	to := len(strings.TrimRight(text, " -_."))
	inner := text[from:to]
	if !alike(inner, x.t.Name) {
		return literal(text)
	}
	x.written = inner
	how := ""
	if hasLetters(inner) && x.t.Name != inner {
		switch {
		case inner == strings.ToUpper(inner) && x.t.Name != strings.ToUpper(x.t.Name):
			how = "|upper"
		case inner == strings.ToLower(inner) && x.t.Name != strings.ToLower(x.t.Name):
			how = "|lower"
		}
	}
	return literal(text[:from]) + "{title" + how + "}" + literal(text[to:])
}

func hasLetters(s string) bool { return strings.ContainsFunc(s, unicode.IsLetter) }

// cased is the transform that makes got of value.
func cased(got, value string) string {
	switch {
	case got == value:
		return ""
	case got == strings.ToUpper(value):
		return "|upper"
	case got == strings.ToLower(value):
		return "|lower"
	}
	return ""
}

// ascii writes names as the narrowest rule would, to compare them.
var ascii = layout.Naming{Permits: func(
	r rune) bool {
	return r == ' ' || r < 0x80 && (unicode.IsLetter(r) || unicode.IsDigit(r))
},
	Units: target.Characters}

// alike reports whether a written name can come from a title: it may be cut short, have lost
// its article, or have something behind it that tells it from others.
func alike(written, name string) bool {
	bare := func(s string) string {
		s, _ = ascii.Name(s)
		return strings.ToLower(strings.ReplaceAll(s, " ", ""))
	}
	w, n := bare(written), bare(name)
	if w == "" {
		return written == name
	}
	for _, article := range []string{"the", "a", "an"} {
		if strings.HasPrefix(strings.ToLower(name), article+" ") && !strings.HasPrefix(w, article) {
			n = n[len(article):]
			break
		}
	}
	if strings.HasPrefix(n, w) {
		return len(w) >= min(4, len(n))
	}
	return n != "" && strings.HasPrefix(w, n)
}
