// Package teach works out from games that lie on a stick what they are: by which bytes and files they are known, and
// where their ID, name and other values stand. It says how each was found, and how sure that is.
package teach

import (
	"cmp"
	"context"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/reading"
	"polytome/internal/core/title"
	"polytome/internal/target"
)

// A Platform is a description of games that nobody has described.
type Platform struct {
	Name, Shown string
	Form        title.Form
	Exts        []string // of its files, in small letters, the commonest first
	Markers     []loader.Marker
	Fields      map[string]Found
	Games       int    // how many were looked into
	Such        string // one of them

	// Shelf is set for one that is named after the folder in which all its games lie.
	Shelf bool

	wholeFile bool // one file is nearly all of each folder
}

// A Found is where the value of a field stands.
type Found struct {
	File     string // the file in the game; "" for its own or the marker's
	Marker   loader.Marker
	Reading  loader.Reading
	Pattern  string
	As       string
	Values   map[string]string
	Evidence string
	Sure     bool
	// Plain is set where nothing else than such a value looks so, and no two games have the same.
	Plain   bool
	Example string
	// Unseen are values that games have, and of which nothing shows what Values would make of them.
	Unseen []string

	values []string
	where  *place
}

// Platforms works out what may be games on a target that lies in a folder, of which the set knows nothing. Names are
// what platforms must not be called.
// Hints are what a person has said of some of the games.
func Platforms(ctx context.Context, dir string, entries []target.Entry, names []string, hints ...Hint) (
	out []*Platform) {
	all, words := classes(entries), sayings(dir, entries)
	slices.SortStableFunc(all, func(a, b *class) int { return a.rank() - b.rank() })
	most, whole := int64(0), int64(0)
	for _, c := range all {
		most = max(most, c.bytes)
	}
	for _, e := range entries {
		if !e.Folder {
			whole += e.Size
		}
	}
	for _, c := range all {
		if c.cut() { // the parts of a game, of which the first may have another extension
			whole -= c.bytes
		}
	}
	var found, others []candidate
	for i := 0; i < len(all) && ctx.Err() == nil; i++ {
		c := all[i]
		if c.count < 2 || c.cut() {
			continue
		}
		c.hints = hints
		c.hear(words)
		p := c.platform(dir, all)
		if p != nil && c.join(dir, p, all) {
			c.hear(words)
			p = c.platform(dir, all)
		}
		if parts := c.split(dir, p); parts != nil {
			all = append(all, parts...)
			continue
		}
		if p == nil {
			continue
		}
		small := c.bytes*50 < most // cartridges beside images are, and files beside games
		if p.Convincing() && !(small && c.texts) || !small && (p.Inside() || c.bytes*2 > whole) {
			found = append(found, candidate{c, p, small})
		} else {
			others = append(others, candidate{c, p, small})
		}
	}
	// what says what it is comes before what is only named so
	slices.SortStableFunc(found, func(a, b candidate) int {
		return a.likely() - b.likely()
	})
	var taken []candidate
	for _, f := range found {
		if !f.of(taken) && (!f.c.parts || len(taken) == 0) {
			taken = append(taken, f)
		}
	}
	taken = shelved(taken, others)
	for _, f := range taken {
		f.p.Name = free(f.p.Name, names)
		names = append(names, f.p.Name)
		out = append(out, f.p)
	}
	return out
}

// of reports whether the files of a class are those of another one that was taken, or lie beside them.
func (f *candidate) of(taken []candidate) bool {
	return f.c.joined(taken) || f.c.covered(taken) || f.c.beside(taken) || f.small && f.same(taken)
}

// same reports whether the files have IDs or names of games that were taken: they are about these.
func (f *candidate) same(taken []candidate) bool {
	return slices.ContainsFunc(taken, func(t candidate) bool {
		return slices.ContainsFunc([]string{"id", "name"}, func(field string) bool {
			n, own := 0, f.p.Fields[field]
			for _, v := range own.values {
				if v != "" && slices.Contains(t.p.Fields[field].values, v) {
					n++
				}
			}
			return n > 1 && n*3 >= len(own.values) && !own.Reading.FileName
		})
	})
}

// candidate is a class that may be games.
type candidate struct {
	c     *class
	p     *Platform
	small bool // beside others
}

// likely is the less, the likelier the class is games: first those that say what they are, last folders with parts.
func (c *candidate) likely() (n int) {
	if !c.p.Inside() {
		n++
	}
	for _, name := range []string{"id", "name"} {
		if f, ok := c.p.Fields[name]; !ok || f.Reading.FileName {
			n++
		}
	}
	if c.c.parts {
		n += 3
	}
	if c.p.wholeFile {
		n++
	}
	if c.small {
		n += 4
	}
	return n
}

