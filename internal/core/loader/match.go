package loader

import (
	"iter"
	"regexp"
	"slices"
	"strings"
	"sync"
)

// pattern makes the expression that matches what nodes can make.
func (t *Template) pattern(nodes []node) string {
	var b strings.Builder
	for i := range nodes {
		n := &nodes[i]
		switch {
		case n.each:
		case n.when != nil:
			b.WriteString("(?:" + t.pattern(n.then) + "|" + t.pattern(n.otherwise) + ")")
		case n.literal != "":
			b.WriteString(regexp.QuoteMeta(n.literal))
		default:
			t.groups = append(t.groups, n)
			switch n.field {
			case FieldDisc, FieldDiscs, FieldIndex, FieldPage, FieldNumber, FieldParts, FieldSize:
				if n.digits() {
					b.WriteString(`([0-9]+)`)
				} else {
					b.WriteString(`([^/]+?)`)
				}
			case FieldExt:
				b.WriteString(`(\.[^./]*)`)
			case FieldFolder:
				b.WriteString(`(.+?)`)
			default:
				b.WriteString(`([^/]+?)`)
			}
		}
	}
	return b.String()
}

// counted is a value as it was before its transforms, where it is a number that can be read back; else the text. ok is
// false for what can be no running number.
func (n *node) counted(text string) (value string, ok bool) {
	switch n.field {
	case FieldDisc, FieldDiscs, FieldIndex, FieldPage, FieldNumber:
		if number, ok := n.undo(text); ok {
			return number, true
		}
		return text, n.field != FieldNumber
	}
	return text, true
}

// mostSteps is how far a path is tried to be split in different ways.
const mostSteps = 5_000

// Splits are the ways to read a path that the template could have made: an ID or a title may hold what divides them in
// the path. Where a value is known, only paths that are made of it are read, and it comes back as it is; others come
// back as transformed. The case of letters is ignored. The first way is that of [Template.Match].
func (t Template) Splits(path string, known *Values) iter.Seq[Values] {
	if known == nil {
		known = &Values{}
	}
	return func(yield func(Values) bool) {
		steps := 0
		// walk reads nodes from the beginning of a text, and resumes what is left of it. It returns false to end.
		var walk func(nodes []node, text string, v Values, then func(string, Values) bool) bool
		walk = func(nodes []node, text string, v Values, then func(string, Values) bool) bool {
			if steps++; steps > mostSteps {
				return false
			}
			if len(nodes) == 0 {
				return then(text, v)
			}
			n, next := &nodes[0], func(text string, v Values) bool { return walk(nodes[1:], text, v, then) }
			literal := n.literal
			switch {
			case n.each:
				return next(text, v)
			case n.when != nil:
				return walk(n.then, text, v, next) && walk(n.otherwise, text, v, next)
			case literal != "":
			case known[n.field] != "":
				literal, v[n.field] = n.apply(known[n.field]), known[n.field]
			case v[n.field] != "" && !t.Transforms(n.field):
				literal = v[n.field]
			default:
				for end := range text + "." { // every end of the value but its beginning
					if end == 0 {
						continue
					}
					if !n.holds(text[:end]) {
						break
					}
					v[n.field], _ = n.counted(text[:end])
					if !next(text[end:], v) {
						return false
					}
				}
				return true
			}
			if len(text) < len(literal) || !strings.EqualFold(text[:len(literal)], literal) {
				return true
			}
			return next(text[len(literal):], v)
		}
		walk(t.nodes, path, Values{}, func(left string, v Values) bool { return left != "" || yield(v) })
	}
}

// digits reports whether a number stands as such after its transforms.
func (n *node) digits() bool {
	return !slices.ContainsFunc(n.transforms,
		func(t transform) bool { return t.name != "pad" && t.name != "add" && t.name != "max" })
}

// holds reports whether a value, or the beginning of one, is such as the field has.
func (n *node) holds(value string) bool {
	switch n.field {
	case FieldDisc, FieldDiscs, FieldIndex, FieldPage, FieldNumber, FieldParts, FieldSize:
		if !n.digits() {
			break
		}
		return !strings.ContainsFunc(value, func(r rune) bool { return r < '0' || r > '9' })
	case FieldExt:
		return value[0] == '.' && !strings.ContainsAny(value[1:], "./")
	case FieldFolder:
		return true
	}
	return !strings.Contains(value, "/")
}

// Match reads the values out of a path that the template could have made. The
// case of letters is ignored, and a field that stands several times must be the
// same each time. Values come back as transformed, but for numbers, which come back as they were counted.
func (t Template) Match(path string) (v Values, ok bool) {
	if t.match == nil {
		return v, false
	}
	m := t.match.FindStringSubmatch(path)
	if m == nil {
		return v, false
	}
	for i, n := range t.groups {
		got, f := m[i+1], n.field
		if got == "" {
			continue
		}
		if got, ok = n.counted(got); !ok {
			return v, false
		}
		if v[f] != "" && !strings.EqualFold(v[f], got) && !t.Transforms(f) {
			for other := range t.Splits(path, nil) { // the expression cannot want the same twice
				return other, true
			}
			return v, false
		}
		if v[f] == "" || len(n.transforms) == 0 { // what stands as it is says more
			v[f] = got
		}
	}
	return v, true
}

