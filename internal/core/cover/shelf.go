package cover

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"polytome/internal/core/bench"
	"polytome/internal/core/title"
	"polytome/internal/format/picture"
	"polytome/internal/nearest"
)

// mostPictures is how many pictures of one folder are looked at.
const mostPictures = 500_000

// A shelf is a folder with pictures, and what they are named.
type shelf struct {
	root  string
	files []shelved
	// Which files have a name, by its spelling: exactly but for letter case; letters and digits only; and that of the
	// name without what stands in brackets.
	exact, folded, bare map[string][]int32
	// nearby are files by the kind and the first letter of the folded bare name.
	nearby map[string][]int32
	cut    bool // there are more files than are looked at
}

// shelved is a picture in a folder.
type shelved struct {
	title.File
	of       string // the kind that the folders say
	platform string // the platform that they say, "" for any
	bare     string // folded
}

// list lists a folder of pictures. Links and hidden files are skipped.
func list(c bench.CoverFolder, platforms map[string]bool) (*shelf, error) {
	s := &shelf{root: c.Path, exact: map[string][]int32{}, folded: map[string][]int32{}, bare: map[string][]int32{},
		nearby: map[string][]int32{}}
	err := filepath.WalkDir(c.Path, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			if p == c.Path {
				return err
			}
			return nil // the rest goes on
		}
		if strings.HasPrefix(d.Name(), ".") && p != c.Path {
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if !d.Type().IsRegular() || !picture.Named(d.Name()) {
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return nil
		}
		if len(s.files) >= mostPictures {
			s.cut = true
			return fs.SkipAll
		}
		f := shelved{File: title.File{Path: p, Size: info.Size(), Modified: info.ModTime()}, of: c.Of}
		if rel, err := filepath.Rel(c.Path, filepath.Dir(p)); err == nil {
			for part := range strings.SplitSeq(strings.ToLower(filepath.ToSlash(rel)), "/") {
				if platforms[part] {
					f.platform = part
				}
				if c.Of == "" && slices.Contains(title.PictureKinds, part) {
					f.of = part
				}
			}
		}
		if f.of == "" {
			f.of = "front"
		}
		s.add(f)
		return nil
	})
	return s, err
}

func (s *shelf) add(f shelved) {
	n := int32(len(s.files))
	name := stem(f.Path)
	f.bare = fold(bare(name))
	s.files = append(s.files, f)
	put := func(m map[string][]int32, key string) {
		if key != "" {
			m[key] = append(m[key], n)
		}
	}
	put(s.exact, strings.ToLower(name))
	put(s.folded, fold(name))
	put(s.bare, f.bare)
	if first := []rune(f.bare); len(first) > 0 {
		put(s.nearby, f.of+string(first[0]))
	}
}

// match gives the pictures of a kind that are named like a disc of a title: by its ID, a checksum, the base name of its
// file, its name.
func (s *shelf) match(t *title.Title, disc int, of string, give func(file title.File, from string) bool) bool {
	d := &t.Discs[disc]
	try := func(found []int32, from string) bool {
		mine := found[:0:0]
		for _, n := range found {
			if f := &s.files[n]; f.of == of && (f.platform == "" || f.platform == t.Platform) {
				mine = append(mine, n)
			}
		}
		slices.SortStableFunc(mine, func(a, b int32) int { return s.rank(t, b) - s.rank(t, a) })
		for _, n := range mine {
			if !give(s.files[n].File, from) {
				return false
			}
		}
		return true
	}
	if d.ID != "" && !try(s.folded[fold(d.ID)], "in your pictures, by its ID") {
		return false
	}
	for _, sum := range sumsOf(d) {
		if !try(s.exact[sum], "in your pictures, by a checksum") {
			return false
		}
	}
	own := stem(d.Where(t.Among > 1))
	if own != "" && !try(s.exact[strings.ToLower(own)], "in your pictures, by the name of its file") {
		return false
	}
	if disc > 0 { // a name without brackets is that of the whole title
		return true
	}
	names := []string{fold(bare(t.Name))}
	if b := fold(bare(own)); b != names[0] && t.ID == "" {
		names = append(names, b)
	}
	for _, name := range names {
		if name != "" && !try(s.bare[name], "in your pictures, by its name") {
			return false
		}
	}
	return true
}

// rank prefers pictures for the title's own platform and region.
func (s *shelf) rank(t *title.Title, n int32) (r int) {
	f := &s.files[n]
	if f.platform == t.Platform && f.platform != "" {
		r += 2
	}
	if t.Region != "" && strings.Contains(strings.ToLower(stem(f.Path)), strings.ToLower("("+t.Region)) {
		r++
	}
	return r
}

// near gives the pictures of a kind whose names are nearly that of a title, the nearest first.
func (s *shelf) near(t *title.Title, disc int, of string, give func(*Candidate) bool) {
	name := fold(bare(t.Name))
	first := []rune(name)
	if len(first) < shortestNear {
		return
	}
	type close struct {
		n, away int
	}
	var all []close
	most := min(3, len(first)/5)
	for _, n := range s.nearby[of+string(first[0])] {
		f := &s.files[n]
		if d := len(f.bare) - len(name); f.bare == name || d > most || d < -most || f.platform != "" &&
			f.platform != t.Platform {
			continue
		}
		if away := nearest.Distance(f.bare, name); away <= most {
			all = append(all, close{int(n), away})
		}
	}
	slices.SortStableFunc(all, func(a, b close) int { return a.away - b.away })
	for _, c := range all {
		if !give(&Candidate{Picture: title.Picture{Of: of, Disc: disc, File: s.files[c.n].File,
			From: "in your pictures, by a similar name"}, Proposal: true}) {
			return
		}
	}
}

// shortestNear is how many letters a name has at least that another one can be near to.
const shortestNear = 5

// stat is a picture of this computer as it is now.
func stat(file string) (title.File, error) {
	info, err := os.Stat(file)
	if err == nil && !info.Mode().IsRegular() {
		err = errors.New("it is not a file")
	}
	if err != nil {
		return title.File{Path: file}, err
	}
	return title.File{Path: file, Size: info.Size(), Modified: info.ModTime()}, nil
}

// Usable is the path of a picture of this computer, absolute; the error says why it cannot be used.
func Usable(file string) (string, error) {
	file, err := filepath.Abs(file)
	if err != nil {
		return "", err
	}
	f, err := os.Open(file)
	if err != nil {
		return "", fmt.Errorf("%s: %s", file, plain(err))
	}
	defer f.Close()
	if _, err := picture.Check(f); err != nil {
		return "", fmt.Errorf("%s: %w", file, err)
	}
	return file, nil
}
