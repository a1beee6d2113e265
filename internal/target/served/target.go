package served

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"sync"
	"time"

	"polytome/internal/format/virtual"
	"polytome/internal/format/volume"
	"polytome/internal/target"
	"polytome/internal/target/claim"
	"polytome/internal/target/volumetree"
)

// Target is an export that gets filled.
type Target struct {
	e  *Export
	at string // its address

	mu      sync.Mutex // guards what follows
	release func()     // set once it may be changed
}

var (
	_ target.Target          = (*Target)(nil)
	_ target.Referrer        = (*Target)(nil)
	_ target.FragmentCounter = (*Target)(nil)
	_ target.Claimer         = (*Target)(nil)
)

// Open opens the export at an address. One that was never filled is made when something is put there.
func Open(at string, o Options) (*Target, error) {
	e, err := Take(at, o)
	if err != nil {
		return nil, err
	}
	return &Target{e: e, at: at}, nil
}

// Close has everything be seen and written down, and lets go of the export.
func (p *Target) Close() error {
	p.mu.Lock()
	release := p.release
	p.release = nil
	p.mu.Unlock()
	var err error
	if release != nil {
		err = p.explain("closing", "", p.e.settle(true))
		release()
	}
	p.e.Leave()
	return err
}

// Claim has the export to itself, but for those that read it.
func (p *Target) Claim() (release func(), err error) {
	if err := p.write(); err != nil {
		return nil, err
	}
	e := p.e
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.filling {
		return nil, &claim.TakenError{PID: os.Getpid()}
	}
	e.filling = true
	return sync.OnceFunc(func() {
		e.mu.Lock()
		e.filling = false
		e.mu.Unlock()
	}), nil
}

// write has no other process change the export from now on.
func (p *Target) write() (err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.release == nil {
		p.release, err = p.e.Hold()
	}
	return err
}

// Facts are those of the volume.
func (p *Target) Facts(ctx context.Context, _ []target.Entry) (target.Facts, error) {
	info := p.e.vol.Info()
	filesystem, err := target.FilesystemNamed(info.Filesystem)
	if err != nil {
		return target.Facts{}, err
	}
	free, err := p.e.vol.FreeBytes(ctx)
	if err != nil {
		return target.Facts{}, p.explain("reading", "", err)
	}
	return target.Facts{Filesystem: filesystem.WithinSectors(info.Sector), Capacity: int64(info.Clusters) *
		info.Cluster, Free: free, Cluster: info.Cluster, Label: info.Label}, nil
}

// List goes through the folders.
func (p *Target) List(ctx context.Context, problem func(string, error)) ([]target.Entry, error) {
	out, err := volumetree.List(ctx, p.e.vol, problem)
	return out, p.explain("listing", "", err)
}

// Stat looks at one file or folder.
func (p *Target) Stat(_ context.Context, name string) (target.Entry, error) {
	n, err := p.e.vol.Stat(name)
	if err != nil {
		return target.Entry{}, p.explain("looking at", name, err)
	}
	return volumetree.Entry(name, &n), nil
}

// Stamp is a hash of all folders.
func (p *Target) Stamp(ctx context.Context, _ []target.Entry) (string, error) {
	sum, err := p.e.vol.Sum(ctx)
	if err != nil {
		return "", p.explain("listing", "", err)
	}
	info := p.e.vol.Info()
	return fmt.Sprintf("%08x/%s/%x", info.Serial, info.Label, sum), nil
}

// Open opens a file for reading: from where its bytes come.
func (p *Target) Open(_ context.Context, name string) (target.Content, error) {
	s, err := p.e.vol.Source(name)
	if err != nil {
		return nil, p.explain("opening", name, err)
	}
	return content{s}, nil
}

// content is a source that is read.
type content struct{ virtual.Source }

func (c content) Close() error { return nil }

func (c content) Data(off int64) (start, end int64) {
	if h, ok := c.Source.(interface {
		Data(off int64) (start, end int64)
	}); ok {
		return h.Data(off)
	}
	return min(off, c.Size()), c.Size()
}

// Fragments is 1: every file is contiguous.
func (p *Target) Fragments(_ context.Context, name string) (int, error) {
	_, err := p.e.vol.Stat(name)
	return 1, p.explain("looking at", name, err)
}

// change does something, and has it be seen, soon or when the target is closed.
func (p *Target) change(doing, name string, do func(v *virtual.Volume) error) error {
	err := p.write()
	if err == nil {
		err = do(p.e.vol)
	}
	if err == nil {
		err = p.e.settle(false)
	}
	return p.explain(doing, name, err)
}

// Refer has a file be read from what its recipe makes.
func (p *Target) Refer(ctx context.Context, f target.Referral) error {
	return p.change("laying out", f.Path, func(v *virtual.Volume) error {
		if _, err := v.Stat(f.Path); err == nil && !f.Over {
			return fs.ErrExist
		}
		r := recipe{Path: f.Path, Size: f.Size, Make: f.Recipe}
		return p.put(ctx, r, f.Modified)
	})
}

