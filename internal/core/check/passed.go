package check

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/format/archive"
	"polytome/internal/target"
)

// inFolderOf reports whether a path is in a folder where the rule's files do.
func (y *loaderAudit) inFolderOf(rule *loader.Accept, file string) bool {
	fold := y.tree.fold
	for _, f := range y.set.Folders(rule) {
		beside := path.Dir(f) != "." && fold(path.Dir(file)) == fold(path.Dir(f)) // in none of several folders
		if strings.HasPrefix(fold(file), fold(f)+fold("/")) || beside {
			return true
		}
	}
	return false
}

// overlooked is a file among the loader's games that it skips.
type overlooked struct {
	e    *target.Entry
	rule *loader.Accept
}

// skip describes the files that are skipped: sheets first, as what they name goes with them.
func (y *loaderAudit) skip() {
	sheet := func(o overlooked) bool {
		return slices.Contains(o.rule.Forms, title.Tracks) && strings.EqualFold(path.Ext(o.e.Path), ".cue")
	}
	for _, o := range y.over {
		if sheet(o) {
			y.skipped(o.e, o.rule)
			if y.o.Depth != Names {
				y.needTracks(o.e)
			}
		}
	}
	for _, o := range y.over {
		if !sheet(o) && !y.needed[y.tree.fold(o.e.Path)] {
			y.skipped(o.e, o.rule)
		}
	}
}

// anothers reports whether a file or folder is a title of another loader of the target, by its path.
func (y *loaderAudit) anothers(e *target.Entry) bool {
	return slices.ContainsFunc(y.profiles,
		func(p *loader.Profile) bool { return p != y.profile && titleAt(p, *e, y.set) })
}

// skipped describes a file among the loader's whose name is none that the loader lists.
func (y *loaderAudit) skipped(e *target.Entry, rule *loader.Accept) {
	if y.anothers(e) {
		return
	}
	shape := rule.Path.Shape()
	must := fmt.Sprintf("the name must be %s; this file is %s", path.Base(shape), path.Base(e.Path))
	if strings.Contains(path.Base(path.Dir(shape)), "<title>") { // a folder for each title: its name counts too
		must = fmt.Sprintf("the path must be %s; this file is %s", shape, e.Path)
	}
	f := Finding{Kind: Name, Grade: Fault, Path: e.Path, Say: y.profile.Shown + " ignores it: " + must}
	// a text or picture among games
	if f.Remedy, f.Fixes = y.renamed(e, rule, nil); len(f.Fixes) == 0 && !y.gameExt(e.Path) {
		f.Grade, f.Matters, f.Remedy = Remark, "nothing: it only takes space", "keep it, or remove it"
	}
	y.report(f)
}

// gameExt reports whether a file ends as games of the loader's platforms do.
func (y *loaderAudit) gameExt(file string) bool {
	end := strings.ToLower(path.Ext(withoutMark(file)))
	if archive.Ext(end) {
		return true
	}
	for _, p := range y.set.Platforms {
		if y.profile.Knows(p.Name) && (slices.Contains(p.Extensions, end) || slices.Contains(p.Packages, end)) {
			return true
		}
	}
	for i := range y.profile.Accepts {
		if ext := path.Ext(y.profile.Accepts[i].Path.String()); ext != "" && strings.EqualFold(ext, end) &&
			!strings.Contains(ext, "{") {
			return true
		}
	}
	return false
}
