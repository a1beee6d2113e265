// Package folder is the target that is a folder on this computer: a mounted
// stick or share, or any folder that is declared to stand for one.
package folder

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"math"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"

	"polytome/internal/drives"
	"polytome/internal/lockfile"
	"polytome/internal/sparse"
	"polytome/internal/target"
	"polytome/internal/target/claim"
	"polytome/internal/writeback"
)

// Options say what is not to be read off the folder itself. The zero value
// takes everything from the real mount.
type Options struct {
	// Unsynced leaves it to the system when names reach the medium, as for files of this computer that can be
	// made again.
	Unsynced   bool
	Filesystem string // declares the kind of filesystem, by name
	Capacity   int64  // declares the capacity, in bytes
	Cluster    int64  // declares the allocation unit, in bytes
}

// Target is a folder that gets filled. It never reaches outside of the folder,
// even through symbolic links.
type Target struct {
	root     *os.Root
	dir      string
	opts     Options
	declared target.Filesystem
	real     target.Filesystem
	network  string // the kind of network filesystem that it is mounted from, "" for none
	together bool   // names and bytes of many files are brought to the medium at once
	held     atomic.Bool
	within   within
}

var _ target.Target = (*Target)(nil)

// Open opens an existing folder as a target.
func Open(dir string, opts Options) (*Target, error) {
	info, err := os.Stat(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("no folder %s; check the spelling, plug in the drive, or create the folder", dir)
	case err != nil:
		return nil, fmt.Errorf("opening the target %s: %w", dir, err)
	case !info.IsDir():
		return nil, fmt.Errorf("%s is a file; a target must be a folder", dir)
	}
	p := &Target{dir: dir, opts: opts}
	if opts.Filesystem != "" {
		if p.declared, err = target.FilesystemNamed(opts.Filesystem); err != nil {
			return nil, err
		}
	}
	m, err := mountOf(dir)
	if err != nil {
		return nil, fmt.Errorf("finding the device of %s: %w", dir, err)
	}
	p.real, p.network, p.together = m.filesystem, m.network, m.syncs
	if p.root, err = os.OpenRoot(dir); err != nil {
		return nil, fmt.Errorf("opening the target %s: %w", dir, err)
	}
	return p, nil
}

// Claim has the folder to itself, by whatever path others reach it.
func (p *Target) Claim() (release func(), err error) {
	f, err := p.root.Open(".")
	if err != nil {
		return nil, p.explain("claiming", ".", err)
	}
	return claim.Folder(f)
}

// Dir is the folder, as it was opened.
func (p *Target) Dir() string { return p.dir }

// Close lets go of the folder.
func (p *Target) Close() error {
	p.moved()
	return p.root.Close()
}

// Facts reads the mount, and puts what was declared over it. With a declared
// space, what is free is that space less what the folder holds.
func (p *Target) Facts(ctx context.Context, listed []target.Entry) (target.Facts, error) {
	m, err := mountOf(p.dir)
	if err != nil {
		return target.Facts{}, fmt.Errorf("finding the device of %s: %w", p.dir, err)
	}
	f := target.Facts{Filesystem: m.filesystem, Capacity: m.capacity, Free: m.free, Cluster: m.cluster, Label: m.label,
		Volume: volumeOf(p.dir), Network: m.network}
	if m.network != "" { // at an address of its own
		f.Volume = target.Fixed
	}
	if p.declared.Name != "" {
		f.Filesystem, f.Declared, f.Label = p.declared, true, ""
		f.Cluster = p.declared.Cluster(f.Capacity)
	}
	if p.opts.Capacity > 0 {
		f.Capacity, f.Declared = p.opts.Capacity, true
		if p.opts.Cluster == 0 {
			f.Cluster = f.Filesystem.Cluster(f.Capacity)
		}
	}
	if p.opts.Cluster > 0 {
		f.Cluster, f.Declared = p.opts.Cluster, true
	}
	if p.opts.Capacity > 0 {
		if listed == nil {
			if listed, err = p.List(ctx, nil); err != nil {
				return target.Facts{}, err
			}
		}
		f.Free = f.Capacity - f.Filesystem.Structures(f.Capacity, f.Cluster) - f.Used(listed)
	}
	return f, nil
}

// Stamp is made of when each folder changed, and of how much is free: a file that is written to
// shows in the second, one that comes or goes in both.
func (p *Target) Stamp(ctx context.Context, of []target.Entry) (string, error) {
	m, err := mountOf(p.dir)
	if err != nil {
		return "", fmt.Errorf("finding the device of %s: %w", p.dir, err)
	}
	h := fnv.New64a()
	add := func(name string) error {
		info, err := p.root.Stat(filepath.FromSlash(name))
		if err != nil {
			return p.explain("looking at", name, err)
		}
		fmt.Fprintf(h, "%s\x00%d\x00", name, info.ModTime().UnixNano())
		return ctx.Err()
	}
	if err := add("."); err != nil {
		return "", err
	}
	for i := range of {
		if of[i].Folder {
			if err := add(of[i].Path); err != nil {
				return "", err
			}
		}
	}
	return fmt.Sprintf("%d/%d/%x", m.capacity, m.free, h.Sum64()), nil
}

