package fit

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/size"
)

// An Explanation is a verdict in words.
type Explanation struct {
	Verdict Kind   `json:"verdict"`
	Say     string `json:"say"`            // the reason, with the deciding number
	Ways    []Way  `json:"ways,omitempty"` // the ways out, the cheapest first
}

// Cost is what a way out costs, roughly.
type Cost int

// The costs, the least first.
const (
	Choosing    Cost = iota // another choice here; no byte moves that would not have
	OtherTarget             // another target of the bench
	Reshaping               // another shape
	Fetching                // something has to be got
	Preparing               // the target has to be made again, or another one used
)

// A Way is a way out of a verdict.
type Way struct {
	Say  string
	Cost Cost
}

// MarshalText writes the way in words.
func (w Way) MarshalText() ([]byte, error) { return []byte(w.Say), nil }

// UnmarshalText reads the words of a way.
func (w *Way) UnmarshalText(b []byte) error {
	w.Say = string(b)
	return nil
}

// Add adds ways, and keeps the cheapest first.
func (e *Explanation) Add(cost Cost, say ...string) {
	for _, s := range say {
		if s != "" {
			e.Ways = append(e.Ways, Way{s, cost})
		}
	}
	slices.SortStableFunc(e.Ways, func(a, b Way) int { return int(a.Cost) - int(b.Cost) })
}

// Words are the ways out as plain sentences.
func (e *Explanation) Words() (out []string) {
	for _, w := range e.Ways {
		out = append(out, w.Say)
	}
	return out
}

