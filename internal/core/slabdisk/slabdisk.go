// Package slabdisk works with a console's own disk, a slab disk on a drive, in an image file or exported by the
// console, title by title: it adds those of files of this computer or of another target, takes them out again, repairs
// and copies the whole. Filling one by a loader's rules is what [polytome/internal/target/slab] is for.
package slabdisk

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"maps"
	"path"
	"path/filepath"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/sanitize"
	"polytome/internal/core/scan"
	"polytome/internal/core/source"
	"polytome/internal/core/title"
	"polytome/internal/drives"
	"polytome/internal/format/slab"
	"polytome/internal/medium"
	"polytome/internal/target"
	"polytome/internal/target/claim"
	"polytome/internal/target/folder"
	slabtarget "polytome/internal/target/slab"
)

// A Disk is an opened disk. Nobody else can change it at the same time through Polytome.
type Disk struct {
	*slab.Disk
	t       *slabtarget.Target
	release func()
}

// Open opens the disk that a path, a serial number or an address such as nbd://192.168.0.20/vesper-disk names; write
// asks for it to be changed, which goes through the guard. It returns a [*claim.TakenError] where another run changes
// it. The disk is of use as long as the context lasts.
func Open(ctx context.Context, sys drives.System, at string, write bool) (*Disk, error) {
	d, v, err := find(ctx, sys, at)
	if err != nil {
		return nil, err
	}
	t, err := slabtarget.On(ctx, sys, d, v, slabtarget.Options{})
	if err != nil {
		return nil, err
	}
	x := &Disk{t.Disk(), t, func() {}}
	if !write {
		return x, nil
	}
	if x.release, err = t.Claim(); err != nil {
		return nil, errors.Join(fmt.Errorf("opening %s: %w", d.Name(), err), t.Close())
	}
	if x.Disk, err = t.Write(ctx); err != nil {
		return nil, errors.Join(err, x.Close())
	}
	return x, nil
}

// find looks at a drive that is to be a slab disk.
func find(ctx context.Context, sys drives.System, at string) (*drives.Drive, *drives.Volume, error) {
	d, err := sys.Look(ctx, at)
	if err != nil {
		return nil, nil, err
	}
	if d, err = sys.Readable(ctx, d); err != nil {
		return nil, nil, err
	}
	for i := range d.Volumes {
		if d.Volumes[i].Filesystem == drives.Slab {
			return d, &d.Volumes[i], nil
		}
	}
	return nil, nil, fmt.Errorf("%s is %w; polytome drives prepare %s --fs slab makes it one", d.Name(),
		slab.ErrNotSlab,
		d.Path)
}

// Close lets go of the disk; what was changed is on it already.
func (d *Disk) Close() error {
	defer d.release()
	return d.t.Close()
}

// As is how titles are added: what is set counts more than what they say of themselves.
type As struct {
	ID, Name, Kind, Cover string
	Settings              map[string]string
	Replace               bool // one with the same ID
}

// Add adds the title in a file: an image, or an archive with one. A disc is a title of its own, as it has an ID of its
// own. A file that is known to be nothing is added where it is given an ID and a name. What was written is read back.
// Progress gets the bytes that were copied.
func (d *Disk) Add(ctx context.Context, set *loader.Set, file string, as As, progress func(n int64)) (
	added slab.Title,
	err error) {
	t, err := scan.One(file, set)
	if err != nil {
		return added, err
	}
	if err := as.takes(t, file); err != nil {
		return added, err
	}
	if t == nil {
		t = &title.Title{Of: 1, Form: title.Image, Discs: []title.Disc{{Number: 1, File: title.File{Path: file}}}}
	}
	from := &t.Discs[0].File
	if parts := t.Discs[0].Parts; t.Archive != "" && len(parts) == 1 {
		from = &parts[0].File
	} else if t.Archive != "" {
		return added, fmt.Errorf("%s has several files in it: unpack it first", file)
	}
	open := &source.Opener{}
	defer open.Close() // which was read from
	c, err := open.Open(from)
	if err == nil {
		added, err = d.add(ctx, c, as.record(t, 0), as.Replace, progress)
	}
	if err != nil {
		return added, fmt.Errorf("adding %s: %w", file, err)
	}
	return added, nil
}

