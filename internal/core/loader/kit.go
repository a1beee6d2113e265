package loader

import (
	"slices"
	"strings"
)

// A Kit is the loader's own files, which the user supplies.
type Kit struct {
	Shown    string    `toml:"shown"`
	On       []string  `toml:"on"` // names of attachments that it lies on; empty for all
	Editions []Edition `toml:"edition"`
	Files    []KitFile `toml:"file"`
}

// An Edition is one of several kits to choose from.
type Edition struct {
	Name  string `toml:"name"`
	Shown string `toml:"shown"`
	Of    string `toml:"of"` // what editions differ in: model, region; one of each is chosen
}

// Axes are what the kit's editions differ in, in their order, with the editions of each.
func (k *Kit) Axes() (names []string, of map[string][]Edition) {
	of = map[string][]Edition{}
	for _, e := range k.Editions {
		if of[e.Of] == nil {
			names = append(names, e.Of)
		}
		of[e.Of] = append(of[e.Of], e)
	}
	return names, of
}

// Chosen reports whether a file belongs to the editions that were chosen.
func (k *Kit) Chosen(f *KitFile, editions []string) bool {
	names, of := k.Axes()
	for _, axis := range names {
		asked, fits := false, false
		for _, e := range of[axis] {
			if slices.Contains(f.Editions, e.Name) {
				asked, fits = true, fits || slices.Contains(editions, e.Name)
			}
		}
		if asked && !fits {
			return false
		}
	}
	return true
}

// A KitFile is one file or folder of a kit.
type KitFile struct {
	To       string   `toml:"to"`
	From     []string `toml:"from"` // patterns of its name as downloaded
	Text     string   `toml:"text"` // what is written when the user has none; [Setting]s are set in what there is
	Editions []string `toml:"editions"`
	// Platforms are those whose titles need it; empty for every target.
	Platforms []string  `toml:"platforms"`
	On        []string  `toml:"on"`   // names of attachments; empty for all that the kit lies on
	When      Condition `toml:"when"` // of the target: its connection and filesystem
	Optional  bool      `toml:"optional"`
	Why       string    `toml:"why"`
}

// A Setting is a value in one of the loader's own files that decides what it
// shows.
type Setting struct {
	File      string    `toml:"file"`
	Syntax    string    `toml:"syntax"`
	Section   string    `toml:"section"`
	Key       string    `toml:"key"`
	Value     string    `toml:"value"`
	On        []string  `toml:"on"`
	When      Condition `toml:"when"`   // of the target: its connection and filesystem
	Lists     bool      `toml:"lists"`  // without it the loader lists nothing
	Covers    bool      `toml:"covers"` // without it the loader shows no covers
	Otherwise string    `toml:"otherwise"`
	Remedy    string    `toml:"remedy"`
}

// A SystemImage is a file of the console's that is known by its content.
type SystemImage struct {
	To    string `toml:"to"`
	Shown string `toml:"shown"`
	Size  Size   `toml:"size"` // 0 for any
	// one of them is that of the file: CRC-32, MD5, SHA-1 or SHA-256, in hexadecimal digits
	Sums     []string `toml:"sums"`
	From     []string `toml:"from"` // patterns of its name as a person has it
	Magic    string   `toml:"magic"`
	Hex      Bytes    `toml:"hex"`    // bytes that stand at the offset
	Offset   int64    `toml:"offset"` // a negative one counts from the end
	Optional bool     `toml:"optional"`
	Why      string   `toml:"why"`
}

// Lead are the bytes that stand at the offset; none where nothing is asked for.
func (s *SystemImage) Lead() Bytes {
	if s.Magic == "" {
		return s.Hex
	}
	var out Bytes
	for i := range len(s.Magic) {
		out = append(out, uint16(s.Magic[i]))
	}
	return out
}

// Sized reports whether a file has the length that it must have, in bytes.
func (s *SystemImage) Sized(bytes int64) bool { return s.Size == 0 || bytes == int64(s.Size) }

// mostUnsized is how many bytes a file has at most that is looked into where no length is known.
const mostUnsized = 64 << 20

// MayBe reports whether a file is looked into, by its name and length in bytes.
func (s *SystemImage) MayBe(name string, bytes int64) bool {
	return s.Sized(bytes) && (s.Size > 0 || bytes <= mostUnsized) && (len(s.From) == 0 || len(s.Sums) > 0 ||
		slices.ContainsFunc(s.From, func(
			p string) bool {
			return MatchFile(strings.ToLower(p), strings.ToLower(name))
		}))
}

// Unsure says by what alone it is known; "" where a checksum is.
func (s *SystemImage) Unsure() string {
	var by []string
	switch {
	case len(s.Sums) > 0:
		return ""
	case s.Size > 0:
		by = append(by, "its length")
	}
	if len(s.Lead()) > 0 {
		by = append(by, "some of its bytes")
	}
	if len(s.From) > 0 {
		by = append(by, "its name")
	}
	return "only " + all(by, "and") + " are known of it"
}

func (c *checker) kit(k *Kit) {
	c.each("kit.on", "attachment", k.On, c.attachments())
	var editions []string
	for i, e := range k.Editions {
		c.name(at("kit.edition", i)+".name", e.Name)
		editions = append(editions, e.Name)
	}
	seen := map[string]int{}
	for i, f := range k.Files {
		c.inside(at("kit.file", i)+".to", f.To)
		c.ofTarget(at("kit.file", i)+".when", f.When)
		for _, from := range f.From {
			c.pattern(at("kit.file", i)+".from", from)
		}
		c.known(f.Text != "" != (len(f.From) > 0), at("kit.file", i),
			"a kit file has either from (patterns of the user's file) or text, not both")
		c.each(at("kit.file", i)+".editions", "edition", f.Editions, editions)
		c.each(at("kit.file", i)+".on", "attachment", f.On, c.attachments())
		if j, twice := seen[strings.ToUpper(f.To)]; twice && len(f.Editions) == 0 {
			c.known(false, at("kit.file", i)+".to", "file %d of the kit has the same path %s", j+1, f.To)
		}
		seen[strings.ToUpper(f.To)] = i
	}
}

func (c *checker) setting(at string, s *Setting) {
	c.known(s.File != "" && s.Key != "", at, "a setting needs a file and a key")
	c.inside(at+".file", s.File)
	c.maybe(at+".syntax", "syntax", s.Syntax, syntaxWords)
	c.known(s.Section == "" || (s.Syntax != "" && s.Syntax != "key=value"), at+".section",
		"only ini and toml files have sections")
	c.each(at+".on", "attachment", s.On, c.attachments())
	c.ofTarget(at+".when", s.When)
}
