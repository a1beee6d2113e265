package plan

import (
	"fmt"
	"time"

	"polytome/internal/core/layout"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/target"
)

// A Returned is a copy of a file that was on a target.
type Returned struct {
	Path     string // where it was
	Copy     string // where it is on this computer
	Size     int64
	Modified time.Time // of the copy
}

// Restore plans to put copies back to where the files were. Where something is there by now, it is
// replaced when over is set, else it stays and a note says so.
func Restore(files []Returned, facts target.Facts, there []target.Entry, over bool) *Plan {
	p := &Plan{}
	present := map[string]target.Entry{}
	for _, e := range there {
		present[facts.Filesystem.Fold(e.Path)] = e
	}
	var puts []Step
	for _, f := range files {
		s := Step{Kind: Copy, Path: f.Path, Why: "it was here before", Size: f.Size, Space: facts.SpaceFor(f.Path, f.Size),
			Make: &shape.Spec{Source: title.File{Path: f.Copy, Size: f.Size, Modified: f.Modified}, Size: f.Size}}
		if e, ok := present[facts.Filesystem.Fold(f.Path)]; ok {
			if !over || e.Folder {
				p.Notes = append(p.Notes, fmt.Sprintf("%s already exists, and stays", e.Path))
				continue
			}
			was := e
			s.Kind, s.Path, s.Was = Replace, e.Path, &was
			s.Space -= facts.SpaceFor(e.Path, e.Size)
		}
		for _, dir := range layout.Folders(f.Path) {
			if key := facts.Filesystem.Fold(dir); !present[key].Folder {
				present[key] = target.Entry{Path: dir, Folder: true}
				p.Steps = append(p.Steps, Step{Kind: MakeFolder, Path: dir, Why: "for the files in it"})
			}
		}
		puts = append(puts, s)
		p.Bytes += s.Size
	}
	p.Files = len(puts)
	p.Steps = append(p.Steps, puts...)
	return p
}
