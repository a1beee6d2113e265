// Package proof audits a place: what will the loader list, what will it pass
// over, and what has to be done about it. It reads the place itself, not the
// plan, so it also judges what others have put there.
package proof

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"polytome/internal/core/fit"
	"polytome/internal/core/intake"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/place"
	"polytome/internal/size"
)

// Grade is how much a finding matters.
type Grade string

// The grades, the worst first.
const (
	Stops  Grade = "stops"  // the loader lists nothing at all
	Fault  Grade = "fault"  // a title is not listed, or will not start
	Remark Grade = "remark" // good to know
)

// A Listed is one line of the loader's list, as it will show.
type Listed struct {
	ID     string `json:"id"`
	Name   string `json:"name"` // as the loader shows it
	Kind   string `json:"kind,omitempty"`
	Path   string `json:"path"`
	Starts bool   `json:"starts"` // false when a finding keeps it from starting
	Size   int64  `json:"size"`
}

// A Finding is something that the loader, or the person, will stumble over.
type Finding struct {
	Grade  Grade  `json:"grade"`
	Path   string `json:"path,omitempty"`
	Title  string `json:"title,omitempty"` // of one that was promised
	Say    string `json:"say"`
	Remedy string `json:"remedy,omitempty"`
}

// A Report is the result of an audit.
type Report struct {
	Loader    string    `json:"loader"`
	Listed    []Listed  `json:"listed"` // in the loader's order
	Findings  []Finding `json:"findings,omitempty"`
	Unchecked []string  `json:"unchecked,omitempty"` // what could not be checked here, and why
	Checklist []string  `json:"checklist,omitempty"`
	Others    int       `json:"others"` // files that do not concern the loader
}

// Good reports whether the loader will list and start everything.
func (r *Report) Good() bool {
	return !slices.ContainsFunc(r.Findings, func(f Finding) bool { return f.Grade != Remark })
}

// A Promise is a title that the user wants on the place, and where.
type Promise struct {
	Label string
	Path  string
	Size  int64
}

// Promises lists what a sheet says will be on the place.
func Promises(titles []title.Title, tree *layout.Tree, sheet *fit.Sheet) []Promise {
	var out []Promise
	for i := range titles {
		if !sheet.Chosen[i] || !sheet.Verdicts[i].Kind.Goes() {
			continue
		}
		for _, item := range tree.Placements[i].Items {
			out = append(out, Promise{titles[i].Label(), item.Path, titles[i].Discs[item.Disc].File.Size})
		}
	}
	return out
}

// Audit looks at everything on a place with the eyes of a loader that reaches it
// over a road. Promises may be nil, and then only what is there is judged.
func Audit(ctx context.Context, p place.Place, profile *loader.Profile, set *loader.Set, road string, promises []Promise) (*Report, error) {
	facts, err := p.Facts(ctx)
	if err != nil {
		return nil, err
	}
	a := &audit{ctx: ctx, place: p, profile: profile, set: set, facts: facts}
	a.r.Loader = profile.Name
	entries, err := p.List(ctx, func(path string, err error) {
		a.find(Fault, path, fmt.Sprintf("it cannot be read: %v", err), "check the drive for errors")
	})
	if err != nil {
		return nil, err
	}
	a.checkAttachment(road)
	for _, e := range entries {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if !e.Folder {
			a.file(e)
		}
	}
	a.checkPromises(promises, entries)
	a.checkSettings(entries)
	slices.SortStableFunc(a.r.Listed, func(x, y Listed) int {
		return strings.Compare(strings.ToLower(x.Name)+"\x00"+x.ID, strings.ToLower(y.Name)+"\x00"+y.ID)
	})
	slices.SortStableFunc(a.r.Findings, func(x, y Finding) int { return rank(x.Grade) - rank(y.Grade) })
	for _, c := range profile.Checklist {
		a.r.Checklist = append(a.r.Checklist, c.Say)
	}
	return &a.r, nil
}

func rank(g Grade) int { return slices.Index([]Grade{Stops, Fault, Remark}, g) }

type audit struct {
	ctx     context.Context
	place   place.Place
	profile *loader.Profile
	set     *loader.Set
	facts   place.Facts
	r       Report
}

func (a *audit) find(g Grade, path, say, remedy string) {
	a.r.Findings = append(a.r.Findings, Finding{Grade: g, Path: path, Say: say, Remedy: remedy})
}

