// Package fileserver is the target that is a folder of a server whose files are opened, and then read and written at
// any offset, several requests at a time. What differs from protocol to protocol is a [Server].
package fileserver

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/claim"
	"polytome/internal/target/remote"
)

// A Server does what a protocol can with the files below the target's root. Names are those of the target. Everything
// can be asked for at the same time, and ends with its context.
type Server interface {
	// Allows says why nothing can have a name, nil where it can.
	Allows(name string) error
	// Where is a name as it is said: with the root, and the server's own name.
	Where(name string) string
	// ID is the same text for whoever means the same folder of the same server.
	ID() string

	Stat(ctx context.Context, name string) (fs.FileInfo, error)
	ReadDir(ctx context.Context, name string) ([]fs.FileInfo, error)
	Mkdir(ctx context.Context, name string) error
	// Remove removes a file, or an empty folder.
	Remove(ctx context.Context, name string) error
	// Rename gives something another name. With over, it takes the place of a file that may be there.
	Rename(ctx context.Context, from, to string, over bool) error
	// Date gives a file the time of its last change.
	Date(ctx context.Context, name string, t time.Time) error
	// OpenFile opens a file, with flags of package os. It stays open beyond the context.
	OpenFile(ctx context.Context, name string, flags int) (File, error)
	// Lasting has a name that was given reach the disk, where the server can be asked for that.
	Lasting(ctx context.Context, name string) error
	// Space is how large the volume is and how much of it is free, with its allocation unit, in bytes. A capacity of 0
	// says that the server does not report it.
	Space(ctx context.Context) (capacity, free, unit int64, err error)

	// Classify adds the typed error that a run decides on to what the server answered.
	Classify(err error) error
	Close()
}

// A File is an open file of a server.
type File interface {
	io.ReaderAt
	io.WriterAt
	io.Closer
	Stat() (fs.FileInfo, error)
	Truncate(n int64) error
	// Sync has the server bring the file to its disk, where it can be asked for that.
	Sync() error
}

// Options are what holds for a protocol, and what was declared of a target.
type Options struct {
	Network    string            // name of the protocol
	Filesystem target.Filesystem // what names and files have to fulfil; whether case matters is found out
	AtOnce     int               // small files that are written side by side
	LateCheck  bool              // asking whether a name is taken takes longer than sending a small file
	Searches   bool              // it takes the longer to find a name new, the more are in its folder
	Login      string            // who is logged in, as it is said
	Secure     bool              // what is sent cannot be read on the way
	Flushes    bool              // the server brings a file to its disk when it is asked to
	Declared   remote.Settings
}

// Target is a folder that gets filled.
type Target struct {
	s         Server
	opts      Options
	sensitive bool // names that differ by letter case only are different ones

	mu      sync.Mutex
	folders map[string]bool    // that are known to be there
	held    *held              // what was named since [Target.Hold]; nil while names are not held back
	writers map[string]*writer // that have not ended, by their temporary names
	begun   map[string]int     // files that were begun, by folder
	own     map[string]bool    // folders of beginnings that are there
	wrote   bool               // something was begun or removed
}

var (
	_ target.Target         = (*Target)(nil)
	_ target.Resumer        = (*Target)(nil)
	_ target.ParallelWriter = (*Target)(nil)
	_ target.BatchCommitter = (*Target)(nil)
	_ target.Claimer        = (*Target)(nil)
	_ remote.Prober         = (*Target)(nil)
)

// New is the target of a server that has let us in; it closes the server when it is closed.
func New(ctx context.Context, s Server, o Options) (*Target, error) {
	p := blank(s, o)
	if err := p.learnCase(ctx); err != nil {
		return nil, err
	}
	return p, nil
}

func blank(s Server, o Options) *Target {
	return &Target{s: s, opts: o, folders: map[string]bool{}, writers: map[string]*writer{}, begun: map[string]int{},
		own: map[string]bool{}}
}

