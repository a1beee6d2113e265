package loader

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/strict"
	"polytome/internal/core/title"
	"polytome/internal/format/dump"
	"polytome/internal/nearest"
)

// A Platform says which files belong to a family of games, and
// where in them the values lie that name a title.
type Platform struct {
	Format     int          `toml:"format"`
	Name       string       `toml:"name"`
	Shown      string       `toml:"shown"`
	Forms      []title.Form `toml:"forms"`
	Extensions []string     `toml:"extensions"` // of images, cartridges and cue sheets, in lower case, with the dot
	// Packages are the extensions of packages.
	Packages []string      `toml:"packages"`
	Markers  []Marker      `toml:"marker"` // any of them is enough
	Fields   Fields        `toml:"field"`
	Kinds    []DiscKind    `toml:"kind"`
	Checks   []HeaderCheck `toml:"check"`
	Used     UsedSectors   `toml:"used"`
	Dumps    []Dump        `toml:"dump"`
	// Pictures are those that are in a game itself.
	Pictures []InnerPicture `toml:"picture"`
	Examples []GameExample  `toml:"example"`

	// File is where the description was read from.
	File string `toml:"-"`
	// Own is set for a description of the user's.
	Own bool `toml:"-"`
}

// A Marker is what a platform is recognised by: all that it says must hold. With a file, it is one inside the
// image, folder or package; without one, it is the game's file itself.
type Marker struct {
	File     string  `toml:"file"`     // path; its case is ignored, and * stands for any name
	Syntax   string  `toml:"syntax"`   // how the values in it are written
	Encoding string  `toml:"encoding"` // of its text
	Magic    string  `toml:"magic"`    // text that stands at the offset
	Hex      Bytes   `toml:"hex"`      // bytes that do
	Offset   int64   `toml:"offset"`   // a negative one counts from the end
	Pattern  Pattern `toml:"pattern"`  // what is found in its text, or in so many bytes from the offset on
	Length   int64   `toml:"length"`
	Volume   Pattern `toml:"volume"` // what the ISO 9660 volume identifier must match (ECMA-119, 8.4.7)
	Named    Pattern `toml:"named"`  // what the game's own file or folder must be called
	// With and Without are files and folders that lie, or do not lie, in the image, folder or package.
	With    []string `toml:"with"`
	Without []string `toml:"without"`

	lead Bytes
}

// Lead are the bytes that stand at the offset; none where the marker asks for none.
func (m *Marker) Lead() Bytes { return m.lead }

// Inside reports whether the marker asks for what is in a game, not for its own file alone.
func (m *Marker) Inside() bool {
	return m.File != "" || m.Volume.Regexp != nil || len(m.With)+len(m.Without) > 0
}

// Certain reports whether the marker tells a game's own file whatever its extension is.
func (m *Marker) Certain() bool { return m.File == "" && len(m.lead) > 0 }

// MarkerFiles are the files that the markers ask for, by their patterns.
func (p *Platform) MarkerFiles() (out []string) {
	for i := range p.Markers {
		if f := p.Markers[i].File; f != "" && !slices.Contains(out, f) {
			out = append(out, f)
		}
	}
	return out
}

// Inside reports whether games of the platform are known by what is in them.
func (p *Platform) Inside() bool {
	return slices.ContainsFunc(p.Markers, func(m Marker) bool { return m.Inside() })
}

// LooksInside reports whether values of a game with the marker are read from files in it, although the marker is not.
func (p *Platform) LooksInside(m *Marker) bool {
	inside := func(f *Reading) bool { return f.File != "" || f.Volume }
	return m.File == "" && (slices.ContainsFunc(FieldNames, func(name string) bool {
		f := p.Fields.Named(name)
		return inside(f) || slices.ContainsFunc(f.Or, func(o Reading) bool { return inside(&o) })
	}) || slices.ContainsFunc(p.Kinds, func(k DiscKind) bool { return k.File != "" }))
}

// Bytes are bytes of a file, some of which may be any: "7e 11 ?? c0".
type Bytes []uint16

