package fit

import (
	"cmp"
	"slices"

	"polytome/internal/core/layout"
	"polytome/internal/core/shape"
)

// A Swap is a file that is written while the one whose target it takes is still there: both have their space until it
// is whole.
type Swap struct{ New, Old int64 } // space in bytes

// Before compares two swaps by the order in which they are done so that the least space is needed: those after which
// there is more space come first, the smallest new file before the others, and then those that grow, the largest old
// file before the others.
func (a Swap) Before(b Swap) int {
	if shrinks, others := a.New <= a.Old, b.New <= b.Old; shrinks != others {
		if shrinks {
			return -1
		}
		return 1
	} else if shrinks {
		return cmp.Compare(a.New, b.New)
	}
	return cmp.Compare(b.Old, a.Old)
}

// Peak is how much space swaps that are done in their order need at most, beyond what is taken now, in bytes.
func Peak(swaps []Swap) (peak int64) {
	var grown int64
	for _, w := range swaps {
		peak = max(peak, grown+w.New)
		grown += w.New - w.Old
	}
	return peak
}

// Follows reports whether an item that is in place of another file is written after what it belongs to: a text that
// names other files.
func Follows(item *layout.Item) bool { return item.Shape == shape.Written || item.Shape == shape.Sheet }

// swapsOf are the files of a title that are written in place of others. Of those that follow the other files only the
// largest counts: each is done when nearly everything else is there.
func (s *Sheet) swapsOf(i int) (swaps []Swap, follows int64) {
	if len(s.replace) == 0 || !s.base[i].Kind.Goes() {
		return nil, 0
	}
	pl := s.Placement(i)
	for k := range pl.Items {
		item := &pl.Items[k]
		key := s.fold(item.Path)
		e, there := s.present[key]
		if !there || !s.replace[key] || s.Holding(item) {
			continue
		}
		w := Swap{s.of.Facts.SpaceFor(item.Path, item.Size), s.of.Facts.SpaceFor(e.Path, e.Size)}
		if Follows(item) {
			follows = max(follows, w.Old)
		} else {
			swaps = append(swaps, w)
		}
	}
	return swaps, follows
}

// lacks is how much space is missing for title i, which has its names and lines booked already and takes need bytes for
// good; 0 where it has its space.
func (s *Sheet) lacks(i int, need int64) int64 {
	swaps, follows := s.swapsOf(i)
	space := s.space() + s.Released
	missing := int64(0)
	if need > 0 || follows > 0 {
		missing = max(missing, s.Planned+need+max(s.held(i), follows)-space)
	}
	if len(swaps) > 0 {
		missing = max(missing, Peak(s.with(swaps))-space)
	}
	return missing
}

// with are the swaps of placed titles and some more, in their order.
func (s *Sheet) with(more []Swap) []Swap {
	all := append(slices.Clone(s.swaps), more...)
	slices.SortFunc(all, Swap.Before)
	return all
}

// held is what has to stay free of all that is planned, so that a text that is written last, in place of another one,
// has space beside it: with title i, or of those that are placed where i is -1.
func (s *Sheet) held(i int) (bytes int64) {
	for k := range s.lists {
		if l := &s.lists[k]; l.bytes > 0 || i >= 0 && l.lines[i] > 0 {
			bytes = max(bytes, s.of.Facts.SpaceFor(l.path, l.was))
		}
	}
	for _, old := range s.follows {
		bytes = max(bytes, old)
	}
	return bytes
}

// swap books the swaps of a title that gets its space.
func (s *Sheet) swap(i int) {
	swaps, follows := s.swapsOf(i)
	if len(swaps) > 0 {
		s.swaps = s.with(swaps)
	}
	if follows > 0 {
		s.follows[i] = follows
	}
}

// unswap takes them back.
func (s *Sheet) unswap(i int) {
	swaps, _ := s.swapsOf(i)
	for _, w := range swaps {
		if k := slices.Index(s.swaps, w); k >= 0 {
			s.swaps = slices.Delete(slices.Clone(s.swaps), k, k+1)
		}
	}
	delete(s.follows, i)
}
