package check

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"polytome/internal/core/fix"
	"polytome/internal/core/kit"
	"polytome/internal/core/loader"
	"polytome/internal/core/settings"
	"polytome/internal/size"
	"polytome/internal/target"
)

// attachment finds by what the loader reaches the target, and whether it can.
func (y *loaderAudit) attachment() {
	via, fs := y.o.Via, y.facts.Filesystem
	stop := func(kind Kind, say, remedy string) {
		y.report(Finding{Kind: kind, Grade: Stops, Say: say, Remedy: remedy, Loader: y.profile.Name})
	}
	y.at = y.profile.Attachment(via, fs.Name)
	if y.at == nil {
		stop(Via, fmt.Sprintf("%s does not support %s", y.profile.Shown, via), "use another connection: "+strings.Join(
			y.profile.Connections(), ", "))
		return
	}
	y.on, y.cased = y.at.Name, y.at.Case == "kept"
	label, shown := y.facts.Label, y.profile.Shown
	switch {
	case !y.at.Reads(fs.Name):
		stop(Filesystem, fmt.Sprintf("over %[1]s, %[2]s reads only %[3]s; this target is %[4]s", via, shown,
			y.at.ReadsWords(), fs.Shown),
			"format it as "+y.at.ReadsWords()+", or declare the folder's filesystem with --as")
	case y.at.Label != "" && label != "" && !strings.EqualFold(y.at.Label, label):
		stop(Label, fmt.Sprintf("the volume is labelled %s, but %s needs the label %s", label, shown, y.at.Label),
			"change the label in Drives, or prepare the drive again")
	case label != "" && slices.ContainsFunc(y.at.LabelNot, func(l string) bool { return strings.EqualFold(l, label) }):
		stop(Label, fmt.Sprintf("the volume is labelled %s, which %s does not accept", label, shown),
			"give the volume another label")
	case y.at.Label != "" && label == "":
		y.r.Unchecked = append(y.r.Unchecked,
			fmt.Sprintf("whether the volume is labelled %s, as %s needs: a folder does not show it", y.at.Label, shown))
	}
	if y.at.LargestVolume > 0 && y.facts.Capacity > int64(y.at.LargestVolume) {
		stop(Filesystem, fmt.Sprintf("the volume has %s, but %s reads at most %s", size.Format(y.facts.Capacity), shown,
			size.Format(int64(y.at.LargestVolume))), "make the volume smaller")
	}
	if t, ok := y.target.(interface{ PartitionTable() string }); ok && y.at.PartitionTable != "" &&
		y.at.PartitionTable != "any" && t.PartitionTable() != y.at.PartitionTable {
		has := "the drive has no partition table"
		if t.PartitionTable() != "none" {
			has = "the drive has the partition table " + strings.ToUpper(t.PartitionTable())
		}
		stop(Table, fmt.Sprintf("%s, but %s needs %s", has, shown, strings.ToUpper(y.at.PartitionTable)),
			"prepare the drive again; first copy what is on it elsewhere")
	}
	if y.at.Contiguous {
		if _, y.pieces = y.target.(target.FragmentCounter); !y.pieces {
			y.r.Unchecked = append(y.r.Unchecked,
				fmt.Sprintf("whether every image is contiguous, as %s needs: a folder does not show it", shown))
		}
	}
}

// here is where the loader's own files are looked for.
func (y *loaderAudit) here() loader.Here {
	h := loader.Here{Attachment: y.on, Via: y.at.Via, Filesystem: y.facts.Filesystem.Name, Volume: y.o.Volume}
	if !y.facts.Unknown {
		h.Capacity = y.facts.Capacity
	}
	return h
}

