package teach

import (
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/reading"
	"polytome/internal/core/title"
	"polytome/internal/format/archive"
	"polytome/internal/format/container"
	"polytome/internal/target"
)

// mostSamples is how many games of a kind are looked into: more tell little that these do not.
const mostSamples = 24

// A sample is a file or folder that may be a game.
type sample struct {
	path   string // on the target
	size   int64
	source *reading.Source
	head   []byte // the first bytes of its own file, and the last ones
	tail   []byte
	files  []string // that lie in it, in its image, folder or archive, with slashes
	close  func()
	own    []string // its words
	part   bool     // it is a part of a game
}

// called is its name, without the extension of a file.
func (s *sample) called() string {
	base := path.Base(s.path)
	if s.source != nil && s.source.FS != nil && s.head == nil { // a folder
		return base
	}
	return strings.TrimSuffix(base, path.Ext(base))
}

// marked reports whether the file has the bytes of a marker.
func (s *sample) marked(dir string, form title.Form, m *loader.Marker) bool {
	if s.open(dir, form) != nil {
		return false
	}
	s.close()
	b, at := s.head, m.Offset
	if at < 0 {
		b = s.tail
		at += int64(len(b))
	}
	return at >= 0 && at <= int64(len(b)) && m.Hex.Fit(b[at:])
}

// A class is samples of one kind.
type class struct {
	form title.Form
	exts []string // of files, in small letters
	all  []*sample
	// bytes are those of all files that are like these, also of those that were not looked into.
	bytes int64
	count int

	// parts is set for folders that hold the parts of something.
	parts   bool
	alone   bool         // each is the only file of its folder and of those in it
	volumes bool         // they are images of a filesystem
	texts   bool         // they are texts
	besides []saying     // small files that are none of them
	said    said         // words of small files beside the games
	keep    func(*place) // takes in a place whose values are known
	hints   []Hint       // what a person has said
}

// Kinds of files that are no games: what people and consoles keep beside them.
var besides = []string{".txt", ".jpg", ".jpeg", ".png", ".gif", ".bmp", ".xml", ".json", ".ini", ".cfg", ".toml",
	".csv",
	".lst", ".m3u", ".md", ".nfo", ".pdf", ".url", ".db", ".log", ".mp3", ".wav", ".doc", ".htm", ".html"}

// classes groups what lies on a target by what may be games: files by their extension, folders by what lies in them.
// Those with the most bytes come first.
func classes(entries []target.Entry) (out []*class) {
	byExt := map[string]*class{}
	sheets := map[string]bool{} // folders with cue sheets: the files beside are tracks
	for _, e := range entries {
		if strings.EqualFold(path.Ext(e.Path), ".cue") {
			sheets[path.Dir(e.Path)] = true
		}
	}
	for _, e := range entries {
		ext := strings.ToLower(path.Ext(e.Path))
		if e.Folder || target.OfSystem(e.Path) || target.IsTemporary(e.Path) || slices.Contains(besides, ext) ||
			e.Size == 0 ||
			ext == "" || sheets[path.Dir(e.Path)] && ext != ".cue" {
			continue
		}
		c := byExt[ext]
		if c == nil {
			c = &class{form: formOf(ext), exts: []string{ext}}
			byExt[ext] = c
			out = append(out, c)
		}
		c.bytes, c.count = c.bytes+e.Size, c.count+1
		if len(c.all) < mostSamples {
			c.all = append(c.all, &sample{path: e.Path, size: e.Size})
		}
	}
	files := map[string]int{} // below each folder
	for _, e := range entries {
		if ext := strings.ToLower(path.Ext(e.Path)); e.Folder || slices.Contains(besides, ext) {
			continue
		}
		for dir := path.Dir(e.Path); dir != "."; dir = path.Dir(dir) {
			files[dir]++
		}
		if sheets[path.Dir(e.Path)] { // tracks are the most of their disc
			if c := byExt[".cue"]; !strings.EqualFold(path.Ext(e.Path), ".cue") {
				c.bytes += e.Size
			}
		}
	}
	for _, c := range out {
		c.alone = !slices.ContainsFunc(c.all, func(s *sample) bool { return files[path.Dir(s.path)] > 1 })
	}
	out = append(out, folders(entries)...)
	slices.SortStableFunc(out, func(a, b *class) int { return int(min(1, max(-1, b.bytes-a.bytes))) })
	return out
}

func formOf(ext string) title.Form {
	switch {
	case ext == ".cue":
		return title.Tracks
	case archive.Ext(ext):
		return title.Package
	}
	return title.Image // or a cartridge, which its size shows
}

