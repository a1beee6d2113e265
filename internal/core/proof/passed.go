package proof

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/format/archive"
	"polytome/internal/place"
)

// inFolderOf reports whether a path lies in a folder where the rule's files do.
func (y *eyes) inFolderOf(rule *loader.Accept, file string) bool {
	fold := y.tree.fold
	for _, f := range y.set.Folders(rule) {
		beside := path.Dir(f) != "." && fold(path.Dir(file)) == fold(path.Dir(f)) // in none of several folders
		if strings.HasPrefix(fold(file), fold(f)+fold("/")) || beside {
			return true
		}
	}
	return false
}

// overlooked is a file among the loader's games that it passes over.
type overlooked struct {
	e    *place.Entry
	rule *loader.Accept
}

// passOver tells of the files that are passed over: sheets first, as what they name goes with them.
func (y *eyes) passOver() {
	sheet := func(o overlooked) bool {
		return slices.Contains(o.rule.Forms, title.Tracks) && strings.EqualFold(path.Ext(o.e.Path), ".cue")
	}
	for _, o := range y.over {
		if sheet(o) {
			y.passedOver(o.e, o.rule)
			if y.o.Depth != Names {
				y.needTracks(o.e)
			}
		}
	}
	for _, o := range y.over {
		if !sheet(o) && !y.needed[y.tree.fold(o.e.Path)] {
			y.passedOver(o.e, o.rule)
		}
	}
}

// anothers reports whether a file or folder is a title of another loader of the place, by its path.
func (y *eyes) anothers(e *place.Entry) bool {
	return slices.ContainsFunc(y.profiles, func(p *loader.Profile) bool { return p != y.profile && titleAt(p, *e, y.set) })
}

// passedOver tells of a file among the loader's whose name is none that the loader lists.
func (y *eyes) passedOver(e *place.Entry, rule *loader.Accept) {
	if y.anothers(e) {
		return
	}
	f := Finding{Kind: Name, Grade: Fault, Path: e.Path, Say: fmt.Sprintf("%s passes it over: its name is not of the form %s", y.profile.Shown, rule.Path.Shape())}
	if f.Remedy, f.Mends = y.renamed(e, rule, nil); len(f.Mends) == 0 && !y.gameEnding(e.Path) { // a text or picture among games
		f.Grade, f.Matters, f.Remedy = Remark, "nothing: it only takes room", "leave it, or take it off"
	}
	y.find(f)
}

// gameEnding reports whether a file ends as games of the loader's platforms do.
func (y *eyes) gameEnding(file string) bool {
	end := strings.ToLower(path.Ext(withoutMark(file)))
	if archive.Ending(end) {
		return true
	}
	for _, p := range y.set.Platforms {
		if y.profile.Knows(p.Name) && (slices.Contains(p.Endings, end) || slices.Contains(p.Packages, end)) {
			return true
		}
	}
	for i := range y.profile.Accepts {
		if ext := path.Ext(y.profile.Accepts[i].Path.String()); ext != "" && strings.EqualFold(ext, end) && !strings.Contains(ext, "{") {
			return true
		}
	}
	return false
}