func (a *audit) checkAttachment(road string) {
	at := a.profile.Attachment(road)
	switch {
	case at == nil:
		a.find(Stops, "", fmt.Sprintf("%s does not read from %s", a.profile.Shown, road), "use another road")
	case !at.Reads(a.facts.Filesystem.Name):
		a.find(Stops, "", fmt.Sprintf("%s, and this place is %s", at.Why, a.facts.Filesystem.Shown),
			"format it as "+strings.Join(at.Filesystems, " or ")+", or declare what the folder stands for with --as")
	case at.OnePiece:
		a.r.Unchecked = append(a.r.Unchecked, fmt.Sprintf("whether every image lies in one piece, as %s wants: a folder does not tell", a.profile.Shown))
	}
}

// file judges one file: listed, passed over, or none of the loader's business.
func (a *audit) file(e place.Entry) {
	if place.IsTemporary(e.Path) {
		a.find(Remark, e.Path, "a broken-off run left this half-written file", "run again, or remove it; the loader passes it over")
		return
	}
	for i := range a.profile.Accepts {
		rule := &a.profile.Accepts[i]
		if values, ok := rule.Path.Match(e.Path); ok {
			a.image(e, rule, values)
			return
		}
	}
	for i := range a.profile.Accepts {
		rule := &a.profile.Accepts[i]
		if a.inFolderOf(rule, e.Path) {
			a.find(Fault, e.Path, fmt.Sprintf("%s passes it over: its name is not of the form %s", a.profile.Shown, rule.Path.Shape()),
				"move it to your games, and let Polytome put it here under its right name")
			return
		}
	}
	a.r.Others++
}

// inFolderOf reports whether a path lies in a folder where the rule's files do.
func (a *audit) inFolderOf(rule *loader.Accept, file string) bool {
	fold := a.facts.Filesystem.Fold
	for _, f := range rule.Path.Folders(a.kinds(rule)) {
		if strings.HasPrefix(fold(file), fold(f)+fold("/")) {
			return true
		}
	}
	return false
}

// kinds are the disc kinds of a rule's platform, as values for a template.
func (a *audit) kinds(rule *loader.Accept) map[string][]string {
	out := map[string][]string{}
	if p := a.set.Platform(rule.Platform); p != nil {
		for _, k := range p.Kinds {
			out["kind"] = append(out["kind"], k.Name)
		}
	}
	return out
}

// image judges a file whose path is one that the rule makes.
func (a *audit) image(e place.Entry, rule *loader.Accept, values map[string]string) {
	l := Listed{ID: values["id"], Name: values["title"], Path: e.Path, Size: e.Size, Starts: true}
	if problem := a.misnamed(rule, values); problem != "" {
		a.find(Fault, e.Path, fmt.Sprintf("%s passes it over: %s", a.profile.Shown, problem), "take it off, and let Polytome put it here under its right name")
		return
	}
	if e.Size > a.facts.Filesystem.LargestFile {
		a.find(Fault, e.Path, fmt.Sprintf("with %s it is too large for %s: it cannot get onto such a drive whole", size.Format(e.Size), a.facts.Filesystem.Shown), "take it off")
		return
	}
	t, err := a.identify(e)
	wrong := func(say, remedy string) {
		l.Starts = false
		a.find(Fault, e.Path, say, remedy)
	}
	switch {
	case err != nil:
		wrong(fmt.Sprintf("it is listed, but cannot be read: %v", err), "put it here again")
	case t == nil || t.Platform != rule.Platform:
		wrong(fmt.Sprintf("it is listed, but does not start: it is no %s image", rule.Platform), "take it off, or put the right image here")
	default:
		l.Kind = t.Discs[0].Kind
		if f := t.Fault(); f != nil {
			wrong("it is listed, but does not start: "+f.Say, f.Remedy)
			break
		}
		inside := t.Discs[0]
		if !strings.EqualFold(inside.ID, values["id"]) {
			wrong(fmt.Sprintf("its name says %s, but the image inside is %s", values["id"], inside.ID), "take it off, and let Polytome put it here under its right name")
		}
		if v, ok := values["kind"]; ok && !strings.EqualFold(v, inside.Kind) {
			wrong(fmt.Sprintf("it lies in the folder for %s discs, but is a %s disc, and does not start", strings.ToLower(v), inside.Kind), "take it off, and let Polytome put it into its right folder")
		}
	}
	a.r.Listed = append(a.r.Listed, l)
}

