package loader

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// companion checks a file that lies with each title.
func (c *checker) companion(at string, m *Companion) {
	c.scope(at, &m.Scope)
	c.oneOf(at+".is", "kind of companion", m.Is, isWords)
	c.maybe(at+".per", "per", m.Per, perWords)
	c.known(!m.Path.Empty(), at, "a [[companion]] needs a path")
	c.fields(at+".path", m.Path, companionFields)
	c.known(m.Path.Empty() || reports(m.Path) || m.Path.Uses(FieldBase) || m.Path.Uses(FieldFolder), at+".path",
		"the path has none of {id}, {title}, {base} and {folder}, so every title would get the same one")
	c.fields(at+".text", m.Text.Template, textFields)
	c.maybe(at+".syntax", "syntax", m.Syntax, syntaxWords)
	c.maybe(at+".make", "make of text", m.Make, textMakes)
	c.known(m.Make == "" || m.Syntax == "", at+".make",
		"a text has a make, or the syntax of values that are kept, not both")
	for _, key := range []struct{ name, value string }{{"shows", m.Shows}, {"places", m.Places},
		{"sections", m.Sections}, {"favours", m.Favours}} {
		c.known(key.value == "" || m.Syntax != "", at+"."+key.name,
			"the key %s needs the key syntax: how the text is read", key.name)
	}
	c.known((len(m.Kept()) == 0 && m.LockedBy == "") || m.Syntax != "", at,
		"keep, switch and locked-by need the key syntax: how the text is read")
	for i, s := range m.Switches {
		c.known(s.Key != "" && len(s.Values) > 1 && s.Helps != "", fmt.Sprintf("%s.switch %d", at, i+1),
			"a switch has a key, two values or more, and what it helps with")
	}
	pic := &m.Picture
	c.bytes(at, m)
	if m.Is != "cover" {
		c.known(!m.Text.Empty() || !m.IsText(), at,
			"a companion other than a cover needs a text, a file that it is a copy of, or the length of its bytes")
		c.known(*pic == Picture{}, at+".picture", "only a cover has a picture")
		return
	}
	c.known(m.Text.Empty(), at+".text", "a cover has a picture and no text")
	c.oneOf(at+".picture.of", "picture", pic.Of, pictureWords)
	c.oneOf(at+".picture.format", "format", pic.Format, formatWords)
	c.maybe(at+".picture.fit", "fit", pic.Fit, fitWords)
	c.known(pic.Width >= 0 && pic.Height >= 0 && (pic.Width > 0) == (pic.Height > 0), at+".picture",
		"width and height, in pixels, go together")
	c.known(pic.LargestFile >= 0, at+".picture.largest-file", "a size cannot be negative")
}

// bytes checks a companion that is a copy, or made of bytes.
func (c *checker) bytes(at string, m *Companion) {
	c.known(len(m.Bytes) == 0 || m.File != "" || m.Length > 0, at+".bytes",
		"bytes are set in a copy (file), or in a file of a fixed length (length)")
	c.known(m.Length >= 0 && m.Length <= mostLength, at+".length", "such a file has at most %d bytes", mostLength)
	within := mostLength
	if m.Length > 0 {
		within = m.Length
	}
	c.recordFields(at+".bytes", m.Bytes, within, textFields)
	for i := range m.Bytes {
		c.known(m.Bytes[i].Sum == "", fmt.Sprintf("%s.bytes.%d.sum", at, i), "a sum stands in the header of a list")
	}
	c.maybe(at+".encoding", "encoding", m.Encoding, textEncodings)
	if m.File == "" && m.Length == 0 {
		return
	}
	c.known(m.File == "" || m.Length == 0, at+".length", "a companion is a copy, or has a fixed length, not both")
	c.known(m.Is != "cover" && m.Is != "playlist" && m.Text.Empty() && m.Make == "" && m.Encoding == "" &&
		m.Syntax == "",
		at, "a companion that is a copy, or of a fixed length, is a launcher or settings, and has no text, make, "+
			"encoding or "+
			"syntax")
	if m.File != "" {
		c.inside(at+".file", m.File)
		same := func(to string) bool {
			return strings.EqualFold(to, m.File) || strings.HasPrefix(strings.ToUpper(m.File), strings.ToUpper(to)+"/")
		}
		c.known(slices.ContainsFunc(c.p.Kit.Files, func(f KitFile) bool { return same(f.To) && f.Text == "" }) ||
			slices.ContainsFunc(c.p.SystemImages, func(s SystemImage) bool { return same(s.To) }), at+".file",
			"no [[kit.file]] with from, and no [[system-image]], brings %s to the target", m.File)
	}
}

