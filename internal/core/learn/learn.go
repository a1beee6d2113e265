// Package learn drafts a loader profile from a target that a console or a person has
// prepared: which folder is for which platform, how names are made, what is beside the
// games. Every finding comes with its evidence, and what stays open is asked for.
package learn

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"polytome/internal/core/infer"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/teach"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/sparse"
	"polytome/internal/target"
	"polytome/internal/target/folder"
	"polytome/internal/target/protocols"
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
	ListOrder   []string // "title" for none
	Filesystems []string
	Label       string
	Case        string

	Rules      []Rule
	Companions []Companion
	Lists      []List
	Kit        []KitFile
	Boot       *Boot
	Checklist  []string
	Platforms  []Platform // that are not described yet
	// Taught are platforms that were worked out from the games.
	Taught []*teach.Platform

	Findings []Finding  // in the order in which they were made
	Open     []Question // what the target cannot show
	Against  []string   // what is there otherwise than by the draft
	Titles   int        // that were recognised
	// Explained are the files and folders that the draft accounts for, by what they are.
	Explained map[string]Part
}

// A Rule is where titles of some platforms go.
type Rule struct {
	Platforms []string
	Form      title.Form
	Path      string
	Tracks    string // of track files that are named after their cue sheet
	OneFile   bool   // all tracks of a disc are one file
	Discs     string // behind the titles of several discs
	When      string // which of them
	Archives  string
	Rename    []loader.Rename
	Longest   int
	ASCII     bool
	Forbidden string
	Overflow  int
	Numbers   string // how running numbers are given
	Over      int64  // from which length on files are cut; 0 for what the filesystem holds
	PartSize  int64
	Parts     string
	// Manifest is the list of the parts, and ManifestText what stands in it.
	Manifest, ManifestText string
	Why                    string

	naming naming
}

// A Companion is a file that lies with each title.
type Companion struct {
	Is        string
	Platforms []string
	Path      string
	When      string // of its titles
	PerDisc   bool
	Picture   string // jpg or png
	Width     int
	Height    int
	Text      string
	Make      string
	Encoding  string
	Length    int // of one that is no text
	Bytes     []infer.Field
	Why       string
}

// A KitFile is a file that no title explains.
type KitFile struct {
	Path string
	Text string // of one that is a short text
	Why  string
}

// Boot is the folders that a console has made by itself.
type Boot struct {
	Folders   []string
	Platforms []string
	MayAdd    bool
	Why       string
}

// A Platform is one that the draft needs and no one has described.
type Platform struct {
	Name, Shown string
	Form        title.Form
	Ext         string
}

// A Part is what a file is to the draft.
type Part string

const (
	Game  Part = "a game"
	Piece Part = "a part of a game"
	Near  Part = "a file beside a game"
	Lists Part = "a list"
	Own   Part = "the loader's own"
)

// A Look is what there is to learn from.
type Look struct {
	Dir     string         // folder of the target
	Facts   target.Facts   // of the target
	Entries []target.Entry // on it
	Label   string         // of its volume, "" when not reported
	Open    func(path string) (target.Content, error)
	Name    string // of the target, where its volume has none
	Via     string // how it is connected; "" for a stick
	Sources
}