// isFile reports whether something that is known of folders stands in a file right in them that is nearly all of each:
// the file is the game.
func (c *class) isFile(p *Platform) bool {
	for _, f := range p.Fields {
		if c.form == title.Folder && f.File != "" && !strings.Contains(f.File, "/") && !f.Reading.FileName &&
			!slices.ContainsFunc(c.all,
				func(s *sample) bool { return s.isOther(f.File) }) {
			return true
		}
	}
	return false
}

// isOther reports whether a folder is more than a file in it.
func (s *sample) isOther(file string) bool {
	at, err := reading.LookFor(s.source.FS, file)
	if err != nil || at == "" {
		return true
	}
	info, err := fs.Stat(s.source.FS, at)
	return err != nil || info.Size()*10 < s.size*9
}

// split divides images of which nothing is known by a text that some of them have and others not: they are of several
// platforms. It is nil where nothing divides them.
func (c *class) split(dir string, p *Platform) []*class {
	if c.form != title.Image || p != nil && p.Inside() {
		return nil
	}
	texts := map[string]int{}
	has := make([]map[string]bool, len(c.all))
	for i, s := range c.all {
		if has[i] = map[string]bool{}; s.open(dir, c.form) != nil {
			return nil
		}
		for _, f := range s.files {
			b, err := s.text(f)
			if _, text := EncodingOf([][]byte{b}); err == nil && text {
				has[i][strings.ToLower(f)] = true
			}
		}
		s.close()
		for f := range has[i] {
			texts[f]++
		}
	}
	most := ""
	for _, f := range slices.Sorted(keysOf(texts)) {
		if n := texts[f]; n > 1 && n < len(c.all) && n > texts[most] {
			most = f
		}
	}
	if most == "" {
		return nil
	}
	with, without := *c, *c
	with.all, without.all = nil, nil
	for i, s := range c.all {
		if has[i][most] {
			with.all = append(with.all, s)
		} else {
			without.all = append(without.all, s)
		}
	}
	with.count, without.count = len(with.all), len(without.all)
	with.bytes, without.bytes = bytesOf(with.all), bytesOf(without.all)
	return []*class{&with, &without}
}

func bytesOf(all []*sample) (n int64) {
	for _, s := range all {
		n += s.size
	}
	return n
}

// joined reports whether another class has taken in the files of this one.
func (c *class) joined(taken []candidate) bool {
	return slices.ContainsFunc(taken, func(t candidate) bool {
		o := t.c
		return o.form == c.form && slices.ContainsFunc(c.all, func(s *sample) bool {
			return slices.ContainsFunc(o.all, func(x *sample) bool { return x.path == s.path })
		})
	})
}

// beside reports whether the files of a class belong to games of another one: they are named like these, and smaller.
func (c *class) beside(taken []candidate) bool {
	if c.volumes {
		return false
	}
	for _, t := range taken {
		named := 0
		for _, s := range c.all {
			if t.names(bare(strings.TrimSuffix(path.Base(s.path), path.Ext(s.path))), s.size) {
				named++
			}
		}
		if c.form != title.Folder && named*10 >= len(c.all)*8 {
			return true
		}
	}
	return false
}

// names reports whether a word is of the path of a game that is larger than something, or is its ID or name.
func (t *candidate) names(word string, size int64) bool {
	for i, x := range t.c.all {
		if x.size <= size {
			continue
		}
		words := x.words()
		for _, field := range []string{"id", "name"} {
			if values := t.p.Fields[field].values; i < len(values) {
				words = append(slices.Clone(words), values[i])
			}
		}
		if slices.ContainsFunc(words, func(w string) bool { return bare(w) == word }) {
			return true
		}
	}
	return false
}

// Inside reports whether an ID or name was found in the games themselves.
func (p *Platform) Inside() bool {
	for _, name := range []string{"id", "name"} {
		if f, ok := p.Fields[name]; ok && !f.Reading.FileName {
			return true
		}
	}
	return false
}

// Convincing reports whether something in the games themselves is in their paths too: files that are no games have no
// such thing.
func (p *Platform) Convincing() bool {
	for _, name := range []string{"id", "name"} {
		if f, ok := p.Fields[name]; ok && f.Sure && !f.Reading.FileName {
			return true
		}
	}
	return false
}

