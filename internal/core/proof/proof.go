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

	"polytome/internal/core/fit"
	"polytome/internal/core/loader"
	"polytome/internal/core/settings"
	"polytome/internal/core/shape"
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
	ID       string `json:"id"`
	Name     string `json:"name"` // as the loader shows it
	Kind     string `json:"kind,omitempty"`
	Platform string `json:"platform,omitempty"`
	Path     string `json:"path"`
	Starts   bool   `json:"starts"` // false when a finding keeps it from starting
	Size     int64  `json:"size"`
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
	Files     int       `json:"files"`  // all of them
}

// Good reports whether the loader will list and start everything.
func (r *Report) Good() bool {
	return !slices.ContainsFunc(r.Findings, func(f Finding) bool { return f.Grade != Remark })
}

// Join adds what another loader of the same place makes of it.
func (r *Report) Join(o *Report) {
	r.Loader += " and " + o.Loader
	r.Listed = append(r.Listed, o.Listed...)
	for _, f := range o.Findings {
		if !slices.Contains(r.Findings, f) {
			r.Findings = append(r.Findings, f)
		}
	}
	slices.SortStableFunc(r.Findings, func(x, y Finding) int { return rank(x.Grade) - rank(y.Grade) })
	for _, u := range o.Unchecked {
		if !slices.Contains(r.Unchecked, u) {
			r.Unchecked = append(r.Unchecked, u)
		}
	}
	for _, c := range o.Checklist {
		if !slices.Contains(r.Checklist, c) {
			r.Checklist = append(r.Checklist, c)
		}
	}
	r.Others = max(0, r.Others+o.Others-r.Files) // files that neither loader knows, at least
}

// A Promise is a title that the user wants on the place, and where.
type Promise struct {
	Label string
	Path  string
	Size  int64 // in bytes; negative for a text that may be changed by hand
}

// Promises lists what a sheet says will be on the place for one of its loaders.
func Promises(sheet *fit.Sheet, of *loader.Profile) []Promise {
	var out []Promise
	for i := range sheet.Titles() {
		if !sheet.Chosen[i] || sheet.Loader(i).Profile != of || !sheet.Verdict(i).Kind.Goes() {
			continue
		}
		for _, item := range sheet.Placement(i).Items {
			if item.AtMost && item.Offset > 0 {
				continue // a part that there may be nothing for
			}
			p := Promise{sheet.Titles()[i].Label(), item.Path, item.Size}
			if item.Shape == shape.Written || item.AtMost {
				p.Size = -1
			}
			out = append(out, p)
		}
	}
	return out
}

// Audit looks at everything on a place with the eyes of a loader that reaches it
// over a road. Promises may be nil, and then only what is there is judged.
func Audit(ctx context.Context, p place.Place, profile *loader.Profile, set *loader.Set, road string, promises []Promise) (*Report, error) {
	a := &audit{ctx: ctx, place: p, profile: profile, set: set}
	a.r.Loader = profile.Name
	entries, err := p.List(ctx, func(path string, err error) {
		a.find(Fault, path, fmt.Sprintf("it cannot be read: %v", err), "check the drive for errors")
	})
	if err != nil {
		return nil, err
	}
	if a.facts, err = p.Facts(ctx, entries); err != nil {
		return nil, err
	}
	a.there = make(map[string]place.Entry, len(entries))
	for _, e := range entries {
		a.there[a.facts.Filesystem.Fold(e.Path)] = e
	}
	a.checkAttachment(road)
	for _, e := range entries {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if !e.Folder {
			a.r.Files++
		}
		a.entry(e)
	}
	if a.unlooked > 0 {
		a.r.Unchecked = append(a.r.Unchecked, fmt.Sprintf("whether %s are whole: folders and tracks are told by their names alone", size.Count(a.unlooked, "title")))
	}
	a.checkPromises(promises)
	a.checkSettings(entries)
	a.sort()
	slices.SortStableFunc(a.r.Findings, func(x, y Finding) int { return rank(x.Grade) - rank(y.Grade) })
	now := loader.Values{loader.FieldRoad: road, loader.FieldFilesystem: a.facts.Filesystem.Name, loader.FieldSituation: a.situation(promises)}
	for _, c := range profile.Checklist {
		if c.When.Holds(&now) {
			a.r.Checklist = append(a.r.Checklist, c.Say)
		}
	}
	return &a.r, nil
}

// situation is what a checklist's conditions ask for, as far as an audit can tell: what
// was promised is taken for what was added.
func (a *audit) situation(promises []Promise) string {
	var now []string
	if len(promises) > 0 {
		now = append(now, "added", "removed")
	}
	return strings.Join(now, " ")
}

// sort brings the list into the loader's order.
func (a *audit) sort() {
	order := a.profile.ListOrder
	if len(order) == 0 {
		order = []string{"title", "id"}
	}
	field := func(l *Listed, by string) string {
		switch by {
		case "id":
			return l.ID
		case "kind":
			return l.Kind
		case "platform":
			return l.Platform
		case "path":
			return l.Path
		}
		return l.Name
	}
	slices.SortStableFunc(a.r.Listed, func(x, y Listed) int {
		for _, by := range order {
			if c := strings.Compare(strings.ToLower(field(&x, by)), strings.ToLower(field(&y, by))); c != 0 {
				return c
			}
		}
		return 0
	})
}

