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
	"io/fs"
	"maps"
	"os"
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

// A Volume shows files. It may be read from by several at a time, also while it is changed: they see changes when these
// are published, all at once.
type Volume struct {
	dev *memory

	mu    sync.Mutex // guards what follows
	draft *draft
	v     *volume.Volume
	files map[string]*shown // by the folded path
	inUse bool              // somebody may have read where files lie
	// left are files that went while somebody may read them: they are read where they were for as long.
	left     []extent
	withheld []volume.Run // clusters of what went meanwhile
	changed  bool         // since it was published

	reading sync.RWMutex // guards what follows
	extents []extent     // in the order in which they lie
	// generation is how often changes were published.
	generation int64
}

// shown is a file of the volume.
type shown struct {
	path   string
	size   int64
	runs   []volume.Run
	source Source // nil for one that is away
	// gap is the clusters behind it that are left free.
	gap volume.Run
}

// Gap is how many bytes are left free behind every file, as long as there is space. Systems read further than they were
// asked to, and join reads that lie beside each other: one that reaches into the next file fails when that is away, and
// takes the end of this one with it. With a gap as long as the longest read, no read is of two files.
const Gap = 32 << 20

// An extent is where a file lies.
type extent struct {
	at, size int64  // of the volume, in bytes
	path     string // of the file
	from     int64  // byte of the file
	source   Source // nil for one that is away
}

// New makes an empty volume.
func New(o Options) (*Volume, error) {
	v := over(newMemory(o.Size))
	var err error
	switch o.Filesystem {
	case "exfat":
		err = exfat.Format(v.draft, o.Size, exfat.Options{Cluster: o.Cluster, Label: o.Label, Serial: o.Serial})
	case "fat32":
		err = fat.Format(v.draft, o.Size, fat.Options{Bits: 32, Cluster: o.Cluster, Label: o.Label, Serial: o.Serial})
	default:
		err = fmt.Errorf("a volume with %q cannot be composed: exfat and fat32 can", o.Filesystem)
	}
	if err != nil {
		return nil, err
	}
	v.draft.publish()
	return v, v.open()
}

func over(dev *memory) *Volume {
	return &Volume{dev: dev, draft: &draft{of: dev, pages: map[int64]*page{}}, files: map[string]*shown{}}
}

// open takes up the tables that are in memory.
func (v *Volume) open() (err error) {
	v.v, err = Open(v.draft, v.dev.size)
	return err
}

// Open opens what a volume shows, as any other volume on a device.
func Open(dev volume.Device, size int64) (*volume.Volume, error) {
	boot := make([]byte, 512)
	if _, err := dev.ReadAt(boot, 0); err != nil {
		return nil, err
	}
	if exfat.Is(boot) {
		return exfat.Open(dev, size)
	}
	return fat.Open(dev, size)
}

// Load takes up a volume that was saved. Its files are away before [Volume.Put] or [Volume.Link] gives them sources.
func Load(r io.Reader) (*Volume, error) {
	dev, err := load(r)
	if err != nil {
		return nil, err
	}
	v := over(dev)
	if err := v.open(); err != nil {
		return nil, fmt.Errorf("taking up the layout of a volume: %w", err)
	}
	all, err := v.v.Files(context.Background())
	if err != nil {
		return nil, err
	}
	for _, p := range all {
		if !p.Folder {
			f := &shown{path: p.Path, size: p.Size, runs: p.Runs}
			v.files[v.Fold(p.Path)] = f
			if err := v.leaveGap(context.Background(), f); err != nil {
				return nil, err
			}
		}
	}
	v.changed = true
	return v, v.Publish()
}

// Save writes down the tables and folders as they were published last, and so where everything lies.
func (v *Volume) Save(w io.Writer) error { return v.dev.save(w) }

// Size is how many bytes the volume has.
func (v *Volume) Size() int64 { return v.dev.size }

// Info is what the volume is like.
func (v *Volume) Info() volume.Info { return v.v.Info() }

// FreeBytes is how many bytes can still be given to files.
func (v *Volume) FreeBytes(ctx context.Context) (int64, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	free, err := v.v.FreeBytes(ctx)
	for _, f := range v.files {
		free += int64(f.gap.Count) * v.v.Info().Cluster
	}
	return free, err
}

