package convert

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/core/title"
	"polytome/internal/format/cuesheet"
	"polytome/internal/format/sectors"
	"polytome/internal/format/wav"
	"polytome/internal/nearest"
	"polytome/internal/target"
)

// As is what tracks are made into.
type As string

// What tracks can be made into.
const (
	OneFile As = "one-file" // all tracks in one file, with its cue sheet
	Plain   As = "plain"    // the plain image in the data track
	Sound   As = "wav"      // every track in a file of its own, music as WAVE, with their cue sheet
	Raw     As = "raw"      // a plain image as a track of whole sectors, with its cue sheet
)

// Ways are all of them.
var Ways = []As{OneFile, Plain, Sound, Raw}

func waysWords() (out []string) {
	for _, w := range Ways {
		out = append(out, string(w))
	}
	return out
}

// sheetOf is a cue sheet with the files that it names, as they are beside it.
func sheetOf(file string) (sheet title.File, parts []title.Part, err error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return sheet, nil, &shape.SourceError{Path: file, Err: err}
	}
	s, err := cuesheet.Parse(string(text))
	if err != nil {
		return sheet, nil, &shape.SourceError{Path: file, Err: err}
	}
	if sheet, err = statOf(file); err != nil {
		return sheet, nil, err
	}
	var all []error
	for _, f := range s.Files {
		of, err := statOf(filepath.Join(filepath.Dir(file), filepath.FromSlash(f.Name)))
		all = append(all, err)
		parts = append(parts, title.Part{Name: f.Name, File: of})
	}
	return sheet, parts, errors.Join(all...)
}

func statOf(file string) (title.File, error) {
	info, err := os.Stat(file)
	if err != nil {
		return title.File{}, &shape.SourceError{Path: file, Err: err}
	}
	return title.File{Path: file, Size: info.Size(), Modified: info.ModTime()}, nil
}

// Tracks makes the tracks of a cue sheet, or a plain image, into something else, in a target. It returns the names of
// what was written.
func Tracks(ctx context.Context, file string, as As, to target.Target, emit Emit) (names []string, err error) {
	base := strings.TrimSuffix(filepath.Base(file), filepath.Ext(file))
	put := func(name string, c target.Content) error {
		_, err := Write(ctx, to, name, c, nil, emit)
		if err == nil {
			names = append(names, name)
		}
		return err
	}
	if as == Raw {
		c, err := open(file)
		if err != nil {
			return nil, err
		}
		defer c.Close()
		e, err := sectors.NewEncoder(c, c.Size())
		if err != nil {
			return nil, &shape.SourceError{Path: file, Err: err}
		}
		if err := put(base+".bin", encoded{e}); err != nil {
			return names, err
		}
		return names, put(base+".cue", shape.Bytes([]byte(cuesheet.One(base+".bin", "MODE1/2352"))))
	}
	sheet, parts, err := sheetOf(file)
	if err != nil {
		return nil, err
	}
	o := &source.Opener{}
	defer o.Close()
	made := func(name string, s shape.Spec) error {
		c, err := o.Make(ctx, &s)
		if err != nil {
			return err
		}
		defer c.Close()
		return put(name, c)
	}
	switch as {
	case Plain:
		return names, made(base+".iso", shape.PlainOf(sheet, parts))
	case OneFile:
		d, err := shape.OpenDisc(o, sheet, parts)
		if err != nil {
			return nil, err
		}
		one := shape.OneFileOf(sheet, parts)
		one.Size = d.Size()
		_ = d.Close()
		if err := made(base+".bin", one); err != nil {
			return names, err
		}
		return names, made(base+".cue", shape.OneSheet(sheet, parts, base+".bin"))
	case Sound:
		d, err := shape.OpenDisc(o, sheet, parts)
		if err != nil {
			return nil, err
		}
		defer d.Close()
		return apart(d, base, put, &names)
	}
	return nil, nearest.Unknown("conversion", string(as), waysWords())
}

// apart writes every track to a file of its own, and their sheet last.
func apart(d *shape.Disc, base string, put func(string, target.Content) error, names *[]string) ([]string, error) {
	var text strings.Builder
	for i, t := range d.Tracks() {
		name, kind := fmt.Sprintf("%s %02d.bin", base, t.Number), "BINARY"
		c := d.Track(i)
		if t.Mode == "AUDIO" {
			name, kind = fmt.Sprintf("%s %02d.wav", base, t.Number), "WAVE"
			head, err := wav.Header(c.Size())
			if err != nil {
				return *names, err
			}
			c = &headed{c, head}
		}
		if err := put(name, c); err != nil {
			return *names, err
		}
		fmt.Fprintf(&text, "FILE \"%s\" %s\n  TRACK %02d %s\n    INDEX 01 00:00:00\n", name, kind, t.Number, t.Mode)
	}
	return *names, put(base+".cue", shape.Bytes([]byte(text.String())))
}

// encoded is a track of whole sectors as content.
type encoded struct{ *sectors.Encoder }

func (e encoded) Close() error                      { return nil }
func (e encoded) Data(off int64) (start, end int64) { return min(off, e.Size()), e.Size() }

// headed is content with something in front.
type headed struct {
	target.Content
	head []byte
}

func (h *headed) Size() int64 { return int64(len(h.head)) + h.Content.Size() }

func (h *headed) ReadAt(b []byte, off int64) (n int, err error) {
	if off < int64(len(h.head)) {
		n = copy(b, h.head[off:])
	}
	k, err := h.Content.ReadAt(b[n:], off+int64(n)-int64(len(h.head)))
	return n + k, err
}

// Data is all of it.
func (h *headed) Data(off int64) (start, end int64) { return min(off, h.Size()), h.Size() }