// learnCase finds out whether names that differ in their letter case are one name, by asking for something that is
// there by another spelling. In an empty folder, the protocol's usual way counts.
func (p *Target) learnCase(ctx context.Context) error {
	p.sensitive = p.opts.Filesystem.CaseSensitive
	infos, err := p.s.ReadDir(ctx, ".")
	if err != nil {
		return err
	}
	there := map[string]bool{}
	for _, i := range infos {
		there[i.Name()] = true
	}
	for _, i := range infos {
		swapped := strings.Map(func(r rune) rune {
			if unicode.IsUpper(r) {
				return unicode.ToLower(r)
			}
			return unicode.ToUpper(r)
		}, i.Name())
		switch {
		case swapped == i.Name():
			continue
		case there[swapped]:
			p.sensitive = true
		default:
			_, err := p.s.Stat(ctx, swapped)
			p.sensitive = errors.Is(err, fs.ErrNotExist)
		}
		return nil
	}
	return nil
}

// Claim has the folder to itself.
func (p *Target) Claim() (release func(), err error) { return claim.Named(p.s.ID()) }

// Close logs off.
func (p *Target) Close() error {
	p.mu.Lock()
	wrote := p.wrote
	p.mu.Unlock()
	if wrote {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		p.tidy(ctx, ".")
		cancel()
	}
	p.s.Close()
	return nil
}

// AtOnce is how many small files are written side by side.
func (p *Target) AtOnce() int { return p.opts.AtOnce }

// Try finds out what the server can; see [remote.Probe].
func (p *Target) Try(ctx context.Context) (*remote.Probe, error) {
	r := &remote.Probe{Login: p.opts.Login, Secure: p.opts.Secure, Flushes: p.opts.Flushes}
	return r, r.Try(ctx, p)
}

