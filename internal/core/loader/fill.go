package loader

import (
	"io/fs"
	"strings"
)

// Fill makes the path or text for the given values.
func (t Template) Fill(v *Values) string { return t.FillEach(v, nil) }

// FillEach makes a text; what stands between {each} and {end} is written once for
// each row.
func (t Template) FillEach(v *Values, rows []Values) string {
	var space [160]byte
	return string(fill(space[:0], t.nodes, v, rows, nil))
}

// FillEscaped makes a text in which every value, after its transforms, is written as escape says.
func (t Template) FillEscaped(v *Values, rows []Values, escape func(string) string) string {
	var space [160]byte
	return string(fill(space[:0], t.nodes, v, rows, escape))
}

// Row is what FillEach writes for one row of the first section that is repeated.
func (t Template) Row(row *Values) string {
	for i := range t.nodes {
		if n := &t.nodes[i]; n.each {
			return string(fill(nil, n.then, row, nil, nil))
		}
	}
	return ""
}

// fill writes nodes behind b. Values are written as escape says; nil leaves them as they are.
func fill(b []byte, nodes []node, v *Values, rows []Values, escape func(string) string) []byte {
	for i := range nodes {
		n := &nodes[i]
		switch {
		case n.each:
			for j := range rows {
				b = fill(b, n.then, &rows[j], nil, escape)
			}
		case n.when != nil:
			if n.when.Holds(v) {
				b = fill(b, n.then, v, rows, escape)
			} else {
				b = fill(b, n.otherwise, v, rows, escape)
			}
		case n.literal != "":
			b = append(b, n.literal...)
		case escape != nil:
			b = append(b, escape(n.apply(v[n.field]))...)
		case len(n.transforms) == 0:
			b = append(b, v[n.field]...)
		default:
			b = append(b, n.apply(v[n.field])...)
		}
	}
	return b
}

// longestValue is how many bytes a field can have: no path takes more, and a chain of
// replacements cannot grow without bounds.
const longestValue = 4096

func (n *node) apply(v string) string { return transformed(v, n.transforms) }

// transformed is a value after all transforms.
func transformed(v string, all []transform) string {
	for _, t := range all {
		if v = t.do(v); len(v) > longestValue {
			v = strings.ToValidUTF8(v[:longestValue], "")
		}
	}
	return v
}

// FillPath makes a path for the given values. Whatever transforms make of them, it stays below the root.
func (t Template) FillPath(v *Values) string {
	p := t.Fill(v)
	if p == "" || fs.ValidPath(p) {
		return p
	}
	parts := strings.Split(p, "/")
	kept := parts[:0]
	for _, part := range parts {
		if part == ".." {
			part = "__"
		}
		if part != "" && part != "." { // {folder} is "." for the root
			kept = append(kept, part)
		}
	}
	return strings.ToValidUTF8(strings.Join(kept, "/"), "_")
}

// As is the value of a field as the template writes it, with the transforms that it has where it stands first.
func (t Template) As(f Field, value string) string {
	out, found := value, false
	t.any(func(n *node) bool {
		if n.field == f && !found {
			out, found = n.apply(value), true
		}
		return found
	})
	return out
}
