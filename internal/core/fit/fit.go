// Package fit tells for every title whether it can go to a place, what decides
// that, and what room it takes. It is pure: facts in, verdicts out.
package fit

import (
	"fmt"
	"path"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/place"
)

// Kind is what holds for a title at a place.
type Kind string

// The verdicts.
const (
	AsIs    Kind = "as it is"   // can go, unchanged
	There   Kind = "there"      // is there already
	Unsound Kind = "unsound"    // something is wrong with the files themselves
	NotRead Kind = "not read"   // the loader does not take it, here or at all
	Foreign Kind = "not for it" // the loader has nothing to do with such titles
	NotYet  Kind = "not yet"    // it would have to be brought into another shape
	Clash   Kind = "clash"      // another chosen title gets the same path
	BadName Kind = "bad name"   // the filesystem cannot hold the path
	TooBig  Kind = "too big"    // a file is over the filesystem's limit
	Differs Kind = "differs"    // something else is there under its path
	NoRoom  Kind = "no room"    // what is chosen before it leaves too little
)

// Goes reports whether a title with this verdict can be on the place.
func (k Kind) Goes() bool { return k == AsIs || k == There }

// A Verdict is what holds for one title. The numbers are those that decided.
type Verdict struct {
	Kind   Kind   `json:"verdict"`
	Room   int64  `json:"room"` // bytes that it takes, or would take, on the place
	Disc   int    `json:"-"`    // index of the disc that decided
	Number int64  `json:"-"`    // TooBig: bytes over the limit; NoRoom: bytes missing
	Other  int    `json:"-"`    // Clash: index of the title that has the path
	Detail string `json:"-"`    // BadName, Differs: what is wrong
	Path   string `json:"-"`    // the path that decided
}

// A Sheet holds the verdicts for all titles at one place.
type Sheet struct {
	Verdicts []Verdict // in the order of the titles
	Chosen   []bool
	Kept     int64 // bytes used by what is there already
	Planned  int64 // bytes that the chosen titles will add
	Count    int   // chosen titles that go or are there
	New      int   // those of them that are not there yet
	Mine     int   // titles that the loader has to do with at all
	Limit    int64 // bytes that a file can have
	base     []Verdict
	folders  *folders
	of       Case
}

// A Case is everything that verdicts depend on.
type Case struct {
	Titles  []title.Title
	Tree    *layout.Tree
	Profile *loader.Profile
	Road    string
	Facts   place.Facts
	There   []place.Entry
}

// Judge gives the verdicts with nothing chosen. What a broken-off run left is
// reckoned as free, since the next run clears it.
func Judge(c Case) *Sheet {
	for _, e := range c.There {
		if !e.Folder && place.IsTemporary(e.Path) {
			c.Facts.Free += c.Facts.RoomFor(e.Size)
		}
	}
	present := make(map[string]place.Entry, len(c.There))
	for _, e := range c.There {
		present[c.Facts.Filesystem.Fold(e.Path)] = e
	}
	s := &Sheet{
		Verdicts: make([]Verdict, len(c.Titles)), Chosen: make([]bool, len(c.Titles)),
		base: make([]Verdict, len(c.Titles)), of: c, Kept: c.Facts.Capacity - c.Facts.Free,
		folders: newFolders(c, present), Limit: c.Tree.Target().LargestFile(),
	}
	closed := closedFolders(c, present)
	for i := range c.Titles {
		s.base[i] = judge(c, i, present, closed)
		if s.base[i].Kind != Foreign {
			s.Mine++
		}
	}
	s.settle()
	return s
}

