package check

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/saves"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/target"
)

// eyes are those of one loader.
type loaderAudit struct {
	*audit
	profile *loader.Profile
	at      *loader.Attachment
	on      string // its name
	cased   bool   // letter case counts at the console
	pieces  bool   // files must are contiguous, and the target can tell
	lines   []*line
	folders map[string]bool          // folded paths of folders that are titles, or were taken for one
	beside  map[string]*target.Entry // folded path -> a file where companions lie
	tracks  map[string]*target.Entry // folded path -> a file where tracks lie
	needed  map[string]bool          // folded paths of tracks and companions that a title needs, or should
	// folded paths of folders with a cue sheet that cannot be read: what it names is not known
	unsure map[string]bool
	over   []overlooked
	held   []*loader.Accept // rules that hold here
	hidden map[string]bool  // folded paths that are beyond what a folder shows
	// reached is what belongs to the players; players the folded paths of its files.
	reached []saves.Save
	players map[string]bool
	unread  bool // texts that say how titles stand in the list
	// together are the lines of each title, in the order of its discs; nil until asked for
	together map[discKey][]*line
}

// look has one loader look at the target.
func (a *audit) look(profile *loader.Profile) error {
	y := &loaderAudit{audit: a, profile: profile, folders: map[string]bool{}, beside: map[string]*target.Entry{},
		tracks: map[string]*target.Entry{}, hidden: map[string]bool{}, needed: map[string]bool{},
		unsure: map[string]bool{}}
	a.looks = append(a.looks, y)
	before := len(a.r.Findings)
	y.attachment()
	if y.at == nil {
		return nil
	}
	for i := range profile.Accepts {
		if rule := &profile.Accepts[i]; y.holds(rule) {
			y.held = append(y.held, rule)
		}
	}
	y.findSaves()
	y.crowds()
	y.ahead()
	for i := range a.tree.entries {
		if a.ctx.Err() != nil {
			return a.ctx.Err()
		}
		if e := &a.tree.entries[i]; e.Folder || !target.IsTemporary(e.Path) {
			y.entry(e)
		}
	}
	y.largestDiscs()
	for _, l := range y.lines { // when all discs are known
		y.playlist(l)
	}
	y.skip()
	y.discs()
	y.numbers()
	if !y.at.Apart { // else they are on the console's own stick
		y.companions()
		y.lists()
		y.saves()
	}
	y.spares()
	y.promises()
	y.kit()
	y.systems()
	y.settings()
	y.order()
	if !slices.ContainsFunc(a.r.Findings[before:], func(f Finding) bool { return f.Grade == Stops }) {
		a.r.Listed = append(a.r.Listed, y.shows()...)
	}
	for i := range a.r.Findings[before:] {
		if f := &a.r.Findings[before+i]; f.Loader == "" {
			f.Loader = profile.Name
		}
	}
	return nil
}

// holds reports whether a rule is one for this attachment and filesystem.
func (y *loaderAudit) holds(rule *loader.Accept) bool {
	return (len(rule.On) == 0 || slices.Contains(rule.On, y.on)) && (len(rule.Filesystems) == 0 ||
		slices.Contains(rule.Filesystems, y.facts.Filesystem.Name))
}

// entry judges one file or folder: a line of the list, skipped, belonging to a title, or none of the loader's business.
func (y *loaderAudit) entry(e *target.Entry) {
	key := y.tree.fold(e.Path)
	if y.players[key] {
		return
	}
	if y.insideTitle(key) {
		if !e.Folder {
			y.claimed[key] = true
		}
		return
	}
	if !e.Folder {
		if y.further(e) {
			y.claimed[key] = true
			return
		}
	}
	if y.titled(e, key) || e.Folder {
		return
	}
	if y.part(e) || y.companion(e, key) || y.track(e, key) || y.own(e) {
		y.claimed[key] = true
		return
	}
	for _, rule := range y.held {
		if y.inFolderOf(rule, e.Path) {
			y.claimed[key] = true
			y.over = append(y.over, overlooked{e, rule})
			return
		}
	}
}

