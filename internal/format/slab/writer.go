package slab

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"polytome/internal/format/fstree"
)

// How is how something is written.
type How struct {
	Replace    bool // what is there with that ID or name, when the new one is whole
	Contiguous bool // in one piece, or not at all
	// Begun names the small file as which the disk keeps what was written so far: when the writer is left, and now and
	// then, so that a cut does not cost all of it: a name that ends in [Unfinished]. "" keeps nothing.
	Begun string
}

// Unfinished is what the names of small files end in that are what was written of an unfinished title or small file.
// Their checksums mean nothing: what they have is compared when it is taken up (2.5).
const Unfinished = ".begun"

func (r *record) unfinished() bool { return r.what == ofFile && strings.HasSuffix(r.name, Unfinished) }

// A Writer takes the content of a title or small file, which the disk has when it is committed. It is for one goroutine
// at a time; several writers of one disk may be used side by side.
type Writer struct {
	d       *Disk
	how     How
	r       record // what it becomes; the lock of the disk guards its extents
	at      int64  // bytes of content that were written
	sum     uint32
	ended   bool
	noted   int64 // bytes that the disk keeps for the case of a cut
	notedAt time.Time
}

// How often what was written is noted on the disk, for the case of a cut: the first time as soon as that is worth it.
const (
	noteBytes = 64 << 20
	noteEvery = 5 * time.Second
)

// BeginTitle begins a title of so many bytes, as far as that is known.
func (d *Disk) BeginTitle(n New, size int64, how How) (*Writer, error) {
	return d.begin(n.record(), size, how)
}

// BeginFile begins a small file of so many bytes, as far as that is known.
func (d *Disk) BeginFile(name string, size int64, written time.Time, how How) (*Writer, error) {
	return d.begin(record{what: ofFile, name: name, written: stamp(written)}, size, how)
}

// stamp is a time as records have it; now where it is zero.
func stamp(t time.Time) time.Time {
	if t.IsZero() {
		t = time.Now()
	}
	return t.UTC().Truncate(time.Second)
}

