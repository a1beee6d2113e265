package slab

import (
	"cmp"
	"slices"
)

// free are the runs of slabs that nothing is in, in slabs. The caller holds the lock.
func (d *Disk) free() []Extent {
	return gaps(d.used(), d.head.first(), d.head.slabs)
}

// used are the slabs that something is in, or that something is being written to.
func (d *Disk) used() []Extent {
	per := d.head.perSlab()
	used := slices.Clone(d.taken)
	for i := range d.table.records {
		for _, e := range d.table.records[i].extents {
			first := e.First / per
			used = append(used, Extent{first, (e.First+e.Count-1)/per + 1 - first})
		}
	}
	return used
}

// gaps are the runs from one place up to another that no extent is in.
func gaps(used []Extent, from, to int64) (out []Extent) {
	slices.SortFunc(used, func(a, b Extent) int { return cmp.Compare(a.First, b.First) })
	for _, e := range used {
		if e.First > from {
			out = append(out, Extent{from, e.First - from})
		}
		from = max(from, e.First+e.Count)
	}
	if to > from {
		out = append(out, Extent{from, to - from})
	}
	return out
}

// allocate takes so many slabs of free runs: the first run in which they lie contiguous, or else as few runs as there
// can be, the largest first.
func allocate(free []Extent, count int64) ([]Extent, error) {
	for _, e := range free {
		if e.Count >= count {
			return []Extent{{e.First, count}}, nil
		}
	}
	largest := slices.Clone(free)
	slices.SortStableFunc(largest, func(a, b Extent) int { return cmp.Compare(b.Count, a.Count) })
	var out []Extent
	for _, e := range largest {
		if len(out) == MostExtents {
			break
		}
		n := min(e.Count, count)
		if out, count = append(out, Extent{e.First, n}), count-n; count == 0 {
			return out, nil
		}
	}
	return nil, ErrNoSpace
}

// sectorsFor finds sectors for a small file: in slabs that have small files already, or else in the last free slab, so
// that titles find long runs. The caller holds the lock.
func (d *Disk) sectorsFor(size int64) ([]Extent, error) {
	count := (size + d.head.sector - 1) / d.head.sector
	if count == 0 {
		return nil, nil
	}
	per := d.head.perSlab()
	shared := map[int64][]Extent{} // by slab: what small files have of it
	for i := range d.table.records {
		if r := &d.table.records[i]; r.what == ofFile {
			for _, e := range r.extents {
				for at := e.First; at < e.First+e.Count; {
					n := min(e.First+e.Count-at, per-at%per)
					shared[at/per] = append(shared[at/per], Extent{at, n})
					at += n
				}
			}
		}
	}
	var free []Extent
	for slab, used := range shared {
		free = append(free, gaps(used, slab*per, (slab+1)*per)...)
	}
	slices.SortFunc(free, func(a, b Extent) int { return cmp.Compare(a.First, b.First) })
	runs := d.free()
	for k := len(runs) - 1; k >= 0; k-- { // further slabs, from the end
		for n := runs[k].Count - 1; n >= 0; n-- {
			if out, err := allocate(free, count); err == nil {
				return out, nil
			}
			free = append(free, Extent{(runs[k].First + n) * per, per})
		}
	}
	return allocate(free, count)
}
