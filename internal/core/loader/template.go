package loader

import (
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strings"

	"polytome/internal/nearest"
)

// A Template makes a path or a text from the values of a title:
//
//	{kind|upper}/{id} - {title}.iso
//	{title}{if discs over 1} (Disc {disc}){end}.cue
//
// Fields stand in braces and may be followed by transforms. A section between
// {if …} and {end} stands only where its condition holds, and {else} divides it.
// In texts, a section between {each} and {end} is repeated. Two braces stand for one.
type Template struct {
	text   string
	nodes  []node
	fields []Field // used, in order, once each
	needs  []Field // used outside of every section
	match  *regexp.Regexp
	groups []*node // what the groups of match capture

	known fieldFacts
}

// fieldFacts are what is asked of a template's fields for each path again.
type fieldFacts struct {
	changed [fieldCount]bool // stands somewhere as it is no longer, letter case aside
	opaque  bool             // what a path says need not say what it was made of
}

// node is literal text, a field, or a section.
type node struct {
	literal    string
	field      Field
	transforms []transform
	when       *Condition
	then       []node // of a condition; what is repeated when each is set
	otherwise  []node
	each       bool
}

// A Text is a template for the text of a file; it may hold anything.
type Text struct{ Template }

// UnmarshalText parses a text as written in a file.
func (t *Text) UnmarshalText(b []byte) (err error) {
	t.Template, err = parse(string(b))
	return err
}

// UnmarshalText parses a path template as written in a file.
func (t *Template) UnmarshalText(b []byte) (err error) {
	*t, err = ParseTemplate(string(b))
	return err
}

// String is the template as it was written.
func (t Template) String() string { return t.text }

// Empty reports whether there is no template.
func (t Template) Empty() bool { return t.text == "" }

