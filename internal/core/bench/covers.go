package bench

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/title"
	"polytome/internal/nearest"
	"polytome/internal/size"
)

// Covers are where pictures and descriptions of titles are looked for.
type Covers struct {
	// Order is that of the sources in which pictures are looked for: see [CoverSources]. A picture that was chosen by
	// hand comes before all.
	Order []string `toml:"order,omitempty"`
	// Of are other orders for some kinds of pictures, by the kind.
	Of map[string][]string `toml:"of,omitempty"`
	// Folders are the user's own, with pictures that are named like titles.
	Folders []CoverFolder `toml:"folder,omitempty"`
	Servers []CoverServer `toml:"server,omitempty"`
}

// CoverSources are where pictures are looked for, in the usual order.
var CoverSources = []string{"beside", "folders", "inside", "servers"}

// A CoverFolder holds pictures. Those in folders in it that are named like a kind of picture, or like a platform, are
// of that.
type CoverFolder struct {
	Path string `toml:"path"` // relative to the bench
	// the kind of all pictures in it; "" for what the folders say, and that of the front
	Of string `toml:"of,omitempty"`
}

// A CoverServer hands out pictures over HTTP.
type CoverServer struct {
	Name string `toml:"name"`
	URL  string `toml:"url"` // what all paths begin with
	// Paths are those under which a picture may be, tried one after another: see [PathFields].
	Paths []string `toml:"paths,omitempty"`
	// Index is the path of a list of all pictures, a CSV or JSON file; "" for none.
	Index string `toml:"index,omitempty"`
	// About are the paths under which a description may be, a JSON file.
	About []string `toml:"about,omitempty"`
	// Of are the kinds of pictures that it has; empty for all.
	Of []string `toml:"of,omitempty"`
	// Connections are how many it is asked over at a time; 0 for the usual two.
	Connections int `toml:"connections,omitempty"`
}

// PathFields are what a path on a server may hold in braces: the title's platform, the kind of picture, the ID, the
// name, the name without what stands in brackets, the region, the number of the disc, the base name of the game's file,
// and checksums of it as far as they are known.
var PathFields = []string{"platform", "kind", "id", "name", "bare", "region", "disc", "file", "crc32", "md5", "sha1",
	"sha256"}

var pathField = regexp.MustCompile(`\{([^{}]*)\}`)

// CheckPath says what is wrong with a path on a server.
func CheckPath(path string) error {
	for _, m := range pathField.FindAllStringSubmatch(path, -1) {
		if !slices.Contains(PathFields, m[1]) {
			return nearest.Unknown("field of a picture's path", m[1], PathFields)
		}
	}
	if rest := pathField.ReplaceAllString(path, "x"); strings.ContainsAny(rest, "{}") {
		return fmt.Errorf("%q has an unclosed brace", path)
	}
	return CheckRelative(path)
}

// CheckRelative says why a path does not stay below what it is relative to.
func CheckRelative(path string) error {
	if path == "" || strings.HasPrefix(path, "/") || strings.Contains(path, "://") || strings.ContainsAny(path,
		"\\\x00") || slices.Contains(strings.Split(path, "/"), "..") {
		return fmt.Errorf("the path %q leads out of the server's own; paths are relative to its URL", path)
	}
	return nil
}

// FillPath writes a path with values; ok is false where one of them is not known, or leads elsewhere.
func FillPath(path string, value func(field string) string) (out string, ok bool) {
	ok = true
	out = pathField.ReplaceAllStringFunc(path, func(m string) string {
		v := value(m[1 : len(m)-1])
		if v == "" || v == "." || v == ".." {
			ok = false
		}
		return url.PathEscape(v)
	})
	return out, ok
}

// Sources is the order in which pictures of a kind are looked for.
func (c *Covers) Sources(of string) []string {
	if order, ok := c.Of[of]; ok {
		return order
	}
	if len(c.Order) > 0 {
		return c.Order
	}
	return CoverSources
}

// check says what is wrong with the settings.
func (c *Covers) check(fail func(at, format string, args ...any)) {
	order := func(at string, all []string) {
		for i, s := range all {
			if !slices.Contains(CoverSources, s) {
				fail(at, "%v", nearest.Unknown("source of pictures", s, CoverSources))
			}
			if slices.Contains(all[:i], s) {
				fail(at, "%q is listed twice", s)
			}
		}
	}
	kind := func(at, of string) {
		if !slices.Contains(title.PictureKinds, of) {
			fail(at, "%v", nearest.Unknown("kind of picture", of, title.PictureKinds))
		}
	}
	order("covers.order", c.Order)
	for of, all := range c.Of {
		kind("covers.of."+of, of)
		order("covers.of."+of, all)
	}
	for i := range c.Folders {
		f, at := &c.Folders[i], fmt.Sprintf("covers.folder.%d", i)
		if f.Path == "" {
			fail(at, "a folder with pictures needs its path")
		}
		if f.Of != "" {
			kind(at+".of", f.Of)
		}
	}
	names := map[string]bool{}
	for i := range c.Servers {
		s, at := &c.Servers[i], fmt.Sprintf("covers.server.%d", i)
		if s.Name == "" || names[strings.ToLower(s.Name)] {
			fail(at, "a picture server needs a unique name")
		}
		names[strings.ToLower(s.Name)] = true
		s.check(func(key, format string, args ...any) { fail(at+key, format, args...) })
	}
}

