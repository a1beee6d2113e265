package proof

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"polytome/internal/core/intake"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/format/archive"
	"polytome/internal/place"
	"polytome/internal/size"
)

// entry judges one file or folder: listed, passed over, or none of the loader's
// business.
func (a *audit) entry(e place.Entry) {
	if !e.Folder && place.IsTemporary(e.Path) {
		a.find(Remark, e.Path, "a broken-off run left this half-written file", "run again, or remove it; the loader passes it over")
		return
	}
	if !e.Folder && a.further(e) {
		return
	}
	for _, rule := range a.rules() {
		v, ok := rule.Path.Match(e.Path)
		if !ok || e.Folder != layout.FolderTitles(rule) || a.platform(rule, v) == "" {
			continue
		}
		if problem := a.misnamed(rule, &v); problem == "" || !a.belongs(rule, e) {
			a.listed(e, rule, &v, problem)
		}
		return
	}
	if e.Folder {
		return
	}
	for _, rule := range a.rules() {
		if v, ok := rule.TooLarge.Manifest.Match(e.Path); ok {
			a.manifest(e, rule, &v)
			return
		}
		if v, ok := rule.TooLarge.Parts.Match(e.Path); ok && !rule.TooLarge.Manifest.Empty() && a.lonePart(e, rule, &v) {
			return
		}
	}
	for _, rule := range a.rules() {
		if a.belongs(rule, e) {
			return
		}
	}
	for _, rule := range a.rules() {
		if a.inFolderOf(rule, e.Path) {
			a.find(Fault, e.Path, fmt.Sprintf("%s passes it over: its name is not of the form %s", a.profile.Shown, rule.Path.Shape()),
				"move it to your games, and let Polytome put it here under its right name")
			return
		}
	}
	a.r.Others++
}

// rules are those that hold at the attachment.
func (a *audit) rules() []*loader.Accept {
	if a.held == nil {
		a.held = []*loader.Accept{}
		for i := range a.profile.Accepts {
			rule := &a.profile.Accepts[i]
			if a.on == "" || len(rule.On) == 0 || slices.Contains(rule.On, a.on) {
				a.held = append(a.held, rule)
			}
		}
	}
	return a.held
}

// platform is the one that a path of the rule is for; "" when its folder is that of
// another one.
func (a *audit) platform(rule *loader.Accept, v loader.Values) string {
	said := v[loader.FieldPlatform]
	if said == "" {
		return rule.Platforms[0]
	}
	i := slices.IndexFunc(rule.Platforms, func(p string) bool { return strings.EqualFold(p, said) })
	if i < 0 {
		return ""
	}
	return rule.Platforms[i]
}

// belongs reports whether a file is a part or companion of a title by the rule, and so no
// stray one.
func (a *audit) belongs(rule *loader.Accept, e place.Entry) bool {
	if layout.FolderTitles(rule) {
		for _, dir := range layout.Folders(e.Path) {
			if _, ok := rule.Path.Match(dir); ok {
				return true
			}
		}
	}
	for _, t := range []loader.Template{rule.Tracks, rule.TooLarge.Parts, rule.TooLarge.Manifest} {
		if _, ok := t.Match(e.Path); ok && !strings.EqualFold(path.Ext(e.Path), path.Ext(rule.Path.String())) {
			return true
		}
	}
	return slices.ContainsFunc(a.profile.Companions, func(c loader.Companion) bool {
		_, ok := c.Path.Match(e.Path)
		return ok
	})
}

// inFolderOf reports whether a path lies in a folder where the rule's files do.
func (a *audit) inFolderOf(rule *loader.Accept, file string) bool {
	fold := a.facts.Filesystem.Fold
	for _, f := range a.set.Folders(rule) {
		beside := path.Dir(f) != "." && fold(path.Dir(file)) == fold(path.Dir(f)) // in none of several folders
		if strings.HasPrefix(fold(file), fold(f)+fold("/")) || beside {
			return true
		}
	}
	return false
}