// anyByte stands for a byte that may be any.
const anyByte = 1 << 8

// UnmarshalText reads bytes as they are written in a file.
func (b *Bytes) UnmarshalText(text []byte) error {
	*b = nil
	for word := range strings.FieldsSeq(string(text)) {
		if word == "??" {
			*b = append(*b, anyByte)
			continue
		}
		n, err := strconv.ParseUint(word, 16, 8)
		if err != nil || len(word) != 2 {
			return fmt.Errorf("%q is not a byte: write two digits 0-9 and a-f, or ?? for any", word)
		}
		*b = append(*b, uint16(n))
	}
	return nil
}

// MarshalText writes bytes as [Bytes.UnmarshalText] reads them.
func (b Bytes) MarshalText() ([]byte, error) {
	var words []string
	for _, n := range b {
		if n == anyByte {
			words = append(words, "??")
		} else {
			words = append(words, fmt.Sprintf("%02x", n))
		}
	}
	return []byte(strings.Join(words, " ")), nil
}

// Fit reports whether bytes are such.
func (b Bytes) Fit(got []byte) bool {
	if len(got) < len(b) {
		return false
	}
	for i, want := range b {
		if want != anyByte && want != uint16(got[i]) {
			return false
		}
	}
	return true
}

// Fields are the values of a title that a platform tells.
type Fields struct {
	ID     Reading `toml:"id"`
	Name   Reading `toml:"name"`
	Region Reading `toml:"region"`
	Disc   Reading `toml:"disc"`
	Kind   Reading `toml:"kind"`
}

// Named is a field by the name of its table.
func (f *Fields) Named(name string) *Reading {
	return map[string]*Reading{"id": &f.ID, "name": &f.Name, "region": &f.Region, "disc": &f.Disc,
		"kind": &f.Kind}[name]
}

// FieldNames are the names of a platform's fields, in the order in which they are read.
var FieldNames = []string{"id", "name", "region", "kind", "disc"}

// A Reading says where one value is read from, and what it may be.
type Reading struct {
	Key      string            `toml:"key"`      // in key=value lines, INI, JSON or XML
	Section  string            `toml:"section"`  // of an INI file
	Line     int               `toml:"line"`     // in lines, from 1
	Offset   *int64            `toml:"offset"`   // in binary data; a negative one counts from the end
	Length   int64             `toml:"length"`   // in bytes
	Encoding string            `toml:"encoding"` // of binary data, or of the text
	Volume   bool              `toml:"volume"`   // it is the ISO 9660 volume identifier
	FileName bool              `toml:"filename"` // it is the name of the game's own file or folder, without extension
	Of       string            `toml:"of"`       // it is another field
	File     string            `toml:"file"`     // another file than the marker's
	Syntax   string            `toml:"syntax"`   // of that file
	Search   bool              `toml:"search"`   // the pattern is looked for, in all lines or in the bytes
	Pattern  Pattern           `toml:"pattern"`  // what a value must match, and which part of it counts
	As       Transforms        `toml:"as"`       // what becomes of it
	Values   map[string]string `toml:"values"`   // what is written -> what it means
	Required bool              `toml:"required"`
	Or       []Reading         `toml:"or"` // where it is read from else
}

// Reports reports whether the platform has such a value.
func (s *Reading) Reports() bool {
	return s.Key != "" || s.Line > 0 || s.Offset != nil || s.Volume || s.FileName || s.Of != "" || s.Search
}

// Takes reports whether a value is one that the platform tells, as far as its pattern says. Letter case makes no
// difference: paths may be spelled in any. A pattern that captures a part of what is written, or a value that is made
// of what is written, says nothing about the value.
func (s *Reading) Takes(value string) bool {
	if s.Pattern.Regexp == nil || s.Search || s.Pattern.Captures() || len(s.As.all)+len(s.Values)+len(s.Or) > 0 {
		return true
	}
	return s.Pattern.MatchString(value) || s.Pattern.MatchString(strings.ToUpper(value)) ||
		s.Pattern.MatchString(strings.ToLower(value))
}

