// Package learn drafts a loader profile from a target that a console or a person has
// prepared: which folder is for which platform, how names are made, what is beside the
// games. Every finding comes with its evidence, and what stays open is asked for.
package learn

import (
	"context"
	"fmt"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/teach"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
)

// Confidence is how sure a finding is, in a word.
type Confidence string

const (
	Certain Confidence = "certain" // many files say so, and none speaks against it
	Likely  Confidence = "likely"  // few files say so, or not all
	Guess   Confidence = "a guess" // only names say so
)

// A Finding is one thing that was learnt.
type Finding struct {
	Say        string     `json:"say"`
	Evidence   string     `json:"evidence"`
	Confidence Confidence `json:"confidence"`
}

// A Draft is a profile in the making.
type Draft struct {
	Name, Shown, Console, About string

	Via         string
	Filesystems []string
	Label       string
	Case        string

	Rules      []Rule
	Companions []Companion
	Boot       *Boot
	Checklist  []string
	Platforms  []Platform // that are not described yet
	// Taught are platforms that were worked out from the games.
	Taught []*teach.Platform

	Findings []Finding // in the order in which they were made
	Open     []string  // what could not be reported
	Titles   int       // that were recognised
}

// A Rule is where titles of some platforms go.
type Rule struct {
	Platforms []string
	Form      title.Form
	Path      string
	Tracks    string // of track files that are numbered behind their cue sheet's name
	Discs     string // behind the titles of several discs
	Archives  string
	Rename    []loader.Rename
	Longest   int
	ASCII     bool
	Forbidden string
	Overflow  int
	Numbers   string // how running numbers are given
	PartSize  int64
	Parts     string
	Why       string
}

// A Companion is a file that lies with each title.
type Companion struct {
	Is        string
	Platforms []string
	Path      string
	Several   bool // only for titles of several discs
	PerDisc   bool
	Picture   string // jpg or png
	Width     int
	Height    int
	Text      string
	Why       string
}

// Boot is the folders that a console has made by itself.
type Boot struct {
	Folders   []string
	Platforms []string
	Why       string
}

// A Platform is one that the draft needs and no one has described.
type Platform struct {
	Name, Shown string
	Form        title.Form
	Ext         string
}

// A Look is what there is to learn from.
type Look struct {
	Dir     string         // folder of the target
	Facts   target.Facts   // of the target
	Entries []target.Entry // on it
	Label   string         // of its volume, "" when not reported
	Open    func(path string) (target.Content, error)
}

// Learn drafts a profile from a prepared target. Titles on it are recognised by the
// platforms of the set.
func Learn(ctx context.Context, l Look, set *loader.Set) (*Draft, error) {
	r, err := scan.Scan(ctx, []string{l.Dir}, scan.Options{Set: set})
	if err != nil {
		return nil, err
	}
	taught := teach.Platforms(l.Dir, unknown(l, r.Titles), set.PlatformNames())
	if slices.ContainsFunc(r.Titles, func(t title.Title) bool { return t.Platform != "" }) {
		// beside games that are known, other files may be anything
		taught = slices.DeleteFunc(taught, func(p *teach.Platform) bool { return !p.Convincing() })
	}
	if set = with(set, taught); len(taught) > 0 {
		if r, err = scan.Scan(ctx, []string{l.Dir}, scan.Options{Set: set}); err != nil {
			return nil, err
		}
	}
	s := &student{look: l, set: set, d: &Draft{Via: "usb", Label: l.Label, Taught: taught}, used: map[string]bool{}}
	s.taught()
	titles := slices.Clone(r.Titles) // as the loader will meet them
	base := filepath.Base(l.Dir)
	if l.Label != "" {
		base = l.Label
	}
	s.d.Name, s.d.Shown = Slug(base), base
	s.samples(r.Titles)
	s.volume()
	s.rules()
	s.parts()
	s.companions()
	s.emptyFolders()
	s.others()
	s.ask()
	s.remake(titles)
	if len(s.d.Rules) == 0 {
		return s.d, fmt.Errorf("nothing in %s shows where games go: it has no game of a known platform, and no "+
			"folder named like one", l.Dir)
	}
	return s.d, nil
}