// Stat looks at one file or folder.
func (p *Target) Stat(_ context.Context, name string) (target.Entry, error) {
	info, err := p.root.Lstat(filepath.FromSlash(name))
	if err != nil {
		return target.Entry{}, p.explain("looking at", name, err)
	}
	e := target.Entry{Path: name, Folder: info.IsDir(), Modified: info.ModTime()}
	if !e.Folder {
		e.Size = info.Size()
	}
	return e, nil
}

// Rename gives a file or folder another path.
func (p *Target) Rename(_ context.Context, from, to string) error {
	was, err := p.root.Lstat(filepath.FromSlash(from))
	if err != nil {
		return p.explain("renaming", from, err)
	}
	if is, err := p.root.Lstat(filepath.FromSlash(to)); err == nil && !os.SameFile(was, is) {
		return p.explain("renaming "+from+" to", to, target.ErrExists)
	}
	p.moved()
	if err := p.root.Rename(filepath.FromSlash(from), filepath.FromSlash(to)); err != nil {
		return p.explain("renaming "+from+" to", to, err)
	}
	p.syncFolder(path.Dir(from))
	p.syncFolder(path.Dir(to))
	return nil
}

// syncFolder brings the names of a folder to the medium. Some systems cannot flush a folder; that
// they do so by themselves is all there is then.
func (p *Target) syncFolder(name string) {
	if p.opts.Unsynced || p.held.Load() {
		return
	}
	if dir, err := p.root.Open(filepath.FromSlash(name)); err == nil {
		_ = dir.Sync()
		_ = dir.Close()
	}
}

// List walks the folder. Symbolic links and other special files are left out.
func (p *Target) List(ctx context.Context, problem func(string, error)) ([]target.Entry, error) {
	out, _, err := p.ListUpTo(ctx, math.MaxInt, problem)
	return out, err
}

// ListUpTo lists no more than so many entries, and reports whether there are more.
func (p *Target) ListUpTo(ctx context.Context, most int, problem func(string, error)) (out []target.Entry, more bool,
	err error) {
	err = fs.WalkDir(p.root.FS(), ".", func(name string, d fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if len(out) >= most {
			more = true
			return fs.SkipAll
		}
		if err == nil && name == "." {
			return nil
		}
		var info fs.FileInfo
		if err == nil {
			info, err = d.Info()
		}
		if err != nil {
			if name == "." {
				return p.explain("listing", "", err)
			}
			if problem != nil {
				problem(name, err)
			}
			return nil
		}
		if info.IsDir() {
			out = append(out, target.Entry{Path: name, Folder: true, Modified: info.ModTime()})
		} else if info.Mode().IsRegular() {
			out = append(out, target.Entry{Path: name, Size: info.Size(), Modified: info.ModTime()})
		}
		return nil
	})
	slices.SortFunc(out, func(a, b target.Entry) int { return strings.Compare(a.Path, b.Path) })
	return out, more, err
}

// Open opens a file for reading.
func (p *Target) Open(_ context.Context, name string) (target.Content, error) {
	f, err := p.root.Open(filepath.FromSlash(name))
	if err != nil {
		return nil, p.explain("opening", name, err)
	}
	return newContent(f)
}

// MakeFolder makes a folder and those above it.
func (p *Target) MakeFolder(_ context.Context, name string) error {
	return p.explain("making the folder", name, p.root.MkdirAll(filepath.FromSlash(name), 0o777))
}

// Remove removes one file, or one empty folder.
func (p *Target) Remove(_ context.Context, name string) error {
	p.moved()
	return p.explain("removing", name, p.root.Remove(filepath.FromSlash(name)))
}

// Create begins a file under a temporary name beside its final one.
func (p *Target) Create(ctx context.Context, name string, size int64) (target.Writer, error) {
	p.still(name)
	if err := p.absent(name); err != nil {
		return nil, err
	}
	return p.begin(ctx, name, size, false)
}

// Replace begins a file that will take the place of another.
func (p *Target) Replace(ctx context.Context, name string, size int64) (target.Writer, error) {
	p.still(name)
	info, err := p.root.Lstat(filepath.FromSlash(name))
	if err == nil && !info.Mode().IsRegular() {
		err = errors.New("not a regular file")
	}
	if err != nil {
		return nil, p.explain("replacing", name, err)
	}
	return p.begin(ctx, name, size, true)
}

func (p *Target) begin(ctx context.Context, name string, size int64, over bool) (target.Writer, error) {
	var f *os.File
	err := p.in(target.TemporaryName(name), func(dir *os.Root, temp string) (err error) {
		f, err = dir.OpenFile(temp, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o666)
		if !errors.Is(err, fs.ErrExist) {
			return err
		}
		left, err := dir.OpenFile(temp, os.O_RDWR, 0) // by an interrupted run, or by one that goes on
		if err != nil {
			return err
		}
		taken, lockErr := lockfile.Take(left)
		if taken && lockErr == nil {
			_ = left.Close()
			return fmt.Errorf("%w: another program is writing it", target.ErrExists)
		}
		_ = dir.Remove(temp)
		_ = left.Close()
		f, err = dir.OpenFile(temp, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o666)
		return err
	})
	if err != nil {
		return nil, p.explain("beginning", name, err)
	}
	// it is released when it is closed; where files cannot be locked, the target is claimed as a whole
	_, _ = lockfile.Take(f)
	w := p.writer(ctx, f, name, size, over)
	if err := w.reserve(); err != nil {
		_ = w.Abort()
		return nil, p.explain("freeing space for", name, err)
	}
	return w, nil
}

