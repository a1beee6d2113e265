package learn

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/title"
)

// titlesIn are the games of folders.
func titlesIn(ctx context.Context, dirs []string, set *loader.Set) ([]title.Title, error) {
	if len(dirs) == 0 {
		return nil, nil
	}
	r, err := scan.Scan(ctx, dirs, scan.Options{Set: set})
	if err != nil {
		return nil, err
	}
	return r.Titles, nil
}

// A change is what became of a game's files on the way to the target: those that are there, and those that were, by
// their paths in the game, without those that are the same.
type change struct {
	there, before []string
	same          []string
}

// packages finds what becomes of the files of unpacked titles: which are named otherwise, and which are left out. That
// is seen where the games are there as they were before; otherwise a file that has one name in all titles may have had
// another one.
func (s *student) packages(r *Rule, all []*sample) {
	if r.Form != title.Folder || len(all) < 2 {
		return
	}
	changes := s.changes(all)
	if len(changes) > 1 {
		s.changed(r, changes)
		return
	}
	p := s.set.Platform(r.Platforms[0])
	if p == nil {
		return
	}
	for _, marker := range p.MarkerFiles() {
		if strings.ContainsRune(marker, '*') {
			s.renamed(r, marker, all)
		}
	}
}

// changes are those of the samples whose games are known as they were before.
func (s *student) changes(all []*sample) (out []change) {
	for _, x := range all {
		i := slices.IndexFunc(s.originals, func(t title.Title) bool {
			return t.Platform == x.t.Platform && len(t.Discs[0].Parts) > 0 && (t.ID != "" && t.ID == x.t.ID ||
				t.ID == "" && t.Name != "" && t.Name == x.t.Name)
		})
		if i < 0 {
			continue
		}
		var c change
		was := names(&s.originals[i])
		for _, name := range names(x.t) {
			if k := slices.IndexFunc(was, func(o string) bool { return strings.EqualFold(o, name) }); k >= 0 {
				c.same = append(c.same, name)
				was = slices.Delete(was, k, k+1)
			} else {
				c.there = append(c.there, name)
			}
		}
		c.before = was
		out = append(out, c)
	}
	return out
}

func names(t *title.Title) (out []string) {
	for _, p := range t.Discs[0].Parts {
		out = append(out, p.Name)
	}
	return out
}

// alike is the pattern for files of one extension in a folder.
func alike(file string) string {
	return path.Join(path.Dir(file), "*"+path.Ext(file))
}

// changed finds the patterns by which all titles were changed.
func (s *student) changed(r *Rule, changes []change) {
	for _, to := range changes[0].there {
		from := alike(to)
		if slices.ContainsFunc(changes, func(c change) bool {
			n := 0
			for _, was := range c.before {
				if loader.MatchFile(from, was) {
					n++
				}
			}
			return n != 1 || !slices.Contains(c.there, to)
		}) {
			continue
		}
		r.Rename = append(r.Rename, loader.Rename{From: from, To: to})
		s.find(Certain, fmt.Sprintf("%s becomes %s", from, to), "in all %d games that are known as they were before",
			len(changes))
	}
	for _, c := range changes {
		for _, was := range c.before {
			if slices.ContainsFunc(r.Rename, func(x loader.Rename) bool { return loader.MatchFile(x.From, was) }) ||
				slices.ContainsFunc(r.Drop, func(x string) bool { return loader.MatchFile(x, was) }) {
				continue
			}
			drop := alike(was)
			if path.Ext(was) == "" || slices.ContainsFunc(changes, func(c change) bool {
				return slices.ContainsFunc(slices.Concat(c.same, c.there), func(f string) bool {
					return loader.MatchFile(drop, f)
				})
			}) {
				drop = was // others like it are copied
			}
			r.Drop = append(r.Drop, drop)
			s.find(Likely, fmt.Sprintf("%s is left out of %s games", drop, r.Platforms[0]),
				"it was in games before, and is not on the target")
		}
	}
}

// renamed finds the one name that the file of a pattern has in all titles.
func (s *student) renamed(r *Rule, marker string, all []*sample) {
	name := ""
	for _, x := range all {
		for _, part := range x.of().Parts {
			if !loader.MatchFile(marker, part.Name) {
				continue
			}
			if name != "" && name != part.Name {
				return
			}
			name = part.Name
		}
	}
	if name != "" {
		r.Rename = append(r.Rename, loader.Rename{From: marker, To: name})
		s.find(Likely, fmt.Sprintf("%s becomes %s", marker, name), "all %d folders have it under that name",
			len(all))
		s.ask(Question{Key: "package files", Usual: "all", Choices: []string{"all"},
			Say: "which files of a package are " +
				"copied, and which are left out? Only those that are there can be seen"}, nil)
	}
}