// Without is a path that the template could have made with nothing where a field stands: two that differ in that alone
// are the same. ok is false for a path that the template cannot have made.
func (t Template) Without(f Field, path string) (rest string, ok bool) {
	if t.match == nil {
		return "", false
	}
	m := t.match.FindStringSubmatchIndex(path)
	if m == nil {
		return "", false
	}
	at := 0
	for i, n := range t.groups {
		if from, to := m[2*i+2], m[2*i+3]; n.field == f && from >= at {
			rest, at = rest+path[at:from]+"\x00", to
		}
	}
	return rest + path[at:], true
}

// Denies reports whether a path cannot have been made of the values that were read out of it: a field that stands in it
// as it is, and again with transforms, would look otherwise there. It is false where that cannot be known.
func (t Template) Denies(path string, v *Values) bool {
	return !t.known.opaque && !strings.EqualFold(t.FillPath(v), path)
}

// opaque reports whether a path need not say all of what it was made of.
func (t Template) opaque() bool {
	plain := map[Field]bool{}
	t.any(func(n *node) bool {
		plain[n.field] = plain[n.field] || len(n.transforms) == 0
		return false
	})
	counting := []string{"upper", "lower", "default", "pad", "add", "hex", "letters"} // of what the path says
	opaque := t.any(func(n *node) bool {
		// letter case, as hash asks for it, may be another
		return slices.ContainsFunc(n.transforms, func(x transform) bool {
			return !slices.Contains(counting, x.name) &&
				(!plain[n.field] || !slices.Contains([]string{"letter", "group", "sub"}, x.name))
		})
	})
	for _, f := range t.fields { // of conditions too
		opaque = opaque || !plain[f] && !t.any(func(n *node) bool { return n.field == f })
	}
	return opaque
}

// reader is an expression for what the template can make of fields that hold anything, also where it is a text and no
// path.
func (t Template) reader() (expr string, groups []Field) {
	var of func(nodes []node) string
	of = func(nodes []node) string {
		var b strings.Builder
		for i := range nodes {
			switch n := &nodes[i]; {
			case n.each:
				b.WriteString("(?:.*?)")
			case n.when != nil:
				b.WriteString("(?:" + of(n.then) + "|" + of(n.otherwise) + ")")
			case n.literal != "":
				b.WriteString(regexp.QuoteMeta(n.literal))
			default:
				groups = append(groups, n.field)
				b.WriteString("(.*?)")
			}
		}
		return b.String()
	}
	return "(?s)" + of(t.nodes), groups
}

// Read reads the values out of a text that the template could have made. Letter case counts.
func (t Text) Read(s string) (v Values, ok bool) {
	expr, groups := t.reader()
	re, err := compiled(expr + "$")
	if err != nil {
		return v, false
	}
	m := re.FindStringSubmatch(s)
	if m == nil {
		return v, false
	}
	for i, f := range groups {
		if m[i+1] != "" {
			v[f] = m[i+1]
		}
	}
	return v, true
}

// ReadRow reads the values out of a line that a section which is repeated could have made; ok is false where the text
// has no such section, or the line is not of it.
func (t Text) ReadRow(line string) (v Values, ok bool) {
	for i := range t.nodes {
		if n := &t.nodes[i]; n.each {
			row := Text{Template{nodes: n.then}}
			for _, end := range []string{"", "\n", "\r\n"} {
				if v, ok = row.Read(line + end); ok {
					return v, true
				}
			}
		}
	}
	return v, false
}

// Repeated is what a section that is repeated has made of a text that the template could have made: without what stands
// before and behind it. A text that cannot be taken apart is returned as it is.
func (t Text) Repeated(s string) string {
	i := slices.IndexFunc(t.nodes, func(n node) bool { return n.each })
	if i < 0 {
		return s
	}
	head, foot := Text{Template{nodes: t.nodes[:i]}}, Text{Template{nodes: t.nodes[i+1:]}}
	if i > 0 {
		if head.nodes[0].literal != "" {
			first := head.nodes[0]
			first.literal = strings.TrimPrefix(first.literal, "\n") // which no text begins with
			head.nodes = append([]node{first}, head.nodes[1:]...)
		}
		if _, rest, ok := head.Begins(s); ok {
			s = rest
		}
	}
	if i < len(t.nodes)-1 {
		if rest, _, ok := foot.Ends(s); ok {
			s = rest
		}
	}
	return s
}

// Begins takes from the beginning of a text what the template could have made.
func (t Text) Begins(s string) (head, rest string, ok bool) {
	expr, _ := t.reader()
	re, err := compiled(expr)
	if err != nil {
		return "", s, false
	}
	at := re.FindStringIndex(s)
	if at == nil {
		return "", s, false
	}
	return s[:at[1]], s[at[1]:], true
}

// Ends takes from the end of a text what the template could have made.
func (t Text) Ends(s string) (rest, foot string, ok bool) {
	if len(t.nodes) == 0 {
		return s, "", true
	}
	expr, _ := t.reader()
	for at := len(s); at >= 0; at-- { // footers are short
		if at > 0 && s[at-1] != '\n' && at != len(s) || len(s)-at > 4096 {
			continue
		}
		if re, err := compiled(expr + "$"); err == nil && re.MatchString(s[at:]) && len(s[at:]) > 0 {
			return s[:at], s[at:], true
		}
	}
	return s, "", false
}

// compiled keeps expressions: lists have many rows.
func compiled(expr string) (*regexp.Regexp, error) {
	if re, ok := expressions.Load(expr); ok {
		return re.(*regexp.Regexp), nil
	}
	re, err := regexp.Compile("^(?:" + expr + ")")
	if err == nil {
		expressions.Store(expr, re)
	}
	return re, err
}

var expressions sync.Map // of *regexp.Regexp
