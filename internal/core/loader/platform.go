package loader

import (
	"errors"
	"regexp"
	"strings"

	"polytome/internal/core/strict"
	"polytome/internal/core/title"
)

// A Platform says which files belong to a family of games, and where in them
// the values lie that name a title.
type Platform struct {
	Format  int        `toml:"format"`
	Name    string     `toml:"name"`
	Shown   string     `toml:"shown"`
	Form    title.Form `toml:"form"`
	Endings []string   `toml:"endings"` // in lower case, with the dot
	Marker  Marker     `toml:"marker"`
	Fields  Fields     `toml:"field"`
	Kinds   []Kind     `toml:"kind"`
}

// A Marker is the file inside an image by which a platform is recognised.
type Marker struct {
	File   string `toml:"file"`   // path in the image; its case is ignored
	Syntax string `toml:"syntax"` // "key=value"
}

// Fields are the values of a title that a platform tells.
type Fields struct {
	ID     Field `toml:"id"`
	Name   Field `toml:"name"`
	Region Field `toml:"region"`
	Disc   Field `toml:"disc"`
	Kind   Field `toml:"kind"`
}

// A Field says where one value is read from, and what it may be.
type Field struct {
	Key      string            `toml:"key"`
	Pattern  Pattern           `toml:"pattern"` // what a value must match
	Required bool              `toml:"required"`
	Values   map[string]string `toml:"values"` // what is written -> what it means
}

// Pattern is a regular expression in a file.
type Pattern struct{ *regexp.Regexp }

// UnmarshalText compiles the expression.
func (p *Pattern) UnmarshalText(b []byte) (err error) {
	p.Regexp, err = regexp.Compile(string(b))
	return err
}

// A Kind is one kind of disc, with the sizes that it can have in bytes; 0 sets
// no limit.
type Kind struct {
	Name     string `toml:"name"`
	Smallest int64  `toml:"smallest"`
	Largest  int64  `toml:"largest"`
}

// Kind returns the disc kind of that name, or nil.
func (p *Platform) Kind(name string) *Kind {
	for i := range p.Kinds {
		if p.Kinds[i].Name == name {
			return &p.Kinds[i]
		}
	}
	return nil
}

// ParsePlatform reads a platform description. Errors are [*strict.Error].
func ParsePlatform(file string, data []byte) (*Platform, error) {
	p := &Platform{}
	src, err := strict.Decode(file, data, p)
	if err != nil {
		return nil, err
	}
	var all []error
	fail := func(path, format string, args ...any) { all = append(all, src.Errorf(path, format, args...)) }
	if p.Format != FormatVersion {
		fail("format", "this is format %d, and this version reads format %d", p.Format, FormatVersion)
	}
	if p.Name == "" {
		fail("name", "the platform has no name")
	}
	if p.Form != title.Image {
		fail("form", "the form %q is not known; known is: %s", p.Form, title.Image)
	}
	if len(p.Endings) == 0 {
		fail("endings", "no file ending is given")
	}
	for _, e := range p.Endings {
		if !strings.HasPrefix(e, ".") || e != strings.ToLower(e) {
			fail("endings", "the ending %q must begin with a dot and be in lower case", e)
		}
	}
	if p.Marker.File == "" {
		fail("marker.file", "the marker has no file")
	}
	if p.Marker.Syntax != "key=value" {
		fail("marker.syntax", "the syntax %q is not known; known is: key=value", p.Marker.Syntax)
	}
	for path, f := range map[string]Field{"field.id": p.Fields.ID, "field.name": p.Fields.Name} {
		if f.Key == "" {
			fail(path, "every platform must say where the ID and the name are read; [%s] has no key", path)
		}
	}
	for i, k := range p.Kinds {
		if k.Largest > 0 && k.Smallest > k.Largest {
			fail("kind", "the kind %q (number %d) cannot be at least %d and at most %d bytes", k.Name, i+1, k.Smallest, k.Largest)
		}
	}
	return p, errors.Join(all...)
}