// unknown are the entries of a target that no title which is known has.
func unknown(l Look, titles []title.Title) []target.Entry {
	known := map[string]bool{}
	note := func(f title.File) {
		if rel, err := filepath.Rel(l.Dir, f.Path); err == nil {
			known[filepath.ToSlash(rel)] = true
		}
	}
	for i := range titles {
		for k := range titles[i].Discs {
			if titles[i].Platform == "" {
				continue
			}
			note(titles[i].Discs[k].File)
			for _, p := range titles[i].Discs[k].Parts {
				note(p.File)
			}
		}
	}
	return slices.DeleteFunc(slices.Clone(l.Entries), func(e target.Entry) bool {
		return known[e.Path] || slices.ContainsFunc(layout.Folders(e.Path), func(dir string) bool { return known[dir] })
	})
}

// with is a set that knows further platforms. One whose description is no good is left out.
func with(set *loader.Set, taught []*teach.Platform) *loader.Set {
	out := *set
	out.Platforms = slices.Clone(set.Platforms)
	for _, p := range taught {
		if described, err := p.Parse(); err == nil {
			out.Platforms = append(out.Platforms, described)
		}
	}
	slices.SortFunc(out.Platforms, func(a, b *loader.Platform) int { return strings.Compare(a.Name, b.Name) })
	return &out
}

var fieldWords = map[string]string{"id": "ID", "name": "name", "region": "region", "kind": "kind",
	"disc": "number of the disc"}

// taught says how platforms were worked out.
func (s *student) taught() {
	for _, p := range s.d.Taught {
		s.find(Likely, fmt.Sprintf("its games are of no known platform; they are described as %s", p.Shown),
			"%s alike, such as %s", size.Count(p.Games, "file")+map[bool]string{true: " is",
				false: " are"}[p.Games == 1], p.Such)
		for _, name := range loader.FieldNames {
			if f, ok := p.Fields[name]; ok {
				c := Likely
				if f.Sure {
					c = Certain
				}
				s.find(c, fmt.Sprintf("%s games have their %s in them, such as %s", p.Shown, fieldWords[name],
					f.Example), "%s",
					f.Evidence)
			} else if name == "id" || name == "name" {
				s.d.Open = append(s.d.Open, fmt.Sprintf("where does the %s stand in %s games?", fieldWords[name],
					p.Shown))
			}
		}
	}
}

// student is a draft in the making.
type student struct {
	look Look
	set  *loader.Set
	d    *Draft
	all  []*sample
	used map[string]bool // paths that are explained
}

// sample is one disc of a title as it is on the target.
type sample struct {
	t       *title.Title
	disc    int
	path    string // of the image, cue sheet, cartridge or folder
	written string // the title as the path has it
	at      string // the template that the path was made by
	discs   string // what stands behind the title of a disc
	page    string // the folder of its page, as a template, "" for none
	group   string // folder whose pages it shares
}

func (s *sample) of() *title.Disc { return &s.t.Discs[s.disc] }

// Slug makes a name for files of what a person writes: small letters, digits and hyphens.
func Slug(name string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(name) {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			b.WriteRune(r)
		} else if n := b.Len(); n > 0 && b.String()[n-1] != '-' {
			b.WriteByte('-')
		}
	}
	out := strings.Trim(b.String(), "-")
	if out == "" {
		return "learnt"
	}
	return out
}

func (s *student) find(c Confidence, say, evidence string, args ...any) {
	s.d.Findings = append(s.d.Findings, Finding{say, fmt.Sprintf(evidence, args...), c})
}

