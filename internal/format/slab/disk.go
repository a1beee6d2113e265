package slab

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"polytome/internal/format/fstree"
)

// A Medium is what a disk is on. Sync brings everything to it that was written.
// It is used by several goroutines at a time.
type Medium interface {
	io.ReaderAt
	io.WriterAt
	Sync() error
}

// A Title is one of the disk.
type Title struct {
	ID       string            `json:"id"`
	Name     string            `json:"name"`
	Kind     string            `json:"kind,omitempty"`
	Cover    string            `json:"cover,omitempty"` // name of a small file
	Settings map[string]string `json:"settings,omitempty"`
	Text     string            `json:"-"`    // the settings as the record has them
	Size     int64             `json:"size"` // of the content, in bytes
	Sum      uint32            `json:"crc32c"`
	Written  time.Time         `json:"written"`
	Extents  []Extent          `json:"extents"` // in sectors; the first 4,096 bytes are not content
}

// A File is a small file of the loader's.
type File struct {
	Name    string    `json:"name"`
	Size    int64     `json:"size"`
	Takes   int64     `json:"takes"` // bytes of the disk
	Sum     uint32    `json:"crc32c"`
	Written time.Time `json:"written"`
}

// Info is what a disk is like.
type Info struct {
	Label      string    `json:"label"`
	Number     string    `json:"number"` // in hexadecimal
	Sector     int64     `json:"sector"` // in bytes
	Slabs      int64     `json:"slabs"`
	TableSlabs int64     `json:"table-slabs"`
	Formatted  time.Time `json:"formatted"`
	Generation uint64    `json:"generation"`
	Titles     int       `json:"titles"`
	Files      int       `json:"files"`
	Free       int64     `json:"free"` // bytes in slabs that nothing is in
}

// A Disk is an opened slab disk. Its methods may be called from any goroutine; changes happen one after another.
type Disk struct {
	m    Medium
	size int64

	mu      sync.RWMutex // guards what follows: readers may be many, and a change waits for them
	head    header
	damaged []string // parts that were found damaged and are not needed
	table   table
	other   bool // the valid table is the second one
	writers map[*Writer]bool
	held    int      // changes wait in memory, for so many that hold them back
	waits   bool     // and there are some
	last    []record // those of the valid table
}

// table is what a valid table says.
type table struct {
	generation uint64
	records    []record
}

// Open reads the header and the tables of the disk in the size bytes of a medium. It returns [ErrNotSlab] for what is
// none, and [ErrNoTable] where no table is valid.
func Open(m Medium, size int64) (*Disk, error) {
	d := &Disk{m: m, size: size, writers: map[*Writer]bool{}}
	err := d.readHeader()
	if err != nil {
		return nil, err
	}
	var best *table
	for k := range 2 {
		t, err := d.readTable(k == 1)
		if err != nil {
			d.damaged = append(d.damaged, fmt.Sprintf("table %s: %v", "AB"[k:k+1], err))
			continue
		}
		if best == nil || t.generation > best.generation {
			best, d.other = t, k == 1
		}
	}
	if best == nil {
		return nil, ErrNoTable
	}
	d.table, d.last = *best, best.records
	return d, nil
}

// Is reports whether a medium begins like a slab disk, by its header or the copy of that.
func Is(m io.ReaderAt) bool {
	for _, at := range []int64{0, Slab - 512, Slab - 4096} {
		b := make([]byte, blockBytes)
		if _, err := m.ReadAt(b, at); err == nil && string(b[:8]) == headerMark {
			return true
		}
	}
	return false
}

// readHeader reads the header, or its copy (2.1, 4).
func (d *Disk) readHeader() error {
	var problems []error
	for _, at := range []int64{0, Slab - 512, Slab - 4096} {
		b := make([]byte, blockBytes)
		if _, err := d.m.ReadAt(b, at); err != nil && !errors.Is(err, io.EOF) {
			problems = append(problems, err)
			continue
		}
		h, err := parseHeader(b)
		if err == nil && at > 0 && at != Slab-h.sector {
			err = errors.New("the copy of the header is not where it belongs")
		}
		if err == nil && h.slabs*Slab > d.size {
			err = fmt.Errorf("the header says that the disk has %d slabs, and there are %d: it is cut short", h.slabs,
				d.size/Slab)
		}
		if err == nil {
			if d.head = h; at > 0 {
				d.damaged = append(d.damaged, "the header; its copy is used")
			} else if !d.copyRight() {
				d.damaged = append(d.damaged, "the copy of the header")
			}
			return nil
		}
		if errors.Is(err, ErrNewer) {
			return err
		}
		problems = append(problems, err)
	}
	for _, err := range problems { // what says more than that there is none
		if !errors.Is(err, ErrNotSlab) {
			return err
		}
	}
	return ErrNotSlab
}