// leaveGap leaves clusters free behind a file.
func (v *Volume) leaveGap(ctx context.Context, f *shown) error {
	if len(f.runs) == 0 {
		return nil
	}
	info := v.v.Info()
	gap := volume.Run{First: f.runs[len(f.runs)-1].End(), Count: uint32((Gap + info.Cluster - 1) / info.Cluster)}
	is, err := v.v.Withhold(ctx, gap)
	if is {
		f.gap = gap
	}
	return err
}

// closeGap has what is free behind a file be used again.
func (v *Volume) closeGap(f *shown) {
	v.v.Restore(f.gap)
	f.gap = volume.Run{}
}

// Sum is another one when folders have changed.
func (v *Volume) Sum(ctx context.Context) (uint64, error) { return v.v.Sum(ctx) }

// Each shows all files and folders.
func (v *Volume) Each(ctx context.Context, see func(path string, n *volume.Node), problem func(string, error)) error {
	return v.v.Each(ctx, see, problem)
}

// Stat looks at a file or folder. The error is [fs.ErrNotExist] where there is none.
func (v *Volume) Stat(name string) (volume.Node, error) { return v.v.Stat(name) }

// Allows says why a file of so many bytes cannot be put at a path.
func (v *Volume) Allows(ctx context.Context, name string, size int64) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	begin := v.v.Create
	if v.files[v.Fold(name)] != nil {
		begin = v.v.Replace
	}
	w, err := begin(ctx, name, size, true)
	if full := (*volume.FragmentedError)(nil); errors.Is(err, volume.ErrNoSpace) || errors.As(err, &full) {
		return nil // it may fit when gaps are closed, which is known when it is put
	}
	if err != nil {
		return err
	}
	w.Abort()
	return nil
}

// Source is where the bytes of a file come from; an error for one that is not there or away.
func (v *Volume) Source(name string) (Source, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	f := v.files[v.Fold(name)]
	switch {
	case f == nil:
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	case f.source == nil:
		return nil, &fs.PathError{Op: "open", Path: name, Err: ErrAway}
	}
	return f.source, nil
}

// Fold brings a path to what the volume compares paths by.
func (v *Volume) Fold(name string) string {
	var parts []string
	for p := range strings.SplitSeq(name, "/") {
		parts = append(parts, v.v.Format().Fold(p))
	}
	return strings.Join(parts, "/")
}

// Put has the volume show a file. One of that path and length that is there stays where it is, and is read from the new
// source; one of another length is replaced. The folder that it is in must be there.
func (v *Volume) Put(ctx context.Context, f File) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	key := v.Fold(f.Path)
	was := v.files[key]
	n := f.Source.Size()
	if was != nil && was.size == n {
		was.source, v.changed = f.Source, true
		return nil
	}
	runs, err := v.place(ctx, f, was != nil)
	if full := (*volume.FragmentedError)(nil); errors.Is(err, volume.ErrNoSpace) || errors.As(err, &full) {
		for _, f := range v.files {
			v.closeGap(f)
		}
		runs, err = v.place(ctx, f, was != nil)
	}
	if err != nil {
		return err
	}
	v.changed = true
	now := &shown{path: f.Path, size: n, runs: runs, source: f.Source}
	v.files[key] = now
	if was != nil {
		if err := v.leave(ctx, was); err != nil {
			return err
		}
	}
	return v.leaveGap(ctx, now)
}

// place makes a file that has nothing but its place.
func (v *Volume) place(ctx context.Context, f File, over bool) ([]volume.Run, error) {
	begin := v.v.Create
	if over {
		begin = v.v.Replace
	}
	n := f.Source.Size()
	w, err := begin(ctx, f.Path, n, true)
	if err != nil {
		return nil, err
	}
	if err = w.Skip(n); err == nil {
		if !f.Modified.IsZero() {
			w.Date(f.Modified)
		}
		err = w.Commit()
	}
	if err == nil {
		err = v.v.Flush()
	}
	if err != nil {
		w.Abort()
		return nil, err
	}
	return v.v.Extents(f.Path)
}

// Link gives a file that is there its source; nil has it be away.
func (v *Volume) Link(name string, s Source) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if f := v.files[v.Fold(name)]; f != nil {
		f.source, v.changed = s, true
	}
}

// leave keeps the clusters of a file that went, as long as somebody may read them.
func (v *Volume) leave(ctx context.Context, was *shown) error {
	v.closeGap(was)
	if !v.inUse {
		return nil
	}
	v.left = append(v.left, v.lies(was)...)
	return v.withhold(ctx, was.runs)
}

