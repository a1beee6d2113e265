package layout

import (
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/format/archive"
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

// TitleAt reports whether a file or folder lies where the rule has titles, whatever is wrong with its name: for which platform it would be
// one, and what its path says.
func TitleAt(rule *loader.Accept, file string, folder bool) (platform string, v loader.Values, ok bool) {
	if folder != FolderTitles(rule) {
		return "", v, false
	}
	if v, ok = rule.Path.Match(file); ok {
		platform = PlatformOf(rule, &v)
	}
	return platform, v, platform != ""
}

// PlatformOf is the one of a rule's platforms that a path says, or its only kind where the path says none; "" for a folder of another platform.
func PlatformOf(rule *loader.Accept, v *loader.Values) string {
	said := v[loader.FieldPlatform]
	if said == "" && len(rule.Platforms) > 0 {
		return rule.Platforms[0]
	}
	if i := slices.IndexFunc(rule.Platforms, func(p string) bool { return strings.EqualFold(p, said) }); i >= 0 {
		return rule.Platforms[i]
	}
	return ""
}

// Unlikely says what of what the path of a title says cannot be so, as the platform has no such ID, kind of disc or ending; "" for nothing. The loader
// passes such a title over.
func Unlikely(set *loader.Set, rule *loader.Accept, platform string, v *loader.Values) string {
	p := set.Platform(platform)
	if p == nil {
		return ""
	}
	if id := v[loader.FieldID]; id != "" && p.Fields.ID.Pattern.Regexp != nil && !p.Fields.ID.Pattern.MatchString(strings.ToUpper(id)) {
		return fmt.Sprintf("%q is no ID of the %s", id, p.Shown)
	}
	if kind := v[loader.FieldKind]; kind != "" && p.Kind(strings.ToLower(kind)) == nil {
		return fmt.Sprintf("it does not look into the folder %s", kind)
	}
	if end := v[loader.FieldEnding]; end != "" && !ends(rule, p, end) {
		return fmt.Sprintf("%s is no ending of a game of the %s", end, p.Shown)
	}
	return ""
}

// ends reports whether a file's ending is one that the rule takes for the platform.
func ends(rule *loader.Accept, p *loader.Platform, end string) bool {
	end = strings.ToLower(end)
	endings := p.Endings
	if slices.Contains(rule.Forms, title.Package) {
		endings = p.Packages
	}
	return slices.Contains(endings, end) || rule.Archives == "keep-zip" && end == ".zip" || rule.Archives == "keep" && archive.Ending(end)
}
