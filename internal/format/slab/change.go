package slab

import (
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"maps"
	"slices"
	"strings"
	"time"
)

func update(crc uint32, b []byte) uint32 { return crc32.Update(crc, castagnoli, b) }

// commit makes records those of the disk (3): in both tables, one after the other, so that one that is damaged later
// loses nothing. The caller holds the lock.
func (d *Disk) commit(records []record) error {
	gone := d.headsBut(records)
	for range 2 {
		next := table{d.table.generation + 1, records}
		if err := d.write(&next, !d.other); err != nil {
			return err
		}
		d.table, d.other = next, !d.other
	}
	d.damaged = slices.DeleteFunc(d.damaged, func(s string) bool { return strings.HasPrefix(s, "table") })
	for _, at := range gone {
		if _, err := d.m.WriteAt(make([]byte, headBytes), at); err != nil {
			return err
		}
	}
	return nil
}

// headsBut are where the heads of titles are that the disk has and the records have not any longer, in bytes.
func (d *Disk) headsBut(records []record) (out []int64) {
	for i := range d.table.records {
		r := &d.table.records[i]
		if r.what == ofTitle && !slices.ContainsFunc(records, func(o record) bool {
			return o.what == ofTitle && o.extents[0].First == r.extents[0].First
		}) {
			out = append(out, r.extents[0].First*d.head.sector)
		}
	}
	return out
}

// write writes a table: its records first, and what makes them valid last.
func (d *Disk) write(t *table, other bool) error {
	var body []byte
	for i := range t.records {
		body = append(body, t.records[i].put()...)
	}
	if int64(len(body)) > d.head.tableSlabs*Slab-d.head.sector {
		return ErrTableFull
	}
	at := d.head.tableAt(other)
	if _, err := d.m.WriteAt(body, at+d.head.sector); err != nil {
		return err
	}
	if err := d.m.Sync(); err != nil {
		return err
	}
	head := tableHead{t.generation, int64(len(body)), int64(len(t.records)), sum(body), d.head.number}
	sector := make([]byte, d.head.sector)
	copy(sector, head.put())
	if _, err := d.m.WriteAt(sector, at); err != nil {
		return err
	}
	return d.m.Sync()
}

// A New title is what is to be added.
type New struct {
	ID, Name, Kind, Cover string
	Settings              map[string]string
	Written               time.Time // now where it is zero
}

func (n *New) record() record {
	r := record{what: ofTitle, id: n.ID, name: n.Name, kind: n.Kind, cover: n.Cover, settings: lines(n.Settings),
		written: n.Written}
	if r.written.IsZero() {
		r.written = time.Now()
	}
	r.written = r.written.UTC().Truncate(time.Second)
	return r
}

// lines are settings as a record has them, in the order of their keys.
func lines(settings map[string]string) string {
	var b strings.Builder
	for _, key := range slices.Sorted(maps.Keys(settings)) {
		fmt.Fprintf(&b, "%s=%s\n", key, settings[key])
	}
	return b.String()
}