func (v *Volume) withhold(ctx context.Context, runs []volume.Run) error {
	for _, r := range runs {
		free, err := v.v.Withhold(ctx, r)
		if err != nil {
			return err
		}
		if free {
			v.withheld = append(v.withheld, r)
		}
	}
	return nil
}

// MakeFolder makes a folder and those above it. One that is there is fine.
func (v *Volume) MakeFolder(ctx context.Context, name string) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.changed = true
	return errors.Join(v.v.MakeFolder(ctx, name), v.v.Flush())
}

// Remove removes a file, or an empty folder. Who reads the file goes on reading it where it was.
func (v *Volume) Remove(ctx context.Context, name string) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	runs, err := v.v.Extents(name)
	if err != nil {
		return err
	}
	if err := v.v.Remove(ctx, name); err != nil {
		return err
	}
	if err := v.v.Flush(); err != nil {
		return err
	}
	key := v.Fold(name)
	was := v.files[key]
	delete(v.files, key)
	v.changed = true
	if was != nil {
		return v.leave(ctx, was)
	}
	if v.inUse {
		return v.withhold(ctx, runs)
	}
	return nil
}

// Rename gives a file or folder another path. What it has stays where it is.
func (v *Volume) Rename(ctx context.Context, from, to string) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.v.Rename(ctx, from, to); err != nil {
		return err
	}
	was := v.Fold(from)
	for _, key := range slices.Collect(maps.Keys(v.files)) {
		if key != was && !strings.HasPrefix(key, was+"/") {
			continue
		}
		f := *v.files[key]
		f.path = to + f.path[len(from):]
		delete(v.files, key)
		v.files[v.Fold(f.path)] = &f
	}
	v.changed = true
	return v.v.Flush()
}

// Use says whether somebody may read from now on. For as long, the space of what goes is not used again.
func (v *Volume) Use(yes bool) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if yes {
		v.inUse = true
		return v.publish() // what went before is gone for whoever comes
	}
	v.inUse = false
	for _, r := range v.withheld {
		v.v.Restore(r)
	}
	v.withheld, v.left = nil, nil
	v.changed = true
	return v.publish()
}

// Publish has those who read see what was changed.
func (v *Volume) Publish() error {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.publish()
}

func (v *Volume) publish() error {
	if !v.changed {
		return nil
	}
	if err := v.v.Close(); err != nil { // which marks it as written in order; it can be written to again
		return err
	}
	out := slices.Clone(v.left)
	for _, f := range v.files {
		out = append(out, v.lies(f)...)
	}
	slices.SortFunc(out, func(a, b extent) int { return cmp.Compare(a.at, b.at) })
	v.reading.Lock()
	defer v.reading.Unlock()
	v.draft.publish()
	v.extents, v.changed = out, false
	v.generation++
	return nil
}

// Generation is another number when changes were published.
func (v *Volume) Generation() int64 {
	v.reading.RLock()
	defer v.reading.RUnlock()
	return v.generation
}

// lies is where a file lies.
func (v *Volume) lies(f *shown) (out []extent) {
	info := v.v.Info()
	at := int64(0)
	for _, r := range f.runs {
		n := min(int64(r.Count)*info.Cluster, f.size-at)
		if n <= 0 {
			break
		}
		out = append(out, extent{info.Heap + int64(r.First-2)*info.Cluster, n, f.path, at, f.source})
		at += n
	}
	return out
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

// End is the byte behind the file that a byte of the volume is of; the byte itself where it is of none.
func (v *Volume) End(off int64) int64 {
	v.reading.RLock()
	defer v.reading.RUnlock()
	i := find(v.extents, off)
	if i == len(v.extents) || v.extents[i].at > off {
		return off
	}
	return v.extents[i].at + v.extents[i].size
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

// Section is a run of bytes of the volume that lies in a file of this computer, where all of it does. The file stays
// open until done.
func (v *Volume) Section(off, n int64) (f *os.File, at int64, done func(), ok bool) {
	v.reading.RLock()
	all := v.extents
	v.reading.RUnlock()
	i := find(all, off)
	if i == len(all) || all[i].at > off || all[i].at+all[i].size < off+n {
		return nil, 0, nil, false
	}
	e := &all[i]
	s, is := e.source.(interface {
		Section(off, n int64) (f *os.File, at int64, done func(), ok bool)
	})
	if !is {
		return nil, 0, nil, false
	}
	return s.Section(e.from+off-e.at, n)
}

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