// AddFrom is Add for a file of another target, without a copy in between. Of another slab disk, a title may be named by
// its ID; it comes with its settings.
func (d *Disk) AddFrom(ctx context.Context, set *loader.Set, from target.Target, file string, as As,
	progress func(n int64)) (added slab.Title, err error) {
	if other, ok := from.(*slabtarget.Target); ok && !strings.Contains(file, "/") {
		t, ok := other.Disk().Title(file)
		if !ok {
			return added, fmt.Errorf("%s: %w", file, slab.ErrNotFound)
		}
		file = slabtarget.PathOf(&t)
		as = as.or(&t)
	}
	c, err := from.Open(ctx, file)
	if err != nil {
		return added, err
	}
	t, err := scan.Identify(c, c.Size(), path.Base(file), set)
	if err == nil {
		err = as.takes(t, file)
	}
	if err != nil {
		return added, errors.Join(err, c.Close())
	}
	if t == nil {
		t = &title.Title{Of: 1, Form: title.Image, Discs: make([]title.Disc, 1)}
	}
	if added, err = d.add(ctx, c, as.record(t, 0), as.Replace, progress); err != nil {
		return added, fmt.Errorf("adding %s: %w", file, err)
	}
	return added, nil
}

// or takes what is not set from a title.
func (as As) or(t *slab.Title) As {
	as.ID, as.Name, as.Kind = cmp.Or(as.ID, t.ID), cmp.Or(as.Name, t.Name), cmp.Or(as.Kind, t.Kind)
	all := maps.Clone(t.Settings)
	if all == nil {
		all = map[string]string{}
	}
	maps.Copy(all, as.Settings)
	maps.DeleteFunc(all, func(_, value string) bool { return value == "" })
	as.Settings = all
	return as
}

// takes says why what was found in a file cannot be added; nil for nothing found.
func (as *As) takes(t *title.Title, file string) error {
	named := as.ID != "" && as.Name != ""
	switch {
	case t == nil && !named:
		return fmt.Errorf("%s has no title that is known: give its ID and name, if it is one", file)
	case t == nil:
		return nil
	case t.Fault() != nil && !named:
		return fmt.Errorf("%s cannot be added: %s", file, t.Fault().Say)
	case t.Form != title.Image:
		return fmt.Errorf("%s cannot be added: only images can be, and it has the form %s", file, t.Form)
	case as.record(t, 0).ID == "":
		return fmt.Errorf("%s says no ID: give one", file)
	}
	return nil
}

// record is what a disc becomes.
func (as *As) record(t *title.Title, disc int) slab.New {
	n := slab.New{ID: as.ID, Name: as.Name, Kind: as.Kind, Cover: as.Cover, Settings: as.Settings}
	d := &t.Discs[disc]
	if n.ID == "" {
		if n.ID = d.ID; n.ID == "" {
			n.ID = t.ID
		}
	}
	if n.Name == "" {
		if n.Name = t.Name; t.Of > 1 {
			n.Name += fmt.Sprintf(" (Disc %d)", d.Number)
		}
	}
	if n.Kind == "" {
		n.Kind = d.Kind
	}
	return n
}

// add writes a title, and reads it back. It closes the content.
func (d *Disk) add(ctx context.Context, c target.Content, n slab.New, replace bool, progress func(n int64)) (
	t slab.Title, err error) {
	defer c.Close() // which was read from
	if t, err = d.Disk.Add(ctx, n, c.Size(), io.NewSectionReader(c, 0, c.Size()), replace, progress); err != nil {
		return t, err
	}
	if f := d.t.Part(); f.Drop(0, f.Size()) != nil {
		return t, fmt.Errorf("%s was written, and cannot be read back", t.ID)
	}
	return t, d.Verify(ctx, t.ID, nil)
}

// Out writes a title to a folder as the image that it was. Its checksum is compared, of what is read off the disk and
// of what is read back from the folder: a file that is another is not left there. It returns the file.
func (d *Disk) Out(ctx context.Context, id, dir string, progress func(n int64)) (file string, err error) {
	t, ok := d.Title(id)
	if !ok {
		return "", fmt.Errorf("%s: %w", id, slab.ErrNotFound)
	}
	name := sanitize.Write(t.ID+" - "+t.Name, func(r rune) bool {
		return sanitize.Legal(r) && !strings.ContainsRune(`/\:*?"<>|`, r)
	}) + ".iso"
	file = filepath.Join(dir, name)
	r, err := d.Content(id)
	if err != nil {
		return "", err
	}
	to, err := folder.Open(dir, folder.Options{})
	if err != nil {
		return "", err
	}
	defer to.Close() // which has nothing open
	w, err := to.Create(ctx, name, t.Size)
	if errors.Is(err, target.ErrExists) {
		return "", fmt.Errorf("%s already exists and was not changed", file)
	}
	if err != nil {
		return "", err
	}
	if err := out(ctx, w, r, &t, progress); err != nil {
		return "", errors.Join(fmt.Errorf("taking out %s: %w", t.Name, err), w.Abort())
	}
	return file, w.Commit()
}

