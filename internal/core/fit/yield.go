package fit

import (
	"cmp"
	"fmt"
	"slices"

	"polytome/internal/size"
	"polytome/internal/target"
)

// A yielding is what of a target could give way to a title that finds no space.
type yielding struct {
	ranks   []int8    // of the titles below, the lowest first
	titles  [][]int32 // by rank: titles that would be written, the smallest first
	sums    []int64   // what the titles up to each rank take
	files   []target.Entry
	holders map[string]int32 // which title a file of the target is, by folded path
}

// yields says what could give way to title i: the least wanted title that is large enough, and the
// smallest file on the target that is.
func (s *Sheet) yields(i int, missing int64) (ways []string) {
	if s.yield == nil {
		s.yield = s.yielding()
	}
	y := s.yield
	found := -1
	var sum int64
	for k, r := range y.ranks {
		if r > s.rank(i) {
			break
		}
		sum = y.sums[k]
		at, _ := slices.BinarySearchFunc(y.titles[k], missing,
			func(j int32, n int64) int { return cmp.Compare(s.base[j].Space, n) })
		if at < len(y.titles[k]) && int(y.titles[k][at]) == i {
			at++
		}
		if at < len(y.titles[k]) {
			found = int(y.titles[k][at])
			break
		}
	}
	switch {
	case found >= 0 && s.rank(found) < s.rank(i):
		ways = append(ways, fmt.Sprintf("deselect %s (%s), which has a lower priority", s.of.Titles[found].Label(),
			size.Format(s.base[found].Space)))
	case found >= 0:
		ways = append(ways, fmt.Sprintf("deselect %s (%s), the smallest that frees enough space",
			s.of.Titles[found].Label(), size.Format(s.base[found].Space)))
	case sum >= missing:
		ways = append(ways, "deselect several other titles")
	}
	at, _ := slices.BinarySearchFunc(y.files, missing,
		func(e target.Entry, n int64) int { return cmp.Compare(e.Size, n) })
	if at < len(y.files) {
		e := y.files[at]
		whose := "which no title here needs"
		if j, ok := y.holders[s.fold(e.Path)]; ok {
			whose = "which is " + s.of.Titles[j].Label()
		} else if s.Owns(e.Path) {
			whose = "a title that is not among your games"
		}
		ways = append(ways, fmt.Sprintf("remove %s (%s, %s): mark it in Tree", e.Path, size.Format(e.Size), whose))
	}
	return ways
}

func (s *Sheet) yielding() *yielding {
	y := &yielding{holders: map[string]int32{}}
	of := map[int8]int{}
	for j := range s.placed {
		if !s.placed[j] || s.base[j].Kind == Present { // what is there stays when it is taken off
			continue
		}
		k, ok := of[s.rank(j)]
		if !ok {
			k = len(y.ranks)
			of[s.rank(j)] = k
			y.ranks, y.titles = append(y.ranks, s.rank(j)), append(y.titles, nil)
		}
		y.titles[k] = append(y.titles[k], int32(j))
	}
	slices.SortFunc(y.titles, func(a, b []int32) int { return int(s.rank(int(a[0]))) - int(s.rank(int(b[0]))) })
	slices.Sort(y.ranks)
	var sum int64
	for _, all := range y.titles {
		slices.SortStableFunc(all, func(a, b int32) int { return cmp.Compare(s.base[a].Space, s.base[b].Space) })
		for _, j := range all {
			sum += s.base[j].Space
		}
		y.sums = append(y.sums, sum)
	}
	for _, e := range s.of.There {
		if !e.Folder && !s.removing[s.fold(e.Path)] && !target.IsTemporary(e.Path) {
			y.files = append(y.files, e)
		}
	}
	slices.SortStableFunc(y.files, func(a, b target.Entry) int { return cmp.Compare(a.Size, b.Size) })
	if len(y.files) == 0 {
		return y
	}
	for i := range s.of.Titles {
		for k := range s.Placement(i).Items {
			key := s.fold(s.Placement(i).Items[k].Path)
			if _, there := s.present[key]; there {
				y.holders[key] = int32(i)
			}
		}
	}
	return y
}
