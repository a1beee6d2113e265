package kit

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/format/archive"
	"polytome/internal/format/container"
)

// A place is a folder, or an archive, with the files in it.
type place struct {
	name  string // of an archive; "" for the folder itself
	files []candidate
}

// places are a folder and the archives in it, the newest name first: what was unpacked comes before what was not.
type places []place

// candidate is a file that may be one of the kit.
type candidate struct {
	file   title.File
	rel    string // its path in the place, with slashes
	inside string // path below the folder that fitted, "" for a file that did
}

func (c *candidate) hidden() bool {
	return strings.HasPrefix(c.rel, ".") || strings.Contains(c.rel, "/.")
}

// mostFiles is how many files a kit has at most.
const mostFiles = 20_000

// read lists what is in a folder or an archive.
func read(at string) (all places, notes []string, err error) {
	info, err := os.Stat(at)
	if err != nil {
		return nil, nil, fmt.Errorf("reading the kit: %w", err)
	}
	if !info.IsDir() {
		p, err := ofArchive(at)
		if err != nil {
			return nil, nil, fmt.Errorf("reading the kit %s: %w", at, err)
		}
		return places{p}, nil, nil
	}
	folder := place{}
	var archives places
	err = filepath.WalkDir(at, func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err != nil || !info.Mode().IsRegular() {
			return err
		}
		rel, err := filepath.Rel(at, name)
		if err != nil {
			return err
		}
		rel = filepath.ToSlash(rel)
		folder.files = append(folder.files, candidate{file: title.File{Path: name, Size: info.Size(),
			Modified: info.ModTime()}, rel: rel})
		if len(folder.files) > mostFiles {
			return fmt.Errorf("%s has more than %d files, so it is not a kit", at, mostFiles)
		}
		if strings.Contains(rel, "/") || !archive.Ext(strings.ToLower(filepath.Ext(rel))) || strings.HasPrefix(rel,
			".") {
			return nil
		}
		switch p, err := ofArchive(name); {
		case err != nil:
			notes = append(notes, fmt.Sprintf("%s cannot be looked into: %v.", rel, err))
		default:
			archives = append(archives, p)
		}
		return nil
	})
	if err != nil {
		return nil, nil, fmt.Errorf("reading the kit: %w", err)
	}
	slices.SortFunc(archives, func(a, b place) int { return strings.Compare(b.name, a.name) })
	return append(places{folder}, archives...), notes, nil
}

// ofArchive lists an archive.
func ofArchive(name string) (place, error) {
	c, err := container.Open(name, container.Options{})
	if err != nil {
		return place{}, err
	}
	defer c.Close()
	p := place{name: name}
	err = fs.WalkDir(c.FS, ".", func(rel string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		p.files = append(p.files, candidate{file: title.File{Path: name, Entry: rel, Size: info.Size(),
			Modified: info.ModTime()}, rel: rel})
		if len(p.files) > mostFiles {
			return fmt.Errorf("it has more than %d files, so it is not a kit", mostFiles)
		}
		return nil
	})
	return p, err
}

// matching are the files whose name, or the name of a folder above them, fits one of the patterns. The first pattern
// that fits something counts; of several places the first does.
func (all places) matching(patterns []string) []candidate {
	for _, pattern := range patterns {
		for p := range all {
			if found := all[p].matching(pattern); len(found) > 0 {
				return found
			}
		}
	}
	return nil
}

// matching are the files of one place that fit a pattern; of several files the newest name does. Files of the kit lie
// at its top, or in the one folder that it was packed with, unless the pattern names folders; hidden ones are never
// meant.
func (p *place) matching(pattern string) []candidate {
	wrapped := 0 // folders around all of it
	if n := len(p.files); n > 0 {
		top, _, in := strings.Cut(p.files[0].rel, "/")
		if in && !slices.ContainsFunc(p.files, func(f candidate) bool { return !strings.HasPrefix(f.rel, top+"/") }) {
			wrapped = 1
		}
	}
	var whole *candidate
	var inside []candidate
	deep := strings.Count(pattern, "/")
	for i := range p.files {
		f := &p.files[i]
		if f.hidden() {
			continue
		}
		parts := strings.Split(f.rel, "/")
		for k := deep; k <= deep+wrapped && k < len(parts); k++ {
			if !loader.MatchFile(strings.ToLower(pattern), strings.ToLower(strings.Join(parts[k-deep:k+1], "/"))) {
				continue
			}
			if k < len(parts)-1 {
				in := *f
				in.inside = strings.Join(parts[k+1:], "/")
				inside = append(inside, in)
			} else if whole == nil || f.rel > whole.rel {
				whole = f
			}
			break
		}
	}
	if whole != nil {
		return []candidate{*whole}
	}
	return inside
}
