// Package plan turns what is wanted on a place, and what is there, into the
// steps between the two. It is pure, and a plan is plain data.
package plan

import (
	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/core/title"
	"polytome/internal/place"
)

// Kind is what a step does.
type Kind string

// The steps.
const (
	Clear      Kind = "clear"  // remove a temporary file that a broken-off run left
	MakeFolder Kind = "folder" // make a folder
	Put        Kind = "put"    // write a file that is not there
)

// A Step is one thing to do on the place.
type Step struct {
	Kind   Kind       `json:"do"`
	Path   string     `json:"path"`
	Title  string     `json:"title,omitempty"` // Put: key of the title
	Label  string     `json:"label,omitempty"` // Put: the title's name for people
	Source title.File `json:"source,omitzero"` // Put: where the bytes come from, and how many
	Text   string     `json:"text,omitempty"`  // Put: the bytes themselves, of a file that has no source
}

// A Left is a chosen title that cannot go, with the reason.
type Left struct {
	Title string          `json:"title"` // its key
	Label string          `json:"label"`
	Why   fit.Explanation `json:"why"`
}

// A Plan is the steps that make a place hold what is wanted, and what is
// wanted but cannot be.
type Plan struct {
	Steps []Step `json:"steps"`
	Files int    `json:"files"` // to be put
	Bytes int64  `json:"bytes"` // in those files
	There int    `json:"there"` // chosen titles that are there already
	Left  []Left `json:"left,omitempty"`
}

// Make plans for the chosen titles of a sheet. Leftovers are cleared first, then
// folders are made, then files put in the order of the titles. Where the filesystem
// ignores case, folders that exist are used as they are spelled.
func Make(titles []title.Title, tree *layout.Tree, sheet *fit.Sheet, facts place.Facts, there []place.Entry) *Plan {
	p := &Plan{}
	spelled := map[string]string{} // folded path of a folder -> as it is on the place, or will be
	files := map[string]bool{}     // folded paths of the files on the place
	for _, e := range there {
		if e.Folder {
			spelled[facts.Filesystem.Fold(e.Path)] = e.Path
			continue
		}
		files[facts.Filesystem.Fold(e.Path)] = true
		if place.IsTemporary(e.Path) {
			p.Steps = append(p.Steps, Step{Kind: Clear, Path: e.Path})
		}
	}
	var puts []Step
	for i := range titles {
		if !sheet.Chosen[i] {
			continue
		}
		t := &titles[i]
		switch sheet.Verdicts[i].Kind {
		case fit.AsIs:
		case fit.There:
			p.There++
			continue
		default:
			p.Left = append(p.Left, Left{t.Key, t.Label(), sheet.Explain(i)})
			continue
		}
		for k := range tree.Placements[i].Items {
			item := &tree.Placements[i].Items[k]
			if files[facts.Filesystem.Fold(item.Path)] {
				continue // one disc of several is there already
			}
			file := item.Path
			for _, dir := range layout.Folders(item.Path) {
				key := facts.Filesystem.Fold(dir)
				as, ok := spelled[key]
				if !ok {
					as = file[:len(dir)]
					spelled[key] = as
					p.Steps = append(p.Steps, Step{Kind: MakeFolder, Path: as})
				}
				file = as + file[len(dir):]
			}
			src := item.Source
			if item.Shape == layout.Written {
				src = title.File{Size: item.Size}
			}
			puts = append(puts, Step{Kind: Put, Path: file, Title: t.Key, Label: t.Label(), Source: src, Text: item.Text})
			p.Bytes += src.Size
		}
	}
	p.Files = len(puts)
	p.Steps = append(p.Steps, puts...)
	return p
}

// Empty reports whether there is nothing to do.
func (p *Plan) Empty() bool { return len(p.Steps) == 0 }