func free(name string, taken []string) string {
	for n := 2; slices.Contains(taken, name); n++ {
		name = strings.TrimRight(name, "0123456789-") + "-" + strconv.Itoa(n)
	}
	return name
}

// covered reports whether games of a class are the same as those of another one that was taken: folders with images, or
// the files of folders.
func (c *class) covered(taken []candidate) bool {
	for _, t := range taken {
		o := t.c
		folders, files := c, o
		if o.form == title.Folder {
			folders, files = o, c
		}
		if folders.form != title.Folder || files.form == title.Folder {
			continue
		}
		same := 0
		for _, s := range c.all {
			if slices.ContainsFunc(o.all, func(x *sample) bool {
				return strings.HasPrefix(s.path, x.path+"/") || strings.HasPrefix(x.path, s.path+"/")
			}) {
				same++
			}
		}
		if same*2 >= len(c.all) {
			return true
		}
	}
	return false
}

// platform works out what the games of a class are; nil where nothing tells them from other files. All are the classes
// of the target.
func (c *class) platform(dir string, all []*class) *Platform {
	c.all = slices.DeleteFunc(c.all, func(s *sample) bool { return s.open(dir, c.form) != nil })
	defer func() {
		for _, s := range c.all {
			s.close()
		}
	}()
	if len(c.all) < 2 {
		return nil
	}
	form := c.form
	c.volumes = form == title.Image && c.all[0].source.FS != nil
	if form == title.Image && !c.volumes && !slices.ContainsFunc(c.all, func(s *sample) bool {
		return s.size > largestCartridge
	}) {
		form = title.Cartridge
	}
	c.texts = form == title.Cartridge && !slices.ContainsFunc(c.all, func(s *sample) bool { return !s.isText() })
	p := &Platform{Name: "learnt", Form: form, Exts: c.exts, Fields: map[string]Found{}, Games: len(c.all),
		Such: c.all[0].path}
	if len(c.exts) > 0 {
		p.Name = cmp.Or(platformName(c.exts[0][1:]), p.Name)
	}
	p.Shown = strings.ToUpper(p.Name[:1]) + p.Name[1:]
	places := c.places()
	c.field(places, p, "id", func() (Found, bool) { return c.id(places) })
	c.field(places, p, "name", func() (Found, bool) { return c.name(places, p.Fields["id"]) })
	c.field(places, p, "disc", func() (Found, bool) { return c.disc(places) })
	c.mark(p)
	of := c.withParts(dir, p, all)
	defer func() {
		for _, s := range of.all[len(c.all):] {
			s.close()
		}
	}()
	of.divided(places, p)
	for _, name := range []string{"kind", "region"} {
		c.field(places, p, name, func() (Found, bool) { f, ok := p.Fields[name]; return f, ok })
	}
	p.wholeFile = c.isFile(p)
	if len(p.Markers) == 0 {
		c.mark(p)
	}
	if len(p.Markers) == 0 && len(p.Exts) == 0 {
		return nil
	}
	return p
}

// join takes in the files with other extensions that have the bytes by which the platform is known; it returns whether
// there were any.
func (c *class) join(dir string, p *Platform, all []*class) bool {
	i := slices.IndexFunc(p.Markers, func(m loader.Marker) bool { return len(m.Hex) > 0 })
	if i < 0 {
		return false
	}
	m, before := &p.Markers[i], len(c.all)
	for _, o := range all {
		if o == c || o.form != c.form || len(o.exts) == 0 || o.cut() || slices.Contains(c.exts, o.exts[0]) {
			continue
		}
		if !slices.ContainsFunc(o.all, func(s *sample) bool { return !s.marked(dir, o.form, m) }) {
			c.all, c.exts = append(c.all, o.all...), append(c.exts, o.exts[0])
			c.bytes, c.count = c.bytes+o.bytes, c.count+o.count
		}
	}
	return len(c.all) > before
}

// field takes where a field stands: as a person has said, or else as was found.
func (c *class) field(places []*place, p *Platform, name string, find func() (Found, bool)) {
	f, ok := find()
	if h, game, said := c.hint(name); said {
		if f, ok = c.byHint(places, h, game); !ok {
			delete(p.Fields, name)
		}
	}
	if ok {
		p.Fields[name] = f
	}
}

// largestCartridge is how many bytes a file has at most that is taken for a cartridge, where nothing says otherwise.
const largestCartridge = 64 << 20

// platformName makes a name for a platform of that of files or folders; "" where nothing is left.
func platformName(s string) string {
	return strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' {
			return r
		}
		return -1
	}, strings.ToLower(s)), "-")
}
