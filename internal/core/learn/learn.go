// Package learn drafts a loader profile from a target that a console or a person has
// prepared: which folder is for which platform, how names are made, what is beside the
// games. Every finding comes with its evidence, and what stays open is asked for.
package learn

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/teach"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/folder"
)

// Learn drafts a profile from a prepared target. Titles on it are recognised by the
// platforms of the set.
func Learn(ctx context.Context, l Look, set *loader.Set) (*Draft, error) {
	l.Entries = slices.DeleteFunc(slices.Clone(l.Entries),
		func(e target.Entry) bool { return l.Answers.LeaveOut(e.Path) })
	r, err := scan.Scan(ctx, []string{l.Dir}, scan.Options{Set: set})
	if err != nil {
		return nil, err
	}
	taught := teach.Platforms(ctx, l.Dir, unknown(l, r.Titles), set.PlatformNames(), l.Answers.hints()...)
	for _, p := range taught {
		if len(l.Packed[p.Such]) > 0 { // its extension says nothing of what is in it
			p.Form, p.Exts = title.Image, []string{usualImage}
		}
	}
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
	s := &student{look: l, set: set, d: &Draft{Via: cmp.Or(l.Via, "usb"), Label: l.Label, Taught: taught},
		used: map[string]Part{}, by: map[string]string{}, stopped: func() bool { return ctx.Err() != nil }}
	if s.originals, err = titlesIn(ctx, l.Games, set); err != nil {
		return nil, err
	}
	for _, at := range l.Unread {
		s.contradict("%s could not be read: nothing was learnt from it", at)
	}
	s.taught()
	base := cmp.Or(strings.TrimSuffix(l.Name, filepath.Ext(l.Name)), filepath.Base(l.Dir))
	if l.Label != "" {
		base = l.Label
	}
	s.d.Name, s.d.Shown = Slug(base), base
	s.letterCase()
	s.samples(s.onTarget(r.Titles))
	s.volume()
	for _, step := range []func(){s.rules, s.lay, s.saves, s.companions, s.lists, s.emptyFolders, s.kit, s.rest,
		s.remake} {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		step()
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	s.d.Explained = s.explained()
	if len(s.d.Rules) == 0 {
		return s.d, fmt.Errorf("nothing in %s shows where games go: it has no game of a known platform, and no "+
			"folder named like one", cmp.Or(l.Name, l.Dir))
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
		return nil, fmt.Errorf("nothing in %s is a game of a platform that is not known yet", strings.Join(from.Games,
			", "))
	}
	from.Answers.apply(taught)
	s := &student{set: set, look: Look{Sources: from}, d: &Draft{Taught: taught}}
	s.taught()
	for _, p := range taught {
		s.missing(p)
	}
	return s.d, nil
}

// usualImage is the extension of images of which no plain one was seen: they are known by their bytes.
const usualImage = ".img"

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
		for _, x := range teach.Platforms(ctx, dir, unknown(games, r.Titles), set.PlatformNames(),
			l.Answers.hints()...) {
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

// unknown are the entries of a target that no title which is known has, and that are no save of one.
func unknown(l Look, titles []title.Title) []target.Entry {
	known := map[string]bool{}
	own := map[string]string{} // folder -> key of the only title that lies directly in it; "" for several
	stems := map[string]bool{} // files of titles without their extensions
	var filled time.Time
	for i := range titles {
		t := &titles[i]
		if t.Platform == "" {
			continue
		}
		note := func(f title.File) {
			rel, err := filepath.Rel(l.Dir, f.Path)
			if err != nil {
				return
			}
			rel = filepath.ToSlash(rel)
			known[rel], stems[strings.TrimSuffix(rel, path.Ext(rel))] = true, true
			if of, there := own[path.Dir(rel)]; !there {
				own[path.Dir(rel)] = t.Key
			} else if of != t.Key {
				own[path.Dir(rel)] = ""
			}
			if f.Modified.After(filled) {
				filled = f.Modified
			}
		}
		for k := range t.Discs {
			note(t.Discs[k].File)
			for _, p := range t.Discs[k].Parts {
				note(p.File)
			}
		}
	}
	played := map[string]bool{} // folders above what somebody reached
	out := slices.DeleteFunc(slices.Clone(l.Entries), func(e target.Entry) bool {
		above := layout.Folders(e.Path)
		if known[e.Path] || slices.ContainsFunc(above, func(dir string) bool { return known[dir] }) {
			return true
		}
		near := stems[strings.TrimSuffix(e.Path, path.Ext(e.Path))] ||
			slices.ContainsFunc(above, func(dir string) bool { return own[dir] != "" })
		if !near || !l.played(&e, filled) {
			return false
		}
		for _, dir := range above {
			played[dir] = true
		}
		return true
	})
	inside := map[string]bool{} // folders above what is still there
	for i := range out {
		if !out[i].Folder {
			for _, dir := range layout.Folders(out[i].Path) {
				inside[dir] = true
			}
		}
	}
	return slices.DeleteFunc(out, func(e target.Entry) bool {
		return e.Folder && played[e.Path] && !inside[e.Path] && own[e.Path] == ""
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
	// originals are the games as they were before they came to the target.
	originals []title.Title
	// split are titles that are there in parts.
	split  []*sample
	placed []*placed
	// fold makes names equal where the console writes all of them in one letter case; nil where it does not.
	fold func(string) string
	used map[string]Part   // paths that are explained
	by   map[string]string // rules that explain them, by their paths
	// stopped reports that nobody wants the draft any longer.
	stopped func() bool
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
	s.d.Findings = append(s.d.Findings, Finding{Say: say, Evidence: fmt.Sprintf(evidence, args...), Confidence: c})
}

// made says that a rule makes some paths, which is what was found last.
func (s *student) made(rule string, paths ...string) {
	s.d.Findings[len(s.d.Findings)-1].Rule = rule
	for _, p := range paths {
		s.by[p] = rule
	}
}

// explained is why what lies on the target does so.
func (s *student) explained() map[string]Reason {
	out := map[string]Reason{}
	for p, part := range s.used {
		out[p] = Reason{part, s.by[p]}
	}
	return out
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

// onTarget are the titles and discs whose files are among those that are learnt from.
func (s *student) onTarget(titles []title.Title) (out []title.Title) {
	there := map[string]bool{}
	for _, e := range s.look.Entries {
		there[e.Path] = true
	}
	for _, t := range titles {
		t.Discs = slices.DeleteFunc(slices.Clone(t.Discs),
			func(d title.Disc) bool { return !there[s.rel(d.File.Path)] })
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
			o.Numbers != r.Numbers || o.Packed != r.Packed ||
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
