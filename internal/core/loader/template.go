package loader

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"polytome/internal/core/strict"
)

// A Template makes a path from the values of a title. Fields stand in braces and
// may be followed by transforms: {kind|upper}/{id} - {title}.iso
type Template struct {
	text  string
	parts []segment
	match *regexp.Regexp
	names []string // of the fields, in order
}

// segment is a run of literal text, or a field.
type segment struct {
	literal, field string
	transforms     []string
}

var transforms = map[string]func(string) string{
	"upper": strings.ToUpper,
	"lower": strings.ToLower,
}

// UnmarshalText parses a template as written in a file.
func (t *Template) UnmarshalText(b []byte) (err error) {
	*t, err = ParseTemplate(string(b))
	return err
}

// String is the template as it was written.
func (t Template) String() string { return t.text }

// ParseTemplate parses a template. It refuses paths that would leave the place.
func ParseTemplate(text string) (Template, error) {
	t := Template{text: text}
	if err := insideRoot(text); err != nil {
		return t, err
	}
	expr := "(?i)^"
	for rest := text; rest != ""; {
		literal, after, found := strings.Cut(rest, "{")
		if literal != "" {
			t.parts = append(t.parts, segment{literal: literal})
			expr += regexp.QuoteMeta(literal)
		}
		if !found {
			break
		}
		inside, after, closed := strings.Cut(after, "}")
		if !closed {
			return t, fmt.Errorf("a brace is not closed in %q", text)
		}
		words := strings.Split(inside, "|")
		for _, w := range words[1:] {
			if transforms[w] == nil {
				names := []string{"lower", "upper"}
				return t, &strict.Error{File: "template " + text, Say: fmt.Sprintf("the transform %q is not known; known are: %s", w, strings.Join(names, ", ")), Meant: strict.Nearest(w, names)}
			}
		}
		t.parts = append(t.parts, segment{field: words[0], transforms: words[1:]})
		if !slices.Contains(t.names, words[0]) {
			t.names = append(t.names, words[0])
		}
		expr += "([^/]+?)"
		rest = after
	}
	t.match = regexp.MustCompile(expr + "$")
	return t, nil
}

// Fields lists the fields that the template uses, in order.
func (t Template) Fields() []string { return t.names }

// Shape is the file name that the template makes, in words for people: the
// fields stand without their braces.
func (t Template) Shape() string {
	var b strings.Builder
	for _, p := range t.parts {
		b.WriteString(p.literal + p.field)
	}
	return path.Base(b.String())
}

// Folders lists the literal folders that the template's paths can lie in, when
// its fields take the given values. A field without values stands for anything,
// and ends the list.
func (t Template) Folders(values map[string][]string) []string {
	folders := []string{""}
	for _, p := range t.parts {
		if p.literal != "" {
			head, _, more := strings.Cut(p.literal, "/")
			for i := range folders {
				folders[i] += head
			}
			if more {
				return folders
			}
			continue
		}
		var next []string
		for _, f := range folders {
			for _, v := range values[p.field] {
				next = append(next, f+p.apply(v))
			}
		}
		folders = next
	}
	return nil
}

// Fill makes the path for the given values.
func (t Template) Fill(values map[string]string) string {
	var b strings.Builder
	for _, p := range t.parts {
		if p.field == "" {
			b.WriteString(p.literal)
		} else {
			b.WriteString(p.apply(values[p.field]))
		}
	}
	return b.String()
}

func (p segment) apply(v string) string {
	for _, name := range p.transforms {
		v = transforms[name](v)
	}
	return v
}

// Match reads the values out of a path that the template could have made. The
// case of letters is ignored. Values come back as transformed.
func (t Template) Match(path string) (map[string]string, bool) {
	if t.match == nil {
		return nil, false
	}
	m := t.match.FindStringSubmatch(path)
	if m == nil {
		return nil, false
	}
	out, i := map[string]string{}, 0
	for _, p := range t.parts {
		if p.field != "" {
			i++
			out[p.field] = m[i]
		}
	}
	return out, true
}