// ParseTemplate parses a template for a path. It refuses paths that would leave
// the target.
func ParseTemplate(text string) (Template, error) {
	if err := insideRoot(text); err != nil {
		return Template{text: text}, err
	}
	t, err := parse(text)
	if err != nil {
		return t, err
	}
	if err := t.everyPath(); err != nil {
		return t, err
	}
	var bad error
	t.any(func(n *node) bool {
		for _, x := range n.transforms {
			for _, made := range x.makes {
				if strings.ContainsAny(made, `/\`) || x.name != "replace" && made != "" && strings.Trim(made,
					".") == "" {
					bad = fmt.Errorf("the transform %s in the path %q produces %q, which is no part of a name", x.name,
						text, made)
				}
			}
		}
		return bad != nil
	})
	if bad != nil {
		return t, bad
	}
	expr := "(?i)^" + t.pattern(t.nodes) + "$"
	t.match, err = regexp.Compile(expr)
	if err != nil {
		return t, fmt.Errorf("the path %q is too complicated: %w", text, err)
	}
	return t, nil
}

func parse(text string) (Template, error) {
	t := Template{text: text}
	p := &parser{t: &t, rest: text}
	nodes, end, err := p.section(0)
	if err == nil && end != "" {
		err = fmt.Errorf("there is an {%s} without its {if} or {each} in %q", end, text)
	}
	t.nodes = nodes
	for i := range nodes {
		if n := &nodes[i]; n.literal == "" && n.when == nil && !n.each && !n.defaults() {
			t.needs = append(t.needs, n.field)
		}
	}
	t.known.opaque = t.opaque()
	t.any(func(n *node) bool {
		if slices.ContainsFunc(n.transforms, func(x transform) bool { return x.name != "upper" && x.name != "lower" }) {
			t.known.changed[n.field] = true
		}
		return false
	})
	return t, err
}

type parser struct {
	t    *Template
	rest string
}

// maxDepth is how deep sections may lie in one another.
const maxDepth = 8

// section parses up to the end of a section, and tells the word that ended it.
func (p *parser) section(depth int) (nodes []node, end string, err error) {
	if depth > maxDepth {
		return nil, "", fmt.Errorf("sections are nested more than %d deep", maxDepth)
	}
	literal := ""
	flush := func() {
		if literal != "" {
			nodes = append(nodes, node{literal: literal})
			literal = ""
		}
	}
	add := func(n node) {
		flush()
		nodes = append(nodes, n)
	}
	for p.rest != "" {
		i := strings.IndexAny(p.rest, "{}")
		if i < 0 {
			literal, p.rest = literal+p.rest, ""
			break
		}
		literal += p.rest[:i]
		p.rest = p.rest[i:]
		if len(p.rest) > 1 && p.rest[0] == p.rest[1] {
			literal, p.rest = literal+p.rest[:1], p.rest[2:]
			continue
		}
		inside, after, closed := strings.Cut(p.rest[1:], "}")
		switch {
		case p.rest[0] == '}':
			return nil, "", fmt.Errorf("%q has a closing brace too many", p.t.text)
		case !closed || strings.ContainsRune(inside, '{'):
			return nil, "", fmt.Errorf("%q has an unclosed brace", p.t.text)
		}
		p.rest = after
		word, cond, _ := strings.Cut(inside, " ")
		switch word {
		case "end", "else":
			flush()
			return nodes, word, nil
		case "each", "if":
			n := node{each: word == "each"}
			if word == "if" {
				c, err := parseCondition(cond)
				if err != nil {
					return nil, "", err
				}
				n.when = &c
				p.use(c.fields()...)
			} else if cond != "" {
				return nil, "", fmt.Errorf("{each} takes no word, but has %q", cond)
			}
			var stop string
			if n.then, stop, err = p.section(depth + 1); err != nil {
				return nil, "", err
			}
			if stop == "else" && word == "if" {
				if n.otherwise, stop, err = p.section(depth + 1); err != nil {
					return nil, "", err
				}
			}
			if stop != "end" {
				return nil, "", fmt.Errorf("an {%s} has no {end} in %q", word, p.t.text)
			}
			add(n)
		default:
			n, err := p.field(inside)
			if err != nil {
				return nil, "", err
			}
			add(n)
		}
	}
	flush()
	return nodes, "", nil
}

func (p *parser) field(inside string) (node, error) {
	words := strings.Split(inside, "|")
	f, ok := FieldNamed(words[0])
	if !ok {
		return node{}, nearest.Unknown("field", words[0], fieldNames[:])
	}
	n := node{field: f}
	for _, w := range words[1:] {
		t, err := parseTransform(w)
		if err != nil {
			return n, err
		}
		n.transforms = append(n.transforms, t)
	}
	p.use(f)
	return n, nil
}

func (p *parser) use(fields ...Field) {
	for _, f := range fields {
		if !slices.Contains(p.t.fields, f) {
			p.t.fields = append(p.t.fields, f)
		}
	}
}

// Fields lists the fields that the template uses, in order.
func (t Template) Fields() []Field { return t.fields }

// Uses reports whether the template uses a field.
func (t Template) Uses(f Field) bool { return slices.Contains(t.fields, f) }

// Needs lists the fields that must have a value: those that stand outside of
// every section.
func (t Template) Needs() []Field { return t.needs }

// Shape is the path that the template makes, for people: "FULL/<ID> - <title>.iso".
func (t Template) Shape() string {
	var b strings.Builder
	var write func(nodes []node)
	write = func(nodes []node) {
		for i := range nodes {
			switch n := &nodes[i]; {
			case n.when != nil: // what stands in some names only is left out
				write(n.otherwise)
			case n.each:
				write(n.then)
			case n.literal != "":
				b.WriteString(n.literal)
			default:
				b.WriteString("<" + strings.Replace(n.field.String(), "id", "ID", 1) + ">")
			}
		}
	}
	write(t.nodes)
	return b.String()
}

// Folders lists the folders that the template's paths begin with, as far as they are
// known when its fields take the given values: a field without values stands for
// anything, and ends them.
func (t Template) Folders(values map[Field][]string) []string {
	begin := []string{""}
	for i := range t.nodes {
		n := &t.nodes[i]
		if n.when != nil || n.each || n.literal == "" && len(values[n.field]) == 0 {
			break
		}
		if n.literal != "" {
			for k := range begin {
				begin[k] += n.literal
			}
			continue
		}
		var next []string
		for _, b := range begin {
			for _, v := range values[n.field] {
				next = append(next, b+n.apply(v))
			}
		}
		begin = next
	}
	var out []string
	for _, b := range begin {
		if i := strings.LastIndexByte(b, '/'); i > 0 && !slices.Contains(out, b[:i]) {
			out = append(out, b[:i])
		}
	}
	return out
}

// Constant is the text that a template always makes; ok is false where it depends on fields.
func (t Template) Constant() (text string, ok bool) {
	if len(t.nodes) == 1 && t.nodes[0].literal != "" {
		return t.nodes[0].literal, true
	}
	return "", len(t.nodes) == 0
}

// Repeats reports whether the template has a section that is written once for each row.
func (t Template) Repeats() bool {
	var look func(nodes []node) bool
	look = func(nodes []node) bool {
		return slices.ContainsFunc(nodes, func(n node) bool { return n.each || look(n.then) || look(n.otherwise) })
	}
	return look(t.nodes)
}

// defaults reports whether another text stands where the field has no value.
func (n *node) defaults() bool {
	return slices.ContainsFunc(n.transforms, func(t transform) bool { return t.name == "default" })
}

// mostPaths is how many different paths the conditions of a template may make.
const mostPaths = 4096

// everyPath fails when any of the paths that a template can make would leave the target, or be none.
func (t Template) everyPath() error {
	all := []string{""}
	var grow func(all []string, nodes []node) []string
	grow = func(all []string, nodes []node) []string {
		for i := range nodes {
			if len(all) > mostPaths {
				return all
			}
			switch n := &nodes[i]; {
			case n.when != nil:
				all = append(grow(slices.Clone(all), n.then), grow(slices.Clone(all), n.otherwise)...)
			default:
				text := n.literal
				if text == "" {
					text = "x"
				}
				all = slices.Clone(all)
				for k := range all {
					all[k] += text
				}
			}
		}
		return all
	}
	if all = grow(all, t.nodes); len(all) > mostPaths {
		return fmt.Errorf("the path %q has too many conditions", t.text)
	}
	for _, p := range all {
		if p == "" { // it is not there then
			continue
		}
		if err := insideRoot(p); err != nil {
			return fmt.Errorf("%w; %q can produce it", err, t.text)
		}
		if !fs.ValidPath(p) {
			return fmt.Errorf("%[2]q can produce the invalid path %[1]q: there must be a name between slashes, and "+
				"not only dots", p, t.text)
		}
	}
	return nil
}

// Before is what the template writes for the given values in front of the first place where a field stands; ok is false
// where it stands nowhere.
func (t Template) Before(f Field, v *Values) (text string, ok bool) {
	var b []byte
	var walk func(nodes []node) bool
	walk = func(nodes []node) bool {
		for i := range nodes {
			n := &nodes[i]
			switch {
			case n.when != nil && (Template{nodes: n.then}).any(func(n *node) bool { return n.field == f }):
				return walk(n.then)
			case n.literal == "" && n.when == nil && !n.each && n.field == f:
				return true
			}
			b = fill(b, nodes[i:i+1], v, nil, nil)
		}
		return false
	}
	ok = walk(t.nodes)
	return string(b), ok
}

// Transforms reports whether a field stands with transforms, so that it may look
// different each time.
func (t Template) Transforms(f Field) bool {
	return t.any(func(n *node) bool { return n.field == f && len(n.transforms) > 0 })
}

// Counts reports whether a number stands as it is wherever the template uses it, but for zeros in front.
func (t Template) Counts(f Field) bool {
	return !t.any(func(n *node) bool {
		return n.field == f && slices.ContainsFunc(n.transforms, func(t transform) bool { return t.name != "pad" })
	})
}

// Keeps reports whether a field stands as it is wherever the template uses it, but for letter case.
func (t Template) Keeps(f Field) bool { return !t.known.changed[f] }

// Says reports whether a value that was read of a path is that of the field, but for letter case: nothing was made of
// it.
func (t Template) Says(f Field, value string) bool {
	return !t.any(func(n *node) bool {
		return n.field == f && slices.ContainsFunc(n.transforms, func(t transform) bool {
			return t.name != "upper" && t.name != "lower" &&
				(t.name != "default" || slices.ContainsFunc(t.makes,
					func(m string) bool { return strings.EqualFold(m, value) }))
		})
	})
}

// any reports whether some field of the template, in sections too, is such a one.
func (t Template) any(is func(*node) bool) bool {
	var look func(nodes []node) bool
	look = func(nodes []node) bool {
		return slices.ContainsFunc(nodes, func(n node) bool {
			return n.literal == "" && n.when == nil && !n.each && is(&n) || look(n.then) || look(n.otherwise)
		})
	}
	return look(t.nodes)
}