// samples collects the titles on the target.
func (s *student) samples(titles []title.Title) {
	for i := range titles {
		t := &titles[i]
		if t.Platform == "" {
			continue
		}
		s.d.Titles++
		if name := trackName(t); name != "" {
			t.Name = name
		}
		for d := range t.Discs {
			rel, err := filepath.Rel(s.look.Dir, t.Discs[d].File.Path)
			if err != nil {
				continue
			}
			x := &sample{t: t, disc: d, path: filepath.ToSlash(rel)}
			s.used[x.path] = true
			for _, p := range t.Discs[d].Parts {
				if rel, err := filepath.Rel(s.look.Dir, p.File.Path); err == nil {
					s.used[filepath.ToSlash(rel)] = true
				}
			}
			s.align(x)
			s.all = append(s.all, x)
		}
	}
}

var trackTag = regexp.MustCompile(`(?i)[ _-]*[(\[]?(?:disc|track)[ _-]?[0-9]+[)\]]?`)

// trackName is the name that track files tell: often they kept it when their cue sheet was
// named again. It is "" when they tell another name or none.
func trackName(t *title.Title) string {
	if t.Form != title.Tracks || len(t.Discs[0].Parts) == 0 {
		return ""
	}
	if _, _, ok := numberedTracks(&t.Discs[0]); ok {
		return "" // they are named after the sheet
	}
	base := path.Base(t.Discs[0].Parts[0].Name)
	name := strings.TrimSpace(trackTag.ReplaceAllString(strings.TrimSuffix(base, path.Ext(base)), ""))
	if len(name) < len(t.Name) || !alike(t.Name, name) {
		return ""
	}
	return name
}

// numberedTracks reports whether a disc's track files have their cue sheet's name with a number of two digits behind
// it, and what stands between and behind.
func numberedTracks(d *title.Disc) (between, ext string, ok bool) {
	sheet := filepath.Base(d.File.Path)
	base := strings.TrimSuffix(sheet, filepath.Ext(sheet))
	for k := range d.Parts {
		rest, is := strings.CutPrefix(path.Base(d.Parts[k].Name), base)
		at := strings.Index(rest, fmt.Sprintf("%02d", k+1))
		if !is || at < 0 || k > 0 && (rest[:at] != between || rest[at+2:] != ext) {
			return "", "", false
		}
		between, ext = rest[:at], rest[at+2:]
	}
	return between, ext, len(d.Parts) > 0 && strings.Trim(between, " -_.()[]") == "" && strings.HasPrefix(ext, ".")
}

// tracks finds out how track files are named that go by their cue sheet's name.
func (s *student) tracks(r *Rule, all []*sample) {
	sheet, ok := strings.CutSuffix(r.Path, ".cue")
	if r.Form != title.Tracks || !ok {
		return
	}
	tracks := ""
	for i, x := range all {
		between, ext, ok := numberedTracks(x.of())
		as := sheet + between + "{index|pad:2}" + ext
		if !ok || i > 0 && as != tracks {
			return
		}
		tracks = as
	}
	r.Tracks = tracks
	s.find(Likely, "their track files go to "+tracks, "all are named after their cue sheets")
}

// volume takes over what the target itself is.
func (s *student) volume() {
	f := s.look.Facts.Filesystem
	s.d.Filesystems = []string{f.Name}
	if _, err := target.FilesystemNamed(f.Name); err != nil || f.Name == "ext4" {
		s.d.Filesystems = []string{"any"}
		s.d.Open = append(s.d.Open, "which filesystems does the loader read? The target is a folder on this "+
			"computer, so its own filesystem shows nothing")
	} else {
		how := "the target is"
		if s.look.Facts.Declared {
			how = "the target was declared as"
		}
		s.find(Likely, "it reads "+f.Shown, "%s %s; it may read others too", how, f.Shown)
	}
	if s.look.Label != "" {
		s.find(Guess, "its volume is named "+s.look.Label,
			"the label of this one; whether the loader needs it is unknown")
	} else {
		s.d.Open = append(s.d.Open, "does the volume need a certain label? A folder has no label")
	}
	var largest target.Entry
	for _, e := range s.look.Entries {
		if e.Size > largest.Size {
			largest = e
		}
	}
	if largest.Size > 0 {
		s.find(Certain, "it allows files of "+size.Format(largest.Size)+" at least", "the largest file there is %s",
			largest.Path)
	}
}