// Written is how the file is written that the value is read from: as the marker says, unless it is another file.
func (s *Reading) Written(m *Marker) (syntax, encoding string) {
	syntax, encoding = s.Syntax, s.Encoding
	if s.File == "" && encoding == "" && s.Offset == nil {
		encoding = m.Encoding
	}
	switch {
	case syntax != "":
	case s.File == "":
		syntax = m.Syntax
	case s.Line > 0:
		syntax = Lines
	case s.Offset != nil:
		syntax = Binary
	default:
		syntax = m.Syntax
	}
	return syntax, encoding
}

// Transforms are those of templates, one after another: "upper|trim".
type Transforms struct {
	text string
	all  []transform
}

// UnmarshalText reads transforms as they are written in a file.
func (t *Transforms) UnmarshalText(b []byte) error {
	t.text, t.all = string(b), nil
	for word := range strings.SplitSeq(t.text, "|") {
		one, err := parseTransform(word)
		if err != nil {
			return err
		}
		t.all = append(t.all, one)
	}
	return nil
}

// MarshalText gives the transforms as they were written.
func (t Transforms) MarshalText() ([]byte, error) { return []byte(t.text), nil }

// Do transforms a value.
func (t Transforms) Do(v string) string { return transformed(v, t.all) }

// Pattern is a regular expression in a file.
type Pattern struct{ *regexp.Regexp }

// longestPattern is how many bytes an expression may have: more take long.
const longestPattern = 1000

// UnmarshalText compiles the expression.
func (p *Pattern) UnmarshalText(b []byte) (err error) {
	if len(b) > longestPattern {
		return fmt.Errorf("a pattern has at most %d characters", longestPattern)
	}
	p.Regexp, err = regexp.Compile(string(b))
	return err
}

// groups are the names of the parts that the pattern captures.
func (p Pattern) groups() (out []string) {
	if p.Regexp != nil {
		out = slices.DeleteFunc(slices.Clone(p.SubexpNames()), func(group string) bool { return group == "" })
	}
	return out
}

// MarshalText gives the expression as it was written.
func (p Pattern) MarshalText() ([]byte, error) {
	if p.Regexp == nil {
		return nil, nil
	}
	return []byte(p.Regexp.String()), nil
}

// Captures reports whether the pattern names the part of a text that counts.
func (p Pattern) Captures() bool { return len(p.groups()) > 0 }

// Capture is the part of a text that the pattern finds: what its group of a field's name, or the group "value", holds,
// or all of it where it has no such group.
func (p Pattern) Capture(field, text string) (string, bool) {
	if !p.Captures() {
		if found := p.FindStringIndex(text); found != nil {
			return text[found[0]:found[1]], true
		}
		return "", false
	}
	m := p.FindStringSubmatch(text)
	if m == nil {
		return "", false
	}
	for i, group := range p.SubexpNames() {
		if (group == field || group == "value") && m[i] != "" {
			return m[i], true
		}
	}
	return "", false
}

// A DiscKind is one kind of game, with the sizes that it can have in bytes; 0 sets no limit. Where no field says of
// which kind a game is, it is of the first one whose conditions hold.
type DiscKind struct {
	Name     string  `toml:"name"`
	Smallest int64   `toml:"smallest"`
	Largest  int64   `toml:"largest"`
	ID       Pattern `toml:"id"`   // what the ID matches
	File     string  `toml:"file"` // what lies in the image, folder or package
}

// Conditional reports whether anything tells such games from others.
func (k *DiscKind) Conditional() bool {
	return k.Smallest > 0 || k.Largest > 0 || k.ID.Regexp != nil || k.File != ""
}

