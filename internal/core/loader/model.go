package loader

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"polytome/internal/nearest"
)

// A Model is a variant of a console that comes with titles of its own.
type Model struct {
	Name     string `toml:"name"`
	Shown    string `toml:"shown"`
	Platform string `toml:"platform"` // of the built-in titles
	// BuiltIn are the titles. They take no room, cannot be removed, and come first in the list; a title of the user's
	// with the same ID hides one.
	BuiltIn []BuiltIn `toml:"built-in"`
	// Added is a file that the console writes on the target, with titles that it got later: lines as in BuiltIn.
	Added string `toml:"added"`
	Most  int    `toml:"most-titles"` // that the list holds, with the built-in ones; 0 for any number
	// Room is how much of a volume it uses, in bytes; 0 for all of it. Editions are those of the kit that are for it.
	Room     Size     `toml:"room"`
	Editions []string `toml:"editions"`
	Why      string   `toml:"why"`
}

// A BuiltIn is a title that is built into a console. It is written as its ID, a space, and its name.
type BuiltIn struct {
	ID, Name string
	Later    bool // the console got it later
}

// UnmarshalText reads a built-in title such as "LAP_05001 Alder Weir".
func (b *BuiltIn) UnmarshalText(text []byte) error {
	id, name, ok := strings.Cut(string(text), " ")
	if b.ID, b.Name = id, strings.TrimSpace(name); !ok || b.ID == "" || b.Name == "" {
		return fmt.Errorf("%q is no built-in title: write its ID, a space, and its name", text)
	}
	return nil
}

// mostBuiltIn is how many titles a console can have in itself, and mostLine how many bytes one of them takes in a list:
// what says more is no list of a console's.
const (
	mostBuiltIn = 2000
	mostLine    = 400
)

// All are the titles that are built in, and those that the console got later by what it has written; "" for nothing. A
// line that is no title is left out.
func (m *Model) All(added string) []BuiltIn {
	out, known := slices.Clone(m.BuiltIn), map[string]bool{}
	for _, b := range out {
		known[strings.ToUpper(b.ID)] = true
	}
	for line := range strings.Lines(added) {
		b, line := BuiltIn{}, strings.TrimSpace(line)
		if len(line) > mostLine || strings.ContainsFunc(line, unicode.IsControl) || !utf8.ValidString(line) ||
			b.UnmarshalText([]byte(line)) != nil || known[strings.ToUpper(b.ID)] || len(out) >= mostBuiltIn {
			continue
		}
		known[strings.ToUpper(b.ID)], b.Later = true, true
		out = append(out, b)
	}
	slices.SortStableFunc(out, func(a, b BuiltIn) int {
		return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
	})
	return out
}

// Model is the model of a name; nil for none where the name is "".
func (p *Profile) Model(name string) (*Model, error) {
	if name == "" {
		return nil, nil
	}
	var names []string
	for i := range p.Models {
		if p.Models[i].Name == name {
			return &p.Models[i], nil
		}
		names = append(names, p.Models[i].Name)
	}
	if len(names) == 0 {
		return nil, fmt.Errorf("%s knows no models of the %s, so it cannot be %q", p.Shown, p.Console, name)
	}
	return nil, nearest.Unknown("model", name, names)
}

func (c *checker) model(key string, m *Model, before []Model) {
	c.known(m.Name != "" && m.Shown != "", key, "a [[model]] has a name, and shown: what people say")
	c.known(!slices.ContainsFunc(before, func(o Model) bool { return o.Name == m.Name }), key+".name",
		"there is a model %q already", m.Name)
	c.known(m.Most >= 0, key+".most-titles", "a list cannot hold fewer titles than none")
	c.known(m.Most == 0 || len(m.BuiltIn) <= m.Most, key+".built-in",
		"there are more titles built in than the list holds")
	if m.Added != "" {
		c.inside(key+".added", m.Added)
	}
	c.known(m.Room >= 0, key+".room", "a size cannot be negative")
	var editions []string
	for _, e := range c.p.Kit.Editions {
		editions = append(editions, e.Name)
	}
	c.each(key+".editions", "edition", m.Editions, editions)
	c.known(len(m.BuiltIn) == 0 || m.Platform != "", key+".platform", "say of which platform the built-in titles are")
	ids := map[string]bool{}
	for _, b := range m.BuiltIn {
		c.known(!ids[b.ID], key+".built-in", "the ID %s is there twice", b.ID)
		ids[b.ID] = true
	}
}

func (m *Model) sentence() string {
	var b strings.Builder
	b.WriteString(m.Shown)
	if n := len(m.BuiltIn); n > 0 {
		fmt.Fprintf(&b, ": %d titles are built in, from %s to %s; they come first in the list", n, m.BuiltIn[0].Name,
			m.BuiltIn[n-1].Name)
	}
	if m.Added != "" {
		fmt.Fprintf(&b, "; what it got later stands in %s", m.Added)
	}
	if m.Room > 0 {
		fmt.Fprintf(&b, "; it uses %s of a volume", amount(int64(m.Room)))
	}
	if len(m.Editions) > 0 {
		fmt.Fprintf(&b, "; for it there is the edition %s of the kit", all(m.Editions, "and"))
	}
	if m.Most > 0 {
		fmt.Fprintf(&b, "; the list holds %d titles with them", m.Most)
	}
	if m.Why != "" {
		b.WriteString(": " + m.Why)
	}
	return sentence(b.String())
}
