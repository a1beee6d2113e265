// Package drive is the target that is a volume on a drive or in an image file: FAT or exFAT, read and written by our
// own code, so that every file is contiguous where there is one.
package drive

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"polytome/internal/drives"
	"polytome/internal/format/fstree"
	"polytome/internal/format/volume"
	"polytome/internal/medium"
	"polytome/internal/nbd"
	"polytome/internal/target"
	"polytome/internal/target/claim"
	"polytome/internal/target/slab"
	"polytome/internal/target/volumetree"
)

// Scheme begins the address of a drive: "drive:" and a path or serial number, and "#2" for a partition. An export has
// an address of its own: "nbd://192.168.0.20/vesper-disk".
const Scheme = "drive:"

// An Address names a volume on a drive.
type Address struct {
	Drive string // a path, a serial number, or the address of an export
	Part  int    // number of the partition; 0 for the first volume that can be filled
}

// ParseAddress takes an address apart. ok is false for one of another kind.
func ParseAddress(s string) (a Address, ok bool) {
	if a.Drive, ok = strings.CutPrefix(s, Scheme); !ok && !nbd.IsAddress(s) {
		return a, false
	}
	if name, part, cut := strings.Cut(a.Drive, "#"); cut {
		if n, err := strconv.Atoi(part); err == nil && n > 0 {
			a.Drive, a.Part = name, n
		}
	}
	return a, a.Drive != ""
}

// AddressOf is what a bench calls a target that was given by a path: an image or device by its address, a folder as it
// is.
func AddressOf(path string) string {
	if info, err := os.Stat(path); err == nil && !info.IsDir() {
		return Scheme + path
	}
	return path
}

// IsFile reports whether the drive is given by a path.
func (a Address) IsFile() bool {
	return !a.Network() && (strings.ContainsRune(a.Drive, os.PathSeparator) || strings.Contains(a.Drive, "/") ||
		strings.HasSuffix(a.Drive, ".img"))
}

// Network reports whether the drive is an export.
func (a Address) Network() bool { return nbd.IsAddress(a.Drive) }

// String writes the address.
func (a Address) String() string {
	s := a.Drive
	if !a.Network() {
		s = Scheme + s
	}
	if a.Part > 0 {
		s += "#" + strconv.Itoa(a.Part)
	}
	return s
}

// Options say how the volume is filled.
type Options struct {
	Contiguous bool // a file that finds no space contiguous is not written
}

// Target is a FAT or exFAT volume that gets filled. It is only read until something is written for the first time; then
// it goes through the guard.
type Target struct {
	h    *drives.Handle
	opts Options

	mu      sync.Mutex
	v       *volume.Volume
	held    bool
	written atomic.Int64 // writes since the last time that everything was brought to the medium
}

var _ target.Target = (*Target)(nil)

// Open opens a volume: a [*Target], or a [*slab.Target] for a console's own disk. The target is of use as long as the
// context lasts.
func Open(ctx context.Context, sys drives.System, a Address, opts Options) (target.Target, error) {
	d, vol, err := find(ctx, sys, a)
	if err != nil {
		return nil, err
	}
	return On(ctx, sys, d, vol, opts)
}

// OpenVolume is Open for what only a FAT or exFAT volume can do.
func OpenVolume(ctx context.Context, sys drives.System, a Address, opts Options) (*Target, error) {
	d, vol, err := find(ctx, sys, a)
	if err != nil {
		return nil, err
	}
	return OnVolume(ctx, sys, d, vol, opts)
}

// find looks at the drive that an address names, and chooses the volume.
func find(ctx context.Context, sys drives.System, a Address) (*drives.Drive, *drives.Volume, error) {
	d, err := sys.Look(ctx, a.Drive)
	if err != nil {
		return nil, nil, unreachable(err)
	}
	if d, err = sys.Readable(ctx, d); err != nil {
		return nil, nil, fmt.Errorf("%w: %w", target.ErrGone, err)
	}
	vol, err := Choose(d, a.Part)
	return d, vol, err
}

// unreachable adds the typed error for an export that does not answer now.
func unreachable(err error) error {
	switch {
	case errors.Is(err, nbd.ErrBusy):
		return fmt.Errorf("%w: %w", target.ErrBusy, err)
	case errors.Is(err, nbd.ErrGone):
		return fmt.Errorf("%w: %w", target.ErrGone, err)
	}
	return err
}

// On opens a volume of a drive that was looked at just now.
func On(ctx context.Context, sys drives.System, d *drives.Drive, vol *drives.Volume, opts Options) (target.Target,
	error) {
	if vol.Filesystem == drives.Slab {
		return slab.On(ctx, sys, d, vol, slab.Options{Contiguous: opts.Contiguous})
	}
	return OnVolume(ctx, sys, d, vol, opts)
}

