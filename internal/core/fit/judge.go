package fit

import (
	"fmt"
	"path"
	"strings"

	"polytome/internal/core/layout"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/parallel"
	"polytome/internal/target"
)

// A reason is a verdict with the words that go with it.
type reason struct {
	Verdict
	path   string // the path that decided
	detail string
}

// dirCheck is what was found out about a folder, for all the files in it.
type dirCheck struct {
	kind   Kind // Copy for nothing to say against it
	path   string
	detail string
}

// fold brings a path into the form in which two paths are the same on the target.
func (s *Sheet) fold(p string) string { return s.of.Facts.Filesystem.Fold(p) }

// parent is the folder above a path, "." for the root.
func parent(p string) string {
	if i := strings.LastIndexByte(p, '/'); i > 0 {
		return p[:i]
	}
	return "."
}

// closeFolders finds the folders that the console would have made by itself on a target that it has
// already prepared, and did not make.
func (s *Sheet) closeFolders() {
	s.closed = make([]map[string]bool, len(s.of.Loaders))
	for k := range s.of.Loaders {
		p := s.of.Loaders[k].Profile
		if p.FirstBoot.MayAdd {
			continue
		}
		out, prepared := map[string]bool{}, false
		for _, f := range layout.FirstBoot(p) {
			key := s.fold(f)
			if e, ok := s.present[key]; ok && e.Folder {
				prepared = true
				continue
			}
			out[key] = true
		}
		if prepared {
			s.closed[k] = out
		}
	}
}

// checkFolders looks at every folder that a title wants, once for all the files in it.
func (s *Sheet) checkFolders() {
	last := ""
	for i := range s.of.Titles {
		pl := s.Placement(i)
		for k := range pl.Items {
			dir := parent(pl.Items[k].Path)
			if dir == last {
				continue
			}
			last = dir
			s.checkFolder(dir, int(s.by[i]))
		}
	}
}

func (s *Sheet) checkFolder(dir string, by int) dirCheck {
	if dir == "." {
		return dirCheck{}
	}
	key := dirKey(by, dir)
	if c, ok := s.dirs[key]; ok {
		return c
	}
	c := s.checkFolder(parent(dir), by)
	folded := s.fold(dir)
	p := s.of.Loaders[by].Profile
	switch why := s.of.Facts.Filesystem.CheckName(path.Base(dir)); {
	case c.kind != Copy:
	case s.closed[by][folded]:
		c = dirCheck{Unsupported, dir, fmt.Sprintf("the console has created its folders, but %s is not among them: %s",
			dir, p.FirstBoot.Why)}
	case why != "":
		c = dirCheck{BadName, dir, why}
	default:
		if e, ok := s.present[folded]; ok && !e.Folder {
			c = dirCheck{Differs, dir, "a file"}
		}
	}
	s.dirs[key] = c
	return c
}

// dirKey tells the folders of several loaders apart.
func dirKey(by int, dir string) string {
	if by == 0 {
		return dir
	}
	return fmt.Sprint(by, "\x00", dir)
}

