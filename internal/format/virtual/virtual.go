// Package virtual composes volumes that are nowhere: tables and folders are in memory, and what files have is read from
// wherever it lies when somebody reads it. Files lie contiguous and stay where they are when others come, also when the
// volume is taken up again later.
package virtual

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"polytome/internal/format/exfat"
	"polytome/internal/format/fat"
	"polytome/internal/format/volume"
)

// A Source is what a file has.
type Source interface {
	io.ReaderAt
	Size() int64
}

// A File is one that the volume shows.
type File struct {
	Path     string // with slashes
	Modified time.Time
	Source   Source
}

// Options say how a volume is made. What is there once stays.
type Options struct {
	Filesystem string // exfat or fat32
	Label      string
	Serial     uint32
	Size       int64 // bytes
	Cluster    int64 // bytes
}

// A Volume shows files. It may be read from by several at a time, also while it is changed.
type Volume struct {
	dev *memory

	mu     sync.Mutex // guards what follows; one change at a time
	v      *volume.Volume
	source map[string]Source // by the folded path

	reading sync.RWMutex // guards what follows
	extents []extent     // in the order in which they lie
}

// An extent is where a file lies.
type extent struct {
	at, size int64  // of the volume, in bytes
	path     string // of the file
	from     int64  // byte of the file
	source   Source // nil for one that is away
}

// New makes an empty volume.
func New(o Options) (*Volume, error) {
	v := &Volume{dev: newMemory(o.Size), source: map[string]Source{}}
	var err error
	switch o.Filesystem {
	case "exfat":
		err = exfat.Format(v.dev, o.Size, exfat.Options{Cluster: o.Cluster, Label: o.Label, Serial: o.Serial})
	case "fat32":
		err = fat.Format(v.dev, o.Size, fat.Options{Bits: 32, Cluster: o.Cluster, Label: o.Label, Serial: o.Serial})
	default:
		err = fmt.Errorf("a volume with %q cannot be composed: exfat and fat32 can", o.Filesystem)
	}
	if err != nil {
		return nil, err
	}
	return v, v.open()
}

// open takes up the tables that are in memory.
func (v *Volume) open() (err error) {
	boot := make([]byte, 512)
	if _, err := v.dev.ReadAt(boot, 0); err != nil {
		return err
	}
	if exfat.Is(boot) {
		v.v, err = exfat.Open(v.dev, v.dev.size)
	} else {
		v.v, err = fat.Open(v.dev, v.dev.size)
	}
	return err
}

// Load takes up a volume that was saved. Its files have no sources before [Volume.Show].
func Load(r io.Reader) (*Volume, error) {
	dev, err := load(r)
	if err != nil {
		return nil, err
	}
	v := &Volume{dev: dev, source: map[string]Source{}}
	if err := v.open(); err != nil {
		return nil, fmt.Errorf("taking up the layout of a volume: %w", err)
	}
	return v, v.note(context.Background())
}

// Save writes down the tables and folders, and so where everything lies.
func (v *Volume) Save(w io.Writer) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.dev.save(w)
}

// Size is how many bytes the volume has.
func (v *Volume) Size() int64 { return v.dev.size }

// Info is what the volume is like.
func (v *Volume) Info() volume.Info {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.v.Info()
}

// A ChangeError says which file could not be shown, and why.
type ChangeError struct {
	Path string
	Err  error
}

func (e *ChangeError) Error() string { return e.Path + " cannot be shown: " + e.Err.Error() }

func (e *ChangeError) Unwrap() error { return e.Err }

// Show has the volume show files, and keeps those that it shows already where they lie. With prune, those go that are
// not among them, and their space is used again: that is for a time at which nobody reads. Without, they stay, and are
// read from where they were. What cannot be shown comes back as [*ChangeError]s, joined; the others are there.
func (v *Volume) Show(ctx context.Context, files []File, prune bool) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	there, err := v.there(ctx)
	if err != nil {
		return err
	}
	var failed []error
	wanted := map[string]bool{}
	for _, f := range files {
		wanted[v.fold(f.Path)] = true
	}
	if prune {
		for key, p := range there {
			if wanted[key] {
				continue
			}
			if err := v.v.Remove(ctx, p.Path); err != nil {
				return err
			}
			delete(v.source, key)
		}
		if err := v.tidy(ctx, wanted); err != nil {
			return err
		}
	}
	order := slices.Clone(files)
	slices.SortStableFunc(order, func(a, b File) int { return cmp.Compare(a.Path, b.Path) })
	for _, f := range order {
		key := v.fold(f.Path)
		if p, ok := there[key]; ok {
			switch {
			case p.Size == f.Source.Size():
				v.source[key] = f.Source
				continue
			case !prune: // who reads it must not find another one in its place
				failed = append(failed, &ChangeError{f.Path, ErrChanged})
				continue
			}
			if err := v.v.Remove(ctx, p.Path); err != nil {
				return err
			}
		}
		if err := v.add(ctx, f); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			failed = append(failed, &ChangeError{f.Path, err})
			continue
		}
		v.source[key] = f.Source
	}
	if err := v.v.Close(); err != nil { // which marks it as written in order
		return err
	}
	if err := v.open(); err != nil {
		return err
	}
	return errors.Join(append(failed, v.note(ctx))...)
}

// ErrChanged reports a file that has another length now, while somebody may be reading the volume.
var ErrChanged = errors.New("it has another length now, and is shown again when nobody reads any longer")

func (v *Volume) fold(name string) string {
	var parts []string
	for p := range strings.SplitSeq(name, "/") {
		parts = append(parts, v.v.Format().Fold(p))
	}
	return strings.Join(parts, "/")
}