// made is the path that a template makes, as the console has it.
func (y *loaderAudit) made(t loader.Template, v *loader.Values) string {
	return y.at.Cased(t.FillPath(v))
}

// need notes a track or companion that belongs to a title.
func (y *loaderAudit) need(file string) {
	y.needed[y.tree.fold(file)] = true
	y.claim(file)
}

// insideTitle reports whether a path is in a folder that is a title.
func (y *loaderAudit) insideTitle(key string) bool {
	if len(y.folders) == 0 {
		return false
	}
	for dir := path.Dir(key); dir != "."; dir = path.Dir(dir) {
		if y.folders[dir] {
			return true
		}
	}
	return false
}

// isList reports whether a path is that of a file in which titles are listed.
func (y *loaderAudit) isList(file string) bool {
	return slices.ContainsFunc(y.profile.Lists, func(l loader.List) bool { _, ok := l.Path.Match(file); return ok })
}

// titled takes an entry for a title when its path is one that a rule makes.
func (y *loaderAudit) titled(e *target.Entry, key string) bool {
	if y.isList(e.Path) {
		return false
	}
	var because *loader.Accept
	var values loader.Values
	kind, say := Kind(""), ""
	for i := range y.profile.Accepts {
		rule := &y.profile.Accepts[i]
		platform, v, ok := layout.TitleAt(y.set, rule, e.Path, e.Folder,
			func(v *loader.Values) bool { return y.inCase(rule, v, e) == "" })
		if !ok {
			continue
		}
		if no, ways := y.refused(rule, platform); no != "" {
			if because == nil {
				because, values, kind, say = rule, v, Served, no
				if len(ways) > 0 {
					say += "; it is supported on " + strings.Join(ways, ", or on ")
				}
			}
			continue
		}
		if !y.holds(rule) {
			continue
		}
		if !y.may(rule, rule.Path, platform, &v, e) {
			if because == nil && layout.Unlikely(y.set, rule, rule.Path, platform, &v) == "" {
				because, values, kind, say = rule, v, Served, "games are there only "+rule.When.Words()
			}
			continue
		}
		k, problem := y.misnamed(rule, &v, platform, e)
		if k == Half && y.holdsTitles(e) {
			continue
		}
		if problem == "" && rule.Path.Denies(e.Path, &v) {
			k, problem = Folder, "by its name it belongs to "+y.made(rule.Path, &v)
		}
		if problem == "" {
			y.claimed[key] = true
			if e.Folder {
				y.folders[key] = true
			}
			y.line(e, rule, rule.Path, v, platform)
			return true
		}
		if kind == "" || kind == Served {
			because, values, kind, say = rule, v, k, problem
		}
	}
	if because == nil || kind != Served && !e.Folder && y.belongs(e) {
		return false
	}
	y.claimed[key] = true
	if e.Folder {
		y.folders[key] = true
	}
	if y.anothers(e) {
		return true
	}
	f := Finding{Kind: kind, Grade: Fault, Path: e.Path, Say: fmt.Sprintf("%s ignores it: %s", y.profile.Shown, say)}
	f.Remedy, f.Fixes = y.renamed(e, because, &values)
	if kind == Served {
		f.Remedy, f.Fixes = "remove it, and copy it to where it is supported", nil
	}
	y.report(f)
	return true
}

// holdsTitles reports whether a folder, that could be a title by its path, has titles of any rule in it: it is one of
// the folders that the rules make then, such as the one for titles of several discs.
func (y *loaderAudit) holdsTitles(e *target.Entry) bool {
	return slices.ContainsFunc(y.tree.within(e.Path), func(in *target.Entry) bool {
		return in.Folder && slices.ContainsFunc(y.profile.Accepts, func(rule loader.Accept) bool {
			platform, _, ok := layout.TitleAt(y.set, &rule, in.Path, true, func(*loader.Values) bool { return true })
			return ok && y.lacks(&rule, platform, in.Path) == ""
		})
	})
}

