// Package teach works out from games that lie on a stick what they are: by which bytes and files they are known, and
// where their ID, name and other values stand. It says how each was found, and how sure that is.
package teach

import (
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/reading"
	"polytome/internal/core/strict"
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
		if !f.c.of(taken) && (!f.c.parts || len(taken) == 0) {
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
func (c *class) of(taken []candidate) bool {
	return c.joined(taken) || c.covered(taken) || c.beside(taken)
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

// isFile reports whether something that is known of folders stands in a file that is nearly all of each: the file is
// the game.
func (c *class) isFile(p *Platform) bool {
	for _, f := range p.Fields {
		if c.form == title.Folder && f.File != "" && !f.Reading.FileName && !slices.ContainsFunc(c.all,
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

// platformName makes a name for a platform of what files or folders are called; "" where nothing is left.
func platformName(s string) string {
	return strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' {
			return r
		}
		return -1
	}, strings.ToLower(s)), "-")
}

// mark finds by what the games are known: the file that has their values, or bytes that are the same in all.
func (c *class) mark(p *Platform) {
	for _, field := range []string{"id", "name", "disc", "kind", "region"} {
		if f, ok := p.Fields[field]; ok && f.File != "" {
			p.Markers = append(p.Markers, loader.Marker{File: f.Marker.File, Syntax: f.Marker.Syntax,
				Encoding: f.Marker.Encoding})
			return
		}
	}
	if common := c.common(); c.all[0].source.FS != nil && len(common) > 0 {
		p.Markers = append(p.Markers, loader.Marker{File: common[0]})
		return
	}
	var heads, tails [][]byte
	for _, s := range c.all {
		heads, tails = append(heads, s.head), append(tails, s.tail)
	}
	if at, hex := alikeBytes(heads, false); len(hex) > 0 {
		m := loader.Marker{Offset: int64(at), Syntax: loader.Binary}
		_ = m.Hex.UnmarshalText([]byte(hex))
		p.Markers = append(p.Markers, m)
	} else if at, hex := alikeBytes(tails, true); len(hex) > 0 {
		m := loader.Marker{Offset: int64(at), Syntax: loader.Binary}
		_ = m.Hex.UnmarshalText([]byte(hex))
		p.Markers = append(p.Markers, m)
	}
}

// longestMagic is how many bytes a marker has at most.
const longestMagic = 8

// alikeBytes finds the first bytes that are the same in all, as a marker has them; a byte between that differs may be
// any.
func alikeBytes(all [][]byte, fromEnd bool) (offset int, hex string) {
	least := mostOffsets
	for _, b := range all {
		least = min(least, len(b))
	}
	same := make([]int, least) // the byte, or -1
	for i := range same {
		same[i] = -2
		for _, b := range all {
			if fromEnd {
				b = b[len(b)-least:]
			}
			if same[i] == -2 {
				same[i] = int(b[i])
			} else if same[i] != int(b[i]) {
				same[i] = -1
			}
		}
	}
	for at := range same {
		if same[at] <= 0 {
			continue
		}
		end, solid := at, 0
		for i := at; i < min(len(same), at+longestMagic); i++ {
			if same[i] > 0 {
				end, solid = i+1, solid+1
			}
		}
		if solid < 2 {
			continue
		}
		var words []string
		for i := at; i < end; i++ {
			if same[i] < 0 {
				words = append(words, "??")
			} else {
				words = append(words, fmt.Sprintf("%02x", same[i]))
			}
		}
		if fromEnd {
			at -= least
		}
		return at, strings.Join(words, " ")
	}
	return 0, ""
}

// TOML writes the description of the platform, with how each thing was found.
func (p *Platform) TOML() string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# %s: learnt from %d games, such as %s.", p.Shown, p.Games, clean(p.Such))
	line("format = %d\nname = %s\nshown = %s\nforms = [%s]", loader.FormatVersion, strict.Quote(p.Name),
		strict.Quote(p.Shown),
		strict.Quote(string(p.Form)))
	switch {
	case p.Form == title.Package:
		line("packages = %s", inQuotes(p.Exts))
	case len(p.Exts) > 0:
		line("extensions = %s", inQuotes(p.Exts))
	}
	var main loader.Marker
	for i := range p.Markers {
		m := &p.Markers[i]
		if i == 0 {
			main = *m
		}
		line("\n[[marker]]")
		if m.File != "" {
			line("file = %s", strict.Quote(m.File))
		}
		if hex, _ := m.Hex.MarshalText(); len(m.Hex) > 0 {
			line("hex = %s\noffset = %d", strict.Quote(string(hex)), m.Offset)
		}
		if m.Syntax != "" {
			line("syntax = %s", strict.Quote(m.Syntax))
		}
		if m.Encoding != "" {
			line("encoding = %s", strict.Quote(m.Encoding))
		}
	}
	for _, name := range loader.FieldNames {
		f, ok := p.Fields[name]
		if !ok || name == "name" && f.Reading.FileName && f.Pattern == "" { // where it is looked for without being told
			continue
		}
		line("\n# %s", clean(f.Evidence))
		line("[field.%s]", name)
		f.toml(line, &main)
	}
	return b.String()
}

func inQuotes(all []string) string {
	out := make([]string, len(all))
	for i, s := range all {
		out[i] = strict.Quote(s)
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// toml writes where the value stands, in a platform with that marker.
func (f *Found) toml(line func(string, ...any), main *loader.Marker) {
	r := &f.Reading
	if f.File != "" && f.File != main.File || f.File != "" && f.Marker.Syntax != main.Syntax {
		line("file = %s\nsyntax = %s", strict.Quote(f.File), strict.Quote(f.Marker.Syntax))
	}
	if f.File != "" && f.Marker.Encoding != "" && f.Marker.Encoding != main.Encoding {
		line("encoding = %s", strict.Quote(f.Marker.Encoding))
	}
	switch {
	case r.FileName:
		line("filename = true")
	case r.Volume:
		line("volume = true")
	case r.Key != "":
		if r.Section != "" {
			line("section = %s", strict.Quote(r.Section))
		}
		line("key = %s", strict.Quote(r.Key))
	case r.Line > 0:
		line("line = %d", r.Line)
	case r.Search:
		line("search = true")
		if r.Offset != nil {
			line("offset = %d\nlength = %d", *r.Offset, r.Length)
		}
	case r.Offset != nil:
		line("offset = %d\nlength = %d\nencoding = %s", *r.Offset, r.Length, strict.Quote(r.Encoding))
	}
	if f.Pattern != "" {
		line("pattern = %s", strict.Quote(f.Pattern))
	}
	if f.As != "" {
		line("as = %s", strict.Quote(f.As))
	}
	if len(f.Values) > 0 {
		var all []string
		for _, v := range slices.Sorted(keysOf(f.Values)) {
			all = append(all, fmt.Sprintf("%s = %s", strict.Quote(v), strict.Quote(f.Values[v])))
		}
		line("values = { %s }", strings.Join(all, ", "))
	}
}

// clean keeps a remark in its line.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7F {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "?"))
}

// Parse reads the description as a platform.
func (p *Platform) Parse() (*loader.Platform, error) {
	return loader.ParsePlatform(cmp.Or(p.Name, "learnt")+".toml", []byte(p.TOML()))
}