// there are the files of the volume by their folded paths.
func (v *Volume) there(ctx context.Context) (map[string]volume.Piece, error) {
	all, err := v.v.Files(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]volume.Piece{}
	for _, p := range all {
		if !p.Folder {
			out[v.fold(p.Path)] = p
		}
	}
	return out, nil
}

// add makes a file that has nothing but its place.
func (v *Volume) add(ctx context.Context, f File) error {
	if dir := path.Dir(f.Path); dir != "." {
		if err := v.v.MakeFolder(ctx, dir); err != nil {
			return err
		}
	}
	w, err := v.v.Create(ctx, f.Path, f.Source.Size(), true)
	if err != nil {
		return err
	}
	if err = w.Skip(f.Source.Size()); err == nil {
		if !f.Modified.IsZero() {
			w.Date(f.Modified)
		}
		err = w.Commit()
	}
	if err != nil {
		w.Abort()
	}
	return err
}

// tidy removes folders that nothing is wanted in.
func (v *Volume) tidy(ctx context.Context, wanted map[string]bool) error {
	needed := map[string]bool{}
	for key := range wanted {
		for dir := path.Dir(key); dir != "."; dir = path.Dir(dir) {
			needed[dir] = true
		}
	}
	all, err := v.v.Files(ctx)
	if err != nil {
		return err
	}
	for _, p := range slices.Backward(all) { // what is inside comes first
		if p.Folder && p.Path != "." && !needed[v.fold(p.Path)] {
			if err := v.v.Remove(ctx, p.Path); err != nil {
				return err
			}
		}
	}
	return nil
}

// note notes where the files lie.
func (v *Volume) note(ctx context.Context) error {
	all, err := v.there(ctx)
	if err != nil {
		return err
	}
	info := v.v.Info()
	var out []extent
	for key, p := range all {
		at := int64(0)
		for _, r := range p.Runs {
			n := min(int64(r.Count)*info.Cluster, p.Size-at)
			if n <= 0 {
				break
			}
			out = append(out, extent{info.Heap + int64(r.First-2)*info.Cluster, n, p.Path, at, v.source[key]})
			at += n
		}
	}
	slices.SortFunc(out, func(a, b extent) int { return cmp.Compare(a.at, b.at) })
	v.reading.Lock()
	v.extents = out
	v.reading.Unlock()
	return nil
}

// ErrAway reports a file whose source is not there.
var ErrAway = errors.New("its source is away")

func (e *extent) read(b []byte, at int64) (int, error) {
	if e.source == nil {
		return 0, ErrAway
	}
	return e.source.ReadAt(b, e.from+at)
}

// find is the index of the first extent that ends behind an offset.
func find(all []extent, off int64) int {
	return sort.Search(len(all), func(i int) bool { return all[i].at+all[i].size > off })
}

// At says which file a byte of the volume is of; ok is false for tables, folders and what is free.
func (v *Volume) At(off int64) (name string, at int64, ok bool) {
	v.reading.RLock()
	defer v.reading.RUnlock()
	i := find(v.extents, off)
	if i == len(v.extents) || v.extents[i].at > off {
		return "", 0, false
	}
	e := &v.extents[i]
	return e.path, e.from + off - e.at, true
}

// Data is the next run of bytes that may be other than zeros.
func (v *Volume) Data(off int64) (start, end int64) {
	v.reading.RLock()
	all := v.extents
	v.reading.RUnlock()
	page := v.dev.next(off)
	i := find(all, off)
	if i == len(all) || page < all[i].at {
		if page == v.dev.size {
			return v.dev.size, v.dev.size
		}
		end := v.dev.run(page)
		if i < len(all) {
			end = min(end, all[i].at)
		}
		return page, end
	}
	start = max(off, all[i].at)
	end = all[i].at + all[i].size
	for i++; i < len(all) && all[i].at <= end; i++ { // the next one begins there
		end = all[i].at + all[i].size
	}
	return start, end
}

// A ReadError says what of which file could not be read. The rest of the volume can be.
type ReadError struct {
	Path string
	At   int64 // byte of the file
	Err  error
}

func (e *ReadError) Error() string {
	return fmt.Sprintf("%s cannot be read at byte %d: %v", e.Path, e.At, e.Err)
}

func (e *ReadError) Unwrap() error { return e.Err }

// ReadAt reads the volume. What is wrong with the source of a file comes back as a [*ReadError].
func (v *Volume) ReadAt(b []byte, off int64) (int, error) {
	if off < 0 || off >= v.dev.size {
		return 0, io.EOF
	}
	short := int64(len(b)) > v.dev.size-off
	if short {
		b = b[:v.dev.size-off]
	}
	v.reading.RLock()
	all := v.extents
	v.reading.RUnlock()
	done := 0
	for i := find(all, off); done < len(b); i++ {
		at := off + int64(done)
		end := off + int64(len(b))
		if i < len(all) {
			end = min(end, all[i].at)
		}
		if at < end { // tables, folders, and what is free
			n, err := v.dev.ReadAt(b[done:done+int(end-at)], at)
			if done += n; err != nil {
				return done, err
			}
			at = end
		}
		if done == len(b) {
			break
		}
		e := &all[i]
		piece := b[done:min(len(b), done+int(e.at+e.size-at))]
		n, err := e.read(piece, at-e.at)
		if n < len(piece) {
			if err == nil || errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF // it is shorter than it was
			}
			return done + n, &ReadError{e.path, e.from + at - e.at + int64(n), err}
		}
		done += n
	}
	if short {
		return done, io.EOF
	}
	return done, nil
}
