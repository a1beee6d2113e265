package slab

import (
	"fmt"
	"path"
	"strings"

	"polytome/internal/format/slab"
	"polytome/internal/target"
)

// The tree that a disk is shown as. What is not in these folders is a small file of its own path.
const (
	titlesAt   = "titles"   // titles/<kind>/<id>/<name>: the content of a title
	settingsAt = "settings" // settings/<id>.txt: what a title's record has as its settings
	filesAt    = "files"    // small files whose own path begins with one of these folders
	coversAt   = "covers"   // covers/<id>.<ending>: a small file that is the cover of its title
	noKind     = "-"        // stands for none
)

// what is what a path names.
type what int

const (
	aFile what = iota
	aTitle
	someSettings
)

// A place is what a path of the tree means on the disk.
type place struct {
	what what
	slab.New
	file string // name of the small file
}

// placeOf says what a path means. An error says why there can be no file.
func placeOf(p string) (place, error) {
	if p == "" || p != path.Clean(p) || path.IsAbs(p) || p == ".." || strings.HasPrefix(p, "../") || p == "." {
		return place{}, fmt.Errorf("%q is no path on a slab disk", p)
	}
	parts := strings.Split(p, "/")
	switch {
	case target.IsTemporary(p):
		return place{file: p}, nil
	case parts[0] == titlesAt && len(parts) == 4:
		n := slab.New{ID: parts[2], Name: parts[3], Kind: parts[1]}
		if n.Kind == noKind {
			n.Kind = ""
		}
		return place{what: aTitle, New: n}, nil
	case parts[0] == settingsAt && len(parts) == 2 && strings.HasSuffix(parts[1], ".txt"):
		return place{what: someSettings, New: slab.New{ID: strings.TrimSuffix(parts[1], ".txt")}}, nil
	case parts[0] == titlesAt || parts[0] == settingsAt:
		return place{}, fmt.Errorf("there can be no file %s on a slab disk: titles are %s/<kind>/<id>/<name>, and their "+
			"settings %s/<id>.txt", p, titlesAt, settingsAt)
	case parts[0] == filesAt && len(parts) > 1 && own(parts[1]):
		return place{file: strings.Join(parts[1:], "/")}, nil
	}
	return place{file: p}, nil
}

// own reports whether a folder of the tree has a meaning of its own.
func own(folder string) bool { return folder == titlesAt || folder == settingsAt || folder == filesAt }

// pathOf is where a small file is in the tree.
func pathOf(name string) string {
	if first, _, _ := strings.Cut(name, "/"); own(first) && !target.IsTemporary(name) {
		return filesAt + "/" + name
	}
	return name
}

// PathOf is where a title is in the tree.
func PathOf(t *slab.Title) string {
	kind := t.Kind
	if kind == "" {
		kind = noKind
	}
	return strings.Join([]string{titlesAt, strings.ReplaceAll(kind, "/", "_"), t.ID, strings.ReplaceAll(t.Name, "/",
		"_")}, "/")
}

func settingsOf(id string) string { return settingsAt + "/" + id + ".txt" }

// coverOf is of which title a small file would be the cover; "" for none.
func coverOf(name string) string {
	dir, file := path.Split(name)
	if dir != coversAt+"/" || path.Ext(file) == "" {
		return ""
	}
	return strings.TrimSuffix(file, path.Ext(file))
}
