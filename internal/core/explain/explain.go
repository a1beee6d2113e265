// Package explain walks one game through the descriptions of platforms and the rules of a loader, step by step: which
// marker, which field, which rule, which name, and why not. It runs the examples that stand in them, too.
package explain

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/reading"
	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/format/container"
	"polytome/internal/target"
)

// A Step is one of the walk: what was looked at, and whether it fits.
type Step struct {
	OK  bool   `json:"ok"`
	Say string `json:"say"`
}

// A Section is some steps about one thing.
type Section struct {
	Title string `json:"title"`
	Steps []Step `json:"steps"`
}

// An Account is all that was found about one game.
type Account struct {
	Sections []Section `json:"sections"`
	Platform string    `json:"platform,omitempty"` // "" where no platform knows it
	Paths    []string  `json:"paths,omitempty"`    // where its files go; none where the loader does not take it
}

func (a *Account) add(name string, steps ...Step) {
	if len(steps) > 0 {
		a.Sections = append(a.Sections, Section{name, steps})
	}
}

// Where is the target that a game is to be placed on. The zero value leaves that to the loader.
type Where struct {
	Via        string
	Filesystem string
	Volume     string // "" for none that is known
	Capacity   int64  // of the volume, in bytes; 0 where it is not known
}

// Game walks a file or folder through the platforms of a set, and through a loader's rules, where p is not nil.
func Game(file string, set *loader.Set, p *loader.Profile, to Where) (*Account, error) {
	a := &Account{}
	t, err := scan.One(file, set)
	if err != nil {
		return nil, err
	}
	whole, done, err := sourceOf(file)
	if err != nil {
		return nil, err
	}
	defer done()
	a.markers(file, whole, t, set, p)
	if t == nil || t.Platform == "" {
		for _, f := range findings(t) {
			a.add("What was found", f)
		}
		return a, nil
	}
	a.Platform = t.Platform
	a.fields(t, set.Platform(t.Platform))
	if p != nil {
		a.rules(t, set, p, to)
	}
	return a, nil
}

// sourceOf is what markers are looked for in.
func sourceOf(file string) (*reading.Source, func(), error) {
	name := filepath.Base(file)
	info, err := os.Stat(file)
	if err != nil {
		return nil, nil, err
	}
	if info.IsDir() {
		return &reading.Source{Name: name, FS: os.DirFS(file), Called: name + ".",
				CalledFrom: "the name of the folder"},
			func() {}, nil
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, nil, err
	}
	whole := reading.Of(f, info.Size(), name)
	if all, err := container.OpenImage(f, info.Size()); err == nil && len(all.Volumes) > 0 {
		whole.FS, whole.Volume = all.Volumes[0], all.Volumes[0].Identifier
	}
	return whole, func() { _ = f.Close() }, nil
}

// markers tells by what the game is known, or why it is not: for the platforms that a loader knows, and those of the
// file's extension.
func (a *Account) markers(file string, whole *reading.Source, t *title.Title, set *loader.Set, p *loader.Profile) {
	ext := strings.ToLower(path.Ext(whole.Name))
	info, err := os.Stat(file)
	folder := err == nil && info.IsDir()
	for _, x := range set.Platforms {
		mine := t != nil && t.Platform == x.Name
		if !mine && (t != nil && t.Platform != "" || p != nil && !p.Knows(x.Name) || folder != x.Has(title.Folder) &&
			folder ||
			!folder && !slices.Contains(x.Extensions, ext) && !slices.Contains(x.Packages, ext)) {
			continue
		}
		var steps []Step
		for i := range x.Markers {
			m := &x.Markers[i]
			step := Step{OK: true, Say: describe(m)}
			at, lack, err := whole.Marked(m)
			switch {
			case mine && t.Form == title.Tracks: // they are in the data track, which was looked into
			case err != nil:
				step = Step{false, fmt.Sprintf("%s: it cannot be read: %v", step.Say, err)}
			case at == nil:
				step = Step{false, step.Say + ": " + lack.Say()}
			}
			steps = append(steps, step)
		}
		if len(x.Markers) == 0 {
			steps = append(steps, Step{mine, "its games are known by their extension: " + strings.Join(x.Extensions,
				", ")})
		}
		a.add("Is it a "+x.Shown+" game?", steps...)
	}
	if len(a.Sections) == 0 {
		known := "No platform has folders like that."
		if !folder {
			known = fmt.Sprintf("No platform has files that end in %s, and none is known by its bytes.", cmp.Or(ext,
				"nothing"))
		}
		a.add("What is it?", Step{false, known})
	}
}

// describe is what a marker asks for.
func describe(m *loader.Marker) string {
	var all []string
	say := func(ok bool, format string, args ...any) {
		if ok {
			all = append(all, fmt.Sprintf(format, args...))
		}
	}
	say(m.File != "", "the file %s is in it", m.File)
	at := fmt.Sprintf("at byte 0x%X", max(m.Offset, 0))
	if m.Offset < 0 {
		at = fmt.Sprintf("%d bytes before the end", -m.Offset)
	}
	say(m.Magic != "", "%s stands the text %q", at, m.Magic)
	bytes, _ := m.Hex.MarshalText()
	say(len(m.Hex) > 0, "%s stand the bytes %s", at, bytes)
	say(m.Pattern.Regexp != nil, "something is like %s", m.Pattern)
	say(m.Volume.Regexp != nil, "the volume identifier is like %s", m.Volume)
	say(m.Named.Regexp != nil, "its name is like %s", m.Named)
	say(len(m.With) > 0, "%s is there", strings.Join(m.With, ", "))
	say(len(m.Without) > 0, "%s is not there", strings.Join(m.Without, ", "))
	return strings.Join(all, ", and ")
}

