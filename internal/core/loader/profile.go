package loader

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"polytome/internal/core/strict"
	"polytome/internal/core/title"
	"polytome/internal/place"
)

// A Profile is the rules of one loader.
type Profile struct {
	Format      int          `toml:"format"`
	Name        string       `toml:"name"`
	Shown       string       `toml:"shown"`
	Console     string       `toml:"console"`
	About       string       `toml:"about"`
	Attachments []Attachment `toml:"attachment"`
	Accepts     []Accept     `toml:"accept"`
	WaysOut     []WayOut     `toml:"way-out"`
	Settings    []Setting    `toml:"setting"`
	Checklist   []Check      `toml:"checklist"`
}

// An Attachment is one way in which the loader reaches games.
type Attachment struct {
	Road        string   `toml:"road"`
	Filesystems []string `toml:"filesystems"` // those it reads, by name
	OnePiece    bool     `toml:"one-piece"`   // files must lie contiguous on the volume
	Why         string   `toml:"why"`
}

// Reads reports whether the loader reads that filesystem on this attachment.
func (a Attachment) Reads(filesystem string) bool { return slices.Contains(a.Filesystems, filesystem) }

// An Accept is one kind of title that the loader takes, and where it wants it.
type Accept struct {
	Platform string     `toml:"platform"`
	Form     title.Form `toml:"form"`
	Path     Template   `toml:"path"`
	Title    TitleRule  `toml:"title"`
	Why      string     `toml:"why"`
}

// A TitleRule is how the loader wants a title's name written.
type TitleRule struct {
	Longest   int          `toml:"longest"` // characters
	Permitted CharacterSet `toml:"permitted"`
	Discs     Template     `toml:"discs"` // put behind the name of a title with several discs

	ascii [utf8.RuneSelf]bool // what is permitted of ASCII, which nearly every name is made of
}

// Permits reports whether a title may hold the character.
func (t *TitleRule) Permits(r rune) bool {
	if r >= 0 && r < utf8.RuneSelf {
		return t.ascii[r]
	}
	return t.Permitted.Has(r)
}

// A CharacterSet is a list of characters and of ranges such as "A-Z". An empty
// one permits everything.
type CharacterSet []string

// Has reports whether the set permits r.
func (c CharacterSet) Has(r rune) bool {
	for _, e := range c {
		if lo, hi, ok := runeRange(e); ok {
			if r >= lo && r <= hi {
				return true
			}
		} else if strings.ContainsRune(e, r) {
			return true
		}
	}
	return len(c) == 0
}

func runeRange(e string) (lo, hi rune, ok bool) {
	lo, n := utf8.DecodeRuneInString(e)
	if rest, isRange := strings.CutPrefix(e[n:], "-"); isRange {
		hi, m := utf8.DecodeRuneInString(rest)
		return lo, hi, m > 0 && m == len(rest)
	}
	return 0, 0, false
}

// A WayOut is what else can be done with a title that does not go.
type WayOut struct {
	When string `toml:"when"` // the verdict it is a way out of
	Say  string `toml:"say"`
}

// A Setting is a value in one of the loader's own files that decides what it
// shows.
type Setting struct {
	File      string `toml:"file"`
	Key       string `toml:"key"`
	Value     string `toml:"value"`
	Lists     bool   `toml:"lists"` // without it the loader lists nothing
	Otherwise string `toml:"otherwise"`
	Remedy    string `toml:"remedy"`
}

// A Check is one thing to do at the console.
type Check struct {
	Say string `toml:"say"`
}

// Attachment returns the loader's attachment for a road, or nil.
func (p *Profile) Attachment(road string) *Attachment {
	for i := range p.Attachments {
		if p.Attachments[i].Road == road {
			return &p.Attachments[i]
		}
	}
	return nil
}

// Accept returns the rule for titles of a platform in a form, or nil.
func (p *Profile) Accept(platform string, form title.Form) *Accept {
	for i := range p.Accepts {
		if a := &p.Accepts[i]; a.Platform == platform && a.Form == form {
			return a
		}
	}
	return nil
}

// Roads are the ways on which bytes can reach a place.
var Roads = []string{"usb"}

// fields are those that a path template may use.
var fields = []string{"id", "title", "kind", "region", "disc", "discs", "platform"}

// verdicts are those that a profile may offer ways out of.
var verdicts = []string{"too big", "no room"}

