package learn

import (
	"fmt"
	"image"
	_ "image/jpeg" // to measure covers
	_ "image/png"
	"io"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
)

var partName = regexp.MustCompile(`^([^0-9]*)([0-9]+)(\.[A-Za-z0-9]+)$`)

// parts finds images that were cut: files numbered from 1 in a folder that is named by
// an ID, all of one size but the last.
func (s *student) parts() {
	folders := map[string][]int{} // folder -> indexes of entries
	var order []string
	for i, e := range s.look.Entries {
		if e.Folder || s.used[e.Path] || !partName.MatchString(path.Base(e.Path)) {
			continue
		}
		dir := path.Dir(e.Path)
		if folders[dir] == nil {
			order = append(order, dir)
		}
		folders[dir] = append(folders[dir], i)
	}
	for _, dir := range order {
		known := slices.IndexFunc(s.set.Platforms, func(p *loader.Platform) bool {
			return p.Has(title.Image) && p.Fields.ID.Pattern.Regexp != nil &&
				p.Fields.ID.Pattern.MatchString(path.Base(dir))
		})
		if known < 0 {
			continue
		}
		first := s.look.Entries[folders[dir][0]]
		m := partName.FindStringSubmatch(path.Base(first.Path))
		whole := true
		for k, i := range folders[dir] {
			e := s.look.Entries[i]
			n := partName.FindStringSubmatch(path.Base(e.Path))
			number, _ := strconv.Atoi(n[2])
			whole = whole && n[1] == m[1] && n[3] == m[3] && number == k+1 && (e.Size == first.Size ||
				k == len(folders[dir])-1 && e.Size < first.Size)
		}
		if !whole {
			continue
		}
		for _, i := range folders[dir] {
			s.used[s.look.Entries[i].Path] = true
		}
		pad := ""
		if m[2][0] == '0' {
			pad = fmt.Sprintf("|pad:%d", len(m[2]))
		}
		parts := path.Join(literal(path.Dir(dir)), "{id}", literal(m[1])+"{index"+pad+"}"+literal(m[3]))
		name := s.set.Platforms[known].Name
		i := slices.IndexFunc(s.d.Rules,
			func(r Rule) bool { return r.Form == title.Image && slices.Contains(r.Platforms, name) })
		if i < 0 {
			s.d.Open = append(s.d.Open, fmt.Sprintf("where do whole %s images go? Only a split one is there, in %s",
				name, dir))
			continue
		}
		s.d.Titles++
		r := &s.d.Rules[i]
		r.Parts, r.PartSize = parts, max(r.PartSize, first.Size)
		s.find(Likely, fmt.Sprintf("%s images that are too large are split into parts of %s", name,
			size.Format(first.Size)), "%s holds %s", dir, size.Count(len(folders[dir]), "part"))
		for _, e := range s.look.Entries {
			if !e.Folder && path.Dir(e.Path) == dir && !s.used[e.Path] {
				s.used[e.Path] = true
				s.d.Open = append(s.d.Open, fmt.Sprintf("what must stand in %s, beside the parts?", e.Path))
			}
		}
	}
}

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
		tpl := path.Join(literal(dir), "{platform}")
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
			s.d.Boot.Folders = append(s.d.Boot.Folders, literal(e.Path))
		}
	}
	s.d.Open = append(s.d.Open, "may folders be added that the console has not made?")
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

// near is a file that may belong to titles, described by a template.
type near struct {
	template, ext   string
	files           []string
	titles          map[string]bool
	platforms       []string
	several, single int
	perDisc         bool
}