// out writes a title, with a hole where it has nothing but zeros, and reads it back.
func out(ctx context.Context, w target.Writer, r io.Reader, t *slab.Title, progress func(n int64)) error {
	none := make([]byte, pieceBytes)
	sum, err := sumOf(ctx, r, func(b []byte) error {
		if progress != nil {
			progress(int64(len(b)))
		}
		if bytes.Equal(b, none[:len(b)]) {
			return w.Skip(int64(len(b)))
		}
		_, err := w.Write(b)
		return err
	})
	switch {
	case err != nil:
		return err
	case sum != t.Sum:
		return errors.New("it is damaged on the disk: its checksum is another one")
	}
	if err := w.Flush(); err != nil {
		return err
	}
	back, err := w.ReadBack()
	if err != nil {
		return err
	}
	sum, err = sumOf(ctx, io.NewSectionReader(back, 0, back.Size()), func([]byte) error { return nil })
	if err = errors.Join(err, back.Close()); err == nil && sum != t.Sum {
		err = errors.New("what was written is not what is read back")
	}
	return err
}

// pieceBytes is how much is read at once.
const pieceBytes = 1 << 20

// sumOf is the CRC-32C of what is read, which a function gets piece by piece.
func sumOf(ctx context.Context, r io.Reader, each func(b []byte) error) (sum uint32, err error) {
	b := make([]byte, pieceBytes)
	for {
		if err := ctx.Err(); err != nil {
			return 0, err
		}
		n, err := io.ReadFull(r, b)
		sum = crc32.Update(sum, castagnoli, b[:n])
		if n > 0 {
			if err := each(b[:n]); err != nil {
				return 0, err
			}
		}
		switch {
		case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
			return sum, nil
		case err != nil:
			return 0, err
		}
	}
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Repair finds out what a repair of a disk would do; end lets go of the disk. Without write, it cannot be done.
func Repair(ctx context.Context, sys drives.System, at string, write bool, progress func(n int64)) (r *slab.Repair,
	end func() error, err error) {
	d, v, err := find(ctx, sys, at)
	if err != nil {
		return nil, nil, err
	}
	h, err := sys.Handle(ctx, d, v, func(*medium.File) error { return nil })
	if err != nil {
		return nil, nil, err
	}
	end = h.Close
	if write {
		release, err := claim.Named(h.Claim(claim.FileID))
		if err != nil {
			return nil, nil, errors.Join(fmt.Errorf("opening %s: %w", d.Name(), err), h.Close())
		}
		end = func() error { defer release(); return h.Close() }
		if err := h.Write(ctx); err != nil {
			return nil, nil, errors.Join(err, end())
		}
	}
	if r, err = slab.LookOver(ctx, h.Part(), v.Size, progress); err != nil {
		return nil, nil, errors.Join(fmt.Errorf("looking at %s: %w", d.Name(), err), end())
	}
	return r, end, nil
}

// Clone copies the disk to another drive, of which everything is lost; the consent is that to it.
func (d *Disk) Clone(ctx context.Context, sys drives.System, to *drives.Drive, c drives.Consent,
	progress func(n int64)) error {
	m, err := sys.Open(ctx, to, drives.Erasing, c)
	if err != nil {
		return err
	}
	return errors.Join(d.cloneOnto(ctx, m, progress), m.Close())
}

func (d *Disk) cloneOnto(ctx context.Context, m *medium.File, progress func(n int64)) error {
	n := min(m.Size(), 1<<20)
	if _, err := m.WriteAt(make([]byte, n), m.Size()-n); err != nil { // nothing older is to be recognised there
		return err
	}
	_, err := d.Disk.Clone(ctx, m, m.Size(), slab.Options{}, progress)
	return err
}