// folders finds folders that are games: several that have a file of the same name at the same place.
func folders(entries []target.Entry) (out []*class) {
	at := map[string][]string{} // a file's path in its folder, in small letters -> the folders
	sizes := map[string]int64{} // bytes below each folder
	for _, e := range entries {
		if e.Folder || target.OfSystem(e.Path) || target.IsTemporary(e.Path) {
			continue
		}
		for dir := path.Dir(e.Path); dir != "."; dir = path.Dir(dir) {
			sizes[dir] += e.Size
			rel := strings.ToLower(strings.TrimPrefix(e.Path, dir+"/"))
			if strings.Count(rel, "/") < 3 {
				at[rel] = append(at[rel], dir)
			}
		}
	}
	inside := map[string]map[string][]target.Entry{} // the files right in each folder, by their extension
	for _, e := range entries {
		if dir, ext := path.Dir(e.Path), strings.ToLower(path.Ext(e.Path)); !e.Folder {
			if inside[dir] == nil {
				inside[dir] = map[string][]target.Entry{}
			}
			inside[dir][ext] = append(inside[dir][ext], e)
		}
	}
	byFolders := map[string]*class{} // by the folders, so that each set is looked at once
	for _, rel := range slices.Sorted(keysOf(at)) {
		dirs := at[rel]
		slices.Sort(dirs)
		if len(dirs) < 2 || nested(dirs) || sameName(dirs) {
			continue
		}
		if alike := mostAlike(dirs, inside); alike > 2 && alike >= len(dirs) {
			continue // shelves of games, that happen to hold the same ones
		}
		key := strings.Join(dirs, "\x00")
		if byFolders[key] != nil {
			continue
		}
		c := &class{form: title.Folder, count: len(dirs)}
		for _, dir := range dirs {
			c.bytes += sizes[dir]
			if len(c.all) < mostSamples {
				c.all = append(c.all, &sample{path: dir, size: sizes[dir]})
			}
		}
		c.parts = !slices.ContainsFunc(c.all, func(s *sample) bool {
			for _, of := range inside[s.path] {
				if counted(of) {
					return false
				}
			}
			return true
		})
		byFolders[key] = c
		out = append(out, c)
	}
	return out
}

var count = regexp.MustCompile(`[0-9]+`)

// counted reports whether files differ in a number alone, and are of one length but the last.
func counted(all []target.Entry) bool {
	bare := func(e target.Entry) string { return count.ReplaceAllString(path.Base(e.Path), "") }
	shorter := 0
	for _, e := range all {
		if bare(e) != bare(all[0]) || bare(e) == path.Base(e.Path) {
			return false
		}
		if e.Size != all[0].Size {
			shorter++
		}
	}
	return shorter < 2 && len(all) > 1
}

// mostAlike is how many files with one extension lie right in one of the folders.
func mostAlike(dirs []string, inside map[string]map[string][]target.Entry) (n int) {
	for _, dir := range dirs {
		for ext, all := range inside[dir] {
			if ext != "" && !slices.Contains(besides, ext) {
				n = max(n, len(all))
			}
		}
	}
	return n
}

// rank is in which order classes are tried: files that are named apart before folders, and last files that have one
// name in every folder, which are parts of a game that is a folder as a rule.
func (c *class) rank() int {
	switch {
	case c.form == title.Folder:
		return 1
	case c.form != title.Tracks && (c.oneName() && !c.alone || c.within()):
		return 2
	}
	return 0
}

// within reports whether the files lie in folders of one name, in folders that differ.
func (c *class) within() bool {
	above := map[string]bool{}
	for _, s := range c.all {
		dir := path.Dir(s.path)
		if dir == "." || path.Dir(dir) == "." || !strings.EqualFold(path.Base(dir),
			path.Base(path.Dir(c.all[0].path))) {
			return false
		}
		above[path.Dir(dir)] = true
	}
	return len(above) > 1 && len(above)*2 > len(c.all)
}

func (c *class) oneName() bool {
	return !slices.ContainsFunc(c.all, func(s *sample) bool {
		return !strings.EqualFold(path.Base(s.path), path.Base(c.all[0].path))
	})
}

// cut reports whether the files are parts of something: numbered behind one name, and of one length but the last.
func (c *class) cut() bool {
	if c.form == title.Folder {
		return false
	}
	ext := c.exts[0]
	if len(ext) > 1 && ext[1] >= '0' && ext[1] <= '9' {
		return true
	}
	byDir := map[string][]*sample{}
	for _, s := range c.all {
		byDir[path.Dir(s.path)] = append(byDir[path.Dir(s.path)], s)
	}
	parts := 0
	for _, all := range byDir {
		for i := 0; i+1 < len(all); i++ {
			a := strings.TrimSuffix(path.Base(all[i].path), ext)
			b := strings.TrimSuffix(path.Base(all[i+1].path), ext)
			if len(a) == len(b) && len(a) < 4 && (i+2 == len(all) || all[i].size == all[0].size) {
				parts++
			}
		}
	}
	return parts*2 > len(c.all)
}

func keysOf[V any](m map[string]V) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// nested reports whether one of the sorted folders lies in another.
func nested(dirs []string) bool {
	for i := 1; i < len(dirs); i++ {
		if strings.HasPrefix(dirs[i], dirs[i-1]+"/") {
			return true
		}
	}
	return false
}

