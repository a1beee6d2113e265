package fit

import (
	"path"

	"polytome/internal/core/layout"
	"polytome/internal/place"
)

// folders reckons the room that folders take: a cluster for each new one, and
// more when the names in it outgrow what it has. Folders are numbered once, so
// that putting or taking a title is plain arithmetic.
type folders struct {
	cluster int64
	before  []int64 // bytes of names in each folder now; -1 for one that is not there
	used    []int64 // the same with the titles taken so far
	adds    [][]add // for each title
	changed []change
}

// add is one name that a title puts into a folder. A name that is itself a
// folder counts only where that folder is new.
type add struct {
	folder  int
	bytes   int64
	creates int // the folder that the name is, or -1 for a file
}

type change struct {
	folder int
	was    int64
}

func newFolders(c Case, present map[string]place.Entry) *folders {
	f := &folders{cluster: c.Facts.Cluster, adds: make([][]add, len(c.Titles))}
	fsys := c.Facts.Filesystem
	numbers := map[string]int{}
	number := func(p string) int {
		key := fsys.Fold(p)
		n, ok := numbers[key]
		if !ok {
			n = len(f.before)
			numbers[key] = n
			f.before = append(f.before, -1)
		}
		return n
	}
	f.before[number(".")] = 0
	for _, e := range c.There {
		if e.Folder {
			f.before[number(e.Path)] = 0
		}
	}
	for _, e := range c.There {
		f.before[number(path.Dir(e.Path))] += fsys.EntryBytes(path.Base(e.Path))
	}
	for i := range c.Titles {
		for k := range c.Tree.Placements[i].Items {
			item := &c.Tree.Placements[i].Items[k]
			if _, ok := present[fsys.Fold(item.Path)]; ok {
				continue
			}
			for _, dir := range layout.Folders(item.Path) {
				f.adds[i] = append(f.adds[i], add{number(path.Dir(dir)), fsys.EntryBytes(path.Base(dir)), number(dir)})
			}
			f.adds[i] = append(f.adds[i], add{number(path.Dir(item.Path)), fsys.EntryBytes(path.Base(item.Path)), -1})
		}
	}
	f.used = make([]int64, len(f.before))
	return f
}

func (f *folders) reset() { copy(f.used, f.before) }

// take books a title's names, and returns the bytes by which folders grow.
func (f *folders) take(title int) int64 {
	var grown int64
	f.changed = f.changed[:0]
	set := func(folder int, bytes int64) {
		f.changed = append(f.changed, change{folder, f.used[folder]})
		f.used[folder] = bytes
	}
	for _, a := range f.adds[title] {
		if a.creates >= 0 {
			if f.used[a.creates] >= 0 {
				continue
			}
			set(a.creates, 0)
			grown += f.cluster
		}
		had := f.used[a.folder]
		set(a.folder, had+a.bytes)
		grown += f.clusters(had+a.bytes) - f.clusters(had)
	}
	return grown
}

// undo takes the last take back.
func (f *folders) undo() {
	for i := len(f.changed) - 1; i >= 0; i-- {
		f.used[f.changed[i].folder] = f.changed[i].was
	}
	f.changed = f.changed[:0]
}

// clusters is the room of a folder with so many bytes of names; even an empty one
// has a cluster.
func (f *folders) clusters(bytes int64) int64 {
	return max(1, (bytes+f.cluster-1)/f.cluster) * f.cluster
}
