package survey

import (
	"path"
	"slices"

	"polytome/internal/core/check"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
)

// ListedTitle is the title behind a line of the console's list, by the path that it has or will have there; ok is false
// where it is none that is known.
func (s *Survey) ListedTitle(l *check.Listed) (i int, ok bool) {
	for i := range s.Titles {
		if s.Lists(i, l) {
			return i, true
		}
	}
	return 0, false
}

// listedTitles are the titles by the paths at which lists have them: the name of the loader, a zero byte, and the
// folded path.
func (s *Survey) listedTitles() map[string]int {
	out, fold := make(map[string]int, 2*len(s.Titles)), s.Facts.Filesystem.Fold
	for i := range s.Titles {
		pl := s.Sheet.Placement(i)
		if pl.Refusal != nil || len(pl.Items) == 0 {
			continue
		}
		by := s.Sheet.Loader(i).Profile.Name + "\x00"
		for _, at := range []string{layout.Common(pl), path.Dir(pl.Items[0].Path), pl.Items[0].Path} {
			out[by+fold(at)] = i
		}
	}
	return out
}

// Lists reports whether a line of the console's list is title i.
func (s *Survey) Lists(i int, l *check.Listed) bool {
	pl := s.Sheet.Placement(i)
	if pl.Refusal != nil || len(pl.Items) == 0 || s.Sheet.Loader(i).Profile.Name != l.Loader {
		return false
	}
	fold := s.Facts.Filesystem.Fold
	return slices.ContainsFunc([]string{pl.Items[0].Path, path.Dir(pl.Items[0].Path), layout.Common(pl)},
		func(at string) bool { return fold(at) == fold(l.Path) })
}

// attachedBy is the name of the attachment by which a loader reaches the target.
func (s *Survey) attachedBy(p *loader.Profile) string {
	if a := p.Attachment(s.Config.Via, s.Facts.Filesystem.Name); a != nil {
		return a.Name
	}
	return ""
}

// Placeable reports whether title i can be put somewhere in the console's list by hand, and whether it can be in a
// section of it.
func (s *Survey) Placeable(i int) (place, section bool) {
	p := s.Sheet.Loader(i).Profile
	at, fs := s.attachedBy(p), s.Facts.Filesystem.Name
	_, section = p.ListOf(&s.Titles[i], at, fs)
	return p.Placed(&s.Titles[i], at, fs), section
}
