package check

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"polytome/internal/core/fix"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/format/cuesheet"
	"polytome/internal/target"
)

// whole is a finding of a game that is not whole, with its remedy.
func (y *loaderAudit) whole(l *line, f Finding) Finding {
	paths := []string{l.e.Path}
	if l.e.Folder {
		paths = nil
		for _, e := range []*target.Entry{y.marker(l)} {
			if e != nil {
				paths = append(paths, e.Path)
			}
		}
	}
	if f.Path != "" && !slices.Contains(paths, f.Path) {
		paths = append([]string{f.Path}, paths...)
	}
	f.Remedy, f.Fixes = y.again("remove it, and copy the right one here", paths...)
	return f
}

// elsewhere is the remedy for the game of a line that is not where it belongs. One in parts is put again: moving some
// of its files would tear it apart.
func (y *loaderAudit) elsewhere(l *line, t *title.Title) (remedy string, fixes []fix.Fix) {
	if l.parts == nil {
		return y.moved(l.e, t)
	}
	paths := []string{l.e.Path}
	for _, p := range l.parts {
		paths = append(paths, p.Path)
	}
	return y.again("remove all its parts, and copy the title here again", paths...)
}

// moved is the remedy for a game that is not where it belongs: its right path, when the loader has one for it.
func (y *loaderAudit) moved(e *target.Entry, t *title.Title) (remedy string, fixes []fix.Fix) {
	to, why := y.home(e, t)
	switch {
	case to == "" && why != "":
		return "remove it: " + why, nil
	case to == "":
		return "remove it, or copy the right one here", nil
	}
	if there, ok := y.tree.find(to); ok && there != e {
		return fmt.Sprintf("it belongs at %s, but something else is there: decide which one you want, and remove the "+
			"other", to), nil
	}
	return "rename it to " + to, []fix.Fix{{Do: fix.Rename, Path: e.Path, To: to}}
}

// home is where a game that lies somewhere belongs by the loader's rules: "" when there is no such path, with the
// reason where the loader does not take it.
func (y *loaderAudit) home(e *target.Entry, t *title.Title) (to, why string) {
	if t == nil || t.Platform == "" || t.Fault() != nil {
		return "", ""
	}
	pl := y.laid(e, t, e.Size)
	if pl.Refusal != nil {
		return "", pl.Refusal.Say
	}
	if len(pl.Items) == 0 || pl.Items[0].Shape != shape.Whole {
		return "", ""
	}
	if e.Folder {
		v, dir := loader.Values{}, pl.Items[0].Path
		for ; dir != "."; dir = path.Dir(dir) {
			if got, ok := pl.Rule.Path.Match(dir); ok {
				v = got
			}
		}
		return y.made(pl.Rule.Path, &v), ""
	}
	return pl.Items[0].Path, ""
}

// laid is where the loader wants a game of so many bytes that lies somewhere on the target.
func (y *loaderAudit) laid(e *target.Entry, t *title.Title, size int64) *layout.Placement {
	one := *t
	one.Findings, one.Key = nil, e.Path
	one.Discs = slices.Clone(t.Discs)
	one.Discs[0].File = title.File{Path: "/" + e.Path, Size: size, Modified: e.Modified}
	if e.Folder {
		for _, f := range y.below(e.Path) {
			one.Discs[0].Parts = append(one.Discs[0].Parts, title.Part{Name: strings.TrimPrefix(f.Path, e.Path+"/"),
				File: title.File{Path: "/" + f.Path, Size: f.Size}})
		}
	}
	tree := layout.Lay([]title.Title{one}, y.profile, layout.Destination{Attachment: y.at,
		Filesystem: y.facts.Filesystem, Volume: y.here().Volume, Capacity: y.here().Capacity})
	return &tree.Placements[0]
}

// renamed is the remedy for a file whose name is not one of the loader's: the right one, as far as it can be reported.
func (y *loaderAudit) renamed(e *target.Entry, rule *loader.Accept, v *loader.Values) (remedy string, fixes []fix.Fix) {
	if to := y.guess(e, rule, v); to != "" {
		return "rename it to " + to, []fix.Fix{{Do: fix.Rename, Path: e.Path, To: to}}
	}
	if slices.Contains(rule.Forms, title.Tracks) && strings.EqualFold(path.Ext(e.Path), ".cue") {
		if m := y.intoFolder(e, rule); m != nil {
			return "move it and its tracks into their own folder", m
		}
	}
	if y.o.Depth != Names && !e.Folder {
		if t, err := y.identify(e); err == nil && t != nil && t.Platform != "" {
			return y.moved(e, t)
		}
	}
	if y.o.Depth == Names {
		return "rename it, or copy it here again; a check that looks inside shows the right name", nil
	}
	return "remove it, and copy the title here from your games", nil
}