// fields tells which values were read, and where.
func (a *Account) fields(t *title.Title, p *loader.Platform) {
	var steps []Step
	for _, e := range t.Discs[0].Evidence {
		steps = append(steps, Step{true, fmt.Sprintf("%s: %s (%s)", e.Field, e.Value, e.From)})
	}
	for _, name := range loader.FieldNames {
		f, what := p.Fields.Named(name), strings.Replace(name, "id", "ID", 1)
		if f.Reports() && !f.Required && !slices.ContainsFunc(t.Discs[0].Evidence,
			func(e title.Evidence) bool { return e.Field == what }) && !slices.ContainsFunc(t.Findings,
			func(f title.Finding) bool { return f.Wants == what }) {
			steps = append(steps, Step{true, fmt.Sprintf("%s: none; there is no %s", what, reading.Where(f))})
		}
	}
	a.add("What is read from it", append(steps, findings(t)...)...)
}

func findings(t *title.Title) (out []Step) {
	if t == nil {
		return nil
	}
	for _, f := range t.Findings {
		say := f.Say
		if f.Remedy != "" {
			say += ". " + strings.ToUpper(f.Remedy[:1]) + f.Remedy[1:]
		}
		out = append(out, Step{f.Grade != title.Fault, say})
	}
	return out
}

// Errors of targets that a loader does not reach.
var errVia = errors.New("the loader is not reached that way")

// Destination is the target that a profile's games go to.
func (to Where) Destination(p *loader.Profile, set *loader.Set) (layout.Destination, error) {
	via := cmp.Or(to.Via, p.UsualVia())
	at := p.Attachment(via, to.Filesystem)
	if at == nil {
		return layout.Destination{}, fmt.Errorf("%w: %s; it is by %s", errVia, via, strings.Join(p.Connections(), ", "))
	}
	fs, err := target.FilesystemNamed(cmp.Or(to.Filesystem, at.DefaultFilesystem()))
	return layout.Destination{Attachment: at, Filesystem: fs, Set: set, Volume: to.Volume, Capacity: to.Capacity}, err
}

// rules tells which rule holds, why those before it do not, and what it makes of the game.
func (a *Account) rules(t *title.Title, set *loader.Set, p *loader.Profile, to Where) {
	d, err := to.Destination(p, set)
	if err != nil {
		a.add("Where it goes", Step{false, err.Error()})
		return
	}
	facts := layout.Facts(t, d.Here())
	var steps []Step
	try := func(s *loader.Scope, what string) bool {
		if why := whyNot(s, t, &facts, d); why != "" {
			steps = append(steps, Step{false, what + ": " + why})
			return false
		}
		return true
	}
	for i := range p.Refusals {
		if r := &p.Refusals[i]; try(&r.Scope, fmt.Sprintf("refusal %d (%s)", i+1, r.Say)) {
			a.add("Which rule holds on "+d.Attachment.Name,
				append(steps, Step{false, fmt.Sprintf("refusal %d holds: %s", i+1,
					r.Say)})...)
			return
		}
	}
	for i := range p.Accepts {
		if r := &p.Accepts[i]; try(&r.Scope, fmt.Sprintf("rule %d (%s)", i+1, r.Path)) {
			steps = append(steps, Step{true, fmt.Sprintf("rule %d holds: %s", i+1, r.Path)})
			break
		}
	}
	a.add("Which rule holds on "+d.Attachment.Name, steps...)
	tree := layout.Lay([]title.Title{*t}, p, d)
	pl := &tree.Placements[0]
	if pl.Refusal != nil {
		a.add("What comes out", Step{false, pl.Refusal.Say})
		return
	}
	var out []Step
	if pl.Name != "" && pl.Name != t.Name {
		out = append(out, Step{true, fmt.Sprintf("its name is written %q: %s", pl.Name, cmp.Or(pl.How,
			"what the rule does not permit is left out"))})
	}
	for i := range pl.Items {
		a.Paths = append(a.Paths, pl.Items[i].Path)
		out = append(out, Step{true, pl.Items[i].Path + because(pl.Because(&pl.Items[i]))})
	}
	for _, c := range tree.Companions(0) {
		a.Paths = append(a.Paths, c.Path)
		out = append(out, Step{true, fmt.Sprintf("%s (%s)%s", c.Path, c.Is, because(c.Rule))})
	}
	for _, l := range tree.Lists(func(int) bool { return true }) {
		out = append(out, Step{true, fmt.Sprintf("%s has %s", l.Path, strings.TrimRight(fmt.Sprintf("%q", l.Data),
			"\n"))})
	}
	a.add("What comes out", out...)
}

func because(why string) string {
	if why == "" {
		return ""
	}
	return ": " + why
}

// whyNot says why a rule is not about a title; "" where it is.
func whyNot(s *loader.Scope, t *title.Title, facts *loader.Values, d layout.Destination) string {
	fs := d.Filesystem.Name
	switch {
	case !s.Takes(t.Platform, t.Form) && !s.Takes(t.Platform, ""):
		return "it is for " + strings.Join(s.Platforms, ", ")
	case !s.Takes(t.Platform, t.Form):
		return fmt.Sprintf("it is for the form %v, and this is one of %s", s.Forms, t.Form)
	case !s.Match(t.Platform, t.Form, d.Attachment.Name, ""):
		return "it is for " + strings.Join(s.On, ", ")
	case !s.Match(t.Platform, t.Form, d.Attachment.Name, fs):
		return fmt.Sprintf("it is for %s, and this is %s", strings.Join(s.Filesystems, ", "), fs)
	case !s.When.Holds(facts):
		return "it holds only " + s.When.Words()
	}
	return ""
}