// judge finds what holds for a title whatever else is chosen.
func judge(c Case, i int, present map[string]place.Entry, closed map[string]bool) Verdict {
	t, pl := &c.Titles[i], &c.Tree.Placements[i]
	var v Verdict
	if pl.Refusal != nil {
		v.Room = c.Facts.RoomFor(t.Size())
	}
	for k := range pl.Items {
		v.Room += c.Facts.RoomFor(pl.Items[k].Size)
	}
	whole := v.Room
	at := c.Tree.Target().Attachment
	switch {
	case pl.Refusal != nil && pl.Refusal.Foreign:
		v.Kind, v.Detail = Foreign, pl.Refusal.Say
		return v
	case !t.Sound():
		v.Kind = Unsound
		return v
	case at == nil || !at.Reads(c.Facts.Filesystem.Name):
		v.Kind = NotRead
		return v
	case pl.Refusal != nil:
		v.Kind, v.Detail = NotRead, pl.Refusal.Say
		return v
	}
	limit := c.Tree.Target().LargestFile()
	v.Kind = There
	for k := range pl.Items {
		item := &pl.Items[k]
		v.Disc, v.Path = item.Disc, item.Path
		switch {
		case item.Shape == layout.Split || item.Shape == layout.Whole && item.Size > limit:
			v.Kind, v.Number = TooBig, t.Discs[item.Disc].File.Size-limit
			if item.Size > limit {
				v.Number = item.Size - limit
			}
			return v
		case item.Shape != layout.Whole && item.Shape != layout.Written:
			v.Kind, v.Detail = NotYet, string(item.Shape)
			return v
		}
		for p := item.Path; p != "."; p = path.Dir(p) {
			if closed[c.Facts.Filesystem.Fold(p)] {
				v.Kind, v.Detail = NotRead, fmt.Sprintf("the console has made its folders, and %s is not among them: %s", p, c.Profile.FirstBoot.Why)
				return v
			}
		}
		for p := item.Path; p != "."; p = path.Dir(p) {
			if why := c.Facts.Filesystem.CheckName(path.Base(p)); why != "" {
				v.Kind, v.Detail = BadName, why
				return v
			}
			e, ok := present[c.Facts.Filesystem.Fold(p)]
			if ok && e.Folder == (p == item.Path) {
				v.Kind, v.Detail = Differs, "a folder"
				if !e.Folder {
					v.Detail = "a file"
				}
				v.Path = p
				return v
			}
		}
		e, ok := present[c.Facts.Filesystem.Fold(item.Path)]
		switch {
		case !ok:
			v.Kind = AsIs
		case e.Size == item.Size || item.Shape == layout.Written: // a text may have been changed by hand, and stays
			v.Room -= c.Facts.RoomFor(item.Size) // this file takes no more room
		default:
			v.Kind, v.Number, v.Detail = Differs, e.Size, "a file of another size"
			return v
		}
	}
	v.Disc, v.Path = 0, pl.Items[0].Path
	if v.Kind == There {
		v.Room = whole
	}
	return v
}

// closedFolders are folders that the console would have made by itself on a place that it
// has already prepared, and did not make.
func closedFolders(c Case, present map[string]place.Entry) map[string]bool {
	if c.Profile.FirstBoot.MayAdd {
		return nil
	}
	out, prepared := map[string]bool{}, false
	for _, f := range layout.FirstBoot(c.Profile) {
		key := c.Facts.Filesystem.Fold(f)
		if e, ok := present[key]; ok && e.Folder {
			prepared = true
			continue
		}
		out[key] = true
	}
	if !prepared {
		return nil
	}
	return out
}

// Choose sets which titles are wanted, by index. Titles that the loader has nothing
// to do with are never chosen.
func (s *Sheet) Choose(chosen func(i int) bool) {
	for i := range s.Chosen {
		s.Chosen[i] = s.base[i].Kind != Foreign && chosen(i)
	}
	s.settle()
}

// Free is the room left when the chosen titles are there, in bytes.
func (s *Sheet) Free() int64 { return s.of.Facts.Free - s.Planned }

// settle decides clashes and room, which depend on what is chosen. Chosen
// titles get room in the order of the list; one that finds too little is passed
// over, and smaller ones behind it may still go.
func (s *Sheet) settle() {
	copy(s.Verdicts, s.base)
	s.Planned, s.Count, s.New = 0, 0, 0
	s.folders.reset()
	for i := range s.Verdicts {
		v := &s.Verdicts[i]
		if !v.Kind.Goes() {
			continue
		}
		if j, ok := s.rival(i); ok {
			v.Kind, v.Other = Clash, j
			continue
		}
		if !s.Chosen[i] {
			continue
		}
		if v.Kind == There {
			s.Count++
			continue
		}
		need := v.Room + s.folders.take(i)
		if missing := need - s.Free(); missing > 0 {
			s.folders.undo()
			v.Kind, v.Number = NoRoom, missing
			continue
		}
		s.Planned += need
		s.Count++
		s.New++
	}
	for i := range s.Verdicts {
		if v := &s.Verdicts[i]; v.Kind == AsIs && !s.Chosen[i] {
			if missing := v.Room + s.folders.take(i) - s.Free(); missing > 0 {
				v.Kind, v.Number = NoRoom, missing
			}
			s.folders.undo()
		}
	}
}

// rival returns the title that has this one's path: what is on the place
// already, else the first chosen one, else the first of them all.
func (s *Sheet) rival(i int) (int, bool) {
	rank := func(j int) int {
		r := j
		if !s.Chosen[j] {
			r += len(s.base)
		}
		if s.base[j].Kind != There {
			r += 2 * len(s.base)
		}
		return r
	}
	best := i
	for _, j := range s.of.Tree.Placements[i].Rivals {
		if s.base[j].Kind.Goes() && rank(j) < rank(best) {
			best = j
		}
	}
	return best, best != i
}