// sameName reports whether all folders have one name: they are in the games then, and are none.
func sameName(dirs []string) bool {
	return !slices.ContainsFunc(dirs,
		func(d string) bool { return !strings.EqualFold(path.Base(d), path.Base(dirs[0])) })
}

// headBytes and tailBytes are how much of a file's beginning and end is looked at.
const (
	headBytes = 1 << 20
	tailBytes = 1 << 20
)

// open has a sample read. One that cannot be opened is left out.
func (s *sample) open(dir string, form title.Form) error {
	name := filepath.Join(dir, filepath.FromSlash(s.path))
	base := path.Base(s.path)
	if form == title.Folder {
		s.source = &reading.Source{Name: base, FS: os.DirFS(name), Called: base + ".",
			CalledFrom: "the name of the folder"}
		s.close = func() {}
		s.list()
		return nil
	}
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	closers := []io.Closer{f}
	s.close = func() {
		for _, c := range closers {
			_ = c.Close() // which was read from
		}
	}
	info, err := f.Stat()
	if err != nil {
		s.close()
		return err
	}
	s.source = reading.Of(f, info.Size(), base)
	s.head = read(f, 0, min(headBytes, info.Size()))
	s.tail = read(f, max(0, info.Size()-tailBytes), min(tailBytes, info.Size()))
	if c, err := container.Open(name, container.Options{}); err == nil {
		closers = append(closers, c)
		s.source.FS, s.source.Volume = c.FS, c.Label
		s.list()
	}
	return nil
}

func read(r io.ReaderAt, at, n int64) []byte {
	b := make([]byte, n)
	k, _ := r.ReadAt(b, at)
	return b[:k]
}

// mostListed and deepest bound what is listed of a sample's inside.
const (
	mostListed = 400
	deepest    = 3
)

// list lists the files in the sample.
func (s *sample) list() {
	s.files = nil
	_ = fs.WalkDir(s.source.FS, ".", func(p string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return fs.SkipDir
		case len(s.files) >= mostListed:
			return fs.SkipAll
		case e.IsDir() && strings.Count(p, "/") >= deepest:
			return fs.SkipDir
		case !e.IsDir():
			s.files = append(s.files, p)
		}
		return nil
	})
}

// isText reports whether a file is a text, and no long one.
func (s *sample) isText() bool {
	_, ok := EncodingOf([][]byte{s.head})
	return ok && s.size <= mostText
}

// text is a small file in the sample as text, and how it is encoded.
func (s *sample) text(name string) ([]byte, error) {
	f, err := s.source.FS.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if info.Size() > mostText {
		return nil, fmt.Errorf("it has %d bytes", info.Size())
	}
	return io.ReadAll(io.LimitReader(f, mostText))
}

// mostText is the longest text that values are looked for in, in bytes.
const mostText = 64 << 10

// words are what the sample's path says: its own name, the folders above it, and pieces of both, the longest first.
func (s *sample) words() []string {
	if s.own == nil {
		s.own = s.pieces()
	}
	return s.own
}

func (s *sample) pieces() (out []string) {
	add := func(w string) {
		if w = strings.Trim(w, " ._-"); len([]rune(w)) > 1 && !slices.Contains(out, w) {
			out = append(out, w)
		}
	}
	parts := strings.Split(s.path, "/")
	for i := len(parts) - 1; i >= 0; i-- {
		base := parts[i]
		if i == len(parts)-1 {
			base = strings.TrimSuffix(base, path.Ext(base))
		}
		add(base)
		for _, piece := range strings.FieldsFunc(base,
			func(r rune) bool { return strings.ContainsRune("()[]{}#,;", r) }) {
			add(piece)
			for word := range strings.FieldsSeq(piece) {
				add(word)
			}
			for _, sep := range []string{" - ", "_", ".", "-", "+"} {
				for _, word := range strings.Split(piece, sep) {
					add(word)
				}
				if at := strings.Index(piece, sep); at > 0 {
					add(piece[:at])
					add(piece[at+len(sep):])
				}
				if at := strings.LastIndex(piece, sep); at > 0 {
					add(piece[:at])
					add(piece[at+len(sep):])
				}
			}
			if at := strings.IndexByte(piece, ' '); at > 0 {
				add(piece[:at])
				add(piece[at+1:])
			}
			if at := strings.LastIndexByte(piece, ' '); at > 0 {
				add(piece[:at])
				add(piece[at+1:])
			}
		}
	}
	slices.SortStableFunc(out, func(a, b string) int { return len(b) - len(a) })
	return out
}

// divided are the words that names of the sample's path make together with those of the folders that they lie in: a
// value may be divided over folders.
func (s *sample) divided() (out []string) {
	parts := strings.Split(s.path, "/")
	for i := 1; i < len(parts); i++ {
		out = append(out, parts[i-1]+strings.TrimSuffix(parts[i], path.Ext(parts[i])))
	}
	return out
}

// inner are words that the names of files in the sample say.
func (s *sample) inner() (out []string) {
	for _, f := range s.files {
		base := path.Base(f)
		out = append(out, strings.TrimSuffix(base, path.Ext(base)))
	}
	return out
}