// ParseProfile reads a loader profile and checks that its rules can work.
// Errors are [*strict.Error], all of them joined.
func ParseProfile(file string, data []byte) (*Profile, error) {
	p := &Profile{}
	src, err := strict.Decode(file, data, p)
	if err != nil {
		return nil, err
	}
	c := &checker{src: src}
	c.known(p.Format == FormatVersion, "format", "this is format %d, and this version reads format %d", p.Format, FormatVersion)
	c.known(p.Name != "", "name", "the loader has no name")
	c.known(p.Shown != "", "shown", "the loader has no name for people, in the key shown")
	c.known(len(p.Attachments) > 0, "", "no [[attachment]] says how the loader reaches games")
	c.known(len(p.Accepts) > 0, "", "no [[accept]] says what the loader takes")
	for i, a := range p.Attachments {
		at := "attachment." + strconv.Itoa(i)
		c.oneOf(at+".road", "road", a.Road, Roads)
		c.known(len(a.Filesystems) > 0, at, "the attachment names no filesystems")
		for _, f := range a.Filesystems {
			c.oneOf(at+".filesystems", "filesystem", f, place.FilesystemNames())
		}
	}
	for i := range p.Accepts {
		a := &p.Accepts[i]
		c.accept("accept."+strconv.Itoa(i), a)
		for r := range a.Title.ascii {
			a.Title.ascii[r] = a.Title.Permitted.Has(rune(r))
		}
	}
	for i, w := range p.WaysOut {
		c.oneOf("way-out."+strconv.Itoa(i)+".when", "verdict", w.When, verdicts)
	}
	for i, s := range p.Settings {
		at := "setting." + strconv.Itoa(i)
		c.known(s.File != "" && s.Key != "", at, "a setting needs a file and a key")
		if err := insideRoot(s.File); err != nil {
			c.known(false, at+".file", "%v", err)
		}
	}
	return p, errors.Join(c.all...)
}

type checker struct {
	src *strict.Source
	all []error
}

func (c *checker) known(ok bool, path, format string, args ...any) {
	if !ok {
		c.all = append(c.all, c.src.Errorf(path, format, args...))
	}
}

func (c *checker) oneOf(path, what, got string, words []string) {
	if slices.Contains(words, got) {
		return
	}
	e := c.src.Errorf(path, "the %s %q is not known; known are: %s", what, got, strings.Join(words, ", "))
	e.Meant = strict.Nearest(got, words)
	c.all = append(c.all, e)
}

func (c *checker) accept(at string, a *Accept) {
	c.known(a.Platform != "", at, "an [[accept]] needs a platform")
	c.oneOf(at+".form", "form", string(a.Form), []string{string(title.Image)})
	c.known(a.Path.text != "", at, "an [[accept]] needs a path")
	for _, f := range a.Path.Fields() {
		c.oneOf(at+".path", "field", f, fields)
	}
	c.known(slices.Contains(a.Path.Fields(), "id") || slices.Contains(a.Path.Fields(), "title"),
		at+".path", "the path holds neither {id} nor {title}, so every title would get the same one")
	for _, f := range a.Title.Discs.Fields() {
		c.oneOf(at+".title.discs", "field", f, []string{"disc", "discs"})
	}
	c.known(a.Title.Longest >= 0, at+".title.longest", "a title cannot have at most %d characters", a.Title.Longest)
	room := a.Title.Longest - utf8.RuneCountInString(a.Title.Discs.text)
	c.known(a.Title.Longest == 0 || room >= 1, at+".title.longest",
		"%d characters leave no room for a name in front of %q", a.Title.Longest, a.Title.Discs.text)
	for _, e := range a.Title.Permitted {
		lo, hi, ok := runeRange(e)
		c.known(!ok || lo <= hi, at+".title.permitted", "the range %q runs backwards", e)
	}
}

// insideRoot says why a path of a profile would leave the place.
func insideRoot(path string) error {
	switch {
	case strings.HasPrefix(path, "/"), len(path) > 1 && path[1] == ':':
		return fmt.Errorf("the path %q must be relative to the place's root", path)
	case slices.Contains(strings.Split(path, "/"), ".."):
		return fmt.Errorf("the path %q climbs out of the place", path)
	case strings.ContainsFunc(path, func(r rune) bool { return r < ' ' || r == '\\' }):
		return fmt.Errorf("the path %q holds a character that no path may hold; folders are divided by /", path)
	}
	return nil
}