// OnVolume is On for a FAT or exFAT volume.
func OnVolume(ctx context.Context, sys drives.System, d *drives.Drive, vol *drives.Volume, opts Options) (*Target,
	error) {
	if vol.Filesystem == drives.Slab {
		return nil, fmt.Errorf("%s is a slab disk, which has no clusters: polytome slab shows and changes it", d.Name())
	}
	p := &Target{opts: opts}
	var err error
	p.h, err = sys.Handle(ctx, d, vol, func(part *medium.File) error {
		v, err := drives.OpenVolume(part)
		if err == nil {
			p.v = v
		}
		return err
	})
	if err != nil {
		return nil, unreachable(err)
	}
	return p, nil
}

// Choose finds the volume that is meant: that of a partition, or the first one that can be filled.
func Choose(d *drives.Drive, part int) (*drives.Volume, error) {
	if part > 0 {
		v := d.Find(part)
		switch {
		case v == nil:
			return nil, fmt.Errorf("%s has no partition %d", d.Name(), part)
		case v.Trouble != "":
			return nil, fmt.Errorf("partition %d of %s: %s", part, d.Name(), v.Trouble)
		case !v.Ours():
			return nil, fmt.Errorf("partition %d of %s is %s; only FAT16, FAT32 and exFAT can be filled: prepare it "+
				"first, or give another one", part, d.Name(), v.Shown())
		}
		return v, nil
	}
	for i := range d.Volumes {
		if d.Volumes[i].Ours() && d.Volumes[i].Trouble == "" {
			return &d.Volumes[i], nil
		}
	}
	for i := range d.Volumes {
		if d.Volumes[i].Trouble != "" {
			return nil, fmt.Errorf("%s cannot be used: %s", d.Name(), d.Volumes[i].Trouble)
		}
	}
	return nil, &BareError{d}
}

// BareError reports a drive without a volume that can be filled: it has to be prepared.
type BareError struct{ Drive *drives.Drive }

func (e *BareError) Error() string {
	return fmt.Sprintf("%s has no volume to fill: prepare it first with polytome drives prepare %s", e.Drive.Name(),
		e.Drive.Path)
}

// Drive is the drive as it was looked at.
func (p *Target) Drive() *drives.Drive { return p.h.Drive() }

// Volume is the volume itself, for what is not a matter of files: pieces, checks.
func (p *Target) Volume() *volume.Volume { return p.v }

// Write has the volume be written to, through the guard.
func (p *Target) Write(ctx context.Context) (*volume.Volume, error) {
	err := p.h.Write(ctx)
	if drives.IsRefused(err) {
		err = fmt.Errorf("%w: %w", target.ErrReadOnly, err)
	}
	return p.v, err
}

// Claim has the volume to itself.
func (p *Target) Claim() (release func(), err error) { return claim.Named(p.h.Claim(claim.FileID)) }

// Close brings everything to the medium, and lets go of the drive.
func (p *Target) Close() error {
	var err error
	if p.h.Writes() {
		err = p.explain("closing", "", p.v.Close())
	}
	return errors.Join(err, p.h.Close())
}

// Facts are read off the volume.
func (p *Target) Facts(ctx context.Context, _ []target.Entry) (target.Facts, error) {
	info := p.v.Info()
	fs, err := target.FilesystemNamed(info.Filesystem)
	if err != nil {
		return target.Facts{}, err
	}
	free, err := p.v.FreeBytes(ctx)
	if err != nil {
		return target.Facts{}, p.explain("reading", "", err)
	}
	return target.Facts{Filesystem: fs.WithinSectors(info.Sector), Capacity: int64(info.Clusters) * info.Cluster,
		Free: free, Cluster: info.Cluster, Label: info.Label, Unclean: info.Dirty,
		Volume:  fmt.Sprintf("%08x", info.Serial),
		Adapter: p.Drive().Adapter}, nil
}

// List goes through the folders.
func (p *Target) List(ctx context.Context, problem func(string, error)) ([]target.Entry, error) {
	out, err := volumetree.List(ctx, p.v, problem)
	return out, p.explain("listing", "", err)
}

// Stat looks at one file or folder.
func (p *Target) Stat(_ context.Context, name string) (target.Entry, error) {
	n, err := p.v.Stat(name)
	if err != nil {
		return target.Entry{}, p.explain("looking at", name, err)
	}
	return volumetree.Entry(name, &n), nil
}

// Stamp is a hash of all folders.
func (p *Target) Stamp(ctx context.Context, _ []target.Entry) (string, error) {
	sum, err := p.v.Sum(ctx)
	if err != nil {
		return "", p.explain("listing", "", err)
	}
	info := p.v.Info()
	return fmt.Sprintf("%08x/%s/%x", info.Serial, info.Label, sum), nil
}

