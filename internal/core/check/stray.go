package check

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/target"
)

// strays looks at the files that no loader knows: a game among them is where no one looks for it, and the rest is
// left alone.
func (a *audit) strays() {
	for i := range a.tree.entries {
		e := &a.tree.entries[i]
		if e.Folder {
			continue
		}
		a.r.Files++
		if a.claimed[a.tree.fold(e.Path)] {
			continue
		}
		if !a.stray(e) {
			a.r.Others = append(a.r.Others, e.Path)
		}
	}
}

// stray describes a game outside of the loaders' folders.
func (a *audit) stray(e *target.Entry) bool {
	if a.o.Depth == Names || a.ctx.Err() != nil {
		return false
	}
	end := strings.ToLower(path.Ext(e.Path))
	for _, y := range a.looks {
		if y.at == nil || !y.gameExt(e.Path) || end == ".zip" && !y.keepsZips() {
			continue
		}
		t, err := a.gameAt(e)
		if err != nil || t == nil || t.Platform == "" || !y.profile.Knows(t.Platform) {
			continue
		}
		f := Finding{Kind: Folder, Grade: Fault, Loader: y.profile.Name, Path: e.Path,
			Say: fmt.Sprintf("it is a game of the %s, but %s does not look here", y.profile.Shown,
				y.shown(t.Platform)),
			Matters: "the game will not be in the list"}
		if t.Form == title.Tracks {
			for _, rule := range y.held {
				if slices.Contains(rule.Forms, title.Tracks) {
					if m := y.intoFolder(e, rule); m != nil {
						f.Remedy, f.Fixes = "move it and its tracks to where the loader looks", m
						a.report(f)
						return true
					}
				}
			}
		}
		to, why := y.home(e, t)
		if to == "" && why != "" {
			continue
		}
		f.Remedy, f.Fixes = y.moved(e, t)
		a.report(f)
		return true
	}
	return false
}

// gameAt finds out which game a file is.
func (a *audit) gameAt(e *target.Entry) (*title.Title, error) {
	if strings.EqualFold(path.Ext(e.Path), ".cue") {
		return scan.IdentifyTracks(a.tree.FS, e.Path, a.set)
	}
	return a.identify(e)
}

// keepsZips reports whether the loader reads games that are zipped.
func (y *loaderAudit) keepsZips() bool {
	for _, rule := range y.held {
		if rule.Archives == "keep-zip" || rule.Archives == "keep" {
			return true
		}
	}
	return false
}
