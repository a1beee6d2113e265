package convert

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"strings"

	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/format/container"
	"polytome/internal/format/packed"
	"polytome/internal/format/sectors"
)

// Checked is what was read of a file, and what was wrong in it.
type Checked struct {
	What     string   `json:"what"`  // what it is
	Bytes    int64    `json:"bytes"` // that were read
	Files    int      `json:"files,omitempty"`
	Problems []string `json:"problems,omitempty"`
	// Unchecked is what nothing in the file would tell.
	Unchecked string `json:"unchecked,omitempty"`
}

func (c *Checked) wrong(format string, args ...any) {
	c.Problems = append(c.Problems, fmt.Sprintf(format, args...))
}

// Check reads the whole of a file that holds others, and looks whether it is sound: a packed image, a list of parts, a
// cue sheet, raw sectors, an image, an archive.
func Check(ctx context.Context, file string, o container.Options, emit Emit) (*Checked, error) {
	c := &Checked{}
	switch strings.ToLower(filepath.Ext(file)) {
	case ".toml":
		return c, c.manifest(ctx, file, emit)
	case ".cue":
		return c, c.sheet(ctx, file, emit)
	}
	f, err := open(file)
	if err != nil {
		return nil, err
	}
	sector, _, raw := sectors.Detect(f, f.Size())
	_ = f.Close()
	if err := c.packed(ctx, file, emit); !errors.Is(err, packed.ErrNotPacked) {
		return c, err
	}
	if raw && sector == sectors.Raw {
		if err := c.raw(ctx, file, emit); err != nil {
			return c, err
		}
	}
	return c, c.container(ctx, file, o, emit)
}

func (c *Checked) manifest(ctx context.Context, file string, emit Emit) error {
	c.What = "a file in parts"
	m, err := ReadManifest(file)
	if err != nil {
		return err
	}
	p, err := m.Open()
	if err != nil {
		c.wrong("%v", err)
		return nil
	}
	defer p.Close()
	c.Bytes, c.Files = p.Size(), len(m.Parts)
	if err := p.check(ctx, nowhere{}, emit); err != nil {
		if ctx.Err() != nil {
			return err
		}
		c.wrong("%v", err)
	}
	return nil
}

func (c *Checked) packed(ctx context.Context, file string, emit Emit) error {
	im, err := packed.OpenFile(file)
	if errors.Is(err, packed.ErrNotPacked) {
		return err
	}
	c.What = "a packed image"
	if err != nil {
		var damage *packed.FormatError
		if errors.As(err, &damage) {
			c.wrong("%v", err)
			return nil
		}
		return &shape.SourceError{Path: file, Err: err}
	}
	defer im.Close()
	c.Files = len(im.Names)
	err = im.Check(ctx, func(n int64) {
		c.Bytes += n
		if emit != nil {
			emit(c.Bytes, im.Size())
		}
	}, func(e *packed.BlockError) { c.wrong("%v", e) })
	if err != nil && ctx.Err() == nil {
		c.wrong("%v", err)
		err = nil
	}
	return err
}

func (c *Checked) sheet(ctx context.Context, file string, emit Emit) error {
	c.What = "a disc in tracks"
	sheet, parts, err := sheetOf(file)
	if err != nil {
		c.wrong("%v", err)
		return nil
	}
	o := &source.Opener{}
	defer o.Close()
	d, err := shape.OpenDisc(o, sheet, parts)
	if err != nil {
		c.wrong("%v", err)
		return nil
	}
	defer d.Close()
	c.Files = len(parts)
	for i, t := range d.Tracks() {
		if t.Mode != "MODE1/2352" {
			c.Unchecked = "audio tracks, and sectors without error codes, cannot be verified"
			continue
		}
		if err := c.sectors(ctx, d.Track(i), t.Length, fmt.Sprintf("track %d, ", t.Number), emit); err != nil {
			return err
		}
	}
	return nil
}

func (c *Checked) raw(ctx context.Context, file string, emit Emit) error {
	f, err := open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	b := make([]byte, sectors.Raw)
	if n, _ := f.ReadAt(b, 0); n < len(b) || b[15] != 1 {
		c.Unchecked = "only mode 1 sectors have error codes that are verified"
		return nil
	}
	return c.sectors(ctx, f, f.Size(), "", emit)
}

// mostReported is how many bad sectors or files are reported one by one.
const mostReported = 20

// sectors looks at the error detection code of every sector.
func (c *Checked) sectors(ctx context.Context, r io.ReaderAt, size int64, where string, emit Emit) error {
	b := make([]byte, 400*sectors.Raw)
	bad := 0
	for at := int64(0); at < size; {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		n := min(int64(len(b)), size-at)
		if k, err := r.ReadAt(b[:n], at); int64(k) < n {
			return errors.Join(err, io.ErrUnexpectedEOF)
		}
		for i := int64(0); i+sectors.Raw <= n; i += sectors.Raw {
			if err := sectors.Check(b[i : i+sectors.Raw]); err != nil {
				if bad++; bad <= mostReported {
					c.wrong("%ssector %d is damaged: %v", where, (at+i)/sectors.Raw, err)
				}
			}
		}
		at += n
		c.Bytes += n
		if emit != nil {
			emit(at, size)
		}
	}
	if bad > mostReported {
		c.wrong("%sand %d more sectors are damaged", where, bad-mostReported)
	}
	if r := size % sectors.Raw; r != 0 {
		c.wrong("%sthe last sector is cut short", where)
	}
	return nil
}

// container reads all files of an image or archive.
func (c *Checked) container(ctx context.Context, file string, o container.Options, emit Emit) error {
	in, err := container.Open(file, o)
	if err != nil {
		if container.Damaged(err) {
			c.wrong("%v", err)
			return nil
		}
		return &shape.SourceError{Path: file, Err: err}
	}
	defer in.Close()
	c.What = strings.TrimPrefix(in.Kind, ".")
	if in.Damage != nil {
		c.wrong("%v", in.Damage)
	}
	var total int64
	_ = fs.WalkDir(in, ".", func(_ string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			if info, err := d.Info(); err == nil {
				total += info.Size()
			}
		}
		return nil
	})
	if in.Label != "" && c.Unchecked == "" {
		c.Unchecked = "an image has no checksums: everything is readable, but changes cannot be detected"
	}
	b := make([]byte, 1<<20)
	var done int64
	err = fs.WalkDir(in, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			c.wrong("%s: %v", name, err)
			return nil
		}
		if d.IsDir() {
			return nil
		}
		c.Files++
		f, err := in.Open(name)
		if err != nil {
			c.wrong("%s: %v", name, err)
			return nil
		}
		defer f.Close()
		for {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			n, err := f.Read(b)
			done += int64(n)
			if emit != nil {
				emit(done, total)
			}
			if errors.Is(err, io.EOF) {
				return nil
			}
			if err != nil {
				c.wrong("%s: %v", name, err)
				return nil
			}
		}
	})
	c.Bytes += done
	return err
}