// mostLength is how many bytes a companion of bytes has at most, and up to where bytes are set in a copy.
const mostLength = 1 << 20

func (c *checker) list(at string, l *List) {
	c.scope(at, &l.Scope)
	c.known(!l.Path.Empty(), at, "a [[list]] needs a path")
	c.fields(at+".path", l.Path, listPathFields)
	c.maybe(at+".per", "per", l.Per, perWords)
	c.known(!l.Line.Repeats() || l.Per == "title", at+".line",
		"{each} goes through the discs of a title: the list needs per = \"title\"")
	c.each(at+".order", "order", l.Order, orderWords)
	c.fields(at+".header", l.Header.Template, []Field{FieldDiscs})
	c.fields(at+".line", l.Line.Template, lineFields)
	c.fields(at+".footer", l.Footer.Template, []Field{FieldDiscs})
	c.maybe(at+".make", "make of list", l.Make, listMakes)
	c.maybe(at+".encoding", "encoding", l.Encoding, textEncodings)
	c.known(l.Key == "" || l.Make != "", at+".key", "a key is looked for in lists of the makes %s",
		strings.Join(listMakes,
			", "))
	_, err := strconv.Atoi(l.Key)
	c.known(l.Make != "csv" || l.Key == "" || err == nil, at+".key",
		"the key of a CSV list is the number of a column, from 1")
	c.known(l.Between == "" || l.Make == "json" || l.Make == "xml", at+".between",
		"between is for lists of the makes json and xml")
	if l.Record == 0 {
		c.known(l.HeaderLength == 0 && len(l.HeaderFields) == 0, at+".header-length",
			"a header of a fixed length needs records, in the key record")
		c.known(!l.Line.Empty() || !l.Header.Empty(), at,
			"a list needs the text of its lines (line), the length of its "+
				"records (record), or nothing but a text (header)")
		c.known(len(l.Fields) == 0, at+".field", "fields need the length of a record, in the key record")
		return
	}
	c.known(l.Record > 0, at+".record", "a record cannot have %d bytes", l.Record)
	c.known(l.Line.Empty(), at+".line", "a list has lines or records, not both")
	c.known(len(l.Fields) > 0, at, "the records have no [[list.field]]")
	c.known(l.Make == "" && l.Encoding == "", at, "make and encoding are of lists of texts")
	c.known(l.HeaderLength >= 0 && l.HeaderLength <= maxHeader, at+".header-length", "a header has at most %d bytes",
		maxHeader)
	c.known(l.HeaderLength == 0 || l.Header.Empty() && l.Footer.Empty(), at+".header",
		"a list has a text as its header, or one of a fixed length")
	c.recordFields(at+".field", l.Fields, l.Record, lineFields)
	c.recordFields(at+".header-field", l.HeaderFields, l.HeaderLength, []Field{FieldDiscs})
	for i := range l.Fields {
		c.known(l.Fields[i].Sum == "", fmt.Sprintf("%s.field.%d.sum", at, i),
			"a sum of all records stands in the header")
	}
}

// recordFields checks the fields of a record of so many bytes.
func (c *checker) recordFields(at string, all []RecordField, bytes int, allowed []Field) {
	for i := range all {
		f, fat := &all[i], fmt.Sprintf("%s.%d", at, i)
		if f.Sum != "" {
			c.oneOf(fat+".sum", "sum", f.Sum, slices.DeleteFunc(slices.Clone(checkWords),
				func(w string) bool { return w == "length" }))
			c.known(f.Value.Empty(), fat+".value", "the field is a sum, and has no value of its own")
			f.Encoding = cmp.Or(f.Encoding, "number-le")
		}
		c.oneOf(fat+".encoding", "encoding", f.Encoding, encodingWords)
		c.fields(fat+".value", f.Value.Template, allowed)
		c.known(f.Fill >= 0 && f.Fill < 256, fat+".fill", "the byte %d is not between 0 and 255", f.Fill)
		c.known(f.Offset >= 0 && f.Length > 0 && f.Offset+f.Length <= bytes, fat,
			"bytes %d to %d are not in a record of %d", f.Offset, f.Offset+f.Length, bytes)
		for j := range i {
			o := all[j]
			c.known(f.Offset >= o.Offset+o.Length || o.Offset >= f.Offset+f.Length, fat+".offset",
				"the field overlaps field %d of the record", j+1)
		}
	}
}