// companions finds files that are named as games are.
func (s *student) companions() {
	found := map[string]*near{}
	var order []string
	for _, e := range s.look.Entries {
		if e.Folder || s.used[e.Path] {
			continue
		}
		x, tpl := s.belonging(e.Path)
		if x == nil {
			continue
		}
		n := found[tpl]
		if n == nil {
			n = &near{template: tpl, ext: strings.ToLower(path.Ext(e.Path)), titles: map[string]bool{}}
			found[tpl] = n
			order = append(order, tpl)
		}
		n.files = append(n.files, e.Path)
		if n.titles[x.t.Key] && x.t.Of > 1 {
			n.perDisc = true
		}
		n.titles[x.t.Key] = true
		if x.t.Of > 1 {
			n.several++
		} else {
			n.single++
		}
		if !slices.Contains(n.platforms, x.t.Platform) {
			n.platforms = append(n.platforms, x.t.Platform)
		}
	}
	for _, tpl := range order {
		n := found[tpl]
		c := Companion{Platforms: n.platforms, Path: tpl, PerDisc: n.perDisc, Several: n.several > 0 && n.single == 0}
		c.Why = fmt.Sprintf("learnt from %s, such as %s", size.Count(len(n.files), "file"), n.files[0])
		switch n.ext {
		case ".jpg", ".jpeg", ".png":
			c.Is, c.Picture = "cover", strings.Replace(n.ext[1:], "jpeg", "jpg", 1)
			s.measure(&c, n.files)
		case ".m3u":
			c.Is, c.Text = "playlist", "{each}{file}\\n{end}"
		default:
			c.Is = "settings"
			if c.Text = s.sameText(n.files); c.Text == "" {
				s.d.Open = append(s.d.Open, fmt.Sprintf("what must stand in files such as %s?", n.files[0]))
				continue
			}
		}
		for _, f := range n.files {
			s.used[f] = true
		}
		how := Certain
		if len(n.files) < 3 {
			how = Likely
		}
		s.d.Companions = append(s.d.Companions, c)
		s.find(how, fmt.Sprintf("a %s for each title: %s", c.Is, tpl), "%s, such as %s", size.Count(len(n.files),
			"file"), n.files[0])
	}
}

// belonging finds the title that a file is named after, and describes its path. Of several
// titles of that name, the one whose platform or folder the file's own folder tells is meant.
func (s *student) belonging(file string) (*sample, string) {
	var meant *sample
	how, best := "", 0
	for _, x := range s.all {
		tpl := s.belongsTo(x, file)
		if tpl == "" {
			continue
		}
		n := 1
		switch dir := path.Dir(file); {
		case strings.HasPrefix(tpl, "{folder}"):
			n = 3
		case strings.EqualFold(path.Base(dir), x.t.Platform):
			n = 2
		}
		if n > best {
			meant, how, best = x, tpl, n
		}
	}
	return meant, how
}

// belongsTo describes the path of a file that is named after a title; "" for one that is
// not.
func (s *student) belongsTo(x *sample, file string) string {
	dir, name := path.Split(file)
	dir = strings.TrimSuffix(dir, "/")
	ext := path.Ext(name)
	base := strings.TrimSuffix(name, ext)
	game := path.Base(x.path)
	folder := path.Dir(x.path)
	if x.t.Form != title.Folder {
		game = strings.TrimSuffix(game, path.Ext(game))
	}
	own := x.written != "" && strings.Contains(path.Base(folder), x.written) // a folder of the title's own
	what := ""
	switch id := x.of().ID; {
	case base == game:
		what = "{base}"
	case id != "" && base == id:
		what = "{id}"
	case x.written != "" && base == x.written:
		what = "{title}"
	case own && dir == folder && !discInName.MatchString(base):
		what = literal(base)
	default:
		return ""
	}
	if dir == folder && (own || what != "{id}") {
		return "{folder}/" + what + literal(ext)
	}
	if dir == folder && folder == "." {
		return what + literal(ext)
	}
	at := literal(dir)
	if strings.EqualFold(path.Base(dir), x.t.Platform) {
		at = path.Join(literal(path.Dir(dir)), "{platform}")
	}
	return path.Join(at, what+literal(ext))
}

// maxText is the longest companion whose text is looked at.
const maxText = 64 << 10

// measure finds the largest width and height of pictures.
func (s *student) measure(c *Companion, files []string) {
	for _, f := range files[:min(len(files), 50)] {
		r, err := s.look.Open(f)
		if err != nil {
			continue
		}
		cfg, _, err := image.DecodeConfig(io.NewSectionReader(r, 0, r.Size()))
		_ = r.Close()
		if err == nil {
			c.Width, c.Height = max(c.Width, cfg.Width), max(c.Height, cfg.Height)
		}
	}
}

// sameText is the text of files that are alike but for their titles' own values; "" when
// they are not.
func (s *student) sameText(files []string) string {
	text := ""
	for _, f := range files[:min(len(files), 200)] {
		r, err := s.look.Open(f)
		if err != nil {
			return ""
		}
		b, err := io.ReadAll(io.NewSectionReader(r, 0, min(r.Size(), maxText)))
		_ = r.Close()
		if err != nil || strings.ContainsRune(string(b), 0) {
			return ""
		}
		x, _ := s.belonging(f)
		t := literal(string(b))
		for _, v := range []struct{ value, field string }{{x.t.Name, "{name}"}, {x.written, "{title}"},
			{x.of().ID, "{id}"}} {
			if v.value != "" {
				t = strings.ReplaceAll(t, literal(v.value), v.field)
			}
		}
		if text != "" && t != text {
			return ""
		}
		text = t
	}
	return text
}