// may reports whether the rule's condition can hold for what lies at a path that one of its templates has made, as far
// as that is known without a look inside.
func (y *loaderAudit) may(rule *loader.Accept, by loader.Template, platform string, v *loader.Values,
	e *target.Entry) bool {
	if rule.When.Empty() {
		return true
	}
	said := *v
	said[loader.FieldPlatform] = platform
	y.here().Put(&said)
	whole := by.String() == rule.Path.String()
	if whole && !e.Folder && rule.TooLarge.Do != "split" && rule.As(title.Image) == shape.Whole && !rule.Joins() {
		said[loader.FieldSize] = strconv.FormatInt(e.Size, 10)
	}
	if len(rule.Forms) == 1 {
		said[loader.FieldForm] = string(rule.Forms[0])
	}
	further := furtherDisc(&line{v: *v, rule: rule})
	may, _ := rule.When.Known(&said, func(f loader.Field) bool { // a path may say it in another form
		if further && (f == loader.FieldID || f == loader.FieldKind) { // a title is known by its first disc
			return false
		}
		return said[f] != "" && f != loader.FieldTitle && (v[f] == "" || by.Says(f, v[f]))
	})
	return may
}

// refused says why games of a platform are not taken from here, "" where they are.
func (y *loaderAudit) refused(rule *loader.Accept, platform string) (say string, ways []string) {
	forms := rule.Forms
	if len(forms) == 0 {
		forms = []title.Form{""}
	}
	for _, form := range forms {
		if _, r := y.profile.Accept(platform, form, y.on, y.facts.Filesystem.Name, nil); r != nil {
			return r.Say, r.Ways
		}
	}
	return "", nil
}

// misnamed says what in a path breaks the loader's rules, or "".
func (y *loaderAudit) misnamed(rule *loader.Accept, v *loader.Values, platform string, e *target.Entry) (Kind, string) {
	if say := layout.Unlikely(y.set, rule, rule.Path, platform, v); say != "" {
		return Name, say
	}
	if as := y.inCase(rule, v, e); as != "" {
		return Case, fmt.Sprintf("letter case matters there, and it looks for %s", as)
	}
	if say := layout.TitleWrong(rule, v[loader.FieldTitle]); say != "" {
		return Name, say
	}
	if e.Folder {
		if lacks := y.lacks(rule, platform, e.Path); lacks != "" {
			return Half, lacks + " is not directly in it"
		}
	}
	return "", ""
}

// inCase is the path that a console for which letter case counts looks for, where a path differs from it in letter case
// alone; else "".
func (y *loaderAudit) inCase(rule *loader.Accept, v *loader.Values, e *target.Entry) string {
	if y.cased {
		if as := y.made(rule.Path, v); as != e.Path && strings.EqualFold(as, e.Path) {
			return as
		}
	}
	return ""
}

// lacks names the file without which a folder is no title; "" when it is there.
func (y *loaderAudit) lacks(rule *loader.Accept, platform, dir string) string {
	_, wanted := y.markerIn(rule, platform, dir)
	return wanted
}

// belongs reports whether a file may be a part or companion of a title.
func (y *loaderAudit) belongs(e *target.Entry) bool {
	for _, rule := range y.held {
		for _, t := range []loader.Template{rule.Tracks, rule.TooLarge.Parts, rule.TooLarge.Manifest} {
			if v, ok := t.Match(e.Path); ok && layout.PlatformOf(rule, &v) != "" && !strings.EqualFold(path.Ext(e.Path),
				path.Ext(rule.Path.String())) {
				return true
			}
		}
	}
	return slices.ContainsFunc(y.profile.Companions, func(c loader.Companion) bool {
		_, ok := c.Path.Match(e.Path)
		return ok
	})
}

