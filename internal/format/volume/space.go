package volume

import (
	"context"
	"slices"
)

// space is the free clusters: runs in order, none touching the next.
type space struct {
	runs []Run
	free uint64 // clusters
}

func newSpace(runs []Run) *space {
	s := &space{runs: runs}
	for _, r := range runs {
		s.free += uint64(r.Count)
	}
	return s
}

// has reports whether a cluster is free.
func (s *space) has(c uint32) bool {
	i, ok := slices.BinarySearchFunc(s.runs, c, func(r Run, c uint32) int { return int(int64(r.First) - int64(c)) })
	if !ok {
		i--
	}
	return i >= 0 && c < s.runs[i].End()
}

// largest is the longest run.
func (s *space) largest() uint32 {
	var n uint32
	for _, r := range s.runs {
		n = max(n, r.Count)
	}
	return n
}

// one takes n clusters contiguous, from the smallest run that holds them, so that large ones last.
func (s *space) one(n uint32) (Run, bool) {
	best := -1
	for i, r := range s.runs {
		if r.Count >= n && (best < 0 || r.Count < s.runs[best].Count) {
			if best = i; r.Count == n {
				break
			}
		}
	}
	if best < 0 {
		return Run{}, false
	}
	return s.cut(best, n), true
}

// cut takes the first n clusters of a run.
func (s *space) cut(i int, n uint32) Run {
	r := Run{s.runs[i].First, n}
	if s.runs[i].Count == n {
		s.runs = slices.Delete(s.runs, i, i+1)
	} else {
		s.runs[i].First += n
		s.runs[i].Count -= n
	}
	s.free -= uint64(n)
	return r
}

// some takes n clusters in as few pieces as there can be: the largest runs first. Nothing is taken where
// there are not so many.
func (s *space) some(n uint32) ([]Run, bool) {
	if uint64(n) > s.free {
		return nil, false
	}
	var out []Run
	for n > 0 {
		if r, ok := s.one(n); ok {
			out = append(out, r)
			break
		}
		i := 0
		for k, r := range s.runs {
			if r.Count > s.runs[i].Count {
				i = k
			}
		}
		r := s.cut(i, min(n, s.runs[i].Count))
		out, n = append(out, r), n-r.Count
	}
	slices.SortFunc(out, func(a, b Run) int { return int(int64(a.First) - int64(b.First)) })
	return out, true
}

// at takes the run if all of it is free.
func (s *space) at(want Run) bool {
	i, ok := slices.BinarySearchFunc(s.runs, want.First,
		func(r Run, c uint32) int { return int(int64(r.First) - int64(c)) })
	if !ok {
		i--
	}
	if i < 0 || s.runs[i].First > want.First || s.runs[i].End() < want.End() {
		return false
	}
	r := s.runs[i]
	var left []Run
	if r.First < want.First {
		left = append(left, Run{r.First, want.First - r.First})
	}
	if want.End() < r.End() {
		left = append(left, Run{want.End(), r.End() - want.End()})
	}
	s.runs = slices.Replace(s.runs, i, i+1, left...)
	s.free -= uint64(want.Count)
	return true
}

// give returns a run.
func (s *space) give(r Run) {
	if r.Count == 0 {
		return
	}
	i, _ := slices.BinarySearchFunc(s.runs, r.First,
		func(r Run, c uint32) int { return int(int64(r.First) - int64(c)) })
	s.free += uint64(r.Count)
	if i > 0 && s.runs[i-1].End() == r.First {
		i--
		s.runs[i].Count += r.Count
	} else {
		s.runs = slices.Insert(s.runs, i, r)
	}
	if i+1 < len(s.runs) && s.runs[i].End() == s.runs[i+1].First {
		s.runs[i].Count += s.runs[i+1].Count
		s.runs = slices.Delete(s.runs, i+1, i+2)
	}
}

// Merge joins runs that lie one behind the other, in their order.
func Merge(runs []Run) []Run {
	var out []Run
	for _, r := range runs {
		if r.Count > 0 {
			out = Append(out, r)
		}
	}
	return out
}

// count is how many clusters runs have.
func count(runs []Run) int64 {
	var n int64
	for _, r := range runs {
		n += int64(r.Count)
	}
	return n
}

// split divides runs behind the first n clusters.
func split(runs []Run, n int64) (head, tail []Run) {
	for _, r := range runs {
		switch {
		case n <= 0:
			tail = append(tail, r)
		case int64(r.Count) <= n:
			head = append(head, r)
			n -= int64(r.Count)
		default:
			head = append(head, Run{r.First, uint32(n)})
			tail = append(tail, Run{r.First + uint32(n), r.Count - uint32(n)})
			n = 0
		}
	}
	return head, tail
}

// Withhold has free clusters not be used before [Volume.Restore]: whoever read the volume before they were freed may
// still read them. It reports whether all of them were free.
func (v *Volume) Withhold(ctx context.Context, r Run) (bool, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.load(ctx); err != nil {
		return false, err
	}
	is := v.space.at(r)
	if is {
		v.withheld += uint64(r.Count)
	}
	return is, nil
}

// Restore has clusters be free again that were withheld.
func (v *Volume) Restore(r Run) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.space.give(r)
	v.withheld -= uint64(r.Count)
}