// do has the server do something, and says what and with which path where that fails.
func (p *Target) do(ctx context.Context, doing, name string, act func() error) error {
	if err := p.allows(name); err != nil {
		return p.explain(doing, name, err)
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	err := act()
	if err != nil && ctx.Err() != nil {
		return ctx.Err()
	}
	return p.explain(doing, name, err)
}

// allows keeps paths below the target's root, and out of what the protocol gives a meaning to.
func (p *Target) allows(name string) error {
	if !fs.ValidPath(name) {
		return fs.ErrInvalid
	}
	return p.s.Allows(name)
}

// explain says what was being done to which path, and adds the typed error that a run decides on.
func (p *Target) explain(doing, name string, err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	return fmt.Errorf("%s %s: %w", doing, p.s.Where(name), p.s.Classify(err))
}

// Facts are the space that the server reports, or what was declared.
func (p *Target) Facts(ctx context.Context, listed []target.Entry) (target.Facts, error) {
	f := target.Facts{
		Volume:     target.Fixed,
		Network:    p.opts.Network,
		Filesystem: p.opts.Filesystem,
		Cluster:    4 * size.KiB,
	}
	declared := p.opts.Declared
	if declared.Filesystem != nil {
		f.Filesystem, f.Declared = *declared.Filesystem, true
	} else {
		f.Filesystem.CaseSensitive = p.sensitive
	}
	err := p.do(ctx, "looking at", ".", func() (err error) {
		var unit int64
		f.Capacity, f.Free, unit, err = p.s.Space(ctx)
		if unit >= 512 && unit <= 2*size.MiB {
			f.Cluster = unit
		}
		return err
	})
	if err != nil {
		return f, err
	}
	if f.Capacity == 0 {
		f.Capacity, f.Free, f.Unknown = remote.UnknownSpace, remote.UnknownSpace, declared.Capacity == 0
	}
	if declared.Cluster > 0 {
		f.Cluster, f.Declared = declared.Cluster, true
	}
	if declared.Capacity > 0 {
		f.Capacity, f.Declared = declared.Capacity, true
		if listed == nil {
			if listed, err = p.List(ctx, nil); err != nil {
				return f, err
			}
		}
		f.Free = min(f.Free, f.Capacity-f.Filesystem.Structures(f.Capacity, f.Cluster)-f.Used(listed))
	}
	return f, nil
}

// List goes through all folders.
func (p *Target) List(ctx context.Context, problem func(string, error)) ([]target.Entry, error) {
	var out []target.Entry
	var bounds remote.Bounds
	dirs := []string{"."}
	for len(dirs) > 0 {
		dir := dirs[len(dirs)-1]
		dirs = dirs[:len(dirs)-1]
		err := bounds.Deep(dir)
		var found []target.Entry
		if err == nil {
			found, err = p.listed(ctx, dir)
		}
		if err != nil {
			if dir == "." || ctx.Err() != nil || errors.Is(err, target.ErrGone) {
				return out, err
			}
			if problem != nil {
				problem(dir, err)
			}
			continue
		}
		if err := bounds.Count(len(found)); err != nil {
			return nil, p.explain("listing", ".", err)
		}
		for _, e := range found {
			if e.Folder {
				dirs = append(dirs, e.Path)
			}
			if p.seen(e) {
				out = append(out, e)
			}
		}
	}
	slices.SortFunc(out, func(a, b target.Entry) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

func (p *Target) listed(ctx context.Context, dir string) (out []target.Entry, err error) {
	err = p.do(ctx, "listing", dir, func() error {
		infos, err := p.s.ReadDir(ctx, dir)
		for _, i := range infos {
			if i.Mode()&(fs.ModeType&^fs.ModeDir) == 0 && fs.ValidPath(i.Name()) && !strings.Contains(i.Name(), "/") {
				out = append(out, entryOf(path.Join(dir, i.Name()), i))
			}
		}
		return err
	})
	return out, err
}

func entryOf(name string, i fs.FileInfo) target.Entry {
	e := target.Entry{Path: name, Folder: i.IsDir(), Modified: i.ModTime()}
	if !e.Folder {
		e.Size = i.Size()
	}
	return e
}

// Stamp lists the folders again: nothing else changes with every file.
func (p *Target) Stamp(ctx context.Context, of []target.Entry) (string, error) {
	return remote.Stamp(of, func(dir string) ([]target.Entry, error) {
		all, err := p.listed(ctx, dir)
		return slices.DeleteFunc(all, func(e target.Entry) bool { return !p.seen(e) }), err
	})
}

// Stat looks at one file or folder.
func (p *Target) Stat(ctx context.Context, name string) (e target.Entry, err error) {
	err = p.do(ctx, "looking at", name, func() error {
		i, err := p.s.Stat(ctx, name)
		if err == nil {
			e = entryOf(name, i)
		}
		return err
	})
	return e, err
}

// MakeFolder makes a folder and those above it.
func (p *Target) MakeFolder(ctx context.Context, name string) error {
	if err := p.allows(name); err != nil {
		return p.explain("making the folder", name, err)
	}
	at := ""
	for elem := range strings.SplitSeq(name, "/") {
		at = path.Join(at, elem)
		p.mu.Lock()
		known := p.folders[at]
		p.mu.Unlock()
		if known {
			continue
		}
		err := p.do(ctx, "making the folder", at, func() error {
			err := p.s.Mkdir(ctx, at)
			if err != nil {
				if i, statErr := p.s.Stat(ctx, at); statErr == nil && i.IsDir() {
					return nil
				}
			}
			return err
		})
		if err != nil {
			return err
		}
		p.mu.Lock()
		p.folders[at] = true
		p.mu.Unlock()
	}
	return nil
}

// Remove removes one file, or one empty folder.
func (p *Target) Remove(ctx context.Context, name string) error {
	p.forget()
	p.tidy(ctx, name)
	return p.do(ctx, "removing", name, func() error {
		if _, err := p.s.Stat(ctx, name); err != nil {
			return err
		}
		return p.s.Remove(ctx, name)
	})
}

// forget has folders be looked for again, as something goes.
func (p *Target) forget() {
	p.mu.Lock()
	p.wrote = true
	clear(p.folders)
	p.mu.Unlock()
}

// Rename has the server give a file or folder another path.
func (p *Target) Rename(ctx context.Context, from, to string) error {
	if err := p.allows(from); err != nil {
		return p.explain("renaming", from, err)
	}
	p.forget()
	return p.do(ctx, "renaming "+from+" to", to, func() error {
		if _, err := p.s.Stat(ctx, from); err != nil {
			return err
		}
		same := !p.sensitive && strings.EqualFold(from, to)
		if _, err := p.s.Stat(ctx, to); err == nil && !same {
			return target.ErrExists
		}
		return p.s.Rename(ctx, from, to, same)
	})
}

// Open opens a file for reading.
func (p *Target) Open(ctx context.Context, name string) (c target.Content, err error) {
	err = p.do(ctx, "opening", name, func() error {
		f, err := p.s.OpenFile(ctx, name, os.O_RDONLY)
		if err != nil {
			return err
		}
		i, err := f.Stat()
		if err == nil && i.IsDir() {
			err = errors.New("it is a folder")
		}
		if err != nil {
			_ = f.Close()
			return err
		}
		c = newContent(ctx, p, f, name, i.Size())
		return nil
	})
	return c, err
}