// A HeaderCheck is a value in a file that is computed from its bytes.
type HeaderCheck struct {
	Is    string `toml:"is"`    // sum8, sum16, xor8, crc16, crc16-ccitt, crc32 or length; "" is sum16
	At    int64  `toml:"at"`    // where it stands; a negative one counts from the end
	From  int64  `toml:"from"`  // the bytes that are summed begin here,
	To    int64  `toml:"to"`    // and end before this one
	Order string `toml:"order"` // of its own bytes: little or big; "" is little
	Bytes int    `toml:"bytes"` // of a length
	Unit  Size   `toml:"unit"`  // in which a length counts; 0 is one byte
}

// Width is how many bytes the value has.
func (h *HeaderCheck) Width() int64 {
	switch h.Is {
	case "sum8", "xor8":
		return 1
	case "crc32":
		return 4
	case "length":
		return int64(h.Bytes)
	}
	return 2
}

// UsedSectors is a bitmap in which discs say which of their sectors they use: a bit for each, the lowest
// first. What is in front of its end is used in any case.
type UsedSectors struct {
	Bitmap Size `toml:"bitmap"` // where it begins, in bytes
	Sector Size `toml:"sector"` // bytes; 0 where there is no bitmap
}

// A Dump is a way in which a file may hold a game, beside the plain one: with a copier's header in front, or with its
// bytes in another order. It is known by the markers, which are looked for as if it were plain; where there are none,
// by the length alone.
type Dump struct {
	Skip     Size   `toml:"skip"`     // bytes in front of the game
	Multiple Size   `toml:"multiple"` // of which the game's length is a multiple; 0 for any length
	Order    string `toml:"order"`    // one of [dump.Orders]; "" for the right one
	Block    Size   `toml:"block"`    // bytes of a block that is interleaved
}

// Layout is how such a dump is read.
func (d *Dump) Layout() dump.Layout {
	return dump.Layout{Skip: int64(d.Skip), Order: d.Order, Block: int64(d.Block)}
}

// Fits reports whether a file of so many bytes can be such a dump.
func (d *Dump) Fits(size int64) bool {
	size -= int64(d.Skip)
	return size > 0 && (d.Multiple == 0 || size%int64(d.Multiple) == 0)
}

func (c *checker) dump(at string, d *Dump, p *Platform) {
	c.maybe(at+".order", "order of bytes", d.Order, dump.Orders)
	c.known(d.Skip >= 0 && d.Skip <= MostLooked && d.Multiple >= 0, at+".skip", "a header has at most %d bytes",
		MostLooked)
	c.known(d.Skip > 0 || d.Order != "", at, "a [[dump]] needs what tells it from a plain file: skip or order")
	c.known((d.Order == "interleaved") == (d.Block > 0) && d.Block%2 == 0 && d.Block <= MostLooked, at+".block",
		"the order interleaved and an even block go together")
	c.known(p.Has(title.Cartridge) || p.Has(title.Image), at, "only cartridges and images are dumps")
	c.known(len(p.Markers) > 0 || d.Order == "" && d.Multiple > 0, at,
		"without a [[marker]], a dump is known by the length "+
			"of its header alone: give skip and multiple, and no order")
}

// An InnerPicture is a picture that is in the image, folder or package of a game.
type InnerPicture struct {
	Of   string `toml:"of"`   // front, disc, screen or logo
	File string `toml:"file"` // path; its case is ignored, and * stands for any name
}

// Kind returns the disc kind of that name, or nil.
func (p *Platform) Kind(name string) *DiscKind {
	for i := range p.Kinds {
		if p.Kinds[i].Name == name {
			return &p.Kinds[i]
		}
	}
	return nil
}

// Has reports whether games of the platform come in a form.
func (p *Platform) Has(f title.Form) bool { return slices.Contains(p.Forms, f) }

// FileForm is the form of a game of the platform that is a file by itself.
func (p *Platform) FileForm() title.Form {
	for _, f := range p.Forms {
		if f != title.Folder && f != title.Tracks {
			return f
		}
	}
	return p.Forms[0]
}

// The ways in which values are written.
const (
	KeyValue = "key=value"
	Lines    = "lines"
	INI      = "ini"
	JSON     = "json"
	XML      = "xml"
	Binary   = "binary"
)

