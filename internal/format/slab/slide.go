package slab

import (
	"bytes"
	"context"
	"fmt"
	"slices"
)

// slidePiece is how many slabs are moved with one change of the tables.
const slidePiece = 16

// slide moves what lies where another title belongs, piece by piece, until all titles lie one behind the other in an
// order. Each piece is a change of its own. It returns the titles that were moved, by their keys.
func (d *Disk) slide(ctx context.Context, order []string, moved map[string]bool, progress func(n int64)) error {
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		key, err := d.slideOne(order, progress)
		if err != nil || key == "" {
			return err
		}
		moved[key] = true
	}
}

// slots are the slabs of a record, in the order of its content.
func (d *Disk) slots(r *record) (out []int64) {
	per := d.head.perSlab()
	for _, e := range r.extents {
		for s := range e.Count / per {
			out = append(out, e.First/per+s)
		}
	}
	return out
}

// slideOne moves one piece, and says which title it was of; "" where every title lies where it belongs.
func (d *Disk) slideOne(order []string, progress func(n int64)) (string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	type slot struct{ record, at int } // which record a slab is of, and its how manieth slab it is
	has := map[int64]slot{}
	small := map[int64]bool{}
	per := d.head.perSlab()
	for i := range d.table.records {
		r := &d.table.records[i]
		if r.what == ofTitle {
			for at, s := range d.slots(r) {
				has[s] = slot{i, at}
			}
			continue
		}
		for _, e := range r.extents {
			for s := e.First / per; s <= (e.First+e.Count-1)/per; s++ {
				small[s] = true
			}
		}
	}
	free := map[int64]bool{}
	for _, e := range d.free() {
		for s := range e.Count {
			free[e.First+s] = true
		}
	}
	pos := d.head.first()
	for _, key := range order {
		_, i := d.table.find(key)
		if i < 0 { // it was removed meanwhile
			continue
		}
		slots := d.slots(&d.table.records[i])
		n := int64(len(slots))
		for s := pos; s < pos+n; s++ { // small files stay where they are
			if small[s] {
				pos = s + 1
			}
		}
		if pos+n > d.head.slabs {
			return "", nil // no room for all of it in one piece between small files
		}
		k := slices.IndexFunc(slots, func(s int64) bool { defer func() { pos++ }(); return s != pos })
		if k < 0 {
			continue
		}
		to := pos - 1 // where the slab k of the title belongs
		if in, taken := has[to]; taken {
			return d.evict(in.record, in.at, to, to-int64(k)+n, progress)
		}
		if !free[to] { // something is being written there
			return "", nil
		}
		count := 1
		for k+count < len(slots) && count < slidePiece && slots[k+count] == slots[k]+int64(count) &&
			free[to+int64(count)] {
			count++
		}
		return key, d.moveSlabs(i, k, count, to, progress)
	}
	return "", nil
}

// evict moves what lies at a slab, which belongs to another title up to an end, to free slabs: such behind the end
// where there are.
func (d *Disk) evict(i, at int, from, end int64, progress func(n int64)) (string, error) {
	free := d.free()
	if len(free) == 0 {
		return "", fmt.Errorf("not one slab is free to move titles: %w", ErrNoSpace)
	}
	to := free[len(free)-1]
	r := &d.table.records[i]
	slots := d.slots(r)
	count := 1
	for at+count < len(slots) && count < slidePiece && slots[at+count] == from+int64(count) &&
		from+int64(count) < end &&
		int64(count) < to.Count {
		count++
	}
	return r.key(), d.moveSlabs(i, at, count, to.First+to.Count-int64(count), progress)
}

// moveSlabs moves some slabs of a title to free ones that follow one another, reads them back, and makes them the
// title's.
func (d *Disk) moveSlabs(i, at, count int, to int64, progress func(n int64)) error {
	r := d.table.records[i]
	slots := d.slots(&r)
	a, b := make([]byte, Slab), make([]byte, Slab)
	for k := range count {
		src, dst := slots[at+k]*Slab, (to+int64(k))*Slab
		if n, err := d.m.ReadAt(a, src); int64(n) < Slab {
			return fmt.Errorf("reading %s: %w", r.shown(), err)
		}
		if empty(a) {
			if err := d.zero(dst, Slab); err != nil {
				return err
			}
		} else if _, err := d.m.WriteAt(a, dst); err != nil {
			return err
		}
		if n, err := d.m.ReadAt(b, dst); int64(n) < Slab {
			return fmt.Errorf("reading %s back: %w", r.shown(), err)
		}
		if !bytes.Equal(a, b) {
			return fmt.Errorf("%s: %w", r.shown(), errDiffers)
		}
		slots[at+k] = to + int64(k)
		if progress != nil {
			progress(Slab)
		}
	}
	per := d.head.perSlab()
	r.extents = nil
	for _, s := range slots {
		if k := len(r.extents) - 1; k >= 0 && r.extents[k].First+r.extents[k].Count == s*per {
			r.extents[k].Count += per
		} else {
			r.extents = append(r.extents, Extent{s * per, per})
		}
	}
	if err := r.wrong(); err != nil { // too many pieces
		return err
	}
	if at == 0 {
		if err := d.putHead(&r); err != nil {
			return err
		}
	}
	if err := d.m.Sync(); err != nil {
		return err
	}
	records := slices.Clone(d.table.records)
	records[i] = r
	if err := d.commit(records); err != nil || at == 0 {
		return err
	}
	if err := d.putHead(&r); err != nil {
		return err
	}
	return d.m.Sync()
}