// guess tries the names that a slip would have come from: without the mark of a second copy, in the right letter case,
// with the extension or the length that is right, called like its folder.
func (y *loaderAudit) guess(e *target.Entry, rule *loader.Accept, v *loader.Values) string {
	free := func(to string) bool {
		there, ok := y.tree.find(to)
		if ok && there != e || to == e.Path {
			return false
		}
		got, ok := rule.Path.Match(to)
		if !ok {
			return false
		}
		platform := layout.PlatformOf(rule, &got)
		if platform == "" {
			return false
		}
		moved := *e
		moved.Path = to
		if e.Folder { // what is in it is looked for where it is
			return y.lacks(rule, platform, e.Path) == "" && layout.TitleWrong(rule, got[loader.FieldTitle]) == ""
		}
		_, say := y.misnamed(rule, &got, platform, &moved)
		return say == "" && y.limits(to) == ""
	}
	if v != nil {
		cleaned := *v
		for _, name := range []string{v[loader.FieldTitle], strings.TrimSuffix(withoutMark(v[loader.FieldTitle]+"."),
			".")} {
			cleaned[loader.FieldTitle] = clean(rule, name)
			if y.cased || cleaned[loader.FieldTitle] != v[loader.FieldTitle] {
				if to := y.made(rule.Path, &cleaned); free(to) {
					return to
				}
			}
		}
	}
	dir, name := path.Dir(e.Path), path.Base(e.Path)
	ext := path.Ext(rule.Path.String())
	tries := []string{path.Join(dir, withoutMark(name))}
	if ext != "" && !strings.Contains(ext, "{") && !e.Folder {
		base := strings.TrimSuffix(withoutMark(name), path.Ext(name))
		tries = append(tries, path.Join(dir, path.Base(dir)+ext))
		if strings.EqualFold(path.Ext(base), ext) { // such as .iso.iso or .iso.txt
			tries = append(tries, path.Join(dir, base))
		}
	}
	if e.Folder { // the one program in a folder gets its name otherwise
		return ""
	}
	for _, to := range tries {
		if strings.EqualFold(path.Ext(to), ".cue") && !oneSheet(y.tree.within(dir)) {
			continue
		}
		if free(to) {
			return to
		}
	}
	return ""
}

// clean is a name as the rule permits it.
func clean(rule *loader.Accept, name string) string {
	n, _ := layout.NamingOf(&rule.Title).Name(name)
	return n
}

// intoFolder are the moves that bring a loose cue sheet and its tracks into a folder of their own.
func (y *loaderAudit) intoFolder(e *target.Entry, rule *loader.Accept) (out []fix.Fix) {
	if y.o.Depth == Names || rule.Tracks.Uses(loader.FieldIndex) {
		return nil
	}
	text, err := y.tree.text(e)
	if err != nil {
		return nil
	}
	sheet, err := cuesheet.Parse(text)
	if err != nil {
		return nil
	}
	var v loader.Values
	v[loader.FieldTitle] = clean(rule, strings.TrimSuffix(path.Base(e.Path), path.Ext(e.Path)))
	v[loader.FieldPlatform] = rule.Platforms[0]
	to := y.made(rule.Path, &v)
	if _, there := y.tree.find(to); there || v[loader.FieldTitle] == "" {
		return nil
	}
	out = append(out, fix.Fix{Do: fix.Rename, Path: e.Path, To: to})
	for _, f := range sheet.Files {
		track, ok := y.tree.file(path.Join(path.Dir(e.Path), f.Name))
		if !ok {
			return nil
		}
		v[loader.FieldFile] = f.Name
		at := y.made(rule.Tracks, &v)
		if at == track.Path {
			continue
		}
		if _, there := y.tree.find(at); there {
			return nil
		}
		out = append(out, fix.Fix{Do: fix.Rename, Path: track.Path, To: at})
		y.need(track.Path)
	}
	return out
}

// again is the remedy of putting a title here again from the user's games, where it is among them.
func (y *loaderAudit) again(words string, paths ...string) (remedy string, fixes []fix.Fix) {
	if y.o.Source == nil || len(paths) == 0 {
		return words, nil
	}
	for _, p := range paths {
		files, ok := y.o.Source(y.profile, p)
		if !ok {
			continue
		}
		for _, f := range files { // what is wrong of it is written over, and what is missing is put
			e, there := y.tree.file(f.Path)
			bad := slices.ContainsFunc(paths, func(p string) bool { return y.tree.fold(p) == y.tree.fold(f.Path) })
			if there && (bad || f.Size >= 0 && e.Size != f.Size) {
				fixes = append(fixes, fix.Fix{Do: fix.Copy, Path: e.Path, Title: f.Key})
			}
		}
		if len(fixes) == 0 {
			fixes = []fix.Fix{{Do: fix.Copy, Title: files[0].Key}}
		}
		return fmt.Sprintf("copy %s here again from your games", files[0].Label), fixes
	}
	return words, nil
}