// part judges the lists of the parts of a title, and parts.
func (y *loaderAudit) part(e *target.Entry) bool {
	for _, rule := range y.held {
		if platform, v, ok := layout.Split(y.set, rule, rule.TooLarge.Manifest, e.Path,
			func(v *loader.Values) bool { return len(y.partsOf(rule, v)) > 0 }); ok {
			y.manifest(e, rule, platform, v)
			return true
		}
		platform, v, ok := layout.Split(y.set, rule, rule.TooLarge.Parts, e.Path, func(v *loader.Values) bool {
			all := y.completed(rule.TooLarge.Manifest, v)
			_, there := y.tree.file(y.made(rule.TooLarge.Manifest, &all))
			return there || rule.TooLarge.Manifest.Empty()
		})
		switch {
		case !ok:
		case !rule.TooLarge.Manifest.Empty():
			y.lonePart(e, rule, &v)
			return true
		default: // further ones are known before
			if !y.may(rule, rule.TooLarge.Parts, platform, &v, e) && slices.ContainsFunc(y.held,
				func(o *loader.Accept) bool {
					return o != rule && o.TooLarge.Parts.String() == rule.TooLarge.Parts.String() &&
						y.may(o, o.TooLarge.Parts, platform, &v, e)
				}) {
				continue // another rule has such parts too
			}
			y.firstPart(e, rule, platform, v)
			return true
		}
	}
	return false
}

// companion notes a file that is where companions do.
func (y *loaderAudit) companion(e *target.Entry, key string) bool {
	for i := range y.profile.Companions {
		c := &y.profile.Companions[i]
		if len(c.On) > 0 && !slices.Contains(c.On, y.on) {
			continue
		}
		if _, ok := c.Path.Match(e.Path); ok {
			y.beside[key] = e
			return true
		}
	}
	return false
}

// track notes a file that is where tracks do.
func (y *loaderAudit) track(e *target.Entry, key string) bool {
	for _, rule := range y.held {
		if rule.Tracks.Empty() || strings.EqualFold(path.Ext(e.Path), path.Ext(rule.Path.String())) {
			continue
		}
		v, ok := rule.Tracks.Match(e.Path)
		if (ok || y.sameFolder(rule, e.Path)) && layout.PlatformOf(rule, &v) != "" {
			y.tracks[key] = e
			return true
		}
	}
	return false
}

// sameFolder reports whether a track may lie in the folder of the path, whatever it is named.
func (y *loaderAudit) sameFolder(rule *loader.Accept, file string) bool {
	if rule.Tracks.Uses(loader.FieldFile) || strings.Contains(path.Dir(rule.Tracks.String()), "{") {
		return false
	}
	return y.tree.fold(path.Dir(file)) == y.tree.fold(path.Dir(rule.Tracks.String())) &&
		strings.EqualFold(path.Ext(file), path.Ext(rule.Tracks.String()))
}

// own reports whether a file is one of the loader's own, a list of titles or a system image.
func (y *loaderAudit) own(e *target.Entry) bool {
	same := func(p string) bool { return y.tree.fold(p) == y.tree.fold(e.Path) }
	below := func(p string) bool { return strings.HasPrefix(y.tree.fold(e.Path), y.tree.fold(p)+"/") }
	for i := range y.profile.Kit.Files {
		if f := &y.profile.Kit.Files[i]; same(f.To) || below(f.To) && len(y.profile.Accepts) > 0 &&
			!y.titleFolder(f.To) {
			return true
		}
	}
	for i := range y.profile.Settings {
		if same(y.profile.Settings[i].File) {
			return true
		}
	}
	for i := range y.profile.SystemImages {
		if same(y.profile.SystemImages[i].To) {
			return true
		}
	}
	if y.isList(e.Path) {
		return true
	}
	for _, f := range y.profile.FirstBoot.Folders {
		if !f.Uses(loader.FieldPlatform) && below(f.String()) {
			return true
		}
	}
	return false
}

// titleFolder reports whether titles are below a folder of the kit: then not everything in it is the kit's.
func (y *loaderAudit) titleFolder(dir string) bool {
	return slices.ContainsFunc(y.held, func(rule *loader.Accept) bool {
		return strings.HasPrefix(y.tree.fold(rule.Path.String()), y.tree.fold(dir)+"/")
	})
}
