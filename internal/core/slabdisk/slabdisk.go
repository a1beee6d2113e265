// Package slabdisk fills a slab disk in an image file, or one that a console exports over the network: with the titles
// of files of this computer, and takes them out again.
package slabdisk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/sanitize"
	"polytome/internal/core/scan"
	"polytome/internal/core/source"
	"polytome/internal/core/title"
	"polytome/internal/format/slab"
	"polytome/internal/medium"
	"polytome/internal/nbd"
	"polytome/internal/sparse"
	"polytome/internal/target/claim"
)

// ErrDevice reports a block device: those are prepared and filled as drives, where it is asked whether they may be.
var ErrDevice = errors.New("it is a device, and only image files can be written to like this")

// A Medium is what a disk is on.
type Medium interface {
	slab.Medium
	Size() int64
	Close() error
}

// An Image is an opened disk. Nobody else can change it at the same time through Polytome.
type Image struct {
	*slab.Disk
	m       Medium
	release func()
}

// Open opens the disk in a file, or behind an address such as nbd://192.168.0.20/vesper-disk; write asks for it to be
// changed. It returns a [*claim.TakenError] where another run changes it.
func Open(ctx context.Context, at string, write bool) (*Image, error) {
	im, err := openAt(ctx, at, write)
	if err != nil {
		return nil, err
	}
	if im.Disk, err = slab.Open(im.m, im.m.Size()); err != nil {
		return nil, errors.Join(fmt.Errorf("opening %s: %w", at, err), im.Close())
	}
	return im, nil
}

// Remote reports whether a disk is named by an address.
func Remote(at string) bool { return nbd.IsAddress(at) }

func openAt(ctx context.Context, at string, write bool) (im *Image, err error) {
	id := "slab " + claim.FileID(at)
	if Remote(at) {
		a, err := nbd.ParseAddress(at)
		if err != nil {
			return nil, err
		}
		id = "slab " + a.Key()
		c, err := nbd.Open(ctx, at, nbd.Options{})
		if err != nil {
			return nil, err
		}
		im = &Image{m: c, release: func() {}}
	} else if im, err = openFile(at, write); err != nil {
		return nil, err
	}
	if !write {
		return im, nil
	}
	if im.release, err = claim.Named(id); err != nil {
		return nil, errors.Join(fmt.Errorf("opening %s: %w", at, err), im.m.Close())
	}
	return im, nil
}

func openFile(file string, write bool) (*Image, error) {
	how := os.O_RDONLY
	if write {
		how = os.O_RDWR
	}
	f, err := os.OpenFile(file, how, 0)
	if err != nil {
		return nil, err
	}
	m, err := medium.Of(f)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	if write && m.Device() {
		return nil, errors.Join(fmt.Errorf("%s: %w", file, ErrDevice), m.Close())
	}
	return &Image{m: m, release: func() {}}, nil
}

// Close lets go of the disk; what was changed is on the medium already.
func (im *Image) Close() error {
	defer im.release()
	return im.m.Close()
}

// Format makes an empty disk in a file, of so many bytes; a file that is not there yet is made, with holes. What was in
// it is lost: [OnIt] says what that is. A disk behind an address is formatted as it is.
func Format(ctx context.Context, file string, size int64, o slab.Options) (*Image, error) {
	if !Remote(file) {
		if err := makeFile(file, size); err != nil {
			return nil, err
		}
	}
	im, err := openAt(ctx, file, true)
	if err != nil {
		return nil, err
	}
	if im.Disk, err = slab.Format(im.m, im.m.Size(), o); err != nil {
		return nil, errors.Join(fmt.Errorf("formatting %s: %w", file, err), im.Close())
	}
	return im, nil
}

