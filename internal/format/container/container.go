package container

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"polytome/internal/format/archive"
	"polytome/internal/format/cuesheet"
	"polytome/internal/format/iso9660"
	"polytome/internal/format/packed"
	"polytome/internal/format/sectors"
	"polytome/internal/sparse"
)

// ErrUnknownFormat reports a file that is none of the formats read here.
var ErrUnknownFormat = errors.New("not a disc image, cue sheet or archive that Polytome reads")

// A Container is an opened file that holds others.
type Container struct {
	fs.FS
	Kind   string // "ISO 9660", "UDF", or the extension of an archive's kind
	Label  string // the volume identifier of an image
	Damage error  // why the list may not be whole
	// Unsafe are names in an archive that lead out of it. They are in no tree.
	Unsafe []string
	// Renamed are files in an archive that are named otherwise in its tree.
	Renamed []archive.Renamed

	close []func() error
}

// Options are how a container is opened.
type Options struct {
	Passwords []string
	Allow     bool   // also archives that are suspiciously large inside
	UDF       bool   // the UDF side of a bridge image
	In        string // a container inside: its path, or several with "//" between
}

// Open opens the named file.
func Open(name string, o Options) (*Container, error) {
	c := &Container{}
	err := c.open(name, o)
	if err == nil && o.In != "" {
		for inner := range strings.SplitSeq(o.In, "//") {
			if err = c.enter(inner, o); err != nil {
				err = fmt.Errorf("%s: %w", inner, err)
				break
			}
		}
	}
	if err != nil {
		_ = c.Close()
		return nil, err
	}
	return c, nil
}

// Close closes the container's files.
func (c *Container) Close() error {
	var all []error
	for i := len(c.close) - 1; i >= 0; i-- {
		all = append(all, c.close[i]())
	}
	return errors.Join(all...)
}

func (c *Container) open(name string, o Options) error {
	info, err := os.Stat(name)
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		return errors.New("it is not a file")
	}
	a, err := archive.Open(name, archive.Options{Passwords: o.Passwords, Allow: o.Allow})
	if err == nil {
		c.FS, c.Kind, c.Damage, c.Unsafe, c.Renamed = a, a.Kind, a.Damage, a.Unsafe, a.Renamed
		c.close = append(c.close, a.Close)
		return nil
	}
	if !errors.Is(err, archive.ErrNotArchive) {
		return err
	}
	p, err := packed.OpenFile(name)
	if err == nil {
		c.close = append(c.close, p.Close)
		return c.image(p, p.Size(), o)
	}
	if !errors.Is(err, packed.ErrNotPacked) {
		return err
	}
	f, err := sparse.Open(name)
	if err != nil {
		return err
	}
	c.close = append(c.close, f.Close)
	if strings.EqualFold(filepath.Ext(name), ".cue") {
		return c.sheet(os.DirFS(filepath.Dir(name)), filepath.Base(name), f, info.Size())
	}
	return c.image(f, info.Size(), o)
}

// enter resumes a file of the container as the container.
func (c *Container) enter(name string, o Options) error {
	f, err := c.FS.Open(name)
	if err != nil {
		return err
	}
	c.close = append(c.close, f.Close)
	info, err := f.Stat()
	if err != nil {
		return err
	}
	r, ok := f.(io.ReaderAt)
	if !ok || info.IsDir() {
		return errors.New("it is not a file")
	}
	if strings.EqualFold(filepath.Ext(name), ".cue") {
		return c.sheet(c.FS, name, r, info.Size())
	}
	return c.image(r, info.Size(), o)
}

func (c *Container) image(r io.ReaderAt, size int64, o Options) error {
	if p, err := packed.Open(r, size); err == nil { // inside of another one
		c.close = append(c.close, p.Close)
		r, size = p, p.Size()
	}
	im, err := OpenImage(r, size)
	if err != nil {
		return err
	}
	for i, v := range im.Volumes {
		if i == 0 || o.UDF && v.Kind == "UDF" {
			c.FS, c.Kind, c.Label = v, v.Kind, v.Identifier
			if v.Declared > im.Size {
				c.Damage = fmt.Errorf("the image is cut short: its volume has %d bytes, and the file only %d",
					v.Declared, im.Size)
			}
		}
	}
	if c.Kind == "" || o.UDF && c.Kind != "UDF" {
		if o.UDF && c.Kind != "" {
			return errors.New("it has no UDF volume")
		}
		return ErrUnknownFormat
	}
	return nil
}

// sheet opens the volume in the first data track of a cue sheet.
func (c *Container) sheet(fsys fs.FS, name string, r io.ReaderAt, size int64) error {
	if size > cuesheet.MaxBytes {
		return errors.New("it is too long for a cue sheet")
	}
	text := make([]byte, size)
	if n, err := r.ReadAt(text, 0); n < len(text) {
		return err
	}
	s, err := cuesheet.Parse(string(text))
	if err != nil {
		return err
	}
	at, track, ok := s.FirstData()
	if !ok {
		return errors.New("it is an audio disc without a data track")
	}
	dir := ""
	if i := strings.LastIndexByte(name, '/'); i >= 0 {
		dir = name[:i+1]
	}
	data, err := fsys.Open(dir + s.Files[at].Name)
	if err != nil {
		return err
	}
	c.close = append(c.close, data.Close)
	info, err := data.Stat()
	if err != nil {
		return err
	}
	ra, ok := data.(io.ReaderAt)
	if !ok {
		return errors.New("its track file is no file")
	}
	sector, offset, _ := track.Data()
	raw := sectors.New(ra, info.Size(), sector, offset, int64(track.Start))
	v, err := iso9660.Open(raw, raw.Size())
	if err != nil {
		return err
	}
	c.FS, c.Kind, c.Label = v, "ISO 9660", v.Identifier
	return nil
}