var (
	markerSyntax  = []string{KeyValue, Lines, INI, JSON, XML, Binary}
	textEncodings = []string{"ascii", "latin-1", "shift-jis", "utf-8", "utf-16le", "utf-16be"}
	checkWords    = []string{"sum8", "sum16", "xor8", "crc16", "crc16-ccitt", "crc32", "length"}
	byteOrders    = []string{"little", "big"}
	// Encodings are how values are written in binary data.
	Encodings = slices.Concat(textEncodings, []string{"number-le", "number-be"})
)

// ParsePlatform reads a platform description. Errors are [*strict.Error].
func ParsePlatform(file string, data []byte) (*Platform, error) {
	p := &Platform{File: file}
	src, err := strict.Decode(file, data, p)
	if err != nil {
		return nil, err
	}
	c := &checker{src: src}
	c.known(p.Format == FormatVersion, "format", "it has format %d; this version reads format %d", p.Format,
		FormatVersion)
	c.name("name", p.Name)
	c.known(p.Shown != "", "shown", "the key shown (the platform's display name) is missing")
	c.known(len(p.Forms) > 0, "forms", "no form is given; forms are: %s", strings.Join(formNames(), ", "))
	for _, f := range p.Forms {
		c.oneOf("forms", "form", string(f), formNames())
	}
	needs := p.Has(title.Image) || p.Has(title.Cartridge) || p.Has(title.Tracks)
	c.known(len(p.Extensions) > 0 || !needs, "extensions", "no file extension is given")
	c.known(len(p.Packages) > 0 == p.Has(title.Package), "packages",
		"the form package and the extensions of packages go together")
	for key, extensions := range map[string][]string{"extensions": p.Extensions, "packages": p.Packages} {
		for _, e := range extensions {
			c.known(strings.HasPrefix(e, ".") && e == strings.ToLower(e) && len(e) > 1, key,
				"the extension %q must begin with a dot and be in lower case", e)
		}
	}
	c.markers(p)
	for _, name := range FieldNames {
		c.reading("field."+name, name, p.Fields.Named(name), p)
	}
	for i, k := range p.Kinds {
		if k.Largest > 0 && k.Smallest > k.Largest {
			c.known(false, at("kind", i), "the kind %q (number %d) cannot have at least %d and at most %d bytes",
				k.Name, i+1, k.Smallest, k.Largest)
		}
		_, err := path.Match(k.File, "x")
		c.known(err == nil, at("kind", i)+".file", "the pattern %q has an unclosed bracket", k.File)
	}
	for i := range p.Checks {
		c.headerCheck(at("check", i), &p.Checks[i])
	}
	for i, pic := range p.Pictures {
		c.oneOf(at("picture", i)+".of", "picture", pic.Of, title.PictureKinds)
		_, err := path.Match(pic.File, "x")
		c.known(pic.File != "" && err == nil, at("picture", i)+".file",
			"a picture needs its path inside a game; %q is not one", pic.File)
		c.known(p.Has(title.Image) || p.Has(title.Folder) || p.Has(title.Package), at("picture", i),
			"only images, folders and packages have files in them")
	}
	u := &p.Used
	c.known(u.Sector == 0 || p.Has(title.Image), "used", "only images have sectors that are used or not")
	c.known(u.Sector == 0 || u.Sector >= 512 && u.Sector <= 32<<10 && u.Sector&(u.Sector-1) == 0, "used.sector",
		"a sector size is a power of two from 512 bytes to 32KiB")
	c.known(u.Bitmap >= 0 && (u.Sector > 0 || u.Bitmap == 0), "used.bitmap",
		"a bitmap starts at a byte of the image and needs the sector size")
	for i := range p.Dumps {
		c.dump(at("dump", i), &p.Dumps[i], p)
	}
	for i := range p.Examples {
		c.gameExample(at("example", i), &p.Examples[i], p)
	}
	return p, errors.Join(c.all...)
}

// MostLooked is how many bytes from the begin or the end of a file may be looked at to recognise it.
const MostLooked = 1 << 20