// judge finds what holds for a title whatever else is chosen.
func (s *Sheet) judge(i int) reason {
	t, pl := &s.of.Titles[i], s.Placement(i)
	facts := &s.of.Facts
	var v reason
	if pl.Refusal != nil {
		v.Space = facts.SpaceFor("", t.Size())
	}
	for k := range pl.Items {
		v.Space += facts.SpaceFor(pl.Items[k].Path, pl.Items[k].Size)
	}
	v.Need = v.Space
	destination := s.of.Loaders[s.by[i]].Tree.Destination()
	at := destination.Attachment
	switch {
	case pl.Refusal != nil && pl.Refusal.Foreign:
		v.Kind, v.detail = Foreign, pl.Refusal.Say
		return v
	case !t.OK():
		v.Kind = bad(t)
		return v
	case !s.of.Carried && (at == nil || !at.Reads(facts.Filesystem.Name)):
		v.Kind = Unsupported
		return v
	case pl.Refusal != nil && pl.Refusal.NoPicture:
		v.Kind, v.detail = NoPicture, pl.Refusal.Say
		return v
	case pl.Refusal != nil && pl.Refusal.Name:
		v.Kind, v.detail = BadName, pl.Refusal.Say
		return v
	case pl.Refusal != nil:
		v.Kind, v.detail = Unsupported, pl.Refusal.Say
		return v
	}
	found := s.of.Found[i]
	moved := false
	limit := destination.LargestFile()
	v.Kind = Present
	how := Copy
	for k := range pl.Items {
		item := &pl.Items[k]
		v.Disc, v.path = int32(item.Disc), item.Path
		if !item.Ready() {
			v.Kind, v.detail = NotYet, string(item.Shape)
			return v
		}
		if item.Size > limit {
			v.Kind, v.Number = TooBig, item.Size-limit
			return v
		}
		if c := s.dirs[dirKey(int(s.by[i]), parent(item.Path))]; c.kind != Copy {
			v.Kind, v.path, v.detail = c.kind, c.path, c.detail
			return v
		}
		if why := facts.Filesystem.CheckName(path.Base(item.Path)); why != "" {
			v.Kind, v.detail = BadName, why
			return v
		}
		if as := shapeOf(t, item); as > how {
			how, v.Shape = as, item.Shape
		}
		if item.Shape == shape.Split || item.Shape == shape.Pack {
			v.Parts++
		}
		v.AtMost = v.AtMost || item.AtMost
		folded := s.fold(item.Path)
		e, ok := s.present[folded]
		switch {
		case !ok:
			if v.Kind == Present {
				v.Kind = Copy
			}
			if found != nil && found[k] != "" {
				v.Need -= facts.SpaceFor(item.Path, item.Size)
				moved = true
			}
		case e.Folder:
			v.Kind, v.detail = Differs, "a folder"
			return v
		case s.Holding(item): // a text may have been changed by hand, and stays
			v.Need -= facts.SpaceFor(item.Path, item.Size)
		case e.Size == 0 && item.Shape == shape.Written: // nothing of anybody's is in it
			v.Need -= facts.SpaceFor(item.Path, 0)
			if v.Kind == Present {
				v.Kind = Copy
			}
		case s.replace[folded]:
			v.Need -= facts.SpaceFor(e.Path, e.Size)
			v.Kind = Replaced
		default:
			v.Kind, v.Number, v.detail = Differs, e.Size, "a file of another size"
			if e.Size == item.Size {
				v.detail = "an older file of the same length with other content"
			}
			return v
		}
	}
	if v.Disc = 0; len(pl.Items) > 0 { // none where nothing of the title is carried but its line in a list
		v.path = pl.Items[0].Path
	}
	switch {
	case moved:
		v.Kind = Renamed
	case v.Kind == Copy:
		v.Kind = how
	}
	s.companionSpace(i, &v)
	return v
}

// bad reports what a bad title waits for, where it waits for something that can be given.
func bad(t *title.Title) Kind {
	switch {
	case t.Encrypted:
		return Locked
	case len(t.Discs) < t.Of:
		return NoDisc
	}
	return Bad
}

// shapeOf is the verdict on an item that is brought into another shape, Copy for none. Sheets and texts
// that go with a title do not make another shape of it.
func shapeOf(t *title.Title, item *layout.Item) Kind {
	switch item.Shape {
	case shape.Split:
		return Parts
	case shape.Pack:
		return Packed
	case shape.Unpack:
		return Unpacked
	case shape.Whole:
		if item.Source.Entry != "" && t.Form != title.Image {
			return Unpacked
		}
		return Copy
	case shape.Written, shape.Fitted, shape.Sheet, shape.Patched:
		return Copy
	}
	return Converted
}

// findCompanions works out, for all titles that a loader takes, which companions they want.
func (s *Sheet) findCompanions() {
	any := false
	for k := range s.of.Loaders {
		for c := range s.of.Loaders[k].Profile.Companions {
			any = any || !s.of.Loaders[k].Profile.Companions[c].Decides()
		}
	}
	if !any {
		return
	}
	if len(s.of.Loaders) == 1 {
		s.extras = s.of.Loaders[0].Tree.Besides(s.of.Covers)
		return
	}
	s.extras = make([][]layout.Beside, len(s.of.Titles))
	parallel.Each(len(s.extras), func(i int) {
		s.extras[i] = s.of.Loaders[s.by[i]].Tree.Beside(i, s.of.Covers)
	})
}

