package learn

import (
	"fmt"
	_ "image/jpeg" // to measure covers
	_ "image/png"
	"path"
	"slices"
	"strings"

	"polytome/internal/core/infer"
	"polytome/internal/core/title"
	"polytome/internal/target"
)

// emptyFolders finds folders that are named like platforms: a console makes such folders
// by itself, before there are games in them.
func (s *student) emptyFolders() {
	below := map[string][]string{} // folder -> platforms that have one in it
	for _, e := range s.look.Entries {
		if !e.Folder {
			continue
		}
		name := path.Base(e.Path)
		if p := s.set.Platform(strings.ToLower(name)); p != nil {
			below[path.Dir(e.Path)] = append(below[path.Dir(e.Path)], p.Name)
		}
	}
	var dirs []string
	for dir, names := range below {
		if len(names) >= 3 {
			dirs = append(dirs, dir)
		}
	}
	slices.Sort(dirs)
	for _, dir := range dirs {
		names := below[dir]
		slices.Sort(names)
		tpl := path.Join(infer.Literal(dir), "{platform}")
		empty := 0
		for _, name := range names {
			if !slices.ContainsFunc(s.look.Entries, func(e target.Entry) bool {
				return strings.HasPrefix(strings.ToLower(e.Path), strings.ToLower(dir+"/"+name+"/"))
			}) {
				empty++
			}
		}
		if empty == 0 {
			continue
		}
		if s.d.Boot == nil {
			s.d.Boot = &Boot{Platforms: names, Why: fmt.Sprintf("the target has these folders, %d of them empty",
				empty)}
		}
		s.d.Boot.Folders = append(s.d.Boot.Folders, tpl)
		s.find(Likely, "the console makes "+tpl+" by itself", "there are folders for %d platforms, %d of them empty",
			len(names), empty)
		if slices.ContainsFunc(s.d.Companions, func(c Companion) bool { return strings.HasPrefix(c.Path, tpl) }) {
			continue
		}
		s.fill(tpl, names)
	}
	if s.d.Boot == nil {
		return
	}
	// Folders beside them that are empty too were made with them.
	for _, e := range s.look.Entries {
		inside := slices.ContainsFunc(s.look.Entries,
			func(o target.Entry) bool { return strings.HasPrefix(o.Path, e.Path+"/") })
		top, _, _ := strings.Cut(e.Path, "/")
		same := slices.ContainsFunc(s.d.Boot.Folders, func(f string) bool { return strings.HasPrefix(f, top+"/") })
		if e.Folder && !inside && same && s.set.Platform(strings.ToLower(path.Base(e.Path))) == nil {
			s.d.Boot.Folders = append(s.d.Boot.Folders, infer.Literal(e.Path))
		}
	}
	s.ask(Question{Key: "folders", Usual: "no", Choices: []string{"no", "yes"},
		Say: "may folders be added that the console has not made?"}, func(answer string) error {
		s.d.Boot.MayAdd = answer == "yes"
		return nil
	})
}

// fill guesses how games are in folders of platforms that are still empty: as those of
// the others do, or loose under their titles.
func (s *student) fill(tpl string, names []string) {
	for _, form := range title.Forms {
		var missing []string
		for _, name := range names {
			p := s.set.Platform(name)
			if p.Has(form) && !slices.ContainsFunc(s.d.Rules,
				func(r Rule) bool { return r.Form == form && slices.Contains(r.Platforms, name) }) {
				missing = append(missing, name)
			}
		}
		if len(missing) == 0 {
			continue
		}
		i := slices.IndexFunc(s.d.Rules, func(r Rule) bool {
			return r.Form == form && strings.HasPrefix(r.Path, tpl+"/") && (form != title.Image ||
				strings.HasSuffix(r.Path, "{ext}"))
		})
		if i >= 0 {
			s.d.Rules[i].Platforms = append(s.d.Rules[i].Platforms, missing...)
			s.find(Likely, fmt.Sprintf("%s of %s are stored like those of %s", formWords[form],
				strings.Join(missing, ", "), s.d.Rules[i].Platforms[0]), "their folders are side by side")
			continue
		}
		file := map[title.Form]string{title.Image: "{title}{ext}", title.Cartridge: "{title}{ext}",
			title.Package: "{title}{ext}", title.Tracks: "{title}.cue", title.Folder: "{title}"}[form]
		r := Rule{Platforms: missing, Form: form, Path: tpl + "/" + file,
			Why: "guessed from the names of empty folders"}
		if form == title.Image || form == title.Tracks {
			r.Discs = " (Disc {disc})"
		}
		s.d.Rules = append(s.d.Rules, r)
		s.find(Guess, fmt.Sprintf("%s of %s go to %s", formWords[form], strings.Join(missing, ", "), r.Path),
			"their folders are empty")
	}
}