func (d *Disk) begin(r record, size int64, how How) (*Writer, error) {
	if err := r.wrong(); err != nil {
		return nil, err
	}
	if how.Begun != "" && !strings.HasSuffix(how.Begun, Unfinished) {
		return nil, fmt.Errorf("what is kept of %s needs a name that ends in %s", r.shown(), Unfinished)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if old, _ := d.table.find(r.key()); old != nil && !how.Replace {
		return nil, fmt.Errorf("%s: %w", r.shown(), ErrExists)
	}
	if err := d.forget(how.Begun); err != nil {
		return nil, err
	}
	w := &Writer{d: d, how: how, r: r}
	d.writers[w] = true
	if err := w.grow(size); err != nil {
		delete(d.writers, w)
		return nil, err
	}
	w.afresh()
	return w, nil
}

// afresh begins at the first byte of the content.
func (w *Writer) afresh() {
	w.at, w.sum = 0, 0
}

// forget removes what was kept under a name. The caller holds the lock.
func (d *Disk) forget(begun string) error {
	if begun == "" {
		return nil
	}
	_, k := d.table.find((&record{what: ofFile, name: begun}).key())
	if k < 0 {
		return nil
	}
	return d.commit(slices.Delete(slices.Clone(d.table.records), k, k+1))
}

// ResumeTitle takes up what was kept of a title, which will have so many bytes. [Writer.There] says how much there is,
// and nothing is known of it: [Writer.Keep] comes before the first byte that is written. It returns [ErrNotFound] where
// nothing of use was kept.
func (d *Disk) ResumeTitle(n New, size int64, how How) (*Writer, error) {
	return d.resume(n.record(), size, how)
}

// ResumeFile is ResumeTitle for a small file.
func (d *Disk) ResumeFile(name string, size int64, written time.Time, how How) (*Writer, error) {
	return d.resume(record{what: ofFile, name: name, written: stamp(written)}, size, how)
}

func (d *Disk) resume(r record, size int64, how How) (*Writer, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if old, _ := d.table.find(r.key()); old != nil && !how.Replace {
		return nil, fmt.Errorf("%s: %w", r.shown(), ErrExists)
	}
	kept, _ := d.table.find((&record{what: ofFile, name: how.Begun}).key())
	if kept == nil {
		return nil, ErrNotFound
	}
	w := &Writer{d: d, how: how, r: r, noted: kept.size}
	w.at = kept.size - w.skip()
	per := d.head.perSlab()
	if w.at < 0 || w.at > size || r.what == ofTitle && slices.ContainsFunc(kept.extents, func(e Extent) bool {
		return e.First%per != 0 || e.Count%per != 0
	}) || how.Contiguous && len(kept.extents) > 1 {
		return nil, ErrNotFound
	}
	w.r.extents = slices.Clone(kept.extents)
	d.writers[w] = true
	return w, nil
}

// skip is how many bytes of the first extent are not content.
func (w *Writer) skip() int64 {
	if w.r.what == ofTitle {
		return headBytes
	}
	return 0
}

// space is how many bytes the extents have.
func (w *Writer) space() (n int64) {
	for _, e := range w.r.extents {
		n += e.Count * w.d.head.sector
	}
	return n
}

// grow has the extents hold so many bytes of content. The caller holds the lock of the disk.
func (w *Writer) grow(size int64) error {
	d, unit := w.d, w.d.head.sector
	if w.r.what == ofTitle {
		unit = Slab
	}
	missing := (size + w.skip() - w.space() + unit - 1) / unit
	if missing <= 0 && (w.r.what == ofFile || len(w.r.extents) > 0) {
		return nil
	}
	var more []Extent
	var err error
	if w.r.what == ofFile {
		more, err = d.sectorsFor(missing)
	} else {
		more, err = d.slabsFor(max(1, missing), w.r.extents)
	}
	if err != nil {
		return fmt.Errorf("%s has %d bytes: %w", w.r.shown(), size, err)
	}
	all := slices.Clone(w.r.extents)
	for _, e := range more {
		if k := len(all) - 1; k >= 0 && all[k].First+all[k].Count == e.First {
			all[k].Count += e.Count
		} else {
			all = append(all, e)
		}
	}
	if w.how.Contiguous && len(all) > 1 {
		return fmt.Errorf("%s has %d bytes: %w", w.r.shown(), size, ErrPieces)
	}
	w.r.extents = all
	return w.r.wrong()
}

// need has the extents hold so many bytes of content. What grows without anybody having known grows by more than it
// needs at once.
func (w *Writer) need(size int64) error {
	if w.ended {
		return errors.New("the file was ended already")
	}
	if size+w.skip() <= w.space() { // only this writer changes it
		return nil
	}
	w.d.mu.Lock()
	defer w.d.mu.Unlock()
	if err := w.grow(size + min(size, 8<<20)); err == nil {
		return nil
	}
	return w.grow(size)
}

// place is where a byte of the content lies, and how many follow it there.
func (w *Writer) place(off int64) (at, n int64) {
	off += w.skip()
	for _, e := range w.r.extents {
		length := e.Count * w.d.head.sector
		if off < length {
			return e.First*w.d.head.sector + off, length - off
		}
		off -= length
	}
	return 0, 0
}

// Write takes further bytes of the content.
func (w *Writer) Write(b []byte) (done int, err error) {
	if err := w.need(w.at + int64(len(b))); err != nil {
		return 0, err
	}
	for len(b) > 0 {
		at, n := w.place(w.at)
		k := min(n, int64(len(b)))
		if _, err := w.d.m.WriteAt(b[:k], at); err != nil {
			return done, err
		}
		w.wrote(b[:k])
		done, b = done+int(k), b[k:]
	}
	return done, w.noteNow()
}

// wrote counts bytes that are there.
func (w *Writer) wrote(b []byte) {
	w.sum = update(w.sum, b)
	w.at += int64(len(b))
}

var zeros [1 << 20]byte

// Skip is Write for so many zeros.
func (w *Writer) Skip(n int64) error {
	if err := w.need(w.at + n); err != nil {
		return err
	}
	for n > 0 {
		at, run := w.place(w.at)
		run = min(run, n)
		if err := w.d.zero(at, run); err != nil {
			return err
		}
		for left := run; left > 0; {
			k := min(left, int64(len(zeros)))
			w.wrote(zeros[:k])
			left -= k
		}
		n -= run
	}
	return w.noteNow()
}

// zero writes zeros, as the medium does that best.
func (d *Disk) zero(at, n int64) error {
	if z, can := d.m.(interface{ Zero(off, n int64) error }); can {
		if err := z.Zero(at, n); !errors.Is(err, errors.ErrUnsupported) {
			return err
		}
	}
	for n > 0 {
		k := min(n, int64(len(zeros)))
		if _, err := d.m.WriteAt(zeros[:k], at); err != nil {
			return err
		}
		at, n = at+k, n-k
	}
	return nil
}

// empty reports whether there are only zeros.
func empty(b []byte) bool {
	for len(b) > len(zeros) {
		if !bytes.Equal(b[:len(zeros)], zeros[:]) {
			return false
		}
		b = b[len(zeros):]
	}
	return bytes.Equal(b, zeros[:len(b)])
}

// Size is how many bytes were written.
func (w *Writer) Size() int64 { return w.at }

// There is how many bytes were kept of what is resumed.
func (w *Writer) There() int64 { return w.at }

// Keep goes on behind the first n bytes that are there, which are read for their checksum.
func (w *Writer) Keep(ctx context.Context, n int64) error {
	r := w.r
	r.size = n
	c := w.d.contentOf(&r)
	w.afresh()
	b := make([]byte, piece)
	for w.at < n {
		if err := ctx.Err(); err != nil {
			return err
		}
		k, err := c.ReadAt(b[:min(int64(len(b)), n-w.at)], w.at)
		if k == 0 {
			return fmt.Errorf("reading what there is of %s: %w", w.r.shown(), cmp.Or(err, io.ErrUnexpectedEOF))
		}
		w.wrote(b[:k])
	}
	return nil
}

// Extents are where on the medium what was written lies.
func (w *Writer) Extents() []fstree.Extent {
	r := w.r
	r.size = w.at
	return w.d.runsOf(&r)
}

// Date sets when it was written.
func (w *Writer) Date(t time.Time) { w.r.written = stamp(t) }

// noteNow notes on the disk what there is, where that is due.
func (w *Writer) noteNow() error {
	if w.how.Begun == "" || w.at-w.noted < noteBytes || time.Since(w.notedAt) < noteEvery {
		return nil
	}
	return w.note()
}

// note notes on the disk what there is.
func (w *Writer) note() error {
	d := w.d
	if err := d.m.Sync(); err != nil {
		return err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.held > 0 {
		return nil
	}
	n := record{what: ofFile, name: w.how.Begun, size: w.at + w.skip(), written: w.r.written,
		extents: slices.Clone(w.r.extents)}
	if err := n.wrong(); err != nil {
		return err
	}
	w.noted, w.notedAt = w.at, time.Now()
	return d.put(n)
}

// Leave ends the writer, and keeps what was written under the name of [How].
func (w *Writer) Leave() error {
	if w.ended || w.how.Begun == "" {
		return nil
	}
	if err := w.note(); err != nil {
		return err
	}
	w.end()
	return nil
}

func (w *Writer) end() {
	w.ended = true
	w.d.mu.Lock()
	delete(w.d.writers, w)
	w.d.mu.Unlock()
}

// Abort gives up what was written, and what was kept of it. After Commit it does nothing.
func (w *Writer) Abort() error {
	if w.ended {
		return nil
	}
	w.end()
	w.d.mu.Lock()
	defer w.d.mu.Unlock()
	return w.d.forget(w.how.Begun)
}

// Commit makes what was written one of the disk's, lastingly unless changes are held back.
func (w *Writer) Commit() error {
	if w.ended {
		return errors.New("the file was ended already")
	}
	d := w.d
	d.mu.Lock()
	defer d.mu.Unlock()
	if old, _ := d.table.find(w.r.key()); old != nil && !w.how.Replace {
		return fmt.Errorf("%s: %w", w.r.shown(), ErrExists)
	}
	w.r.size, w.r.sum = w.at, w.sum
	w.trim()
	if err := w.r.wrong(); err != nil {
		return err
	}
	if w.r.what == ofTitle {
		if err := d.putHead(&w.r); err != nil {
			return err
		}
	}
	if d.held == 0 {
		if err := d.m.Sync(); err != nil {
			return err
		}
	}
	if err := d.put(w.r, w.how.Begun); err != nil {
		return err
	}
	w.ended = true
	delete(d.writers, w)
	return nil
}

// trim gives up what of the extents is not needed.
func (w *Writer) trim() {
	unit := w.d.head.sector
	if w.r.what == ofTitle {
		unit = Slab
	}
	extra := (w.space() - w.r.size - w.skip()) / unit * (unit / w.d.head.sector)
	for k := len(w.r.extents) - 1; k >= 0 && extra > 0; k-- {
		n := min(extra, w.r.extents[k].Count)
		extra -= n
		if w.r.extents[k].Count -= n; w.r.extents[k].Count == 0 {
			w.r.extents = w.r.extents[:k]
		}
	}
}

// put makes a record one of the disk's, in place of the one that it replaces, and removes small files. The caller holds
// the lock.
func (d *Disk) put(r record, but ...string) error {
	records := slices.DeleteFunc(slices.Clone(d.table.records), func(o record) bool {
		return o.what == ofFile && slices.ContainsFunc(but, func(name string) bool { return fold(name) == fold(o.name) })
	})
	if k := slices.IndexFunc(records, func(o record) bool { return o.key() == r.key() }); k >= 0 {
		records[k] = r
	} else {
		records = append(records, r)
	}
	return d.commit(records)
}

// Hold has changes wait in memory until [Disk.Settle], which makes all of them last with one change of the tables.
// Where it is held several times, the last of as many settlings does that.
func (d *Disk) Hold() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.held++; d.held == 1 {
		d.waits = false
	}
}

// Settle brings all that was held back to the medium. With an error, the disk is as it was before [Disk.Hold]. Where
// nothing was changed, nothing is written: the disk may be one that is only read.
func (d *Disk) Settle() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.held == 0 {
		return nil
	}
	if d.held--; d.held > 0 || !d.waits {
		return nil
	}
	records := d.table.records
	d.table.records = d.last
	err := d.m.Sync()
	if err == nil {
		err = d.commit(records)
	}
	return err
}