// Companions are the files that belong to title i, are written with it, and are not there yet: texts, and
// covers for which there is a picture. There are none for which there is no space.
func (s *Sheet) Companions(i int) (out []layout.Companion) {
	extras := s.extra(i)
	for k := range extras {
		if isCover := extras[k].Spec.Is == "cover"; isCover && !s.dressed[i] || !isCover && s.bare[i] {
			continue
		}
		if _, there := s.present[s.fold(extras[k].Path)]; !there {
			out = append(out, s.of.Loaders[s.by[i]].Tree.Companion(i, &extras[k]))
		}
	}
	return out
}

// Beside are the paths of all companions of title i that can be written, whether they are there or not.
func (s *Sheet) Beside(i int) (out []string) {
	for _, x := range s.extra(i) {
		out = append(out, x.Path)
	}
	return out
}

func (s *Sheet) extra(i int) []layout.Beside {
	if s.extras == nil {
		return nil
	}
	return s.extras[i]
}

// companionSpace adds the space of a title's companions, but for its covers, which get what titles leave.
func (s *Sheet) companionSpace(i int, v *reason) {
	for _, x := range s.extra(i) {
		if x.Spec.Is == "cover" {
			continue
		}
		space := s.of.Facts.SpaceFor(x.Path, x.Size)
		v.Space += space
		if _, there := s.present[s.fold(x.Path)]; !there {
			v.Need += space
		}
	}
}

// noteNames notes which names a title adds to which folders.
func (s *Sheet) noteNames(i int) {
	pl := s.Placement(i)
	var space [few]touch
	list := space[:0]
	if s.base[i].Kind != Present {
		for k := range pl.Items {
			list = s.noteName(list, pl.Items[k].Path)
		}
	}
	for _, x := range s.extra(i) {
		if x.Spec.Is != "cover" {
			list = s.noteName(list, x.Path)
		}
	}
	s.names.note(list)
}

// noteName adds a file's name to a list, unless it is there.
func (s *Sheet) noteName(list []touch, file string) []touch {
	if _, there := s.present[s.fold(file)]; there {
		return list
	}
	return add(list, s.names.number(parent(file), s.fold), s.of.Facts.Filesystem.EntryBytes(path.Base(file)))
}

// noteLists estimates how much each title adds to the files in which all titles are listed.
func (s *Sheet) noteLists() {
	for k := range s.of.Loaders {
		tree := s.of.Loaders[k].Tree
		for _, l := range tree.ListLines() {
			space := listSpace{path: l.Path, around: int64(l.Around()), bare: l.Bare(), lines: map[int]int32{}}
			l.Titles(func(i int) {
				if int(s.by[i]) == k && s.base[i].Kind.Goes() {
					if n := l.Bytes(i); n > 0 {
						space.lines[i] = int32(n)
					}
				}
			})
			reported := len(space.lines) > 0
			if e, ok := s.present[s.fold(l.Path)]; ok {
				space.was = e.Size
			} else if reported {
				s.Kept += s.names.reserve(l.Path, s.fold)
			}
			s.lists = append(s.lists, space)
		}
	}
}

// space is what a list takes on the target.
func (l *listSpace) space(f target.Facts) int64 {
	if l.bytes == 0 {
		return f.SpaceFor(l.path, l.was)
	}
	if l.bare {
		return f.SpaceFor(l.path, max(l.around, l.was))
	}
	return f.SpaceFor(l.path, max(l.around+l.bytes, l.was+l.fresh))
}

// reported is the list with a title's lines, or without them.
func (s *Sheet) reported(l listSpace, i, sign int) listSpace {
	n := int64(sign) * int64(l.lines[i])
	l.bytes += n
	if s.base[i].Kind != Present {
		l.fresh += n
	}
	return l
}

// telling is by how many bytes the files in which all titles are listed grow on the target with a title's lines, or
// without them.
func (s *Sheet) emitting(i, sign int) (grown int64) {
	for k := range s.lists {
		after := s.reported(s.lists[k], i, sign)
		grown += after.space(s.of.Facts) - s.lists[k].space(s.of.Facts)
	}
	return grown
}

