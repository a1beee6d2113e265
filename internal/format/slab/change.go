package slab

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/readahead"
)

func update(crc uint32, b []byte) uint32 { return crc32.Update(crc, castagnoli, b) }

// commit makes records those of the disk (3): in both tables, one after the other, so that one that is damaged later
// loses nothing. While changes are held back, they are so in memory only. The caller holds the lock.
func (d *Disk) commit(records []record) error {
	if d.held > 0 {
		d.table.records, d.waits = records, true
		return nil
	}
	gone := d.headsBut(records)
	for range 2 {
		next := table{d.table.generation + 1, records}
		if err := d.write(&next, !d.other); err != nil {
			return err
		}
		d.table, d.other, d.last = next, !d.other, records
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
	for i := range d.last {
		r := &d.last[i]
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
	return record{what: ofTitle, id: n.ID, name: n.Name, kind: n.Kind, cover: n.Cover, settings: lines(n.Settings),
		written: stamp(n.Written)}
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
	w, err := d.BeginTitle(n, size, How{Replace: replace})
	if err != nil {
		return t, err
	}
	if err := w.fill(ctx, size, from, progress); err != nil {
		return t, errors.Join(err, w.Abort())
	}
	if err := w.Commit(); err != nil {
		return t, errors.Join(err, w.Abort())
	}
	return w.r.title(), nil
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

// fill writes so many bytes. The next piece is read while one is written.
func (w *Writer) fill(ctx context.Context, size int64, from io.Reader, progress func(n int64)) error {
	length := min(piece, max(size-w.at, 1))
	ahead, err := readahead.NewReaderSize(io.LimitReader(from, size-w.at), 2, int(length))
	if err != nil {
		return err
	}
	defer ahead.Close() // which was read from
	b := make([]byte, length)
	for w.at < size {
		if err := ctx.Err(); err != nil {
			return err
		}
		n, err := io.ReadFull(ahead, b[:min(length, size-w.at)])
		if err != nil {
			if errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			return fmt.Errorf("reading what is to be %s: %w", w.r.shown(), err)
		}
		if empty(b[:n]) {
			err = w.Skip(int64(n))
		} else {
			_, err = w.Write(b[:n])
		}
		if err != nil {
			return err
		}
		if progress != nil {
			progress(int64(n))
		}
	}
	return nil
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

// Retitle gives a title another ID, name and kind.
func (d *Disk) Retitle(id string, as New) error {
	return d.change("title "+fold(id), func(r *record) { r.id, r.name, r.kind = as.ID, as.Name, as.Kind })
}

// RenameFile gives a small file another name.
func (d *Disk) RenameFile(from, to string) error {
	return d.change("file "+fold(from), func(r *record) { r.name = to })
}

// SetText sets all settings of a title at once, as the record has them: lines key=value.
func (d *Disk) SetText(id, settings string) error {
	return d.change("title "+fold(id), func(r *record) { r.settings = settings })
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
	w, err := d.BeginFile(name, int64(len(data)), written, How{Replace: true})
	if err != nil {
		return err
	}
	if err := w.fill(ctx, int64(len(data)), bytes.NewReader(data), nil); err != nil {
		return errors.Join(err, w.Abort())
	}
	if err := w.Commit(); err != nil {
		return errors.Join(err, w.Abort())
	}
	return nil
}
