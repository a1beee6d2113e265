// Package gamefolders looks for folders that are likely to hold games, by the names and sizes of files alone: what a
// person would choose from who has not said where their games are.
package gamefolders

import (
	"cmp"
	"context"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"polytome/internal/core/loader"
)

// A Folder is one that is likely to hold games.
type Folder struct {
	Path       string
	Files      int      // that look like games
	Bytes      int64    // in those
	Extensions []string // theirs, the most frequent first
}

const (
	// mostEntries is how many files and folders are looked at below one place.
	mostEntries = 50_000
	// mostDeep is how many folders deep it is looked.
	mostDeep = 6
	// leastArchive is how large an archive is at least that may hold a game; platforms' own files may be of any size.
	leastArchive = 1 << 20
)

var archives = []string{".7z", ".zip", ".rar", ".lzh", ".lha"}

// Find looks below each of the roots, the ones nearest to the top first, until the context ends. It hands out the
// folders next to a root that hold games, or further down where all of theirs are in one; those with the most bytes are
// the first. A root in which games lie side by side with folders of other things is one itself. What cannot be read is
// left out.
func Find(ctx context.Context, roots []string, set *loader.Set) []Folder {
	known := map[string]bool{}
	for _, p := range set.Platforms {
		for _, ext := range p.Extensions {
			known[ext] = true
		}
		for _, ext := range p.Packages {
			known[ext] = true
		}
	}
	found := map[string]Folder{}
	for _, root := range roots {
		s := &search{ctx: ctx, known: known}
		if real, err := filepath.EvalSymlinks(root); err == nil {
			root = real
		}
		top := s.look(root, 0)
		if top.own.Files > 0 { // games lie in it directly
			found[root] = top.sum()
			continue
		}
		for _, in := range top.in {
			for len(in.in) == 1 && in.own.Files == 0 {
				in = in.in[0]
			}
			if f := in.sum(); f.Files > 0 {
				found[f.Path] = f
			}
		}
	}
	for path := range found { // of two that lie in one another, the outer one has both
		for dir := filepath.Dir(path); dir != filepath.Dir(dir); dir = filepath.Dir(dir) {
			if _, ok := found[dir]; ok {
				delete(found, path)
			}
		}
	}
	return slices.SortedFunc(maps.Values(found), func(x, y Folder) int {
		return cmp.Or(cmp.Compare(y.Bytes, x.Bytes), strings.Compare(x.Path, y.Path))
	})
}

// search is a look below one root.
type search struct {
	ctx     context.Context
	known   map[string]bool
	entries int
}

// node is a folder, with those in it that hold games.
type node struct {
	own  Folder
	ends map[string]int // files by extension
	in   []*node
}

// look looks into a folder.
func (s *search) look(dir string, depth int) *node {
	n := &node{own: Folder{Path: dir}, ends: map[string]int{}}
	entries, err := os.ReadDir(dir)
	if err != nil || s.ctx.Err() != nil {
		return n
	}
	for _, e := range entries {
		if s.entries++; s.entries > mostEntries {
			break
		}
		ext := strings.ToLower(filepath.Ext(e.Name()))
		if !e.Type().IsRegular() || !s.known[ext] && !slices.Contains(archives, ext) {
			continue
		}
		info, err := e.Info()
		if err != nil || info.Size() == 0 || !s.known[ext] && info.Size() < leastArchive {
			continue
		}
		n.own.Files++
		n.own.Bytes += info.Size()
		n.ends[ext]++
	}
	for _, e := range entries {
		if !e.Type().IsDir() || hidden(e) || depth == mostDeep || s.entries > mostEntries || s.ctx.Err() != nil {
			continue
		}
		if in := s.look(filepath.Join(dir, e.Name()), depth+1); in.own.Files > 0 || len(in.in) > 0 {
			n.in = append(n.in, in)
		}
	}
	return n
}

// hidden reports whether a folder is one that people do not look into.
func hidden(e fs.DirEntry) bool {
	return strings.HasPrefix(e.Name(), ".") || strings.HasPrefix(e.Name(), "$")
}

// sum is the folder with all that is below it.
func (n *node) sum() Folder {
	f, ends := Folder{Path: n.own.Path}, map[string]int{}
	n.add(&f, ends)
	f.Extensions = slices.SortedFunc(maps.Keys(ends), func(x, y string) int {
		return cmp.Or(cmp.Compare(ends[y], ends[x]), strings.Compare(x, y))
	})
	return f
}

func (n *node) add(f *Folder, ends map[string]int) {
	f.Files += n.own.Files
	f.Bytes += n.own.Bytes
	for ext, k := range n.ends {
		ends[ext] += k
	}
	for _, in := range n.in {
		in.add(f, ends)
	}
}
