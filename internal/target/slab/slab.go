// Package slab is the target that is a console's own disk: a slab disk on a drive, in an image file, or exported by the
// console. Its titles are shown as files of a tree, so that all that fills, checks and changes other targets does so
// here: a title's file carries its kind, ID and name in its path, and its settings are a text of their own.
package slab

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"polytome/internal/drives"
	"polytome/internal/format/slab"
	"polytome/internal/medium"
	"polytome/internal/nbd"
	"polytome/internal/target"
	"polytome/internal/target/claim"
)

// Options say how the disk is filled.
type Options struct {
	Contiguous bool // a title that finds no space contiguous is not written
}

// Target is a slab disk that gets filled. It is only read until something is written for the first time; then it goes
// through the guard.
type Target struct {
	h    *drives.Handle
	opts Options

	mu   sync.Mutex // guards what follows
	d    *slab.Disk
	made map[string]bool // folders that were made and may have nothing in them: the disk has none
}

var (
	_ target.Target          = (*Target)(nil)
	_ target.Resumer         = (*Target)(nil)
	_ target.BatchCommitter  = (*Target)(nil)
	_ target.FragmentCounter = (*Target)(nil)
	_ target.Claimer         = (*Target)(nil)
)

// On opens the slab disk on a drive that was looked at just now. It is of use as long as the context lasts.
func On(ctx context.Context, sys drives.System, d *drives.Drive, vol *drives.Volume, o Options) (*Target, error) {
	p := &Target{opts: o, made: map[string]bool{}}
	var err error
	p.h, err = sys.Handle(ctx, d, vol, func(part *medium.File) error {
		disk, err := slab.Open(part, part.Size())
		if err != nil {
			return fmt.Errorf("opening %s: %w", d.Name(), err)
		}
		p.mu.Lock()
		p.d = disk
		p.mu.Unlock()
		return nil
	})
	if err != nil {
		return nil, p.explain("opening", "", err)
	}
	return p, nil
}

// Disk is the disk itself, for what is not a matter of files.
func (p *Target) Disk() *slab.Disk {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.d
}

// Part is the bytes of the disk.
func (p *Target) Part() *medium.File { return p.h.Part() }

// Drive is the drive as it was looked at.
func (p *Target) Drive() *drives.Drive { return p.h.Drive() }

// Write has the disk be written to, through the guard.
func (p *Target) Write(ctx context.Context) (*slab.Disk, error) {
	err := p.h.Write(ctx)
	if drives.IsRefused(err) {
		err = fmt.Errorf("%w: %w", target.ErrReadOnly, err)
	}
	return p.Disk(), err
}

// Claim has the disk to itself.
func (p *Target) Claim() (release func(), err error) { return claim.Named(p.h.Claim(claim.FileID)) }

// Close lets go of the disk; what was changed is on the medium already.
func (p *Target) Close() error { return p.explain("closing", "", p.h.Close()) }

// Facts are read off the disk. A slab is kept back for small files, which share slabs.
func (p *Target) Facts(context.Context, []target.Entry) (target.Facts, error) {
	fs, err := target.FilesystemNamed(drives.Slab)
	if err != nil {
		return target.Facts{}, err
	}
	i := p.Disk().Info()
	return target.Facts{Filesystem: fs, Capacity: (i.Slabs - 2*i.TableSlabs - 1) * slab.Slab,
		Free: max(0, i.Free-slab.Slab), Cluster: slab.Slab, Label: i.Label, Volume: i.Number,
		Adapter: p.Drive().Adapter}, nil
}

// List shows titles, their settings and small files, with the folders that they are in.
func (p *Target) List(ctx context.Context, _ func(string, error)) ([]target.Entry, error) {
	d := p.Disk()
	var out []target.Entry
	for _, t := range d.Titles() {
		out = append(out, target.Entry{Path: PathOf(&t), Size: t.Size, Modified: t.Written})
		if t.Text != "" {
			out = append(out, target.Entry{Path: settingsOf(t.ID), Size: int64(len(t.Text)), Modified: t.Written})
		}
	}
	for _, f := range d.Files() {
		out = append(out, entryOf(pathOf(f.Name), &f))
	}
	folders := map[string]bool{}
	add := func(dir string) {
		for ; dir != "." && !folders[dir]; dir = path.Dir(dir) {
			folders[dir] = true
			out = append(out, target.Entry{Path: dir, Folder: true})
		}
	}
	for i := range out {
		add(path.Dir(out[i].Path))
	}
	p.mu.Lock()
	for dir := range p.made {
		add(dir)
	}
	p.mu.Unlock()
	slices.SortFunc(out, func(a, b target.Entry) int { return strings.Compare(a.Path, b.Path) })
	return out, ctx.Err()
}