// Open opens a file for reading.
func (p *Target) Open(_ context.Context, name string) (target.Content, error) {
	f, err := p.v.OpenFile(name)
	if err != nil {
		return nil, p.explain("opening", name, err)
	}
	return &content{f.(file), f.(interface{ Size() int64 }).Size()}, nil
}

// file is what a tree opens.
type file interface {
	fs.File
	io.ReaderAt
	Data(off int64) (start, end int64)
}

// content is an opened file.
type content struct {
	file
	size int64
}

func (c *content) Size() int64 { return c.size }

// Section is for copying without the program; a file of a drive has none, as it may are fragmented.
func (c *content) Section(off int64) (f *os.File, at, n int64, ok bool) {
	if s, is := c.file.(interface {
		Section(off int64) (*os.File, int64, int64, bool)
	}); is {
		return s.Section(off)
	}
	return nil, 0, 0, false
}

// Fragments is in how many fragments a file lies.
func (p *Target) Fragments(_ context.Context, name string) (int, error) {
	runs, err := p.v.Extents(name)
	if err != nil {
		return 0, p.explain("looking at", name, err)
	}
	return len(volume.Merge(runs)), nil
}

// PartitionTable is the name of the drive's partition table.
func (p *Target) PartitionTable() string {
	if p.h.Drive().Table == nil {
		return "none"
	}
	return string(p.h.Drive().Table.Scheme)
}

// change does something to the volume, and brings it to the medium.
func (p *Target) change(ctx context.Context, doing, name string, do func(v *volume.Volume) error) error {
	v, err := p.Write(ctx)
	if err != nil {
		return p.explain(doing, name, err)
	}
	if err := do(v); err != nil {
		return p.explain(doing, name, err)
	}
	return p.settle(doing, name)
}

// settle brings changes to the medium, unless they are held back for more.
func (p *Target) settle(doing, name string) error {
	p.mu.Lock()
	held := p.held
	p.mu.Unlock()
	if held {
		return nil
	}
	return p.explain(doing, name, p.v.Flush())
}

// Hold has changes wait for more of them, until [Target.Settle].
func (p *Target) Hold() {
	p.mu.Lock()
	p.held = true
	p.mu.Unlock()
}

// Settle brings everything that was held back to the medium.
func (p *Target) Settle(context.Context) error {
	p.mu.Lock()
	p.held = false
	p.mu.Unlock()
	return p.explain("writing", "", p.v.Flush())
}

var _ target.BatchCommitter = (*Target)(nil)

// MakeFolder makes a folder and those above it.
func (p *Target) MakeFolder(ctx context.Context, name string) error {
	return p.change(ctx, "making the folder", name, func(v *volume.Volume) error { return v.MakeFolder(ctx, name) })
}

// Rename gives a file or folder another path.
func (p *Target) Rename(ctx context.Context, from, to string) error {
	return p.change(ctx, "renaming "+from+" to", to, func(v *volume.Volume) error { return v.Rename(ctx, from, to) })
}

// Remove removes a file, or an empty folder.
func (p *Target) Remove(ctx context.Context, name string) error {
	return p.change(ctx, "removing", name, func(v *volume.Volume) error { return v.Remove(ctx, name) })
}

// Create begins a file.
func (p *Target) Create(ctx context.Context, name string, size int64) (target.Writer, error) {
	return p.begin(ctx, name, func(v *volume.Volume) (*volume.Writer,
		error) {
		return v.Create(ctx, name, size, p.opts.Contiguous)
	})
}

// Replace begins a file that takes the place of another one.
func (p *Target) Replace(ctx context.Context, name string, size int64) (target.Writer, error) {
	return p.begin(ctx, name, func(v *volume.Volume) (*volume.Writer,
		error) {
		return v.Replace(ctx, name, size, p.opts.Contiguous)
	})
}

func (p *Target) begin(ctx context.Context, name string, do func(v *volume.Volume) (*volume.Writer, error)) (
	target.Writer, error) {
	v, err := p.Write(ctx)
	if err != nil {
		return nil, p.explain("beginning", name, err)
	}
	w, err := do(v)
	if err != nil {
		return nil, p.explain("beginning", name, err)
	}
	return &writer{p: p, ctx: ctx, w: w, name: name}, nil
}