// kit looks for the loader's own files.
func (y *loaderAudit) kit() {
	k := &y.profile.Kit
	if !y.here().HasKit(k) {
		return
	}
	reported := map[string]bool{}
	for i := range k.Files {
		f := &k.Files[i]
		key := y.tree.fold(f.To)
		if f.Optional || reported[key] || !y.here().Needs(f) || len(f.Platforms) > 0 && !slices.ContainsFunc(y.lines,
			func(l *line) bool { return slices.Contains(f.Platforms, l.Platform) }) {
			continue
		}
		reported[key] = true
		if e, ok := y.tree.find(f.To); ok {
			if !e.Folder && e.Size == 0 {
				y.report(Finding{Kind: Kit, Grade: Fault, Path: e.Path, Say: fmt.Sprintf("it is empty, but is %s",
					reason(f)), Remedy: "copy " + y.kitName() + " again"})
			}
			continue
		}
		if y.deciding(f.To) { // reported as the setting without which nothing is listed
			continue
		}
		found := Finding{Kind: Kit, Grade: Fault, Path: f.To, Say: fmt.Sprintf("missing: %s", reason(f)),
			Remedy: "copy " + y.kitName() + " to the target"}
		if f.Text != "" {
			found.Remedy, found.Fixes = "write it",
				[]fix.Fix{{Do: fix.Write, Path: f.To, Text: strings.TrimPrefix(f.Text, "\n")}}
		} else if e := y.downloaded(k, f.To); e != nil {
			found.Say = fmt.Sprintf("missing: %s; %s is there under its download name", reason(f), e.Path)
			found.Remedy, found.Fixes = "rename it to "+f.To, []fix.Fix{{Do: fix.Rename, Path: e.Path, To: f.To}}
			y.claim(e.Path)
		}
		y.report(found)
	}
	if len(k.Editions) > 0 {
		y.r.Unchecked = append(y.r.Unchecked, fmt.Sprintf("which edition of %s is there: they share one name",
			y.kitName()))
	}
}

func reason(f *loader.KitFile) string {
	if f.Why != "" {
		return f.Why
	}
	return "one of the loader's own files"
}

func (y *loaderAudit) kitName() string {
	if y.profile.Kit.Shown != "" {
		return y.profile.Kit.Shown
	}
	return y.profile.Shown + "'s own files"
}

// downloaded finds a file of the kit that is where it belongs, or at the root, under its name as it was downloaded.
func (y *loaderAudit) downloaded(k *loader.Kit, to string) *target.Entry {
	for _, dir := range []string{path.Dir(to), "."} {
		for _, e := range y.tree.within(dir) {
			for i := range k.Files {
				f := &k.Files[i]
				if y.tree.fold(f.To) != y.tree.fold(to) || e.Folder {
					continue
				}
				base := path.Base(e.Path)
				if slices.ContainsFunc(f.From, func(p string) bool { return loader.MatchFile(p, base) }) ||
					strings.EqualFold(withoutMark(base), path.Base(to)) {
					return e
				}
			}
		}
	}
	return nil
}

// systems looks for the files of the console's that games need.
func (y *loaderAudit) systems() {
	for i := range y.profile.SystemImages {
		s := &y.profile.SystemImages[i]
		e, ok := y.tree.file(s.To)
		say := ""
		switch {
		case !ok:
			say = fmt.Sprintf("%s is missing: %s", s.Shown, s.Why)
		case !s.Sized(e.Size):
			say = fmt.Sprintf("%s has %s instead of %s: %s", s.Shown, size.Format(e.Size), size.Format(int64(s.Size)),
				s.Why)
		case y.o.Depth != Names:
			switch fits, sure, err := y.isImage(s, e); {
			case err != nil:
				say = fmt.Sprintf("%s cannot be read (%v): %s", s.Shown, err, s.Why)
			case !fits && len(s.Sums) == 0:
				say = fmt.Sprintf("%s is another file, as its bytes say: %s", s.Shown, s.Why)
			case !fits:
				say = fmt.Sprintf("%s has the wrong checksum: %s", s.Shown, s.Why)
			case !sure:
				y.r.Unchecked = append(y.r.Unchecked, fmt.Sprintf("whether %s is %s: %s", e.Path, s.Shown, s.Unsure()))
			}
		}
		if say == "" {
			continue
		}
		f := Finding{Kind: System, Grade: Fault, Path: s.To, Say: say, Remedy: "put the right file there"}
		if found := y.misnamedSystem(s, e); found != nil {
			f.Say += "; it is there as " + found.Path
			f.Remedy, f.Fixes = "rename it to "+s.To, []fix.Fix{{Do: fix.Rename, Path: found.Path, To: s.To}}
			y.claim(found.Path)
		}
		if s.Optional {
			f.Grade, f.Matters = Remark, "only games that need it will not start"
			if !ok && len(f.Fixes) == 0 {
				continue // it is not needed, and no one put one
			}
		} else {
			for _, l := range y.lines {
				l.Starts = false
			}
		}
		y.report(f)
	}
}

