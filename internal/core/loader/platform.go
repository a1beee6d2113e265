package loader

import (
	"errors"
	"path"
	"regexp"
	"slices"
	"strings"

	"polytome/internal/core/strict"
	"polytome/internal/core/title"
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
	Packages []string    `toml:"packages"`
	Marker   Marker      `toml:"marker"`
	Fields   Fields      `toml:"field"`
	Kinds    []DiscKind  `toml:"kind"`
	Check    HeaderCheck `toml:"check"`
	Used     UsedSectors `toml:"used"`
	// Pictures are those that are in a game itself.
	Pictures []InnerPicture `toml:"picture"`

	// File is where the description was read from.
	File string `toml:"-"`
	// Own is set for a description of the user's.
	Own bool `toml:"-"`
}

// A Marker is what a platform is recognised by. With a file, it is one inside the
// image, folder or package; without one, it is the game's file itself.
type Marker struct {
	File   string  `toml:"file"`   // path; its case is ignored, and * stands for any name
	Syntax string  `toml:"syntax"` // how the values in it are written
	Magic  string  `toml:"magic"`  // text that stands at the offset
	Offset int64   `toml:"offset"`
	Volume Pattern `toml:"volume"` // what the ISO 9660 volume identifier must match (ECMA-119, 8.4.7)
}

// Fields are the values of a title that a platform tells.
type Fields struct {
	ID     Reading `toml:"id"`
	Name   Reading `toml:"name"`
	Region Reading `toml:"region"`
	Disc   Reading `toml:"disc"`
	Kind   Reading `toml:"kind"`
}

// A Reading says where one value is read from, and what it may be.
type Reading struct {
	Key      string            `toml:"key"`      // in key=value lines, or JSON
	Line     int               `toml:"line"`     // in lines, from 1
	Offset   *int64            `toml:"offset"`   // in binary data
	Length   int64             `toml:"length"`   // in bytes
	Encoding string            `toml:"encoding"` // of binary data
	Volume   bool              `toml:"volume"`   // it is the ISO 9660 volume identifier
	File     string            `toml:"file"`     // another file than the marker's
	Pattern  Pattern           `toml:"pattern"`  // what a value must match
	Required bool              `toml:"required"`
	Values   map[string]string `toml:"values"` // what is written -> what it means
}

// Tells reports whether the platform has such a value.
func (s *Reading) Reports() bool {
	return s.Key != "" || s.Line > 0 || s.Offset != nil || s.Volume
}

// Takes reports whether a value is one that the platform tells, as far as its pattern says. Letter case makes no
// difference: paths may be spelled in any.
func (s *Reading) Takes(value string) bool {
	return s.Pattern.Regexp == nil || s.Pattern.MatchString(value) || s.Pattern.MatchString(strings.ToUpper(value)) ||
		s.Pattern.MatchString(strings.ToLower(value))
}

// SyntaxIn is the syntax of the file that the value is read from, where the marker has another one: a file of its own
// has lines or binary data where it is asked for these.
func (s *Reading) SyntaxIn(marker string) string {
	switch {
	case s.File != "" && s.Line > 0:
		return Lines
	case s.File != "" && s.Offset != nil:
		return Binary
	}
	return marker
}

// Pattern is a regular expression in a file.
type Pattern struct{ *regexp.Regexp }

// UnmarshalText compiles the expression.
func (p *Pattern) UnmarshalText(b []byte) (err error) {
	p.Regexp, err = regexp.Compile(string(b))
	return err
}

// MarshalText gives the expression as it was written.
func (p Pattern) MarshalText() ([]byte, error) {
	if p.Regexp == nil {
		return nil, nil
	}
	return []byte(p.Regexp.String()), nil
}

// A DiscKind is one kind of disc, with the sizes that it can have in bytes; 0 sets
// no limit.
type DiscKind struct {
	Name     string `toml:"name"`
	Smallest int64  `toml:"smallest"`
	Largest  int64  `toml:"largest"`
}

