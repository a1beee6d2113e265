package slab

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
)

// A Repair is what a repair does, before it does it.
type Repair struct {
	// Do are its steps, in words; none where nothing has to be done.
	Do []string `json:"do"`
	// Lost are titles that cannot be saved, with the reason.
	Lost []Problem `json:"lost,omitempty"`

	d       *Disk
	headers bool
	heads   []record // titles whose heads are written again
	records []record // of a new table; nil where one is valid
}

// LookOver finds out what a repair of the disk in the size bytes of a medium would do (5). Where no table is valid, it
// looks at the beginning of each slab, and reads every title that it finds to see whether it is whole. Progress is
// called with the bytes that were read.
func LookOver(ctx context.Context, m Medium, size int64, progress func(n int64)) (*Repair, error) {
	d, err := Open(m, size)
	switch {
	case errors.Is(err, ErrNoTable):
		d = &Disk{m: m, size: size, writers: map[*Writer]bool{}}
		if err := d.readHeader(); err != nil {
			return nil, err
		}
		return d.salvage(ctx, progress)
	case err != nil:
		return nil, err
	}
	r := &Repair{d: d}
	for _, part := range d.damaged {
		switch part {
		case "the header; its copy is used", "the copy of the header":
			if !r.headers {
				r.Do = append(r.Do, "write the header and its copy again")
			}
			r.headers = true
		default:
			r.Do = append(r.Do, "write the damaged table again: "+part)
			r.records = d.table.records
		}
	}
	for i := range d.table.records {
		x := &d.table.records[i]
		if x.what == ofTitle && !d.headRight(x) {
			r.Do = append(r.Do, "write the head of "+x.shown()+" again")
			r.heads = append(r.heads, *x)
		}
	}
	return r, nil
}

// salvage finds titles by their heads.
func (d *Disk) salvage(ctx context.Context, progress func(n int64)) (*Repair, error) {
	type found struct {
		record
		generation uint64
	}
	r := &Repair{d: d, records: []record{}}
	var all []found
	for slab := d.head.first(); slab < d.head.slabs; slab++ {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		x, generation, err := d.readHead(slab * d.head.perSlab())
		if progress != nil {
			progress(headBytes)
		}
		if err == nil {
			all = append(all, found{x, generation})
			d.table.generation = max(d.table.generation, generation)
		}
	}
	// the newer one holds where two claim a slab, or have one ID
	slices.SortStableFunc(all, func(a, b found) int { return cmp.Compare(b.generation, a.generation) })
	for i := range all {
		x := &all[i]
		rival := slices.ContainsFunc(all, func(o found) bool {
			return o.generation == x.generation && o.extents[0] != x.extents[0] &&
				d.head.agree([]record{x.record, o.record}) != nil
		})
		switch {
		case rival:
			r.Lost = append(r.Lost, Problem{x.shown(),
				"another title claims the same place, and nothing says which is right",
				true})
			continue
		case d.head.agree(append(slices.Clone(r.records), x.record)) != nil:
			continue // a newer one has its place: it was removed, or replaced
		}
		if err := d.verify(ctx, &x.record, progress); err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			r.Lost = append(r.Lost, Problem{x.shown(), err.Error(), true})
			continue
		}
		r.records = append(r.records, x.record)
	}
	slices.SortStableFunc(r.records,
		func(a, b record) int { return cmp.Compare(a.extents[0].First, b.extents[0].First) })
	r.Do = append(r.Do, fmt.Sprintf("write new tables, with the titles that were found whole: %d", len(r.records)))
	for i := range r.records {
		r.Do = append(r.Do, "keep "+r.records[i].shown())
	}
	r.headers = len(d.damaged) > 0
	return r, nil
}

// Apply repairs, and returns the repaired disk.
func (r *Repair) Apply() (*Disk, error) {
	d := r.d
	d.mu.Lock()
	defer d.mu.Unlock()
	if r.headers {
		if err := d.putHeaders(); err != nil {
			return nil, err
		}
	}
	for i := range r.heads {
		if err := d.putHead(&r.heads[i]); err != nil {
			return nil, err
		}
	}
	if len(r.heads) > 0 {
		if err := d.m.Sync(); err != nil {
			return nil, err
		}
	}
	if r.records != nil {
		if err := d.commit(r.records); err != nil {
			return nil, err
		}
	}
	d.damaged = nil
	return d, nil
}