func (d *Disk) copyRight() bool {
	b := make([]byte, blockBytes)
	_, err := d.m.ReadAt(b, Slab-d.head.sector)
	return err == nil && string(b) == string(d.head.put())
}

// tableAt is where a table begins, in bytes.
func (h *header) tableAt(other bool) int64 {
	if other {
		return (1 + h.tableSlabs) * Slab
	}
	return Slab
}

// readTable reads one of the tables; an error says why it is not valid (2.2).
func (d *Disk) readTable(other bool) (*table, error) {
	at := d.head.tableAt(other)
	b := make([]byte, blockBytes)
	if _, err := d.m.ReadAt(b, at); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	head, ok := parseTableHead(b)
	switch {
	case !ok:
		return nil, errors.New("its first sector is damaged")
	case head.number != d.head.number:
		return nil, errors.New("it is of another disk")
	case head.length < 0 || head.length > d.head.tableSlabs*Slab-d.head.sector || head.generation == 0:
		return nil, errors.New("it claims to be longer than a table may be")
	}
	body := make([]byte, head.length)
	if n, err := d.m.ReadAt(body, at+d.head.sector); n < len(body) {
		return nil, err
	}
	if sum(body) != head.sum {
		return nil, errors.New("the checksum of its records is wrong")
	}
	t := &table{generation: head.generation}
	for len(body) > 0 {
		r, n, err := parseRecord(body)
		if err != nil {
			return nil, err
		}
		t.records, body = append(t.records, r), body[n:]
	}
	if int64(len(t.records)) != head.records {
		return nil, fmt.Errorf("it has %d records, and should have %d", len(t.records), head.records)
	}
	return t, d.head.agree(t.records)
}

// agree reports what about records cannot be on a disk like this: extents beyond it, two in one place, two with one
// name.
func (h *header) agree(all []record) error {
	names := map[string]bool{}
	type run struct {
		Extent
		of *record
	}
	var runs []run
	for i := range all {
		r := &all[i]
		if names[r.key()] {
			return fmt.Errorf("two records are of %s", r.shown())
		}
		names[r.key()] = true
		space, per := int64(0), h.perSlab()
		for _, e := range r.extents {
			if e.First < h.first()*per || e.Count < 1 || e.Count > h.slabs*per || e.First > h.slabs*per-e.Count ||
				r.what == ofTitle && (e.First%per != 0 || e.Count%per != 0) {
				return fmt.Errorf("%s lies at sector %d, where it cannot", r.shown(), e.First)
			}
			space += e.Count * h.sector
			runs = append(runs, run{e, r})
		}
		needs := r.size
		if r.what == ofTitle {
			needs += headBytes
		}
		if space < needs {
			return fmt.Errorf("%s has %d bytes, and room for %d", r.shown(), r.size, space)
		}
	}
	slices.SortFunc(runs, func(a, b run) int { return int(min(1, max(-1, a.First-b.First))) })
	for i := 1; i < len(runs); i++ {
		if runs[i-1].First+runs[i-1].Count > runs[i].First {
			return fmt.Errorf("%s and %s lie in one place", runs[i-1].of.shown(), runs[i].of.shown())
		}
	}
	return nil
}

// Info is what the disk is like.
func (d *Disk) Info() Info {
	d.mu.RLock()
	defer d.mu.RUnlock()
	i := Info{Label: d.head.label, Number: hex.EncodeToString(d.head.number[:]), Sector: d.head.sector,
		Slabs: d.head.slabs, TableSlabs: d.head.tableSlabs, Formatted: d.head.formatted, Generation: d.table.generation}
	for k := range d.table.records {
		if d.table.records[k].what == ofTitle {
			i.Titles++
		} else {
			i.Files++
		}
	}
	for _, e := range d.free() {
		i.Free += e.Count * Slab
	}
	return i
}

// Titles are those of the disk, in the order in which they were added.
func (d *Disk) Titles() (out []Title) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	for i := range d.table.records {
		if r := &d.table.records[i]; r.what == ofTitle {
			out = append(out, r.title())
		}
	}
	return out
}

func (r *record) title() Title {
	t := Title{ID: r.id, Name: r.name, Kind: r.kind, Cover: r.cover, Text: r.settings, Size: r.size, Sum: r.sum,
		Written: r.written, Extents: slices.Clone(r.extents)}
	for line := range strings.Lines(r.settings) {
		if t.Settings == nil {
			t.Settings = map[string]string{}
		}
		key, value, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "=")
		t.Settings[key] = value
	}
	return t
}