// maxHeader is how many bytes a sum may go over.
const maxHeader = 1 << 16

// near reports whether bytes are near enough to the begin or the end of a file.
func near(offset, length int64) bool {
	return offset >= -MostLooked && length >= 0 && length <= MostLooked && offset <= MostLooked &&
		offset+length <= MostLooked && (offset >= 0 || offset+length <= 0)
}

func (c *checker) markers(p *Platform) {
	c.known(len(p.MarkerFiles()) > 0 || !p.Has(title.Folder), "marker",
		"a folder is recognised by a file in it: a [[marker]] needs file")
	c.known(len(p.Markers) > 0 || !p.Has(title.Image), "marker", "an image is recognised by a file in it, by magic "+
		"bytes or by its volume identifier: a [[marker]] needs one of them")
	for i := range p.Markers {
		m, at := &p.Markers[i], at("marker", i)
		if m.lead = m.Hex; m.Magic != "" {
			c.known(len(m.Hex) == 0, at+".hex", "a marker has either magic (text) or hex (bytes) at its offset")
			m.lead = nil
			for _, b := range []byte(m.Magic) {
				m.lead = append(m.lead, uint16(b))
			}
		}
		for key, patterns := range map[string][]string{"file": {m.File}, "with": m.With, "without": m.Without} {
			for _, pattern := range patterns {
				_, err := path.Match(pattern, "x")
				c.known(err == nil, at+"."+key, "the pattern %q has an unclosed bracket", pattern)
			}
		}
		c.maybe(at+".syntax", "syntax", m.Syntax, markerSyntax)
		c.maybe(at+".encoding", "encoding", m.Encoding, textEncodings)
		c.known(near(m.Offset, int64(len(m.lead))+m.Length), at+".offset",
			"what a marker asks for must be in the first or the last %d bytes", MostLooked)
		c.known(m.Pattern.Regexp == nil || m.File != "" || m.Length > 0, at+".pattern",
			"a pattern in the game's own file needs the length, in bytes, of what is looked through")
		c.known(m.Pattern.Regexp != nil || m.Length == 0, at+".length", "only a pattern needs a length")
		c.known(m.File != "" || len(m.lead) > 0 || m.Pattern.Regexp != nil || m.Volume.Regexp != nil ||
			m.Named.Regexp != nil || len(m.With) > 0 || !p.Has(title.Image), at,
			"an image is recognised by a file in it, "+
				"by magic bytes or by its volume identifier: this [[marker]] needs one of them")
	}
}

// reading checks where a field is read from.
func (c *checker) reading(at, field string, f *Reading, p *Platform) {
	if !f.Reports() {
		c.known(!f.Required && f.Pattern.Regexp == nil && len(f.Values)+len(f.Or) == 0, at, "[%s] needs to say where "+
			"the value is: a key, a line, an offset, search = true, filename = true, of or volume = true", at)
		return
	}
	for _, group := range f.Pattern.groups() {
		c.known(group == field || group == "value", at+".pattern",
			"the pattern's group %q must be named %q, or \"value\"", group, field)
	}
	c.maybe(at+".syntax", "syntax", f.Syntax, markerSyntax)
	c.known(f.Syntax == "" || f.File != "", at+".syntax", "the syntax of the marker's file stands in its [[marker]]")
	if f.Of != "" {
		c.oneOf(at+".of", "field", f.Of, FieldNames)
		c.known(slices.Index(FieldNames, f.Of) < slices.Index(FieldNames, field), at+".of",
			"the %s is not known yet when the %s is read: fields are read in the order %s", f.Of, field,
			strings.Join(FieldNames, ", "))
	}
	c.known(!f.Search || f.Pattern.Regexp != nil, at+".search", "what is looked for stands in pattern")
	markers := p.Markers
	if len(markers) == 0 {
		markers = []Marker{{Syntax: Binary}}
	}
	var wrong []error // of the first marker, where the place is for none of them
	fits := false
	for i := range markers {
		before := len(c.all)
		c.place(at, f, &markers[i])
		if fits = fits || len(c.all) == before; i == 0 {
			wrong = slices.Clone(c.all[before:])
		}
		c.all = c.all[:before]
	}
	if !fits {
		c.all = append(c.all, wrong...)
	}
	for i := range f.Or {
		c.reading(at+".or."+strconv.Itoa(i), field, &f.Or[i], p)
	}
}