// rules groups the samples by platform and form, and finds a rule for each.
func (s *student) rules() {
	type key struct {
		platform string
		form     title.Form
	}
	groups := map[key][]*sample{}
	var order []key
	for _, x := range s.all {
		k := key{x.t.Platform, x.t.Form}
		if groups[k] == nil {
			order = append(order, k)
		}
		groups[k] = append(groups[k], x)
	}
	for _, k := range order {
		all := groups[k]
		tally := map[string]int{}
		for _, x := range all {
			tally[x.at]++
		}
		best := ""
		for at, n := range tally {
			if n > tally[best] || n == tally[best] && (len(at) < len(best) || len(at) == len(best) && at < best) {
				best = at
			}
		}
		var agree []*sample
		for _, x := range all {
			if x.at == best {
				agree = append(agree, x)
			}
		}
		if tpl, more := s.general(all); len(more) > len(agree) {
			best, agree = tpl, more
		}
		r := Rule{Platforms: []string{k.platform}, Form: k.form, Path: best}
		if strings.Contains(best, "{number") {
			r.Numbers = map[bool]string{true: "in-order", false: "append"}[numbersRun(agree)]
			s.find(Likely, "folders have running numbers", "%d of %d begin with one, such as %s", len(agree), len(all),
				agree[0].path)
		}
		r.Archives = archives(agree)
		s.paged(&r, agree)
		s.discs(&r, agree)
		s.renames(&r, agree)
		s.tracks(&r, agree)
		s.names(&r, agree)
		r.Why = fmt.Sprintf("learnt from %s, such as %s", size.Count(len(agree), "title"), agree[0].path)
		c := Certain
		if len(agree) < 3 || len(agree) < len(all) {
			c = Likely
		}
		evidence := fmt.Sprintf("%d of %d are stored like this, such as %s", len(agree), len(all), agree[0].path)
		s.find(c, fmt.Sprintf("%s %s go to %s", k.platform, formWords[k.form], r.Path), "%s", evidence)
		for _, x := range all {
			if !slices.Contains(agree, x) {
				s.d.Open = append(s.d.Open, fmt.Sprintf("why is %s not with the other %s titles?", x.path, k.platform))
			}
		}
		s.add(r)
	}
}

var formWords = map[title.Form]string{title.Image: "images", title.Tracks: "cue sheets", title.Cartridge: "cartridges",
	title.Folder: "folders", title.Package: "packages"}

// add takes in a rule; one that is like another but for its platform is joined to it.
func (s *student) add(r Rule) {
	for i := range s.d.Rules {
		o := &s.d.Rules[i]
		if o.Path != r.Path || o.Form != r.Form || o.Discs != r.Discs || o.Tracks != r.Tracks ||
			o.Archives != r.Archives && o.Archives != "" && r.Archives != "" || len(o.Rename) != len(r.Rename) {
			continue
		}
		o.Platforms = append(o.Platforms, r.Platforms...)
		o.Archives = max(o.Archives, r.Archives)
		o.Overflow = max(o.Overflow, r.Overflow)
		if r.Longest > 0 && (o.Longest == 0 || r.Longest < o.Longest) {
			o.Longest = r.Longest
		}
		o.ASCII = o.ASCII || r.ASCII
		for _, c := range r.Forbidden {
			if !strings.ContainsRune(o.Forbidden, c) {
				o.Forbidden += string(c)
			}
		}
		return
	}
	s.d.Rules = append(s.d.Rules, r)
}

// archives is what becomes of archives, as far as the samples tell.
func archives(all []*sample) string {
	for _, x := range all {
		if x.t.Archive != "" {
			return "keep-zip"
		}
	}
	return ""
}