// listed judges a file or folder whose path is one that the rule makes.
func (a *audit) listed(e place.Entry, rule *loader.Accept, v *loader.Values, misnamed string) {
	l := Listed{ID: v[loader.FieldID], Name: v[loader.FieldTitle], Platform: a.platform(rule, *v), Path: e.Path, Size: e.Size, Starts: true}
	if l.Name == "" {
		l.Name = l.ID
	}
	if misnamed != "" {
		a.find(Fault, e.Path, fmt.Sprintf("%s passes it over: %s", a.profile.Shown, misnamed), "take it off, and let Polytome put it here under its right name")
		return
	}
	if e.Size > a.facts.Filesystem.LargestFile {
		a.find(Fault, e.Path, fmt.Sprintf("with %s it is too large for %s: it cannot get onto such a drive whole", size.Format(e.Size), a.facts.Filesystem.Shown), "take it off")
		return
	}
	a.inside(e, rule, v, &l)
	if say := a.inPieces(e.Path); say != "" && !e.Folder {
		l.Starts = false
		a.find(Fault, e.Path, "it is listed, but does not start: "+say, gather)
	}
	if disc := v[loader.FieldDisc]; disc != "" && disc != "1" && strings.Contains(path.Dir(rule.Path.String()), "{title") {
		return // the folder is one line, however many discs lie in it
	}
	a.r.Listed = append(a.r.Listed, l)
}

// inside looks into an image or cartridge, and says what is wrong with it.
func (a *audit) inside(e place.Entry, rule *loader.Accept, v *loader.Values, l *Listed) {
	if rule.As(title.Image) == shape.Pack {
		a.packed(e, rule, v, l)
		return
	}
	if e.Folder || !(slices.Contains(rule.Forms, title.Image) || slices.Contains(rule.Forms, title.Cartridge)) {
		a.unlooked++
		return
	}
	t, err := a.identify(e)
	a.judge(e, rule, v, l, t, err)
}

// judge says what is wrong with an image or cartridge that was looked into.
func (a *audit) judge(e place.Entry, rule *loader.Accept, v *loader.Values, l *Listed, t *title.Title, err error) {
	wrong := func(say, remedy string) {
		l.Starts = false
		a.find(Fault, e.Path, say, remedy)
	}
	switch {
	case err != nil:
		wrong(fmt.Sprintf("it is listed, but cannot be read: %v", err), "put it here again")
	case t == nil || !slices.Contains(rule.Platforms, t.Platform) || t.Platform != l.Platform && v[loader.FieldPlatform] != "":
		wrong(fmt.Sprintf("it is listed, but does not start: it is no %s %s", l.Platform, rule.Forms[0]), "take it off, or put the right one here")
	default:
		l.Kind, l.Platform = t.Discs[0].Kind, t.Platform
		if f := t.Fault(); f != nil {
			wrong("it is listed, but does not start: "+f.Say, f.Remedy)
			break
		}
		within := t.Discs[0]
		if id := v[loader.FieldID]; id != "" && !strings.EqualFold(within.ID, id) {
			wrong(fmt.Sprintf("its name says %s, but the image inside is %s", id, within.ID), "take it off, and let Polytome put it here under its right name")
		}
		if kind := v[loader.FieldKind]; kind != "" && !strings.EqualFold(kind, within.Kind) {
			wrong(fmt.Sprintf("it lies in the folder for %s discs, but is a %s disc, and does not start", strings.ToLower(kind), within.Kind), "take it off, and let Polytome put it into its right folder")
		}
	}
}

// misnamed says what in a file's name breaks the loader's rules, or "".
func (a *audit) misnamed(rule *loader.Accept, v *loader.Values) string {
	if p := a.set.Platform(a.platform(rule, *v)); p != nil {
		if id := v[loader.FieldID]; id != "" && p.Fields.ID.Pattern.Regexp != nil && !p.Fields.ID.Pattern.MatchString(strings.ToUpper(id)) {
			return fmt.Sprintf("%q is no ID of the %s", id, p.Shown)
		}
		if kind := v[loader.FieldKind]; kind != "" && !slices.ContainsFunc(p.Kinds, func(k loader.DiscKind) bool { return strings.EqualFold(k.Name, kind) }) {
			return fmt.Sprintf("it does not look into the folder %s", kind)
		}
	}
	name := v[loader.FieldTitle]
	if n := rule.Title.Length(name); rule.Title.Longest > 0 && n > rule.Title.Longest {
		return fmt.Sprintf("the title in its name has %d characters, and %d are allowed", n, rule.Title.Longest)
	}
	for _, r := range name {
		if !rule.Title.Permits(r) {
			return fmt.Sprintf("the character %q is not allowed in a name", r)
		}
	}
	return ""
}

func (a *audit) identify(e place.Entry) (*title.Title, error) {
	c, err := a.place.Open(a.ctx, e.Path)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	head := make([]byte, 8)
	if n, _ := c.ReadAt(head, 0); n == len(head) {
		if kind := archive.KindOf(head); kind != "" && kind != ".rar" && strings.EqualFold(kind, path.Ext(e.Path)) {
			return intake.IdentifyPacked(c, c.Size(), e.Path, a.set)
		}
	}
	return intake.Identify(c, c.Size(), e.Path, a.set)
}
