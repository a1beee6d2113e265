package fit

import (
	"fmt"

	"polytome/internal/size"
)

// Covers get the space that chosen titles leave, those of the most wanted titles first, as far as the target's budget
// for them goes. So a cover never stands in the way of a title, and on a small target covers are the first to go.

// coverSpace is what the covers of one title take.
type coverSpace struct {
	need int64 // bytes of those that are not there
	is   int64 // bytes of those that are
}

// Covers are what the covers of a target take altogether.
type Covers struct {
	Wanted  int   `json:"wanted"`  // chosen titles with covers that are not all there
	Going   int   `json:"going"`   // those of them whose covers have space
	There   int64 `json:"there"`   // bytes of covers that are there
	Planned int64 `json:"planned"` // bytes of those that go, with what folders grow by
	Most    int64 `json:"most"`    // bytes that they may take; negative for any number
}

// Say tells in a sentence what covers take; "" where there is nothing to tell.
func (c *Covers) Say() string {
	if c.Wanted == 0 && c.There == 0 && c.Most < 0 {
		return ""
	}
	say := fmt.Sprintf("Covers take %s", size.Format(c.There+c.Planned))
	if c.Most >= 0 {
		say += fmt.Sprintf(" of the %s they may use", size.Format(c.Most))
	}
	if left := c.Wanted - c.Going; left > 0 {
		say += fmt.Sprintf("; those of %s do not fit", size.Count(left, "title"))
	}
	return say + "."
}

// Covers reports what the covers of the chosen titles take.
func (s *Sheet) Covers() Covers { return s.dress }

// findCovers estimates what the covers of each title take.
func (s *Sheet) findCovers() {
	s.dress.Most = -1
	if s.of.CoversMost != nil {
		s.dress.Most = max(*s.of.CoversMost, 0)
	}
	s.covers = make([]coverSpace, len(s.of.Titles))
	s.dressed = make([]bool, len(s.of.Titles))
	counted := map[string]bool{} // two titles may have one ID
	for i := range s.covers {
		if !s.base[i].Kind.Goes() {
			continue
		}
		for _, x := range s.extra(i) {
			if x.Spec.Is != "cover" {
				continue
			}
			e, there := s.present[s.fold(x.Path)]
			if !there {
				s.covers[i].need += s.of.Facts.SpaceFor(x.Path, x.Size)
				continue
			}
			space := s.of.Facts.SpaceFor(e.Path, e.Size)
			s.covers[i].is += space
			if !counted[s.fold(x.Path)] {
				counted[s.fold(x.Path)] = true
				s.dress.There += space
			}
		}
	}
}

// noteCovers notes which names the covers of a title add to which folders.
func (s *Sheet) noteCovers(i int) {
	var space [few]touch
	list := space[:0]
	if s.covers[i].need > 0 {
		for _, x := range s.extra(i) {
			if x.Spec.Is == "cover" {
				list = s.noteName(list, x.Path)
			}
		}
	}
	s.names.note(list)
}

// coverNames is the number under which the names of a title's covers are noted.
func (s *Sheet) coverNames(i int) int { return len(s.of.Titles) + i }

// dressOne gives the covers of a title their space, and reports whether they found some.
func (s *Sheet) dressOne(i int) bool {
	need := s.covers[i].need
	if need == 0 || s.dressed[i] {
		return true
	}
	s.dress.Wanted++
	if s.names.crowds(s.coverNames(i)) >= 0 {
		return false
	}
	need += s.names.put(s.coverNames(i))
	if need > s.Free()-s.held(-1) || s.dress.Most >= 0 && s.dress.There+s.dress.Planned+need > s.dress.Most {
		s.names.take(s.coverNames(i))
		return false
	}
	s.dressed[i] = true
	s.dress.Going++
	s.dress.Planned += need
	s.Planned += need
	return true
}

// undress takes the space of a title's covers back.
func (s *Sheet) undress(i int) {
	if s.covers[i].need == 0 {
		return
	}
	s.dress.Wanted--
	if !s.dressed[i] {
		return
	}
	s.dressed[i] = false
	s.dress.Going--
	need := s.covers[i].need + s.names.take(s.coverNames(i))
	s.dress.Planned -= need
	s.Planned -= need
}

// dressAll gives covers the space that titles have left, in the order in which titles got theirs.
func (s *Sheet) dressAll() {
	if s.order == nil {
		for i := range s.placed {
			if s.placed[i] {
				s.dressOne(i)
			}
		}
		return
	}
	for _, i := range s.order {
		if s.placed[i] {
			s.dressOne(int(i))
		}
	}
}

// bareHeads reports whether some covers found no space.
func (s *Sheet) bareHeads() bool { return s.dress.Going < s.dress.Wanted }

// givable is the space that titles can have: what is left, and what covers would give way from.
func (s *Sheet) givable() int64 { return s.Free() + s.dress.Planned - s.held(-1) }

// CoverLacks says why a chosen title goes without its covers; "" where it does not.
func (s *Sheet) CoverLacks(i int) string {
	if !s.placed[i] || s.covers[i].need == 0 || s.dressed[i] {
		return ""
	}
	if folder := s.names.crowds(s.coverNames(i)); folder >= 0 {
		return fmt.Sprintf("no cover: %s can hold no more names", s.folderName(folder))
	}
	free := s.Free() - s.held(-1)
	if most := s.dress.Most; most >= 0 && s.dress.There+s.dress.Planned+s.covers[i].need > most &&
		s.covers[i].need <= free {
		return fmt.Sprintf("no cover: covers may use %s here, and %s are used", size.Format(most),
			size.Format(s.dress.There+s.dress.Planned))
	}
	return fmt.Sprintf("no cover: it needs %s and %s are left", size.Format(s.covers[i].need),
		size.Format(max(0, free)))
}

// Carried reports whether titles consist of what is carried of them.
func (s *Sheet) Carried() bool { return s.of.Carried }

// CoverPaths are where the pictures of a kind of a title's disc are on the target, or go.
func (s *Sheet) CoverPaths(i int, of string, disc int) (out []string) {
	if s.of.Carried {
		for _, it := range s.Placement(i).Items {
			out = append(out, it.Path)
		}
		return out
	}
	for _, x := range s.extra(i) {
		if x.Spec.Is == "cover" && x.Spec.Picture.Of == of && (int(x.Disc) == disc || x.Spec.Per != "disc") {
			out = append(out, x.Path)
		}
	}
	return out
}

// coversThere are the paths of all covers on the target, with what they take.
func (s *Sheet) coversThere() (n int, bytes int64) {
	for i := range s.covers {
		for _, x := range s.extra(i) {
			if _, there := s.present[s.fold(x.Path)]; there && x.Spec.Is == "cover" {
				n++
			}
		}
	}
	return n, s.dress.There
}