// paged finds out whether folders go on in numbered ones.
func (s *student) paged(r *Rule, all []*sample) {
	page := ""
	entries := map[string]map[string]bool{}
	for _, x := range all {
		if x.page != "" {
			page = x.page
		}
		if entries[x.group] == nil {
			entries[x.group] = map[string]bool{}
		}
		entries[x.group][x.t.Key] = true
	}
	if page == "" {
		r.Path = strings.Replace(r.Path, pageMark, "", 1)
		return
	}
	r.Path = strings.Replace(r.Path, pageMark, "{if page}"+page+"/{end}", 1)
	for _, e := range entries {
		r.Overflow = max(r.Overflow, len(e))
	}
	s.find(Likely, fmt.Sprintf("a folder takes %s, and more go to %s", size.Count(r.Overflow, "title"),
		strings.ReplaceAll(page, "{page}", "2")),
		"the fullest folder of %s holds that many, and there are further ones", r.Platforms[0])
}

// discs finds out how the discs of one title are distinguished.
func (s *student) discs(r *Rule, all []*sample) {
	for _, x := range all {
		if x.discs != "" {
			r.Discs = x.discs
		}
	}
	folder, file := path.Split(r.Path)
	switch {
	case r.Discs == "":
		r.Path = strings.Replace(r.Path, discMark, "", 1)
	case strings.Contains(folder, "{title"): // the folder is named by the title alone
		r.Path = folder + strings.Replace(file, discMark, "{if disc}"+r.Discs+"{end}", 1)
		r.Discs = ""
	default:
		r.Path = strings.Replace(r.Path, discMark, "", 1)
	}
}

// renames finds a file of unpacked titles that has the same name in all of them.
func (s *student) renames(r *Rule, all []*sample) {
	p := s.set.Platform(r.Platforms[0])
	if r.Form != title.Folder || p == nil || len(all) < 2 {
		return
	}
	for _, marker := range p.MarkerFiles() {
		if strings.ContainsRune(marker, '*') {
			s.renamed(r, marker, all)
		}
	}
}

// renamed finds the one name that the file of a pattern has in all titles.
func (s *student) renamed(r *Rule, marker string, all []*sample) {
	name := ""
	for _, x := range all {
		for _, part := range x.of().Parts {
			if !loader.MatchFile(marker, part.Name) {
				continue
			}
			if name != "" && name != part.Name {
				return
			}
			name = part.Name
		}
	}
	if name != "" {
		r.Rename = append(r.Rename, loader.Rename{From: marker, To: name})
		s.find(Likely, fmt.Sprintf("%s becomes %s", marker, name), "all %d folders have it under that name",
			len(all))
		s.d.Open = append(s.d.Open, "which files of a package are copied, and which are left out? Only those that "+
			"are there can be seen")
	}
}

// others lists what no one knows.
func (s *student) others() {
	var unknown []string
	for _, e := range s.look.Entries {
		if e.Folder || s.used[e.Path] || target.IsTemporary(e.Path) {
			continue
		}
		inside := slices.ContainsFunc(layout.Folders(e.Path), func(dir string) bool { return s.used[dir] })
		if !inside {
			unknown = append(unknown, e.Path)
		}
	}
	if len(unknown) == 0 {
		return
	}
	shown := unknown[:min(len(unknown), 5)]
	s.d.Open = append(s.d.Open, fmt.Sprintf("what are these for? %s (%s in all)", strings.Join(shown, ", "),
		size.Count(len(unknown), "file")))
}

// ask adds the questions that no target can answer.
func (s *student) ask() {
	s.d.Open = append(s.d.Open, "what are the names of the loader and the console?",
		"what must be done at the console before new games are listed?")
	for _, r := range s.d.Rules {
		if r.PartSize == 0 && r.Form == title.Image {
			s.d.Open = append(s.d.Open, "what happens to an image that is too large for the volume?")
			break
		}
	}
}

// FromTarget looks at a target, which is in the folder dir, and learns from it.
func FromTarget(ctx context.Context, dir string, p target.Target, set *loader.Set) (*Draft, error) {
	facts, err := p.Facts(ctx, nil)
	if err != nil {
		return nil, err
	}
	entries, err := p.List(ctx, nil)
	if err != nil {
		return nil, err
	}
	return Learn(ctx, Look{Dir: dir, Facts: facts, Entries: entries, Label: facts.Label,
		Open: func(path string) (target.Content, error) { return p.Open(ctx, path) }}, set)
}