// Learn drafts a profile from a prepared target. Titles on it are recognised by the
// platforms of the set.
func Learn(ctx context.Context, l Look, set *loader.Set) (*Draft, error) {
	l.Entries = slices.DeleteFunc(slices.Clone(l.Entries), func(e target.Entry) bool { return l.Answers.LeaveOut(e.Path) })
	r, err := scan.Scan(ctx, []string{l.Dir}, scan.Options{Set: set})
	if err != nil {
		return nil, err
	}
	taught := teach.Platforms(l.Dir, unknown(l, r.Titles), set.PlatformNames(), l.Answers.hints()...)
	if taught, err = beforehand(ctx, l, set, taught); err != nil {
		return nil, err
	}
	if slices.ContainsFunc(r.Titles, func(t title.Title) bool { return t.Platform != "" }) {
		// beside games that are known, other files may be anything
		taught = slices.DeleteFunc(taught, func(p *teach.Platform) bool { return !p.Convincing() })
	}
	l.Answers.apply(taught)
	if set = With(set, taught); len(taught) > 0 {
		if r, err = scan.Scan(ctx, []string{l.Dir}, scan.Options{Set: set}); err != nil {
			return nil, err
		}
	}
	s := &student{look: l, set: set, d: &Draft{Via: cmp.Or(l.Via, "usb"), Label: l.Label, Taught: taught}, used: map[string]Part{}}
	s.taught()
	base := cmp.Or(strings.TrimSuffix(l.Name, filepath.Ext(l.Name)), filepath.Base(l.Dir))
	if l.Label != "" {
		base = l.Label
	}
	s.d.Name, s.d.Shown = Slug(base), base
	s.letterCase()
	s.samples(s.onTarget(r.Titles))
	s.volume()
	s.rules()
	s.lay()
	s.companions()
	s.lists()
	s.emptyFolders()
	s.kit()
	s.rest()
	s.remake()
	s.d.Explained = s.used
	if len(s.d.Rules) == 0 {
		return s.d, fmt.Errorf("nothing in %s shows where games go: it has no game of a known platform, and no "+
			"folder named like one", l.Dir)
	}
	return s.d, nil
}

// Platforms describes the platforms of folders of games, of which no target is there. The draft has no rules.
func Platforms(ctx context.Context, set *loader.Set, from Sources) (*Draft, error) {
	taught, err := beforehand(ctx, Look{Sources: from}, set, nil)
	if err != nil {
		return nil, err
	}
	if len(taught) == 0 {
		return nil, fmt.Errorf("nothing in %s is a game of a platform that is not known yet", strings.Join(from.Games, ", "))
	}
	from.Answers.apply(taught)
	s := &student{set: set, look: Look{Sources: from}, d: &Draft{Taught: taught}}
	s.taught()
	return s.d, nil
}