// A HeaderCheck is a 16-bit little-endian sum of a file's first bytes.
type HeaderCheck struct {
	At int64 `toml:"at"` // where the sum stands
	To int64 `toml:"to"` // the bytes from 0 up to here are summed
}

// UsedSectors is a bitmap in which discs say which of their sectors they use: a bit for each, the lowest
// first. What is in front of its end is used in any case.
type UsedSectors struct {
	Bitmap Size `toml:"bitmap"` // where it begins, in bytes
	Sector Size `toml:"sector"` // bytes; 0 where there is no bitmap
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

// The ways in which values are written.
const (
	KeyValue = "key=value"
	Lines    = "lines"
	JSON     = "json"
	Binary   = "binary"
)

var (
	markerSyntax = []string{KeyValue, Lines, JSON, Binary}
	// Encodings are how values are written in binary data.
	Encodings = []string{"ascii", "latin-1", "utf-8", "utf-16le", "number"}
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
	m := &p.Marker
	c.known(m.File != "" || !p.Has(title.Folder), "marker.file",
		"a folder is recognised by a file in it: [marker] needs file")
	if _, err := path.Match(m.File, "x"); err != nil {
		c.known(false, "marker.file", "the pattern %q has an unclosed bracket", m.File)
	}
	c.maybe("marker.syntax", "syntax", m.Syntax, markerSyntax)
	c.known(m.Offset >= 0, "marker.offset", "an offset cannot be negative")
	c.known(m.File != "" || m.Magic != "" || m.Volume.Regexp != nil || !p.Has(title.Image), "marker",
		"an image is recognised by a file in it, by magic bytes or by its volume identifier: [marker] needs one of them")
	for name, f := range map[string]*Reading{"id": &p.Fields.ID, "name": &p.Fields.Name, "region": &p.Fields.Region,
		"disc": &p.Fields.Disc, "kind": &p.Fields.Kind} {
		c.source("field."+name, f, m)
	}
	for i, k := range p.Kinds {
		if k.Largest > 0 && k.Smallest > k.Largest {
			c.known(false, at("kind", i), "the kind %q (number %d) cannot have at least %d and at most %d bytes",
				k.Name, i+1, k.Smallest, k.Largest)
		}
	}
	c.known(p.Check.To <= maxHeader && p.Check.At+2 <= maxHeader && p.Check.At >= 0 && p.Check.To >= 0, "check",
		"a header's sum must be in its first %d bytes", maxHeader)
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
	return p, errors.Join(c.all...)
}

// maxHeader is how much of a file may be looked at to recognise it.
const maxHeader = 1 << 16

func (c *checker) source(at string, f *Reading, m *Marker) {
	if !f.Reports() {
		c.known(!f.Required && f.Pattern.Regexp == nil && len(f.Values) == 0, at,
			"[%s] needs to say where the value is: a key, a line, an offset or volume = true", at)
		return
	}
	syntax := f.SyntaxIn(m.Syntax)
	switch {
	case f.Volume:
	case f.Key != "":
		c.known(syntax == KeyValue || syntax == JSON, at+".key", "a key needs the syntax %s or %s; the marker's is %q",
			KeyValue, JSON, m.Syntax)
	case f.Line != 0:
		c.known(syntax == Lines && f.Line > 0, at+".line", "a line needs the syntax %s; the marker's is %q", Lines,
			m.Syntax)
	default:
		c.known(syntax == Binary, at+".offset", "an offset needs the syntax %s; the marker's is %q", Binary, m.Syntax)
		c.known(*f.Offset >= 0 && f.Length > 0 && *f.Offset+f.Length <= maxHeader, at+".length",
			"the value must be in the first %d bytes and have a length", maxHeader)
		c.oneOf(at+".encoding", "encoding", f.Encoding, Encodings)
	}
}

// NearestPlatform returns the name of the platform that was probably meant.
func (s *Set) NearestPlatform(name string) string {
	var names []string
	for _, p := range s.Platforms {
		names = append(names, p.Name)
	}
	return nearest.Word(name, names)
}