// misnamed says what in a file's name breaks the loader's rules, or "".
func (a *audit) misnamed(rule *loader.Accept, values map[string]string) string {
	if p := a.set.Platform(rule.Platform); p != nil {
		if id, ok := values["id"]; ok && p.Fields.ID.Pattern.Regexp != nil && !p.Fields.ID.Pattern.MatchString(strings.ToUpper(id)) {
			return fmt.Sprintf("%q is no ID of the %s", id, p.Shown)
		}
		if kind, ok := values["kind"]; ok && !slices.ContainsFunc(p.Kinds, func(k loader.Kind) bool { return strings.EqualFold(k.Name, kind) }) {
			return fmt.Sprintf("it does not look into the folder %s", kind)
		}
	}
	name := values["title"]
	if n := utf8.RuneCountInString(name); rule.Title.Longest > 0 && n > rule.Title.Longest {
		return fmt.Sprintf("the title in its name has %d characters, and %d are allowed", n, rule.Title.Longest)
	}
	for _, r := range name {
		if !rule.Title.Permits(r) {
			return fmt.Sprintf("the character %q is not allowed in a name", r)
		}
	}
	return ""
}

func (a *audit) identify(e place.Entry) (*title.Title, error) {
	c, err := a.place.Open(a.ctx, e.Path)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return intake.Image(c, c.Size(), e.Path, a.set)
}

// checkPromises looks for what was promised and is not there whole.
func (a *audit) checkPromises(promises []Promise, entries []place.Entry) {
	fold := a.facts.Filesystem.Fold
	there := make(map[string]place.Entry, len(entries))
	for _, e := range entries {
		there[fold(e.Path)] = e
	}
	for _, p := range promises {
		e, ok := there[fold(p.Path)]
		f := Finding{Grade: Fault, Path: p.Path, Title: p.Label, Remedy: "run again: only what is missing is written"}
		switch {
		case !ok:
			f.Say = p.Label + " was to be here and is not"
		case e.Size != p.Size:
			f.Say = fmt.Sprintf("%s was to be here with %s and has %s", p.Label, size.Format(p.Size), size.Format(e.Size))
			f.Remedy = "take this file off and run again"
		default:
			continue
		}
		a.r.Findings = append(a.r.Findings, f)
	}
}

// checkSettings reads the loader's own files for the values that decide what
// it shows.
func (a *audit) checkSettings(entries []place.Entry) {
	for _, s := range a.profile.Settings {
		say := ""
		i := slices.IndexFunc(entries, func(e place.Entry) bool {
			return !e.Folder && a.facts.Filesystem.Fold(e.Path) == a.facts.Filesystem.Fold(s.File)
		})
		if i < 0 {
			say = fmt.Sprintf("the file is missing: %s", s.Otherwise)
		} else if got, err := a.setting(entries[i].Path, s.Key); err != nil {
			say = fmt.Sprintf("it cannot be read (%v): %s", err, s.Otherwise)
		} else if got != s.Value {
			say = fmt.Sprintf("it says %s=%s instead of %s=%s: %s", s.Key, got, s.Key, s.Value, s.Otherwise)
		}
		if say == "" {
			continue
		}
		grade := Remark
		if s.Lists {
			grade = Stops
		}
		a.find(grade, s.File, say, s.Remedy)
	}
	if slices.ContainsFunc(a.r.Findings, func(f Finding) bool { return f.Grade == Stops }) {
		a.r.Listed = nil
	}
}

// maxSettings is the longest settings file that is read.
const maxSettings = 1 << 20

func (a *audit) setting(file, key string) (string, error) {
	c, err := a.place.Open(a.ctx, file)
	if err != nil {
		return "", err
	}
	defer c.Close()
	b, err := io.ReadAll(io.NewSectionReader(c, 0, min(c.Size(), maxSettings)))
	if err != nil {
		return "", err
	}
	for line := range strings.Lines(string(b)) {
		if k, v, ok := strings.Cut(line, "="); ok && strings.TrimSpace(k) == key {
			return strings.TrimSpace(v), nil
		}
	}
	return "", nil
}