// Explain puts the verdict on title i into words.
func (s *Sheet) Explain(i int) Explanation {
	v := s.Verdict(i)
	t, p := &s.of.Titles[i], s.Loader(i).Profile
	e := Explanation{Verdict: v.Kind}
	r := s.judge(i)
	pl := s.Placement(i)
	switch v.Kind {
	case Copy:
		e.Say = fmt.Sprintf("is copied to %s and takes %s", r.path, size.Format(v.Space))
		if v.Need < v.Space {
			e.Say += fmt.Sprintf("; %s of that are already there", size.Format(v.Space-v.Need))
		}
	case Present:
		e.Say = "is already there, as " + r.path
		if r.path == "" {
			e.Say = "has no picture to be carried, and stands in the list"
		}
	case Renamed:
		e.Say = fmt.Sprintf("is already there as %s, and is renamed to %s without copying", firstOf(s.of.Found[i]),
			pl.Items[0].Path)
		if n := s.written(i); n > 0 {
			e.Say += fmt.Sprintf(" except %s", size.Format(n))
		}
	case Deleted:
		e.Say = "was there and is gone: it was deleted at the console, or elsewhere. It is not copied again by itself"
		e.Add(Choosing, "select it again to have it copied")
	case Replaced:
		e.Say = fmt.Sprintf("replaces what is at %s, as you marked it", r.path)
	case Parts:
		e.Say = fmt.Sprintf("%s; this %s is %s. %s reads it in %d parts, which take %s", s.holdsAtMost(i), t.Form,
			size.Format(t.Discs[pl.Items[0].Disc].File.Size), p.Shown, v.Parts, size.Format(v.Space))
	case Unpacked:
		e.Say = fmt.Sprintf("is unpacked while copying, from %s to %s, and takes %s", size.Format(t.Size()),
			layout.Common(pl), size.Format(v.Space))
	case Converted:
		e.Say = fmt.Sprintf("%s: %s go to %s and take %s", shape.Of(v.Shape).Says(p.Shown, string(t.Form)),
			size.Count(len(pl.Items), "file"), layout.Common(pl), atMost(v, size.Format(v.Space)))
	case Packed:
		e.Say = fmt.Sprintf("%s, from %s to %s, and takes %s", shape.Of(shape.Pack).Says(p.Shown, string(t.Form)),
			size.Format(t.Size()), r.path, atMost(v, size.Format(v.Space)))
		if v.Parts > 1 {
			e.Say += fmt.Sprintf(", in %d files", v.Parts)
		}
	case NotYet:
		e.Say = fmt.Sprintf("%s, but its contents could not be read; it would take about %s",
			shape.Of(shape.Name(r.detail)).Says(p.Shown, string(t.Form)), size.Format(v.Space))
		e.Add(Fetching, "convert it yourself, and scan again")
	case Bad, NoDisc, Locked:
		fault := t.Fault()
		e.Say = fault.Say
		e.Add(Fetching, fault.Remedy)
	case NoPicture:
		e.Say = r.detail
		e.Add(Fetching, pl.Refusal.Ways...)
	case Unsupported, Foreign:
		s.notRead(i, r, &e)
	case Clash:
		other := &s.of.Titles[v.Other]
		e.Say = fmt.Sprintf("would get the same path as %s (%s): %s", other.Label(), filepath.Base(other.Source()),
			r.path)
		e.Add(Choosing, "deselect the other one to make way for this")
	case BadName:
		e.Say = fmt.Sprintf("its path %s cannot exist there: %s", r.path, r.detail)
		if pl.Refusal != nil {
			e.Say = r.detail
		}
		e.Add(Choosing, "rename it in Games")
	case TooBig:
		e.Say = fmt.Sprintf("%s; this %s has %s bytes, %s over the limit", s.holdsAtMost(i), t.Form,
			size.Exact(s.Loader(i).Tree.Destination().LargestFile()+v.Number), over(v.Number))
	case Differs:
		e.Say = fmt.Sprintf("%s is already at its path %s", r.detail, r.path)
		if v.Number > 0 {
			if want := s.wants(i, r.path); want != v.Number {
				e.Say += fmt.Sprintf(", with %s instead of %s", size.Format(v.Number), size.Format(want))
			}
			e.Add(Choosing, "mark it in Tree to be replaced")
		}
		e.Add(Choosing, "move it away to make way for this title")
	case NoSpace:
		left := max(s.givable(), 0)
		need := v.Number + left
		e.Say = fmt.Sprintf("needs %s but only %s are free: %s short", size.Format(need), size.Format(left),
			size.Format(v.Number))
		if swaps, _ := s.swapsOf(i); len(swaps) > 0 {
			e.Say = fmt.Sprintf("replaces another file, which stays until the new one is complete: %s short for both "+
				"at once", size.Format(v.Number))
		}
		if s.of.Reserve > 0 {
			e.Say += fmt.Sprintf("; %s are kept in reserve", size.Format(s.of.Reserve))
		}
		e.Add(Choosing, s.yields(i, v.Number)...)
		if n, bytes := s.coversThere(); bytes >= v.Number {
			e.Add(Choosing, fmt.Sprintf("remove the covers on it (%s, %s): mark them in Tree", size.Count(n, "file"),
				size.Format(bytes)))
		}
		e.Add(Preparing, "use a larger target")
	case FullFolder:
		most := s.of.Facts.Filesystem.FolderMost(int32(v.Number) == root)
		e.Say = fmt.Sprintf("its folder, %s, can hold no more names: on %s a folder has space for %s of names, and "+
			"long names use more of it",
			s.folderName(int32(v.Number)), s.of.Facts.Filesystem.Shown, size.Format(most))
		e.Add(Choosing, "deselect other titles in that folder", "give titles shorter names")
		e.Add(Preparing, "use a target with another filesystem")
	case NeedsDisk:
		on, _, _ := s.lacksDisk(i)
		e.Say = fmt.Sprintf("the console copies it to its own disk first, but %s has %s left: %s short", on.Name,
			size.Format(max(0, on.Free)), size.Format(v.Number))
		e.Add(Choosing, "deselect titles on "+on.Name)
	}
	if n := s.Loader(i).Tree.Behind(i); n > 0 && v.Kind.Goes() {
		e.Say += fmt.Sprintf("; %s behind it in the list would get another number, and be renamed",
			size.Count(n, "title"))
	}
	if lacks := s.CoverLacks(i); lacks != "" {
		e.Say += "; " + lacks
	}
	if rule := pl.Rule; rule != nil && rule.AlsoNeeds != "" && v.Kind.Goes() && v.Kind != Present {
		if _, known := s.others[rule.AlsoNeeds]; !known {
			e.Say += fmt.Sprintf("; the console copies it to its own disk, so %s must be free there as well",
				size.Format(t.Size()))
		}
	}
	for _, w := range p.WaysOut {
		if w.When == v.Kind.String() || v.Kind == Parts && w.When == TooBig.String() {
			e.Add(Preparing, w.Say)
		}
	}
	return e
}