// tell adds a title's lines to those files, or takes them out, and returns by how many bytes they grow.
func (s *Sheet) emit(i, sign int) (grown int64) {
	grown = s.emitting(i, sign)
	for k := range s.lists {
		s.lists[k] = s.reported(s.lists[k], i, sign)
	}
	return grown
}

// noteFreed estimates, where the target is to hold exactly what is chosen, what titles free that are
// there and are not chosen, and what leaves in any case.
func (s *Sheet) noteFreed() {
	if !s.of.DeleteOthers {
		return
	}
	s.freedBy = map[int]int64{}
	mine := map[string]bool{}
	for i := range s.of.Titles {
		if s.Placement(i).Refusal != nil {
			continue
		}
		var freed int64
		for _, p := range s.Holds(i) {
			if e, ok := s.present[s.fold(p)]; ok && !mine[s.fold(p)] {
				mine[s.fold(p)] = true
				freed += s.of.Facts.SpaceFor(e.Path, e.Size)
			}
		}
		if freed > 0 {
			s.freedBy[i] = freed
		}
	}
	for key, e := range s.present {
		if !e.Folder && !mine[key] && s.Owns(e.Path) {
			s.removing[key] = true
			s.Freed += s.of.Facts.SpaceFor(e.Path, e.Size)
			s.Kept -= s.of.Facts.SpaceFor(e.Path, e.Size)
		}
	}
}

// At is what is on the target under a path and stays; ok is false for nothing.
func (s *Sheet) At(file string) (e target.Entry, ok bool) {
	e, ok = s.present[s.fold(file)]
	return e, ok
}

// Holding reports whether an item is on the target already, as far as is known. A text may have been
// changed by hand, and is there all the same.
func (s *Sheet) Holding(item *layout.Item) bool {
	e, there := s.present[s.fold(item.Path)]
	if !there || e.Folder {
		return false
	}
	switch {
	case item.Shape == shape.Written, item.Shape == shape.Fitted, item.Shape == shape.Patched:
		return (e.Size > 0 || item.Size == 0) && !s.of.Changed[e.Path]
	case item.AtMost:
		return e.Size > 0 && e.Size <= item.Size && !s.of.Changed[e.Path]
	}
	return e.Size == item.Size && !s.of.Changed[e.Path]
}

// Holds are the paths of title i on the target, if it is there: its items and companions, and where
// they were found under other names.
func (s *Sheet) Holds(i int) []string {
	var out []string
	pl := s.Placement(i)
	for k := range pl.Items {
		out = append(out, pl.Items[k].Path)
	}
	for _, p := range s.of.Found[i] {
		if p != "" {
			out = append(out, p)
		}
	}
	for _, x := range s.extra(i) {
		out = append(out, x.Path)
	}
	return out
}

// Owns reports whether a loader of the target knows a file as one of a title.
func (s *Sheet) Owns(file string) bool {
	for k := range s.of.Loaders {
		l := &s.of.Loaders[k]
		on := ""
		if at := l.Tree.Destination().Attachment; at != nil {
			on = at.Name
		}
		if layout.Owns(l.Profile, on, file) {
			return true
		}
	}
	return false
}

// Leaves reports whether an entry of the target leaves, and why.
func (s *Sheet) Leaves(e target.Entry) (why string, leaves bool) {
	key := s.fold(e.Path)
	if e.Folder {
		return "", false
	}
	if s.removing[key] {
		if s.marked(key) {
			return "you marked it", true
		}
		return "the target removes everything not selected, and this is not selected", true
	}
	return "", false
}

// marked reports whether the user marked a path, or a folder above it.
func (s *Sheet) marked(key string) bool {
	for _, m := range s.of.Removing {
		m = s.fold(m)
		if key == m || strings.HasPrefix(key, m+"/") {
			return true
		}
	}
	return false
}

// Unwanted are the titles that are on the target and leave because they are not chosen.
func (s *Sheet) Unwanted() (out []int) {
	for i := range s.of.Titles {
		if s.freedBy[i] > 0 && !s.Chosen[i] {
			out = append(out, i)
		}
	}
	return out
}