func (p *Target) writer(ctx context.Context, f *os.File, name string, size int64, over bool) *writer {
	return &writer{p: p, ctx: ctx, f: f, temp: target.TemporaryName(name), name: name, over: over, size: size,
		holes: p.real.Holes && sparse.Allow(f) == nil}
}

// Resume takes up what an interrupted run has left of a file.
func (p *Target) Resume(ctx context.Context, name string, size int64, over bool) (target.Resumed, error) {
	p.still(name)
	if !over {
		if err := p.absent(name); err != nil {
			return nil, err
		}
	}
	f, err := p.root.OpenFile(filepath.FromSlash(target.TemporaryName(name)), os.O_RDWR, 0)
	if err != nil {
		return nil, p.explain("resuming", name, err)
	}
	if taken, err := lockfile.Take(f); taken && err == nil {
		_ = f.Close()
		return nil, p.explain("resuming", name, fmt.Errorf("%w: another program is writing it", target.ErrExists))
	}
	info, err := f.Stat()
	if err == nil && (!info.Mode().IsRegular() || info.Size() == 0 || info.Size() > size) {
		err = fs.ErrNotExist // nothing of ours, or of another file
	}
	if err != nil {
		_ = f.Close()
		return nil, p.explain("resuming", name, err)
	}
	w := p.writer(ctx, f, name, size, over)
	w.at = info.Size()
	return w, nil
}

// Together is how many files are open at once: some systems allow a thousand, and several targets are filled at a time.
func (p *Target) Together() int { return 256 }

// FlushAll brings files to the medium, all at once where there are many and the system has a way to.
func (p *Target) FlushAll(files []target.Writer, readBack bool) []error {
	errs := make([]error, len(files))
	if !p.together || len(files) < fewFiles {
		for i, f := range files {
			errs[i] = f.Flush()
		}
		return errs
	}
	for i, f := range files {
		errs[i] = f.(*writer).extend()
	}
	if err := drives.SyncAt(p.dir); err != nil {
		err = p.explain("flushing", ".", err)
		for i := range errs {
			errs[i] = errors.Join(errs[i], err)
		}
		return errs
	}
	for i, f := range files {
		w := f.(*writer)
		errs[i] = errors.Join(errs[i], p.explain("flushing", w.name, writeback.Failed(w.f)))
		if readBack {
			dropCache(w.f)
			readAhead(w.f)
			w.dropped = true
		}
	}
	return errs
}

// fewFiles is up to how many files are brought to the medium one by one, rather than with everything else that waits
// for it.
const fewFiles = 4

// Hold has names wait for others, until Settle makes all of them last.
func (p *Target) Hold() { p.held.Store(p.together) }

// Settle brings the names that were given since Hold to the medium.
func (p *Target) Settle(context.Context) error {
	if !p.held.CompareAndSwap(true, false) || p.opts.Unsynced {
		return nil
	}
	return p.explain("flushing", ".", drives.SyncAt(p.dir))
}

var (
	_ target.BatchCommitter = (*Target)(nil)
	_ target.Resumer        = (*Target)(nil)
	_ target.Measured       = (*writer)(nil)
)

// absent fails with target.ErrExists when there is something of that name.
func (p *Target) absent(name string) error {
	err := p.in(name, func(dir *os.Root, base string) error {
		_, err := dir.Lstat(base)
		return err
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = target.ErrExists
	}
	return p.explain("beginning", name, err)
}

// explain says what was being done to which path, and adds the typed error that
// a run decides on.
func (p *Target) explain(doing, name string, err error) error {
	if err == nil {
		return nil
	}
	full := filepath.Join(p.dir, filepath.FromSlash(name))
	var pe *fs.PathError
	var le *os.LinkError
	for errors.As(err, &pe) {
		err = pe.Err // the path is said once, whole
	}
	if errors.As(err, &le) {
		err = le.Err
	}
	if err.Error() == escapes {
		return fmt.Errorf("%s %s: %w: a link leads out of the target; replace the link by a folder, or use the "+
			"folder it leads to as the target", doing, full, target.ErrReadOnly)
	}
	if kind := target.Classify(err); kind != nil {
		if left, known := filesLeft(p.dir); errors.Is(kind, target.ErrNoSpace) && known && left == 0 {
			kind = target.ErrNoFiles
		}
		return fmt.Errorf("%s %s: %w (%w)", doing, full, kind, err)
	}
	return fmt.Errorf("%s %s: %w", doing, full, err)
}

// escapes is what [os.Root] says of a path that leads out of the folder; the error itself has no name.
const escapes = "path escapes from parent"