// Check says what is wrong with a server.
func (s *CoverServer) Check() (err error) {
	s.check(func(_, format string, args ...any) {
		if err == nil {
			err = fmt.Errorf(format, args...)
		}
	})
	return err
}

func (s *CoverServer) check(fail func(key, format string, args ...any)) {
	if u, err := url.Parse(s.URL); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" ||
		u.RawQuery != "" || u.Fragment != "" {
		fail(".url", "%q is not a server's address: write it like https://pictures.example/shelf/", s.URL)
	}
	if len(s.Paths) == 0 && s.Index == "" && len(s.About) == 0 {
		fail("", "a picture server needs paths, such as paths = [\"{platform}/{kind}/{id}.png\"], or an index")
	}
	for _, p := range append(slices.Clone(s.Paths), s.About...) {
		if err := CheckPath(p); err != nil {
			fail("", "%v", err)
		}
	}
	if s.Index != "" {
		if err := CheckRelative(s.Index); err != nil {
			fail(".index", "%v", err)
		}
	}
	for _, of := range s.Of {
		if !slices.Contains(title.PictureKinds, of) {
			fail(".of", "%v", nearest.Unknown("kind of picture", of, title.PictureKinds))
		}
	}
	if s.Connections < 0 || s.Connections > mostConnections {
		fail(".connections", "a server can have 1 to %d connections", mostConnections)
	}
}

// mostConnections is how many connections to one server of pictures there can be.
const mostConnections = 16

// Budget is what covers may take of a target: an amount of bytes such as "40MiB", or a share of its space such as "5%".
// The empty one sets no limit.
type Budget string

// Bytes is the budget on a target with so much space; ok is false for one without a limit.
func (b Budget) Bytes(capacity int64) (n int64, ok bool) {
	if b == "" {
		return 0, false
	}
	if share, is := b.percent(); is {
		return int64(float64(capacity) * share / 100), true
	}
	n, err := size.Parse(string(b))
	return n, err == nil
}

// Check says what is wrong with a budget.
func (b Budget) Check() error {
	if b == "" {
		return nil
	}
	if share, is := b.percent(); is {
		if !(share >= 0 && share <= 100) {
			return fmt.Errorf("covers can have 0%% to 100%% of a target, not %s", b)
		}
		return nil
	}
	if n, err := size.Parse(string(b)); err != nil || n < 0 {
		return fmt.Errorf("%q is not a cover budget: write it like 40MiB or 5%%", string(b))
	}
	return nil
}

func (b Budget) percent() (share float64, is bool) {
	number, is := strings.CutSuffix(strings.TrimSpace(string(b)), "%")
	if !is {
		return 0, false
	}
	share, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if err != nil {
		return -1, true
	}
	return share, true
}

// NameServer is a name for a server of pictures at an address, that none has yet.
func (b *Bench) NameServer(address string) string {
	base := address
	if u, err := url.Parse(address); err == nil && u.Host != "" {
		base = u.Hostname()
	}
	name := base
	for n := 2; slices.ContainsFunc(b.Covers.Servers,
		func(s CoverServer) bool { return strings.EqualFold(s.Name, name) }); n++ {
		name = fmt.Sprintf("%s %d", base, n)
	}
	return name
}

// Carried is the number of the target whose covers this one carries; ok is false for a target that is filled for
// itself.
func (b *Bench) Carried(n int) (of int, ok bool) {
	name := b.Targets[n].Carries
	if name == "" {
		return 0, false
	}
	i := slices.IndexFunc(b.Targets, func(p Target) bool { return p.Name == name })
	return i, i >= 0
}

// CoverFolders are the folders with pictures, with paths of this computer.
func (b *Bench) CoverFolders() []CoverFolder {
	out := slices.Clone(b.Covers.Folders)
	for i := range out {
		out[i].Path = b.Resolve(out[i].Path)
	}
	return out
}

// AddCoverFolder adds a folder with pictures, a path of this computer. It reports whether it was not there yet.
func (b *Bench) AddCoverFolder(path string) bool {
	p := b.Relative(path)
	if slices.ContainsFunc(b.Covers.Folders, func(f CoverFolder) bool { return f.Path == p }) {
		return false
	}
	b.Covers.Folders = append(slices.Clone(b.Covers.Folders), CoverFolder{Path: p})
	return true
}
