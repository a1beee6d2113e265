package slab

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
)

// Compact moves titles until each lies in one piece, and free space too as far as small files do not stand between.
// First those move that find room as a whole, then pieces of titles change places, for which one free slab is enough.
// Each move is a change of its own: cancelled or cut off, the disk is as after the last one. It returns how many titles
// were moved. Progress gets the bytes that were moved.
func (d *Disk) Compact(ctx context.Context, progress func(n int64)) (moved int, err error) {
	titles := map[string]bool{}
	for {
		if err := ctx.Err(); err != nil {
			return len(titles), err
		}
		key, err := d.moveOne(ctx, progress)
		if err != nil {
			return len(titles), err
		}
		if key == "" {
			break
		}
		titles[key] = true
	}
	var order []string
	for _, p := range d.Map().Titles {
		order = append(order, "title "+fold(p.ID))
	}
	err = d.slide(ctx, order, titles, progress)
	return len(titles), err
}

// moveOne moves a title: one in pieces to where it lies whole, or else the last one that fits into the first free run
// before it. It returns the key of the title, "" where none can be moved so.
func (d *Disk) moveOne(ctx context.Context, progress func(n int64)) (string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	per, free := d.head.perSlab(), d.free()
	slabs := func(r *record) (n int64) {
		for _, e := range r.extents {
			n += e.Count / per
		}
		return n
	}
	var order []int
	for i := range d.table.records {
		if d.table.records[i].what == ofTitle {
			order = append(order, i)
		}
	}
	slices.SortFunc(order, func(a, b int) int { // from the end
		return cmp.Compare(d.table.records[b].extents[0].First, d.table.records[a].extents[0].First)
	})
	for _, i := range order {
		r := &d.table.records[i]
		for _, e := range free {
			if len(r.extents) > 1 && e.Count >= slabs(r) {
				return r.key(), d.move(ctx, i, Extent{e.First * per, slabs(r) * per}, progress)
			}
		}
	}
	for _, e := range free {
		for _, i := range order {
			r := &d.table.records[i]
			if len(r.extents) == 1 && r.extents[0].First > e.First*per && e.Count >= slabs(r) {
				return r.key(), d.move(ctx, i, Extent{e.First * per, slabs(r) * per}, progress)
			}
		}
	}
	return "", nil
}

// move copies a title to a free run, compares what is there then, and makes it the title's.
func (d *Disk) move(ctx context.Context, i int, to Extent, progress func(n int64)) error {
	r := d.table.records[i]
	from := d.contentOf(&r)
	r.extents = []Extent{to}
	w := &Writer{d: d, r: r}
	if err := w.fill(ctx, r.size, from, progress); err != nil {
		return err
	}
	if w.sum != r.sum {
		return &SumError{r.shown() + ", which was to be moved,", w.sum, r.sum}
	}
	if err := d.putHead(&r); err != nil {
		return err
	}
	if err := d.m.Sync(); err != nil {
		return err
	}
	records := slices.Clone(d.table.records)
	records[i] = r
	return d.commit(records)
}

// Clone copies the disk to another medium, which is formatted for it: with the same label and what is on it, each title
// contiguous, and the space that the other one has. Every title is compared with its checksum on the way; one that is
// damaged ends it.
func (d *Disk) Clone(ctx context.Context, to Medium, size int64, o Options, progress func(n int64)) (*Disk, error) {
	d.mu.RLock()
	records := slices.Clone(d.table.records)
	o.Label, o.Sector = d.head.label, cmp.Or(o.Sector, d.head.sector)
	if o.Tables == 0 {
		o.Tables = max(d.head.tableSlabs, min(max(1, size/100_000_000_000), mostTableSlabs))
	}
	d.mu.RUnlock()
	needs := int64(0)
	for i := range records {
		needs += records[i].size + headBytes
	}
	if needs > size-(2*o.Tables+1)*Slab {
		return nil, fmt.Errorf("what is on the disk has %d bytes: %w", needs, ErrNoSpace)
	}
	out, err := Format(to, size, o)
	if err != nil {
		return nil, err
	}
	for i := range records {
		r := &records[i]
		from := d.contentOf(r)
		if r.unfinished() {
			continue
		}
		if r.what == ofFile {
			b, err := io.ReadAll(from)
			if err == nil && sum(b) != r.sum {
				err = &SumError{r.shown(), sum(b), r.sum}
			}
			if err == nil {
				err = out.PutFile(ctx, r.name, b, r.written)
			}
			if err != nil {
				return nil, err
			}
			continue
		}
		t := r.title()
		got, err := out.Add(ctx, New{t.ID, t.Name, t.Kind, t.Cover, t.Settings, t.Written}, r.size, from, false,
			progress)
		if err == nil && got.Sum != r.sum {
			err = &SumError{r.shown(), got.Sum, r.sum}
		}
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// errDiffers reports content that is not what was written.
var errDiffers = errors.New("what is read back differs from what was written")

// Compare reads a title back, and compares it with what it was made of.
func (d *Disk) Compare(ctx context.Context, id string, with io.Reader) error {
	r, err := d.Content(id)
	if err != nil {
		return err
	}
	a, b := make([]byte, 1<<20), make([]byte, 1<<20)
	for at := int64(0); at < r.Size(); at += int64(len(a)) {
		if err := ctx.Err(); err != nil {
			return err
		}
		n := min(int64(len(a)), r.Size()-at)
		if _, err := io.ReadFull(with, a[:n]); err != nil {
			return err
		}
		if k, err := r.ReadAt(b[:n], at); int64(k) < n {
			return err
		}
		if !bytes.Equal(a[:n], b[:n]) {
			return fmt.Errorf("%s: %w", id, errDiffers)
		}
	}
	return nil
}