// Title is the one with an ID; ok is false where there is none.
func (d *Disk) Title(id string) (t Title, ok bool) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	r, _ := d.table.find("title " + fold(id))
	if r == nil {
		return t, false
	}
	return r.title(), true
}

// File is the small file of a name; ok is false where there is none.
func (d *Disk) File(name string) (f File, ok bool) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	r, _ := d.table.find("file " + fold(name))
	if r == nil {
		return f, false
	}
	return d.fileOf(r), true
}

func (d *Disk) fileOf(r *record) File {
	f := File{Name: r.name, Size: r.size, Sum: r.sum, Written: r.written}
	for _, e := range r.extents {
		f.Takes += e.Count * d.head.sector
	}
	return f
}

// FileContent is what is in a small file, as [Disk.Content] is of a title.
func (d *Disk) FileContent(name string) (*io.SectionReader, error) {
	return d.read("file " + fold(name))
}

// Files are the small files, in the order in which they were added.
func (d *Disk) Files() (out []File) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	for i := range d.table.records {
		if r := &d.table.records[i]; r.what == ofFile {
			out = append(out, d.fileOf(r))
		}
	}
	return out
}

// find is the record with a key, and its place; nil for none.
func (t *table) find(key string) (*record, int) {
	for i := range t.records {
		if t.records[i].key() == key {
			return &t.records[i], i
		}
	}
	return nil, -1
}

// contentOf is what stands in the extents of a record.
func (d *Disk) contentOf(r *record) *io.SectionReader {
	return io.NewSectionReader(fstree.Extents(d.m, d.runsOf(r)), 0, r.size)
}

// runsOf are where the content of a record lies on the medium.
func (d *Disk) runsOf(r *record) (runs []fstree.Extent) {
	skip, left := int64(0), r.size
	if r.what == ofTitle {
		skip = headBytes
	}
	for _, e := range r.extents {
		n := min(e.Count*d.head.sector-skip, left)
		runs = append(runs, fstree.Extent{At: e.First*d.head.sector + skip, Length: n})
		skip, left = 0, left-n
	}
	return runs
}

// Content is what is in a title, as long as nothing is changed on the disk. Its ReaderAt may be used by several
// goroutines. It returns [ErrNotFound] where there is no such title.
func (d *Disk) Content(id string) (*io.SectionReader, error) { return d.read("title " + fold(id)) }

// ReadFile is what is in a small file.
func (d *Disk) ReadFile(name string) ([]byte, error) {
	r, err := d.read("file " + fold(name))
	if err != nil {
		return nil, err
	}
	b := make([]byte, r.Size())
	if n, err := r.ReadAt(b, 0); n < len(b) {
		return nil, err
	}
	return b, nil
}

func (d *Disk) read(key string) (*io.SectionReader, error) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	r, _ := d.table.find(key)
	if r == nil {
		return nil, fmt.Errorf("%s: %w", key, ErrNotFound)
	}
	return d.contentOf(r), nil
}

// Verify reads all of a title and compares its checksum; the error says where it cannot be read or that it differs.
// Progress gets the bytes that were read.
func (d *Disk) Verify(ctx context.Context, id string, progress func(n int64)) error {
	d.mu.RLock()
	r, _ := d.table.find("title " + fold(id))
	d.mu.RUnlock()
	if r == nil {
		return fmt.Errorf("%s: %w", id, ErrNotFound)
	}
	return d.verify(ctx, r, progress)
}

func (d *Disk) verify(ctx context.Context, r *record, progress func(n int64)) error {
	if r.unfinished() {
		return nil
	}
	c, at, got := d.contentOf(r), int64(0), uint32(0)
	b := make([]byte, 1<<20)
	for at < r.size {
		if err := ctx.Err(); err != nil {
			return err
		}
		n, err := c.ReadAt(b, at)
		got = update(got, b[:n])
		if at += int64(n); progress != nil {
			progress(int64(n))
		}
		if err != nil && !errors.Is(err, io.EOF) || n == 0 {
			return fmt.Errorf("reading %s at byte %d: %w", r.shown(), at, err)
		}
	}
	if got != r.sum {
		return &SumError{r.shown(), got, r.sum}
	}
	return nil
}

// A SumError reports content that has another checksum than its record.
type SumError struct {
	Of        string
	Got, Want uint32
}

func (e *SumError) Error() string {
	return fmt.Sprintf("%s is damaged: its checksum is %08x instead of %08x", e.Of, e.Got, e.Want)
}