func rank(g Grade) int { return slices.Index([]Grade{Stops, Fault, Remark}, g) }

type audit struct {
	ctx      context.Context
	place    place.Place
	profile  *loader.Profile
	set      *loader.Set
	facts    place.Facts
	on       string                 // name of the attachment
	whole    bool                   // files must lie in one piece, and the place can tell
	held     []*loader.Accept       // rules that hold there
	there    map[string]place.Entry // by folded path
	unlooked int                    // listed titles that were not looked into
	r        Report
}

func (a *audit) find(g Grade, path, say, remedy string) {
	a.r.Findings = append(a.r.Findings, Finding{Grade: g, Path: path, Say: say, Remedy: remedy})
}

func (a *audit) checkAttachment(road string) {
	at := a.profile.Attachment(road, a.facts.Filesystem.Name)
	if at != nil {
		a.on = at.Name
		switch {
		case at.Label != "" && a.facts.Label != "" && !strings.EqualFold(at.Label, a.facts.Label):
			a.find(Stops, "", fmt.Sprintf("the volume is called %s, and %s wants one called %s", a.facts.Label, a.profile.Shown, at.Label), "give the volume that label")
		case slices.ContainsFunc(at.LabelNot, func(l string) bool { return strings.EqualFold(l, a.facts.Label) }) && a.facts.Label != "":
			a.find(Stops, "", fmt.Sprintf("the volume is called %s, which %s does not take", a.facts.Label, a.profile.Shown), "give the volume another label")
		case at.Label != "" && a.facts.Label == "":
			a.r.Unchecked = append(a.r.Unchecked, fmt.Sprintf("whether the volume is called %s, as %s wants: a folder does not tell", at.Label, a.profile.Shown))
		}
	}
	if t, ok := a.place.(interface{ PartitionTable() string }); ok && at != nil && at.PartitionTable != "" && at.PartitionTable != "any" && t.PartitionTable() != at.PartitionTable {
		has := "the drive has no partition table"
		if t.PartitionTable() != "none" {
			has = "the drive has the partition table " + strings.ToUpper(t.PartitionTable())
		}
		a.find(Stops, "", fmt.Sprintf("%s, and %s wants %s", has, a.profile.Shown, strings.ToUpper(at.PartitionTable)), "ready the drive anew: what is on it has to be copied elsewhere first")
	}
	switch {
	case at == nil:
		a.find(Stops, "", fmt.Sprintf("%s does not read from %s", a.profile.Shown, road), "use another road")
	case !at.Reads(a.facts.Filesystem.Name):
		a.find(Stops, "", fmt.Sprintf("over %s, %s reads %s only, and this place is %s", road, a.profile.Shown, at.ReadsWords(), a.facts.Filesystem.Shown),
			"format it as "+at.ReadsWords()+", or declare what the folder stands for with --as")
	case at.OnePiece:
		if _, a.whole = a.place.(place.Piecer); a.whole {
			break
		}
		a.r.Unchecked = append(a.r.Unchecked, fmt.Sprintf("whether every image lies in one piece, as %s wants: a folder does not tell", a.profile.Shown))
	}
}

// inPieces says what keeps a file of the loader's from starting where it must lie in one piece, "" for nothing.
func (a *audit) inPieces(file string) string {
	if !a.whole {
		return ""
	}
	n, err := a.place.(place.Piecer).Pieces(a.ctx, file)
	switch {
	case err != nil:
		return fmt.Sprintf("where it lies cannot be read: %v", err)
	case n > 1:
		return fmt.Sprintf("it lies in %d pieces, and %s starts only what lies in one", n, a.profile.Shown)
	}
	return ""
}

// gather is the remedy for a file in pieces.
const gather = "bring it into one piece: in Drives, or with polytome drives map --gather"

// checkPromises looks for what was promised and is not there whole.
func (a *audit) checkPromises(promises []Promise) {
	for _, p := range promises {
		e, ok := a.there[a.facts.Filesystem.Fold(p.Path)]
		f := Finding{Grade: Fault, Path: p.Path, Title: p.Label, Remedy: "run again: only what is missing is written"}
		switch {
		case !ok:
			f.Say = p.Label + " was to be here and is not"
		case p.Size >= 0 && e.Size != p.Size:
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
		if a.on != "" && len(s.On) > 0 && !slices.Contains(s.On, a.on) {
			continue
		}
		say := ""
		i := slices.IndexFunc(entries, func(e place.Entry) bool {
			return !e.Folder && a.facts.Filesystem.Fold(e.Path) == a.facts.Filesystem.Fold(s.File)
		})
		if i < 0 {
			say = fmt.Sprintf("the file is missing: %s", s.Otherwise)
		} else if got, err := a.setting(entries[i].Path, &s); err != nil {
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

func (a *audit) setting(file string, s *loader.Setting) (string, error) {
	c, err := a.place.Open(a.ctx, file)
	if err != nil {
		return "", err
	}
	defer c.Close()
	b, err := io.ReadAll(io.NewSectionReader(c, 0, min(c.Size(), maxSettings)))
	if err != nil {
		return "", err
	}
	v, _, err := settings.Get(string(b), settings.Syntax(s.Syntax), s.Section, s.Key)
	return v, err
}
