package fit

import (
	"fmt"
	"path"
	"path/filepath"

	"polytome/internal/core/layout"
	"polytome/internal/size"
)

// An Explanation is a verdict in words.
type Explanation struct {
	Verdict Kind     `json:"verdict"`
	Say     string   `json:"say"`            // the reason, with the deciding number
	Ways    []string `json:"ways,omitempty"` // the ways out
}

// Explain puts the verdict on title i into words.
func (s *Sheet) Explain(i int) Explanation {
	v, t, p, f := s.Verdicts[i], &s.of.Titles[i], s.of.Profile, s.of.Facts
	e := Explanation{Verdict: v.Kind}
	for _, w := range p.WaysOut {
		if w.When == string(v.Kind) {
			e.Ways = append(e.Ways, w.Say)
		}
	}
	switch v.Kind {
	case AsIs:
		e.Say = fmt.Sprintf("goes as it is to %s and takes %s", v.Path, size.Format(v.Room))
	case There:
		e.Say = "is there already, as " + v.Path
	case Unsound:
		fault := t.Fault()
		e.Say = fault.Say
		if fault.Remedy != "" {
			e.Ways = append(e.Ways, fault.Remedy)
		}
	case NotRead:
		e.Say, e.Ways = s.notRead(i)
	case Clash:
		other := &s.of.Titles[v.Other]
		e.Say = fmt.Sprintf("would get the same path as %s (%s): %s", other.Label(), filepath.Base(other.Source()), v.Path)
		e.Ways = append(e.Ways, "take the other one off, and this one can go")
	case BadName:
		e.Say = fmt.Sprintf("its path %s cannot exist there: %s", v.Path, v.Detail)
		e.Ways = append(e.Ways, "give it another name")
	case TooBig:
		holds := f.Filesystem.Shown
		if s.Limit < f.Filesystem.LargestFile {
			holds = "a place of " + p.Shown
		}
		e.Say = fmt.Sprintf("%s holds at most %s bytes a file, and this %s has %s, which is %s too many",
			holds, size.Exact(s.Limit), t.Form, size.Exact(s.Limit+v.Number), over(v.Number))
		if n := s.parts(i, v.Disc); n > 0 {
			cut := fmt.Sprintf("cut into %d parts of %s at most, which %s reads (not in this version yet)", n, size.Format(int64(s.of.Tree.Placements[i].Rule.TooLarge.PartSize)), p.Shown)
			e.Ways = append([]string{cut}, e.Ways...)
		}
	case Foreign:
		e.Say = v.Detail
	case NotYet:
		e.Say = fmt.Sprintf("%s, and that is not in this version yet", shapeWords[layout.Shape(v.Detail)](p.Shown, string(t.Form)))
		e.Ways = append(e.Ways, "bring it into that shape yourself, and scan again")
	case Differs:
		e.Say = fmt.Sprintf("%s is there already under its path %s", v.Detail, v.Path)
		e.Ways = append(e.Ways, "look at it, move it out of the way, and this title can go")
	case NoRoom:
		left := max(s.Free(), 0)
		e.Say = fmt.Sprintf("takes %s, and %s are left: %s are missing", size.Format(v.Room), size.Format(left), size.Format(v.Number))
		e.Ways = append(e.Ways, "take off other titles of that size, or use a larger place")
	}
	return e
}

// parts counts the parts that a disc of title i is cut into.
func (s *Sheet) parts(i, disc int) (n int) {
	for _, item := range s.of.Tree.Placements[i].Items {
		if item.Disc == disc && item.Shape == layout.Split {
			n++
		}
	}
	return n
}

// shapeWords say what a loader wants of a title.
var shapeWords = map[layout.Shape]func(loader, form string) string{
	layout.Pack:   func(l, form string) string { return l + " wants the " + form + " packed" },
	layout.Unpack: func(l, _ string) string { return l + " wants it unpacked from its archive" },
	layout.Extract: func(l, form string) string {
		return l + " does not read the " + form + ", and wants it unpacked into a folder"
	},
	layout.Written: func(l, _ string) string { return l + " wants a list of its parts" },
}

func over(n int64) string {
	if n < size.KiB {
		return size.Format(n)
	}
	return size.Format(n) + " (" + size.Exact(n) + " bytes)"
}

// notRead says why the loader does not take a title.
func (s *Sheet) notRead(i int) (say string, ways []string) {
	v, p, f := s.Verdicts[i], s.of.Profile, s.of.Facts
	if v.Detail != "" {
		if r := s.of.Tree.Placements[i].Refusal; r != nil {
			return v.Detail, r.Ways
		}
		return v.Detail, []string{"a place that the console has prepared for it, or an empty one"}
	}
	at := s.of.Tree.Target().Attachment
	if at == nil {
		return fmt.Sprintf("%s does not read from %s", p.Shown, s.of.Road), nil
	}
	say = fmt.Sprintf("over %s, %s reads %s only, and this place is %s", s.of.Road, p.Shown, at.ReadsWords(), f.Filesystem.Shown)
	as := at.DefaultFilesystem()
	ways = append(ways, fmt.Sprintf("use a place with %s, or declare that this folder stands for one (as %s)", at.ReadsWords(), as))
	return say, ways
}

// Paths lists the paths that title i gets, shortened to their names.
func (s *Sheet) Paths(i int) []string {
	var out []string
	for _, item := range s.of.Tree.Placements[i].Items {
		out = append(out, path.Base(item.Path))
	}
	return out
}