// put shows a file that is made or kept.
func (p *Target) put(ctx context.Context, r recipe, modified time.Time) error {
	source := p.e.source(r)
	if source == nil {
		return errors.New("nobody here knows how it is made")
	}
	if err := p.e.vol.Put(ctx, virtual.File{Path: r.Path, Modified: modified, Source: source}); err != nil {
		return err
	}
	p.e.note(r)
	return nil
}

// MakeFolder makes a folder and those above it.
func (p *Target) MakeFolder(ctx context.Context, name string) error {
	return p.change("making the folder", name, func(v *virtual.Volume) error {
		p.e.touch()
		return v.MakeFolder(ctx, name)
	})
}

// Rename gives a file or folder another path. What it has stays where it is.
func (p *Target) Rename(ctx context.Context, from, to string) error {
	return p.change("renaming "+from+" to", to, func(v *virtual.Volume) error {
		err := v.Rename(ctx, from, to)
		if err == nil {
			p.e.renamed(from, to)
		}
		return err
	})
}

// Remove removes a file, or an empty folder. Who is reading the file goes on.
func (p *Target) Remove(ctx context.Context, name string) error {
	return p.change("removing", name, func(v *virtual.Volume) error {
		err := v.Remove(ctx, name)
		if err == nil {
			p.e.forget(name)
		}
		return err
	})
}

// explain says what was being done to which path, and adds the typed error that a run decides on.
func (p *Target) explain(doing, name string, err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	var taken *claim.TakenError
	if errors.As(err, &taken) {
		return fmt.Errorf("%w: what is selected in its bench is laid out there by whoever serves it", err)
	}
	var pe *fs.PathError
	if errors.As(err, &pe) {
		err = pe.Err
	}
	at := "the export " + p.at
	if name != "" {
		at = name + " on " + at
	}
	kind := kindOf(err)
	if kind != nil && !errors.Is(err, kind) {
		return fmt.Errorf("%s %s: %w (%w)", doing, at, kind, err)
	}
	return fmt.Errorf("%s %s: %w", doing, at, err)
}

func kindOf(err error) error {
	var pieces *volume.FragmentedError
	switch {
	case errors.Is(err, volume.ErrNoSpace), errors.As(err, &pieces):
		return target.ErrNoSpace
	case errors.Is(err, fs.ErrExist):
		return target.ErrExists
	}
	return target.Classify(err)
}

// Create begins a file that has to be kept.
func (p *Target) Create(ctx context.Context, name string, size int64) (target.Writer, error) {
	return p.begin(ctx, name, size, false)
}

// Replace begins a file that takes the place of another one.
func (p *Target) Replace(ctx context.Context, name string, size int64) (target.Writer, error) {
	return p.begin(ctx, name, size, true)
}

func (p *Target) begin(ctx context.Context, name string, size int64, over bool) (target.Writer, error) {
	err := p.write()
	if err == nil {
		err = p.allows(ctx, name, size, over)
	}
	var f *os.File
	if err == nil {
		f, err = p.e.newKept()
	}
	if err != nil {
		return nil, p.explain("beginning", name, err)
	}
	return &writer{p: p, ctx: ctx, f: f, name: name, over: over}, nil
}

// allows says why a file cannot be put there.
func (p *Target) allows(ctx context.Context, name string, size int64, over bool) error {
	n, err := p.e.vol.Stat(name)
	switch {
	case over && err != nil:
		return err
	case over && n.Folder:
		return errors.New("it is a folder")
	case !over && err == nil:
		return fs.ErrExist
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return err
	}
	return p.e.vol.Allows(ctx, name, size)
}

// writer is a file without a name, which is kept beside the layout.
type writer struct {
	p    *Target
	ctx  context.Context
	f    *os.File
	name string
	over bool
	date time.Time
	at   int64
	done bool
}

func (w *writer) Write(b []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := w.f.Write(b)
	w.at += int64(n)
	return n, w.p.explain("writing", w.name, err)
}

func (w *writer) Skip(n int64) error {
	if err := w.ctx.Err(); err != nil {
		return err
	}
	w.at += n
	err := w.f.Truncate(w.at)
	if err == nil {
		_, err = w.f.Seek(w.at, io.SeekStart)
	}
	return w.p.explain("writing", w.name, err)
}

func (w *writer) Flush() error { return w.p.explain("flushing", w.name, w.f.Sync()) }

func (w *writer) ReadBack() (target.Content, error) {
	return content{kept{w.f.Name(), w.at}}, nil
}

func (w *writer) Date(t time.Time) error {
	w.date = t
	return nil
}

func (w *writer) Commit() error {
	if w.done {
		return w.p.explain("naming", w.name, fs.ErrClosed)
	}
	err := w.p.change("naming", w.name, func(v *virtual.Volume) error {
		if err := w.p.allows(w.ctx, w.name, w.at, w.over); err != nil {
			return err
		}
		return w.p.put(w.ctx, recipe{Path: w.name, Size: w.at, Kept: keptAs(w.f)}, w.date)
	})
	if err == nil {
		w.done = true
		err = w.f.Close()
	}
	return err
}

func (w *writer) Abort() error {
	if w.done {
		return nil
	}
	w.done = true
	return errors.Join(w.f.Close(), os.Remove(w.f.Name()))
}