// find is the title, settings or small file at a path, as its entry; ok is false where there is none.
func (p *Target) find(name string) (at place, e target.Entry, ok bool) {
	at, err := placeOf(name)
	if err != nil {
		return at, e, false
	}
	d := p.Disk()
	e = target.Entry{Path: name}
	switch at.what {
	case aTitle, someSettings:
		t, found := d.Title(at.ID)
		if !found || at.what == aTitle && !strings.EqualFold(PathOf(&t), name) || at.what == someSettings &&
			t.Text == "" {
			return at, e, false
		}
		if e.Size, e.Modified = t.Size, t.Written; at.what == someSettings {
			e.Size = int64(len(t.Text))
		}
	default:
		f, found := d.File(at.file)
		if !found {
			return at, e, false
		}
		e = entryOf(name, &f)
	}
	return at, e, true
}

// entryOf is a small file as an entry. What a run has left half written has room for all of it already, which comes
// free when it goes.
func entryOf(name string, f *slab.File) target.Entry {
	e := target.Entry{Path: name, Size: f.Size, Modified: f.Written}
	if target.IsTemporary(name) {
		e.Size = max(f.Size, f.Takes-headBytes)
	}
	return e
}

// headBytes are those of a title's room that are not content.
const headBytes = 4096

// inside are the entries below a folder, and whether there is such a folder.
func (p *Target) inside(dir string) (below []target.Entry, is bool) {
	all, _ := p.List(context.Background(), nil) // nothing is read for it
	for _, e := range all {
		if strings.HasPrefix(e.Path, dir+"/") {
			below = append(below, e)
		}
		is = is || e.Folder && e.Path == dir
	}
	return below, is
}

// Stat looks at one file or folder.
func (p *Target) Stat(_ context.Context, name string) (target.Entry, error) {
	if _, e, ok := p.find(name); ok {
		return e, nil
	}
	if _, is := p.inside(name); is || name == "." {
		return target.Entry{Path: name, Folder: true}, nil
	}
	return target.Entry{}, p.explain("looking at", name, fs.ErrNotExist)
}

// Stamp is the disk's number and the generation of its table.
func (p *Target) Stamp(context.Context, []target.Entry) (string, error) {
	i := p.Disk().Info()
	return fmt.Sprintf("%s/%d", i.Number, i.Generation), nil
}

// Open opens a file for reading.
func (p *Target) Open(_ context.Context, name string) (target.Content, error) {
	at, _, ok := p.find(name)
	if !ok {
		return nil, p.explain("opening", name, fs.ErrNotExist)
	}
	d := p.Disk()
	switch at.what {
	case aTitle:
		r, err := d.Content(at.ID)
		return contentOf(r), p.explain("opening", name, err)
	case someSettings:
		t, _ := d.Title(at.ID)
		return contentOf(io.NewSectionReader(strings.NewReader(t.Text), 0, int64(len(t.Text)))), nil
	}
	r, err := d.FileContent(at.file)
	return contentOf(r), p.explain("opening", name, err)
}

// content is an opened file.
type content struct{ *io.SectionReader }

func contentOf(r *io.SectionReader) target.Content { return content{r} }

// Data says that any byte may be something.
func (c content) Data(off int64) (start, end int64) { return min(off, c.Size()), c.Size() }

// Close has nothing to do.
func (c content) Close() error { return nil }

// Fragments is in how many pieces a file lies.
func (p *Target) Fragments(_ context.Context, name string) (int, error) {
	at, _, ok := p.find(name)
	if !ok {
		return 0, p.explain("looking at", name, fs.ErrNotExist)
	}
	if t, found := p.Disk().Title(at.ID); at.what == aTitle && found {
		return len(t.Extents), nil
	}
	return 1, nil
}

// PartitionTable is the name of the drive's partition table: it has none.
func (p *Target) PartitionTable() string { return "none" }

// change does something to the disk.
func (p *Target) change(ctx context.Context, doing, name string, do func(d *slab.Disk) error) error {
	d, err := p.Write(ctx)
	if err == nil {
		err = do(d)
	}
	return p.explain(doing, name, err)
}