// Fits reports whether a value can be at the place in a game that a marker is in: another marker's file may be of
// another kind.
func (f *Reading) Fits(m *Marker) bool {
	syntax, _ := f.Written(m)
	switch {
	case f.Volume || f.FileName || f.Of != "" || f.Search:
		return true
	case f.Key != "":
		return slices.Contains([]string{KeyValue, INI, JSON, XML}, syntax) && (f.Section != "") == (syntax == INI)
	case f.Line != 0:
		return syntax == Lines
	}
	return syntax == Binary
}

// place checks that a value can be where it is said, where a marker is there.
func (c *checker) place(at string, f *Reading, m *Marker) {
	syntax, _ := f.Written(m)
	switch {
	case f.Volume || f.FileName || f.Of != "":
	case f.Search && f.Offset == nil:
		c.maybe(at+".encoding", "encoding", f.Encoding, textEncodings)
		c.known(f.File != "" || m.File != "" || f.Length == 0, at+".search",
			"to look through the game's own file, give the offset and length of what is looked through")
	case f.Key != "":
		c.known(slices.Contains([]string{KeyValue, INI, JSON, XML}, syntax), at+".key",
			"a key needs the syntax %s, %s, %s or %s; the marker's is %q", KeyValue, INI, JSON, XML, m.Syntax)
		c.known((f.Section != "") == (syntax == INI), at+".key", "a section and the syntax %s go together", INI)
		c.maybe(at+".encoding", "encoding", f.Encoding, textEncodings)
	case f.Line != 0:
		c.known(syntax == Lines && f.Line > 0, at+".line", "a line needs the syntax %s; the marker's is %q", Lines,
			m.Syntax)
		c.maybe(at+".encoding", "encoding", f.Encoding, textEncodings)
	default:
		c.known(syntax == Binary || f.Search, at+".offset", "an offset needs the syntax %s; the marker's is %q", Binary,
			m.Syntax)
		c.known(f.Length > 0 && near(*f.Offset, f.Length), at+".length",
			"the value must be in the first or the last %d bytes and have a length", MostLooked)
		if f.Search {
			c.maybe(at+".encoding", "encoding", f.Encoding, textEncodings)
		} else {
			c.oneOf(at+".encoding", "encoding", f.Encoding, Encodings)
			c.known(!strings.HasPrefix(f.Encoding, "number") || f.Length <= 8, at+".length",
				"a number has at most 8 bytes")
		}
	}
}

func (c *checker) headerCheck(at string, h *HeaderCheck) {
	c.maybe(at+".is", "check", h.Is, checkWords)
	c.maybe(at+".order", "byte order", h.Order, byteOrders)
	if h.Is == "length" {
		c.known(slices.Contains([]int{2, 4, 8}, h.Bytes), at, "a length has 2, 4 or 8 bytes: give bytes")
		c.known(h.From == 0 && h.To == 0, at, "the whole file is measured: from and to have no meaning")
	} else {
		c.known(h.Bytes == 0 && h.Unit == 0, at, "bytes and unit are of a length")
		c.known(h.From >= 0 && h.To > h.From && h.To <= maxHeader, at, "a header's sum must be in its first %d bytes",
			maxHeader)
	}
	c.known(near(h.At, h.Width()), at+".at", "the value must be in the first or the last %d bytes", MostLooked)
	c.known(h.Unit >= 0, at+".unit", "a size cannot be negative")
}

// NearestPlatform returns the name of the platform that was probably meant.
func (s *Set) NearestPlatform(name string) string {
	var names []string
	for _, p := range s.Platforms {
		names = append(names, p.Name)
	}
	return nearest.Word(name, names)
}