// beforehand has platforms be worked out from folders of games too: those of which the target shows none, and what it
// does not show of others.
func beforehand(ctx context.Context, l Look, set *loader.Set, taught []*teach.Platform) ([]*teach.Platform, error) {
	for _, dir := range l.Games {
		p, err := folder.Open(dir, folder.Options{})
		if err != nil {
			return nil, err
		}
		games, done, err := LookAt(ctx, dir, p, Sources{})
		if err != nil {
			return nil, errors.Join(err, p.Close())
		}
		r, err := scan.Scan(ctx, []string{dir}, scan.Options{Set: set})
		done()
		if err = errors.Join(err, p.Close()); err != nil {
			return nil, err
		}
		for _, x := range teach.Platforms(dir, unknown(games, r.Titles), set.PlatformNames(), l.Answers.hints()...) {
			i := slices.IndexFunc(taught, func(o *teach.Platform) bool { return o.Name == x.Name && o.Form == x.Form })
			if i < 0 {
				taught = append(taught, x)
				continue
			}
			for name, f := range x.Fields {
				if o, ok := taught[i].Fields[name]; !ok || f.Sure && !o.Sure {
					taught[i].Fields[name] = f
				}
			}
		}
	}
	return taught, nil
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

// With is a set that knows further platforms. One whose description is no good is left out.
func With(set *loader.Set, taught []*teach.Platform) *loader.Set {
	out := *set
	for _, p := range taught {
		if described, err := p.Parse(); err == nil {
			out = *out.With(described)
		}
	}
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
				continue
			}
			key := name + " " + p.Name
			if _, said := s.look.Answers.To(key); said { // that there is none
				continue
			}
			if name == "id" || name == "name" {
				s.ask(Question{Key: key, Say: fmt.Sprintf("where does the %s stand in %s games?", fieldWords[name],
					p.Shown), Path: p.Such}, nil)
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
	// split are titles that are there in parts.
	split  []*sample
	placed []*placed
	// fold makes names equal where the console writes all of them in one letter case; nil where it does not.
	fold func(string) string
	used map[string]Part // paths that are explained
}

// sample is one disc of a title as it is on the target.
type sample struct {
	t      *title.Title
	disc   int
	path   string // of the image, cue sheet, cartridge or folder; "" where it is only there in parts
	parts  []string
	size   int64         // of a part
	ruled  bool          // a rule says how its parts are named
	values loader.Values // that its path may be made of, but for the title as it is written
	facts  loader.Values // that a condition can ask for
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

// letterCase finds out whether all names on the target are in one letter case.
func (s *student) letterCase() {
	upper, lower, files := true, true, 0
	for _, e := range s.look.Entries {
		if e.Folder || target.OfSystem(e.Path) || target.IsTemporary(e.Path) ||
			strings.ToUpper(e.Path) == strings.ToLower(e.Path) {
			continue
		}
		files++
		upper, lower = upper && e.Path == strings.ToUpper(e.Path), lower && e.Path == strings.ToLower(e.Path)
	}
	switch {
	case files < fewNames:
		return
	case upper:
		s.d.Case, s.fold = "upper", strings.ToUpper
	case lower:
		s.d.Case, s.fold = "lower", strings.ToLower
	default:
		return
	}
	s.find(Likely, "it writes all names in "+s.d.Case+" case", "all %s are", size.Count(files, "name"))
}

// fewNames are too few to tell the letter case of all.
const fewNames = 5

// volume takes over what the target itself is.
func (s *student) volume() {
	f := s.look.Facts.Filesystem
	s.d.Filesystems = []string{f.Name}
	if _, err := target.FilesystemNamed(f.Name); err != nil || f.Name == "ext4" {
		s.d.Filesystems = []string{"any"}
		s.ask(Question{Key: "filesystems", Usual: "any", Say: "which filesystems does the loader read? The target is a " +
			"folder on this computer, so its own filesystem shows nothing"}, s.takeFilesystems)
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
		s.ask(Question{Key: "label", Say: "does the volume need a certain label? A folder has no label"},
			func(label string) error {
				if len([]rune(label)) > 11 {
					return errors.New("a label has at most 11 characters")
				}
				s.d.Label = label
				return nil
			})
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

// onTarget are the titles and discs whose files are among those that are learnt from.
func (s *student) onTarget(titles []title.Title) (out []title.Title) {
	there := map[string]bool{}
	for _, e := range s.look.Entries {
		there[e.Path] = true
	}
	for _, t := range titles {
		t.Discs = slices.DeleteFunc(slices.Clone(t.Discs), func(d title.Disc) bool { return !there[s.rel(d.File.Path)] })
		if len(t.Discs) > 0 {
			out = append(out, t)
		}
	}
	return out
}

var formWords = map[title.Form]string{title.Image: "images", title.Tracks: "cue sheets", title.Cartridge: "cartridges",
	title.Folder: "folders", title.Package: "packages"}

// add takes in a rule; one that is like another but for its platform is joined to it.
func (s *student) add(r Rule) {
	for i := range s.d.Rules {
		o := &s.d.Rules[i]
		if o.Path != r.Path || o.Form != r.Form || o.Discs != r.Discs || o.Tracks != r.Tracks || o.When != r.When ||
			o.Numbers != r.Numbers ||
			o.Parts != r.Parts || o.PartSize != r.PartSize ||
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
		s.ask(Question{Key: "package files", Usual: "all", Choices: []string{"all"}, Say: "which files of a package are " +
			"copied, and which are left out? Only those that are there can be seen"}, nil)
	}
}

// kit takes what no title explains for the loader's own, where it may be; the rest is asked for.
func (s *student) kit() {
	var unknown []string
	for _, e := range s.unexplained() {
		if len(s.d.Rules) == 0 || slices.Contains(seldom, strings.ToLower(path.Ext(e.Path))) || e.Size > largestKit ||
			remarks.MatchString(path.Base(e.Path)) || s.gameLike(e.Path) || s.named(e.Path) ||
			!strings.Contains(e.Path, "/") && strings.EqualFold(path.Ext(e.Path), ".txt") {
			unknown = append(unknown, e.Path)
			continue
		}
		s.used[e.Path] = Own
		f := KitFile{Path: e.Path, Why: "it lies on the target, and belongs to no title"}
		if b, ok := s.read(e.Path); ok && len(b) > 0 && len(b) <= longestKitText {
			if as, text := teach.EncodingOf([][]byte{b}); text && as == "" {
				f.Text = string(b)
			}
		}
		s.d.Kit = append(s.d.Kit, f)
	}
	if n := len(s.d.Kit); n > 0 {
		s.find(Guess, fmt.Sprintf("%s may be the loader's own, such as %s", size.Count(n, "file"), s.d.Kit[0].Path),
			"no title explains them")
	}
	s.strangers(unknown)
}

// named reports whether a file has the name or ID of a title: it is that one's, whatever it is for.
func (s *student) named(file string) bool {
	base := bare(strings.TrimSuffix(path.Base(file), path.Ext(file)))
	return slices.ContainsFunc(append(slices.Clone(s.all), s.split...), func(x *sample) bool {
		return base == bare(x.t.Name) || base == bare(x.values[loader.FieldID])
	})
}

// gameLike reports whether a file is named as games are.
func (s *student) gameLike(file string) bool {
	ext := strings.ToLower(path.Ext(file))
	return ext != "" && slices.ContainsFunc(s.d.Rules, func(r Rule) bool {
		return slices.ContainsFunc(r.Platforms, func(name string) bool {
			p := s.set.Platform(name)
			return p != nil && (slices.Contains(p.Extensions, ext) || slices.Contains(p.Packages, ext))
		})
	})
}

// Kinds of files that are seldom a loader's own, and how long its files are at most.
var seldom = []string{".jpg", ".jpeg", ".mp3", ".mp4", ".mov", ".doc", ".pdf", ".zip", ".exe"}

// remarks are what people write for themselves.
var remarks = regexp.MustCompile(`(?i)^(read.?me|notes?|todo|about)\b|\.(md|bak|old|log)$`)

const (
	largestKit     = 64 << 20
	longestKitText = 4 << 10
)

// strangers asks what files are for that nothing explains: all at once, and each by itself once one was answered.
func (s *student) strangers(unknown []string) {
	var left []string
	for _, p := range unknown {
		if answer, ok := s.look.Answers.To("file " + p); ok && answer == "keep" {
			s.used[p] = Own
			s.d.Kit = append(s.d.Kit, KitFile{Path: p, Why: "as answered when this profile was learnt"})
		} else {
			left = append(left, p)
		}
	}
	if len(left) == 0 {
		return
	}
	shown := left[:min(len(left), 5)]
	s.ask(Question{Key: "strangers", Usual: Ignored, Choices: []string{Ignored}, Path: left[0],
		Say: fmt.Sprintf("what are these for? %s (%s in all)", strings.Join(shown, ", "), size.Count(len(left), "file"))},
		nil)
}

// rest asks what no target can answer.
func (s *student) rest() {
	s.ask(Question{Key: "names", Usual: s.d.Shown, Say: "what are the names of the loader and the console?"},
		func(names string) error {
			shown, console, _ := strings.Cut(names, ",")
			if shown = strings.TrimSpace(shown); shown == "" {
				return errors.New("give the loader's name, a comma, and the console's")
			}
			s.d.Name, s.d.Shown, s.d.Console = Slug(shown), shown, strings.TrimSpace(console)
			return nil
		})
	s.confirm()
	s.ask(Question{Key: "at the console", Say: "what must be done at the console before new games are listed?"},
		func(say string) error {
			if say != "" {
				s.d.Checklist = append(s.d.Checklist, strings.TrimSuffix(say, "."))
			}
			return nil
		})
	i := slices.IndexFunc(s.d.Rules, func(r Rule) bool { return r.PartSize == 0 && r.Form == title.Image })
	if i < 0 {
		return
	}
	s.ask(Question{Key: "too large", Usual: "nothing", Say: "what happens to an image that is too large for the volume? " +
		"(the size of its parts, such as 2GiB, or nothing)"}, func(part string) error {
		if part == "nothing" {
			return nil
		}
		n, err := size.Parse(part)
		if err != nil {
			return err
		}
		for i := range s.d.Rules {
			if r := &s.d.Rules[i]; r.PartSize == 0 && r.Form == title.Image {
				r.PartSize, r.Parts = n, strings.TrimSuffix(r.Path, "{ext}")+".{index|pad:3}"
			}
		}
		return nil
	})
}

// confirm asks about IDs and names that the draft needs, and that were found but may be something else.
func (s *student) confirm() {
	text := s.d.TOML()
	for _, p := range s.d.Taught {
		for name, needs := range map[string]string{"id": "{id", "name": "{title"} {
			f, ok := p.Fields[name]
			if !ok || f.Sure || f.Plain || !strings.Contains(text, needs) {
				continue
			}
			s.ask(Question{Key: name + " " + p.Name, Usual: Yes, Path: p.Such, Say: fmt.Sprintf(
				"is %s the %s of %s? It was found %s", f.Example, fieldWords[name], p.Such, f.Evidence)},
				func(answer string) error {
					if answer != Yes && answer != NoField && !strings.Contains(answer, ": ") {
						return fmt.Errorf("answer %s, %s, or a game's path, a colon, and its %s", Yes, NoField, fieldWords[name])
					}
					return nil
				})
		}
	}
}

func (s *student) takeFilesystems(names string) error {
	all := strings.FieldsFunc(names, func(r rune) bool { return r == ',' || r == ' ' })
	for _, name := range all {
		if _, err := target.FilesystemNamed(name); err != nil && name != "any" {
			return err
		}
	}
	if len(all) == 0 {
		return errors.New("give their names, with commas between, or any")
	}
	s.d.Filesystems = all
	return nil
}

// Sources are what to learn from, beside the target itself.
type Sources struct {
	// Games are folders of games as they were before they came to the target.
	Games   []string
	Answers Answers
}

// FromTarget looks at a target, and learns from it. What is no folder of this computer is looked at through a temporary
// one, which has what is read of it.
func FromTarget(ctx context.Context, at string, p target.Target, set *loader.Set, from Sources) (*Draft, error) {
	l, done, err := LookAt(ctx, at, p, from)
	if err != nil {
		return nil, err
	}
	defer done()
	return Learn(ctx, l, set)
}

// LookAt is what there is to learn from a target. The caller calls done when nothing is read from it any longer.
func LookAt(ctx context.Context, at string, p target.Target, from Sources) (l Look, done func(), err error) {
	done = func() {}
	facts, err := p.Facts(ctx, nil)
	if err != nil {
		return l, done, err
	}
	entries, err := p.List(ctx, nil)
	if err != nil {
		return l, done, err
	}
	if protocol, _, err := protocols.Parse(at); err == nil && protocol != nil {
		l.Via = protocol.Name
	}
	l = Look{Dir: at, Via: l.Via, Facts: facts, Entries: entries, Label: facts.Label, Sources: from, Name: filepath.Base(at),
		Open: func(path string) (target.Content, error) { return p.Open(ctx, path) }}
	if info, err := os.Stat(at); err == nil && info.IsDir() {
		return l, done, nil
	}
	dir, err := os.MkdirTemp("", "polytome-learn-")
	if err != nil {
		return l, done, err
	}
	done = func() { _ = os.RemoveAll(dir) } // holds nothing that is not on the target
	if err := mirror(ctx, p, entries, dir); err != nil {
		done()
		return l, func() {}, err
	}
	l.Dir = dir
	l.Open = func(path string) (target.Content, error) {
		return sparse.Open(filepath.Join(dir, filepath.FromSlash(path)))
	}
	return l, done, nil
}
