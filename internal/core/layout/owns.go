package layout

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/format/archive"
)

// Owns reports whether a file is where the profile has files of titles: games, their parts,
// tracks and lists of parts, companions, and the files in which all titles are listed. The
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

// Series are the paths of all parts of a title that was cut into so many by a rule, of which the first is given; ok is
// false for a path that is no first part.
func Series(rule *loader.Accept, first string, parts int) (paths []string, ok bool) {
	t := rule.TooLarge.Parts
	if t.Empty() {
		return nil, false
	}
	v, ok := t.Match(first)
	if !ok {
		return nil, false
	}
	v[loader.FieldParts] = strconv.Itoa(parts)
	for n := range parts {
		v[loader.FieldIndex] = strconv.Itoa(n + 1)
		p := t.FillPath(&v)
		if n == 0 && !strings.EqualFold(p, first) {
			return nil, false
		}
		paths = append(paths, p)
	}
	return paths, true
}

// FolderTitles reports whether the titles of a rule are folders on the target.
func FolderTitles(rule *loader.Accept) bool {
	if rule.Joins() {
		return false
	}
	return slices.Contains(rule.Forms, title.Folder) && rule.As(title.Folder) != shape.Build ||
		rule.As(title.Image) == shape.Extract ||
		(slices.Contains(rule.Forms, title.Package) && rule.Archives == "unpack")
}

// TitleAt reports whether a file or folder is where the rule has titles, whatever is wrong with its name: for which
// platform it would be one, and what its path says. Of several platforms and several ways to split the path, those are
// taken that are likely.
func TitleAt(set *loader.Set, rule *loader.Accept, file string, folder bool, takes ...func(*loader.Values) bool) (
	platform string, v loader.Values, ok bool) {
	if folder != FolderTitles(rule) {
		return "", v, false
	}
	return Split(set, rule, rule.Path, file, takes...)
}

// Split reads what a path says that one of the rule's templates could have made: for which platform it would be, and
// the values of its fields. Of several platforms and several ways to split the path, those are taken that are likely
// and that the caller takes; else the first ones.
func Split(set *loader.Set, rule *loader.Accept, t loader.Template, file string, takes ...func(*loader.Values) bool) (
	platform string, v loader.Values, ok bool) {
	if v, ok = t.Match(file); !ok {
		return "", v, false
	}
	if platform = PlatformOf(rule, &v); platform == "" {
		return "", v, false
	}
	likely := func(name string, v *loader.Values) bool {
		return !t.Denies(file, v) && Unlikely(set, rule, t, name, v) == "" &&
			TitleWrong(rule, v[loader.FieldTitle]) == "" &&
			!slices.ContainsFunc(takes, func(takes func(*loader.Values) bool) bool { return !takes(v) })
	}
	for _, name := range rule.Platforms {
		if v[loader.FieldPlatform] != "" && name != platform {
			continue
		}
		if likely(name, &v) {
			return name, v, true
		}
		for other := range t.Splits(file, nil) {
			if said := other[loader.FieldPlatform]; (said == "" || strings.EqualFold(said, name)) &&
				likely(name, &other) {
				return name, other, true
			}
		}
	}
	return platform, v, true
}

// PlatformOf is the one of a rule's platforms that a path says, or its only kind where the path says none; "" for a
// folder of another platform.
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

// Unlikely says what of what a path says, which one of the rule's templates could have made, cannot be so, as the
// platform has no such ID, kind of disc or extension; "" for nothing. The loader passes such a title over.
func Unlikely(set *loader.Set, rule *loader.Accept, t loader.Template, platform string, v *loader.Values) string {
	p := set.Platform(platform)
	if p == nil {
		return ""
	}
	if id := v[loader.FieldID]; id != "" && t.Keeps(loader.FieldID) && !p.Fields.ID.Takes(id) {
		return fmt.Sprintf("%q is not an ID of the %s", id, p.Shown)
	}
	if kind := v[loader.FieldKind]; kind != "" && len(p.Kinds) > 0 && t.Keeps(loader.FieldKind) &&
		p.Kind(strings.ToLower(kind)) == nil {
		return fmt.Sprintf("it does not look into the folder %s", kind)
	}
	if end := v[loader.FieldExt]; end != "" && !slices.Contains(extensions(rule, p), strings.ToLower(end)) {
		return fmt.Sprintf("%s is not an extension of %s games", end, p.Shown)
	}
	return ""
}

// TitleWrong says what in a title's name the rule does not permit, "" for nothing.
func TitleWrong(rule *loader.Accept, name string) string {
	if n := rule.Title.Length(name); rule.Title.Longest > 0 && n > rule.Title.Longest {
		return fmt.Sprintf("the title in its name has %d characters, but at most %d are allowed", n, rule.Title.Longest)
	}
	for _, r := range name {
		if !rule.Title.Permits(r) {
			return fmt.Sprintf("the character %q is not allowed in a name", r)
		}
	}
	return ""
}

// extensions are those that the rule takes for the platform.
func extensions(rule *loader.Accept, p *loader.Platform) []string {
	all := p.Extensions
	if slices.Contains(rule.Forms, title.Package) {
		all = p.Packages
	}
	switch rule.Archives {
	case "keep-zip":
		all = append(slices.Clone(all), ".zip")
	case "keep":
		all = append(slices.Clone(all), archive.Extensions()...)
	}
	return all
}