// explain says what was being done to which path, and adds the typed error that a run decides on.
func (p *Target) explain(doing, name string, err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	var pe *fs.PathError
	if errors.As(err, &pe) {
		err = pe.Err
	}
	at := p.h.Drive().Name()
	if name != "" {
		at = name + " on " + at
	}
	var pieces *volume.FragmentedError
	kind := kindOf(err)
	switch {
	case errors.As(err, &pieces):
		return fmt.Errorf("%s %s: %w (%w); its loader starts only contiguous files: polytome drives map %s "+
			"--defragment makes contiguous space", doing, at, target.ErrNoSpace, err, p.h.Drive().Path)
	case kind != nil && !errors.Is(err, kind):
		return fmt.Errorf("%s %s: %w (%w)", doing, at, kind, err)
	}
	return fmt.Errorf("%s %s: %w", doing, at, err)
}

func kindOf(err error) error {
	switch {
	case errors.Is(err, volume.ErrNoSpace):
		return target.ErrNoSpace
	case errors.Is(err, volume.ErrReadOnly):
		return target.ErrReadOnly
	case errors.Is(err, fs.ErrExist):
		return target.ErrExists
	case errors.Is(err, nbd.ErrGone):
		return target.ErrGone
	case errors.Is(err, nbd.ErrBusy):
		return target.ErrBusy
	}
	return target.Classify(err)
}

// writer is a file without a name.
type writer struct {
	p    *Target
	ctx  context.Context
	w    *volume.Writer
	name string
	// dropped says that what was written is read from the medium.
	dropped bool
}

func (w *writer) Write(b []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	w.p.written.Add(1)
	n, err := w.w.Write(b)
	return n, w.p.explain("writing", w.name, err)
}

func (w *writer) Skip(n int64) error {
	if err := w.ctx.Err(); err != nil {
		return err
	}
	w.p.written.Add(1)
	return w.p.explain("writing", w.name, w.w.Skip(n))
}

// CopyFrom takes bytes out of a file of this computer, where the system can do that by itself.
func (w *writer) CopyFrom(f *os.File, at, n int64) (int64, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	w.p.written.Add(1)
	k, err := w.w.CopyFrom(f, at, n)
	if errors.Is(err, errors.ErrUnsupported) {
		return k, err
	}
	return k, w.p.explain("writing", w.name, err)
}

// Flush brings what was written to the medium. Where nothing was since the last time, it is there.
func (w *writer) Flush() error {
	n := w.p.written.Load()
	if n == 0 {
		return nil
	}
	if err := w.p.h.Part().Sync(); err != nil {
		return w.p.explain("flushing", w.name, err)
	}
	w.p.written.Add(-n)
	return nil
}

// aheadMost is how much is read ahead at once, in bytes.
const aheadMost = 128 << 20

// Together is how many files wait for their names.
func (p *Target) Together() int { return target.Together }

// FlushAll brings files to the medium, and has them be read from there in one go where they are read back: small ones
// lie one behind the other.
func (p *Target) FlushAll(files []target.Writer, readBack bool) []error {
	errs := make([]error, len(files))
	for i, f := range files {
		errs[i] = f.Flush() // the first one brings all of them there
	}
	if readBack {
		p.ahead(files)
	}
	return errs
}

func (p *Target) ahead(files []target.Writer) {
	var from, to, sum int64
	for _, f := range files {
		w, ok := f.(*writer)
		if !ok {
			return
		}
		for _, e := range w.w.Extents() {
			if sum == 0 || e.At < from {
				from = e.At
			}
			to = max(to, e.At+e.Length)
			sum += e.Length
		}
	}
	if sum == 0 || to-from > aheadMost || to-from > 2*sum { // they lie apart
		return
	}
	if p.h.Part().Drop(from, to-from) != nil {
		return
	}
	p.h.Part().Ahead(from, to-from)
	for _, f := range files {
		f.(*writer).dropped = true
	}
}

func (w *writer) ReadBack() (target.Content, error) {
	for _, e := range w.w.Extents() {
		if w.dropped {
			break
		}
		if err := w.p.h.Part().Drop(e.At, e.Length); err != nil {
			return nil, w.p.explain("reading back", w.name, err)
		}
	}
	return &back{fstree.Extents(w.p.h.Part(), w.w.Extents()), w.w.Size()}, nil
}

func (w *writer) Date(t time.Time) error {
	w.w.Date(t)
	return nil
}

func (w *writer) Commit() error {
	if err := w.w.Commit(); err != nil {
		return w.p.explain("naming", w.name, err)
	}
	return w.p.settle("naming", w.name)
}

func (w *writer) Abort() error {
	w.w.Abort()
	return nil
}

// back is a file that has no name yet, read back.
type back struct {
	io.ReaderAt
	size int64
}

func (b *back) Size() int64 { return b.size }

func (b *back) Data(off int64) (start, end int64) {
	if h, ok := b.ReaderAt.(interface {
		Data(off int64) (start, end int64)
	}); ok && b.size > 0 {
		return h.Data(off)
	}
	return min(off, b.size), b.size
}

func (b *back) Close() error { return nil }