// Add writes a title with so many bytes of content, and brings it to the medium. Where it replaces one with the same
// ID, that stays until the new one is whole. Cancelled, or with an error, the disk is as it was.
func (d *Disk) Add(ctx context.Context, n New, size int64, from io.Reader, replace bool, progress func(n int64)) (
	t Title, err error) {
	r := n.record()
	r.size = size
	if err := r.wrong(); err != nil {
		return t, err
	}
	d.mu.Lock()
	old, _ := d.table.find(r.key())
	if old != nil && !replace {
		d.mu.Unlock()
		return t, fmt.Errorf("%s: %w", n.ID, ErrExists)
	}
	slabs := (size + headBytes + Slab - 1) / Slab
	runs, err := allocate(d.free(), slabs)
	if err != nil {
		d.mu.Unlock()
		return t, fmt.Errorf("%s needs %d slabs of 4 MiB: %w", n.ID, slabs, err)
	}
	for _, e := range runs {
		r.extents = append(r.extents, Extent{e.First * d.head.perSlab(), e.Count * d.head.perSlab()})
	}
	d.taken = append(d.taken, runs...)
	d.mu.Unlock()
	defer func() {
		d.mu.Lock()
		d.taken = slices.DeleteFunc(d.taken, func(e Extent) bool { return slices.Contains(runs, e) })
		d.mu.Unlock()
	}()
	if r.sum, err = d.fill(ctx, &r, from, progress); err != nil {
		return t, err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if err := d.putHead(&r); err != nil {
		return t, err
	}
	if err := d.m.Sync(); err != nil {
		return t, err
	}
	records := slices.Clone(d.table.records)
	if _, k := d.table.find(r.key()); k >= 0 {
		records[k] = r
	} else {
		records = append(records, r)
	}
	if err := d.commit(records); err != nil {
		return t, err
	}
	return r.title(), nil
}

// putHead writes the head of a title (2.4).
func (d *Disk) putHead(r *record) error {
	b := make([]byte, headBytes)
	copy(b, headMark)
	le.PutUint64(b[8:], d.table.generation+1) // of the first table that has it
	copy(b[16:32], d.head.number[:])
	copy(b[32:], r.put())
	le.PutUint32(b[headBytes-4:], sum(b[:headBytes-4]))
	_, err := d.m.WriteAt(b, r.extents[0].First*d.head.sector)
	return err
}

// piece is how much is read and written at once.
const piece = 4 << 20

// fill writes the content of a record, and returns its checksum.
func (d *Disk) fill(ctx context.Context, r *record, from io.Reader, progress func(n int64)) (crc uint32, err error) {
	b, left := make([]byte, min(piece, max(r.size, 1))), r.size
	skip := int64(0)
	if r.what == ofTitle {
		skip = headBytes
	}
	for _, e := range r.extents {
		at, end := e.First*d.head.sector+skip, (e.First+e.Count)*d.head.sector
		for skip = 0; at < end && left > 0; {
			if err := ctx.Err(); err != nil {
				return 0, err
			}
			n, err := io.ReadFull(from, b[:min(int64(len(b)), end-at, left)])
			if n == 0 || err != nil {
				if err == nil || errors.Is(err, io.EOF) {
					err = io.ErrUnexpectedEOF
				}
				return 0, fmt.Errorf("reading what is to be %s: %w", r.shown(), err)
			}
			crc = update(crc, b[:n])
			if _, err := d.m.WriteAt(b[:n], at); err != nil {
				return 0, err
			}
			if at, left = at+int64(n), left-int64(n); progress != nil {
				progress(int64(n))
			}
		}
	}
	return crc, nil
}

// change has a function change a copy of the record with a key, and makes that the disk's.
func (d *Disk) change(key string, do func(r *record)) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	r, k := d.table.find(key)
	if r == nil {
		return fmt.Errorf("%s: %w", key, ErrNotFound)
	}
	now := *r
	do(&now)
	if err := now.wrong(); err != nil {
		return err
	}
	if other, _ := d.table.find(now.key()); other != nil && now.key() != key {
		return fmt.Errorf("%s: %w", now.shown(), ErrExists)
	}
	records := slices.Clone(d.table.records)
	records[k] = now
	return d.commit(records)
}

// Rename gives a title another name.
func (d *Disk) Rename(id, name string) error {
	return d.change("title "+fold(id), func(r *record) { r.name = name })
}

// SetCover names the small file that a title has as its cover, "" for none.
func (d *Disk) SetCover(id, cover string) error {
	return d.change("title "+fold(id), func(r *record) { r.cover = cover })
}

// Set sets settings of a title; one without a value goes. The others stay.
func (d *Disk) Set(id string, settings map[string]string) error {
	return d.change("title "+fold(id), func(r *record) {
		all := r.title().Settings
		if all == nil {
			all = map[string]string{}
		}
		for key, value := range settings {
			if all[key] = value; value == "" {
				delete(all, key)
			}
		}
		r.settings = lines(all)
	})
}

// Remove removes a title.
func (d *Disk) Remove(id string) error { return d.remove("title " + fold(id)) }

// RemoveFile removes a small file.
func (d *Disk) RemoveFile(name string) error { return d.remove("file " + fold(name)) }

func (d *Disk) remove(key string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	_, k := d.table.find(key)
	if k < 0 {
		return fmt.Errorf("%s: %w", key, ErrNotFound)
	}
	return d.commit(slices.Delete(slices.Clone(d.table.records), k, k+1))
}

// PutFile writes a small file, in place of one of the same name.
func (d *Disk) PutFile(ctx context.Context, name string, data []byte, written time.Time) error {
	if written.IsZero() {
		written = time.Now()
	}
	r := record{what: ofFile, name: name, size: int64(len(data)), sum: sum(data),
		written: written.UTC().Truncate(time.Second)}
	if err := r.wrong(); err != nil {
		return err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	var err error
	if r.extents, err = d.sectorsFor(r.size); err != nil {
		return fmt.Errorf("%s has %d bytes: %w", name, len(data), err)
	}
	if _, err := d.fill(ctx, &r, strings.NewReader(string(data)), nil); err != nil {
		return err
	}
	if err := d.m.Sync(); err != nil {
		return err
	}
	records := slices.Clone(d.table.records)
	if _, k := d.table.find(r.key()); k >= 0 {
		records[k] = r
	} else {
		records = append(records, r)
	}
	return d.commit(records)
}