// misnamedSystem finds a system image under another name: in its folder or at the root, by its checksum.
func (y *loaderAudit) misnamedSystem(s *loader.SystemImage, there *target.Entry) *target.Entry {
	if there != nil || y.o.Depth == Names {
		return nil
	}
	for _, dir := range []string{path.Dir(s.To), "."} {
		for _, e := range y.tree.within(dir) {
			if e.Folder || !s.MayBe(path.Base(e.Path), e.Size) {
				continue
			}
			if fits, sure, err := y.isImage(s, e); err == nil && fits && sure {
				return e
			}
		}
	}
	return nil
}

// isImage reports whether a file is a system image, as far as is known of it.
func (a *audit) isImage(s *loader.SystemImage, e *target.Entry) (fits, sure bool, err error) {
	c, err := a.open(e.Path)
	if err != nil {
		return false, false, err
	}
	defer c.Close()
	return kit.Is(s, c)
}

// settings reads the loader's own files for the values that decide what it shows.
func (y *loaderAudit) settings() {
	for i := range y.profile.Settings {
		s := &y.profile.Settings[i]
		if !y.here().Wants(s) {
			continue
		}
		f := Finding{Kind: Setting, Grade: Remark, Path: s.File, Remedy: s.Remedy, Matters: s.Otherwise}
		if s.Lists {
			f.Grade = Stops
		}
		set := []fix.Fix{{Do: fix.Set, Path: s.File, Syntax: s.Syntax, Section: s.Section, Key: s.Key, Value: s.Value}}
		e, ok := y.tree.file(s.File)
		if !ok {
			f.Say = "the file is missing: " + s.Otherwise
			y.withoutCovers(s)
			if !s.Lists && y.ofKit(s.File) { // reported as one of the kit's
				continue
			}
			if text := y.settingsText(s.File); text != "" {
				f.Remedy, f.Fixes = "create it with the required settings",
					[]fix.Fix{{Do: fix.Write, Path: s.File, Text: text}}
			}
			y.report(f)
			continue
		}
		text, err := y.tree.text(e)
		got := ""
		if err == nil {
			got, _, err = settings.Get(text, settings.Syntax(s.Syntax), s.Section, s.Key)
		}
		switch {
		case err != nil:
			f.Say = fmt.Sprintf("it cannot be read (%v): %s", err, s.Otherwise)
		case got == s.Value:
			continue
		case got == "":
			f.Say, f.Fixes = fmt.Sprintf("it lacks %s=%s: %s", s.Key, s.Value, s.Otherwise), set
		default:
			f.Say, f.Fixes = fmt.Sprintf("it says %s=%s instead of %s=%s: %s", s.Key, got, s.Key, s.Value,
				s.Otherwise), set
		}
		y.withoutCovers(s)
		f.Path = e.Path
		for k := range f.Fixes {
			f.Fixes[k].Path = e.Path
		}
		y.report(f)
	}
}

// withoutCovers takes the covers out of the list, where they are not shown because of a setting.
func (y *loaderAudit) withoutCovers(s *loader.Setting) {
	if s.Covers {
		for _, l := range y.lines {
			l.Cover = ""
		}
	}
}

// settingsText is what is known to belong into one of the loader's own files: its settings; "" where that is nothing,
// or cannot be written so.
func (y *loaderAudit) settingsText(file string) (text string) {
	for i := range y.profile.Settings {
		s := &y.profile.Settings[i]
		if y.tree.fold(s.File) != y.tree.fold(file) || !y.here().Wants(s) {
			continue
		}
		with, err := settings.Set(text, settings.Syntax(s.Syntax), s.Section, s.Key, s.Value)
		if err != nil {
			return ""
		}
		text = with
	}
	return text
}

// ofKit reports whether a file is one of the kit's here.
func (y *loaderAudit) ofKit(file string) bool {
	k := &y.profile.Kit
	return y.here().HasKit(k) && slices.ContainsFunc(k.Files,
		func(f loader.KitFile) bool { return y.here().Needs(&f) && y.tree.fold(f.To) == y.tree.fold(file) })
}

// deciding reports whether a file holds a setting without which the loader lists nothing from here.
func (y *loaderAudit) deciding(file string) bool {
	return slices.ContainsFunc(y.profile.Settings, func(s loader.Setting) bool {
		return s.Lists && y.here().Wants(&s) && y.tree.fold(s.File) == y.tree.fold(file)
	})
}