// makeFile makes a file of so many bytes with holes, where none is there or it has no bytes.
func makeFile(file string, size int64) error {
	f, err := os.OpenFile(file, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	info, err := f.Stat()
	switch {
	case err != nil:
	case info.Mode()&os.ModeDevice != 0:
		err = fmt.Errorf("%s: %w", file, ErrDevice)
	case info.Size() == 0:
		err = errors.Join(sparse.Allow(f), f.Truncate(size))
	}
	return errors.Join(err, f.Close())
}

// OnIt is what would be lost if a file were formatted: the titles of a slab disk, or that there are other bytes;
// nothing for one that is empty, or not there.
func OnIt(ctx context.Context, at string) ([]string, error) {
	im, err := openAt(ctx, at, false)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer im.Close() // which was read from
	n := im.m.Size()
	if h, ok := im.m.(interface {
		Data(off int64) (start, end int64)
	}); ok {
		if start, _ := h.Data(0); start >= n {
			return nil, nil // nothing but a hole
		}
	}
	if im.Disk, err = slab.Open(im.m, n); err != nil {
		return []string{fmt.Sprintf("%d bytes, which are no slab disk that can be read: %v", n, err)}, nil
	}
	var out []string
	for _, t := range im.Titles() {
		out = append(out, t.ID+" "+t.Name)
	}
	for _, f := range im.Files() {
		out = append(out, f.Name)
	}
	return out, nil
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
func (im *Image) Add(ctx context.Context, set *loader.Set, file string, as As, progress func(n int64)) (
	added slab.Title,
	err error) {
	t, err := scan.One(file, set)
	if err != nil {
		return added, err
	}
	named := as.ID != "" && as.Name != ""
	switch {
	case t == nil && !named:
		return added, fmt.Errorf("%s has no title that is known: give its ID and name, if it is one", file)
	case t == nil:
		t = &title.Title{Of: 1, Form: title.Image, Discs: []title.Disc{{Number: 1, File: title.File{Path: file}}}}
	case t.Fault() != nil && !named:
		return added, fmt.Errorf("%s cannot be added: %s", file, t.Fault().Say)
	case t.Form != title.Image:
		return added, fmt.Errorf("%s cannot be added: only images can be, and it has the form %s", file, t.Form)
	}
	n := as.record(t, 0)
	if n.ID == "" {
		return added, fmt.Errorf("%s says no ID: give one", file)
	}
	from := &t.Discs[0].File
	if parts := t.Discs[0].Parts; t.Archive != "" && len(parts) == 1 {
		from = &parts[0].File
	} else if t.Archive != "" {
		return added, fmt.Errorf("%s has several files in it: unpack it first", file)
	}
	open := &source.Opener{}
	defer open.Close() // which was read from
	if added, err = im.add(ctx, open, from, n, as.Replace, progress); err != nil {
		return added, fmt.Errorf("adding %s: %w", file, err)
	}
	return added, nil
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

func (im *Image) add(ctx context.Context, open *source.Opener, file *title.File, n slab.New, replace bool,
	progress func(n int64)) (t slab.Title, err error) {
	c, err := open.Open(file)
	if err != nil {
		return t, err
	}
	defer c.Close() // which was read from
	if t, err = im.Disk.Add(ctx, n, c.Size(), io.NewSectionReader(c, 0, c.Size()), replace, progress); err != nil {
		return t, err
	}
	if f, ok := im.m.(*medium.File); ok { // another one is asked again anyway
		if err := f.Drop(0, f.Size()); err != nil {
			return t, err
		}
	}
	return t, im.Verify(ctx, t.ID, nil)
}

// Out writes a title to a folder as the image that it was, and compares its checksum on the way: a file that would be
// another is not left there. It returns the file.
func (im *Image) Out(ctx context.Context, id, dir string, progress func(n int64)) (file string, err error) {
	var t slab.Title
	for _, x := range im.Titles() {
		if strings.EqualFold(x.ID, id) {
			t = x
		}
	}
	if t.ID == "" {
		return "", fmt.Errorf("%s: %w", id, slab.ErrNotFound)
	}
	file = filepath.Join(dir, sanitize.Write(t.ID+" - "+t.Name, func(r rune) bool {
		return sanitize.Legal(r) && !strings.ContainsRune(`/\:*?"<>|`, r)
	})+".iso")
	if _, err := os.Lstat(file); err == nil {
		return "", fmt.Errorf("%s already exists and was not changed", file)
	}
	if err := im.Verify(ctx, id, progress); err != nil {
		return "", err
	}
	r, err := im.Content(id)
	if err != nil {
		return "", err
	}
	f, err := os.CreateTemp(dir, ".polytome-*")
	if err != nil {
		return "", err
	}
	defer func() {
		if err != nil {
			_ = os.Remove(f.Name())
		}
	}()
	_, err = io.Copy(f, &cancelled{ctx, r})
	if err = errors.Join(err, f.Chmod(0o644), f.Sync()); err != nil {
		return "", errors.Join(err, f.Close())
	}
	if err = f.Close(); err != nil {
		return "", err
	}
	return file, os.Rename(f.Name(), file)
}

// cancelled is a reader that ends with its context.
type cancelled struct {
	ctx context.Context
	io.Reader
}

func (c *cancelled) Read(b []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.Reader.Read(b)
}

// Repair finds out what a repair of the disk in a file would do; close lets go of it.
func Repair(ctx context.Context, file string, progress func(n int64)) (r *slab.Repair, end func() error, err error) {
	im, err := openAt(ctx, file, true)
	if err != nil {
		return nil, nil, err
	}
	if r, err = slab.LookOver(ctx, im.m, im.m.Size(), progress); err != nil {
		return nil, nil, errors.Join(fmt.Errorf("looking at %s: %w", file, err), im.Close())
	}
	return r, im.Close, nil
}

// Clone copies the disk to another file, of so many bytes, or to one behind an address. What has something on it is not
// written over.
func (im *Image) Clone(ctx context.Context, file string, size int64, progress func(n int64)) (err error) {
	if on, err := OnIt(ctx, file); err != nil || len(on) > 0 {
		return errors.Join(err, fmt.Errorf("%s already has something in it, and was not changed", file))
	}
	if !Remote(file) {
		if err := makeFile(file, size); err != nil {
			return err
		}
	}
	to, err := openAt(ctx, file, true)
	if err != nil {
		return err
	}
	_, err = im.Disk.Clone(ctx, to.m, to.m.Size(), slab.Options{}, progress)
	return errors.Join(err, to.Close())
}
