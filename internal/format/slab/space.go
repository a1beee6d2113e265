package slab

import (
	"cmp"
	"fmt"
	"slices"
)

// free are the runs of slabs that nothing is in, in slabs. The caller holds the lock.
func (d *Disk) free() []Extent {
	return gaps(d.used(), d.head.first(), d.head.slabs)
}

// eachExtent calls a function for what is in use: by records, as they are in memory and on the medium, and by what is
// being written. The caller holds the lock.
func (d *Disk) eachExtent(do func(what uint16, e Extent)) {
	all := [][]record{d.table.records}
	if d.held > 0 {
		all = append(all, d.last)
	}
	for _, records := range all {
		for i := range records {
			for _, e := range records[i].extents {
				do(records[i].what, e)
			}
		}
	}
	for w := range d.writers {
		for _, e := range w.r.extents {
			do(w.r.what, e)
		}
	}
}

// used are the slabs that something is in, or that something is being written to.
func (d *Disk) used() (used []Extent) {
	per := d.head.perSlab()
	d.eachExtent(func(_ uint16, e Extent) {
		first := e.First / per
		used = append(used, Extent{first, (e.First+e.Count-1)/per + 1 - first})
	})
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

// slabsFor takes so many slabs for a title: where it can, behind those that it has. The caller holds the lock.
func (d *Disk) slabsFor(count int64, has []Extent) ([]Extent, error) {
	per, free := d.head.perSlab(), d.free()
	if k := len(has) - 1; k >= 0 {
		end := (has[k].First + has[k].Count) / per
		for _, e := range free {
			if e.First == end && e.Count >= count {
				return []Extent{{end * per, count * per}}, nil
			}
		}
	}
	runs, err := allocate(free, count)
	if err != nil {
		return nil, fmt.Errorf("%d slabs of 4 MiB are needed: %w", count, err)
	}
	for i := range runs {
		runs[i] = Extent{runs[i].First * per, runs[i].Count * per}
	}
	return runs, nil
}

// sectorsFor finds so many sectors for a small file: in slabs that have small files already, or else in the last free
// slab, so that titles find long runs. The caller holds the lock.
func (d *Disk) sectorsFor(count int64) ([]Extent, error) {
	if count <= 0 {
		return nil, nil
	}
	per := d.head.perSlab()
	shared := map[int64][]Extent{} // by slab: what small files have of it
	titles := map[int64]bool{}     // slabs that titles begin in, such as what was kept of one
	d.eachExtent(func(what uint16, e Extent) {
		for at := e.First; at < e.First+e.Count; {
			n := min(e.First+e.Count-at, per-at%per)
			if what == ofFile {
				shared[at/per] = append(shared[at/per], Extent{at, n})
			} else {
				titles[at/per] = true
			}
			at += n
		}
	})
	var free []Extent
	for slab, used := range shared {
		if !titles[slab] {
			free = append(free, gaps(used, slab*per, (slab+1)*per)...)
		}
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