func firstOf(paths []string) string {
	for _, p := range paths {
		if p != "" {
			return p
		}
	}
	return ""
}

// written is how many bytes of a title that is renamed have to be written all the same.
func (s *Sheet) written(i int) (n int64) {
	for k, item := range s.Placement(i).Items {
		if _, there := s.present[s.fold(item.Path)]; !there && s.of.Found[i][k] == "" {
			n += item.Size
		}
	}
	return n
}

// wants is how many bytes title i wants at a path.
func (s *Sheet) wants(i int, at string) int64 {
	for _, item := range s.Placement(i).Items {
		if item.Path == at {
			return item.Size
		}
	}
	return 0
}

// holdsAtMost says how large a file can be.
func (s *Sheet) holdsAtMost(i int) string {
	limit, who := s.Loader(i).Tree.Destination().LargestFile(), s.of.Facts.Filesystem.Shown
	if limit < s.of.Facts.Filesystem.LargestFile {
		who = "a " + s.Loader(i).Profile.Shown + " target"
	}
	if rule := s.Placement(i).Rule; rule != nil && rule.TooLarge.Over > 0 && int64(rule.TooLarge.Over) < limit {
		return fmt.Sprintf("%s reads files up to %s", s.Loader(i).Profile.Shown, size.Format(int64(rule.TooLarge.Over)))
	}
	return fmt.Sprintf("%s holds files up to %s bytes", who, size.Exact(limit))
}

func atMost(v Verdict, size string) string {
	if v.AtMost {
		return "at most " + size
	}
	return size
}

func over(n int64) string {
	if n < size.KiB {
		return size.Format(n)
	}
	return size.Format(n) + " (" + size.Exact(n) + " bytes)"
}

// notRead says why no loader takes a title.
func (s *Sheet) notRead(i int, r reason, e *Explanation) {
	p, f := s.Loader(i).Profile, &s.of.Facts
	e.Say = r.detail
	if e.Say != "" {
		if refusal := s.Placement(i).Refusal; refusal != nil {
			e.Add(Preparing, refusal.Ways...)
		} else {
			e.Add(Preparing, "use a target that the console has prepared for it, or an empty one")
		}
		return
	}
	at := s.Loader(i).Tree.Destination().Attachment
	if at == nil {
		e.Say = fmt.Sprintf("%s cannot be filled over %s", p.Shown, loader.ViaWord(s.of.Via))
		return
	}
	e.Say = fmt.Sprintf("%s reads only %s over %s; this target is %s", p.Shown, at.ReadsWords(),
		loader.ViaWord(s.of.Via), f.Filesystem.Shown)
	e.Add(Preparing, fmt.Sprintf("use a target with %s, or declare that this folder stands for one (as %s)",
		at.ReadsWords(), at.DefaultFilesystem()))
}

// Short is the deciding number of the verdict on title i in a few words.
func (s *Sheet) Short(i int) string {
	v := s.Verdict(i)
	pl := s.Placement(i)
	switch {
	case v.Kind == TooBig:
		return fmt.Sprintf("%s over the largest file of %s", size.Format(v.Number), s.of.Facts.Filesystem.Shown)
	case v.Kind == NoSpace, v.Kind == NeedsDisk:
		return size.Format(v.Number) + " short"
	case v.Kind.Goes() && len(pl.Items) > 1:
		return fmt.Sprintf("%s  and %d more", pl.Items[0].Path, len(pl.Items)-1)
	case v.Kind.Goes() && len(pl.Items) > 0:
		return pl.Items[0].Path
	}
	return s.Explain(i).Say
}

// Paths lists the paths that title i gets, shortened to their names.
func (s *Sheet) Paths(i int) []string {
	var out []string
	for _, item := range s.Placement(i).Items {
		out = append(out, path.Base(item.Path))
	}
	return out
}
