package layout

import (
	"slices"

	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
)

// Owns reports whether a file lies where the profile has files of titles: games, their parts,
// tracks and lists of parts, companions, and the files in which all titles are told. The
// loader's own files are none of them.
func Owns(p *loader.Profile, attachment, file string) bool {
	holds := func(on []string) bool { return len(on) == 0 || slices.Contains(on, attachment) }
	matches := func(t loader.Template, file string) bool {
		_, ok := t.Match(file)
		return ok
	}
	for i := range p.Accepts {
		rule := &p.Accepts[i]
		if !holds(rule.On) {
			continue
		}
		if FolderTitles(rule) {
			for _, dir := range Folders(file) {
				if matches(rule.Path, dir) {
					return true
				}
			}
		} else if matches(rule.Path, file) {
			return true
		}
		if matches(rule.Tracks, file) || matches(rule.TooLarge.Parts, file) || matches(rule.TooLarge.Manifest, file) {
			return true
		}
	}
	for i := range p.Companions {
		if holds(p.Companions[i].On) && matches(p.Companions[i].Path, file) {
			return true
		}
	}
	return slices.ContainsFunc(p.Lists, func(l loader.List) bool { return holds(l.On) && matches(l.Path, file) })
}

// FolderTitles reports whether the titles of a rule are folders on the place.
func FolderTitles(rule *loader.Accept) bool {
	return slices.Contains(rule.Forms, title.Folder) && rule.As(title.Folder) != shape.Build || rule.As(title.Image) == shape.Extract ||
		(slices.Contains(rule.Forms, title.Package) && rule.Archives == "unpack")
}