// MakeFolder makes a folder. The disk has none: it is remembered as long as the target is open.
func (p *Target) MakeFolder(_ context.Context, name string) error {
	at, _, file := p.find(name)
	if _, err := placeOf(name); err != nil && !own(strings.Split(name, "/")[0]) {
		return p.explain("making the folder", name, err)
	}
	if file && at.what == aFile {
		return p.explain("making the folder", name, fs.ErrExist)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for dir := name; dir != "."; dir = path.Dir(dir) {
		p.made[dir] = true
	}
	return nil
}

// Rename gives a file or folder another path: of a title, that is another ID, name or kind.
func (p *Target) Rename(ctx context.Context, from, to string) error {
	return p.change(ctx, "renaming "+from+" to", to, func(d *slab.Disk) error {
		if _, err := placeOf(to); err != nil {
			return err
		}
		if _, _, ok := p.find(from); ok {
			return p.rename(d, from, to)
		}
		below, is := p.inside(from)
		if !is {
			return fs.ErrNotExist
		}
		if _, taken := p.inside(to); taken && !strings.EqualFold(from, to) {
			return fs.ErrExist
		}
		p.mu.Lock()
		p.made[to] = true
		for dir := range p.made {
			if dir == from || strings.HasPrefix(dir, from+"/") {
				delete(p.made, dir)
				p.made[to+strings.TrimPrefix(dir, from)] = true
			}
		}
		p.mu.Unlock()
		return together(d, func() error {
			for _, e := range below {
				if e.Folder {
					continue
				}
				if err := p.rename(d, e.Path, to+strings.TrimPrefix(e.Path, from)); err != nil {
					return err
				}
			}
			return nil
		})
	})
}

// together has several changes be one of the disk.
func together(d *slab.Disk, do func() error) error {
	d.Hold()
	err := do()
	return errors.Join(err, d.Settle())
}

func (p *Target) rename(d *slab.Disk, from, to string) error {
	a, err := placeOf(from)
	if err != nil {
		return err
	}
	b, err := placeOf(to)
	if err != nil {
		return err
	}
	if _, _, taken := p.find(to); taken && !strings.EqualFold(from, to) {
		return fs.ErrExist
	}
	switch {
	case a.what == aTitle && b.what == aTitle:
		return d.Retitle(a.ID, b.New)
	case a.what == aFile && b.what == aFile:
		return d.RenameFile(a.file, b.file)
	}
	return fmt.Errorf("%s cannot become %s on a slab disk: titles, settings and small files are different things", from,
		to)
}

// Remove removes a file, or an empty folder.
func (p *Target) Remove(ctx context.Context, name string) error {
	at, _, ok := p.find(name)
	if !ok {
		below, is := p.inside(name)
		switch {
		case !is:
			return p.explain("removing", name, fs.ErrNotExist)
		case len(below) > 0:
			return p.explain("removing", name, errors.New("the folder is not empty"))
		}
		p.mu.Lock()
		delete(p.made, name)
		p.mu.Unlock()
		return nil
	}
	return p.change(ctx, "removing", name, func(d *slab.Disk) error {
		p.keepFolder(name)
		switch at.what {
		case aTitle:
			return d.Remove(at.ID)
		case someSettings:
			return d.SetText(at.ID, "")
		}
		if t, found := d.Title(coverOf(at.file)); found && strings.EqualFold(t.Cover, at.file) {
			return together(d, func() error { return errors.Join(d.SetCover(t.ID, ""), d.RemoveFile(at.file)) })
		}
		return d.RemoveFile(at.file)
	})
}

// keepFolder remembers the folders of a file that goes: they are there until they are removed.
func (p *Target) keepFolder(name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
		p.made[dir] = true
	}
}

// Hold has changes wait for more of them, until [Target.Settle].
func (p *Target) Hold() { p.Disk().Hold() }

// Settle brings everything that was held back to the medium.
func (p *Target) Settle(context.Context) error { return p.explain("writing", "", p.Disk().Settle()) }

// Together is how many files wait for their names.
func (p *Target) Together() int { return target.Together }

// FlushAll brings files to the medium.
func (p *Target) FlushAll(files []target.Writer, _ bool) []error {
	errs := make([]error, len(files))
	for i, f := range files {
		errs[i] = f.Flush()
	}
	return errs
}

// explain says what was being done to which path, and adds the typed error that a run decides on.
func (p *Target) explain(doing, name string, err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	where := "the disk"
	if p.h != nil {
		where = p.h.Drive().Name()
	}
	if name != "" {
		where = name + " on " + where
	}
	if kind := kindOf(err); kind != nil && !errors.Is(err, kind) {
		return fmt.Errorf("%s %s: %w (%w)", doing, where, kind, err)
	}
	return fmt.Errorf("%s %s: %w", doing, where, err)
}

func kindOf(err error) error {
	switch {
	case errors.Is(err, slab.ErrTableFull):
		return target.ErrNoFiles
	case errors.Is(err, slab.ErrNoSpace), errors.Is(err, slab.ErrPieces):
		return target.ErrNoSpace
	case errors.Is(err, slab.ErrExists), errors.Is(err, fs.ErrExist):
		return target.ErrExists
	case errors.Is(err, slab.ErrNotFound):
		return fs.ErrNotExist
	case errors.Is(err, nbd.ErrGone):
		return target.ErrGone
	case errors.Is(err, nbd.ErrBusy):
		return target.ErrBusy
	case errors.Is(err, nbd.ErrReadOnly):
		return target.ErrReadOnly
	}
	return target.Classify(err)
}
