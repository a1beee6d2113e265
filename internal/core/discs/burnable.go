package discs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/core/title"
	"polytome/internal/format/iso9660"
)

// A Burnable is what can be burnt: the bytes of an image, at any offset.
type Burnable struct {
	io.ReaderAt
	Size  int64
	Title *title.Title // nil where nobody knows it
	Disc  int          // its index in the title
	Built bool         // it is built out of a folder
	close func() error
}

// Close lets go of it.
func (b *Burnable) Close() error { return b.close() }

// A BadImageError reports an image that would be no game on a disc.
type BadImageError struct{ Say, Remedy string }

func (e *BadImageError) Error() string {
	if e.Remedy == "" {
		return "the image is bad: " + e.Say
	}
	return fmt.Sprintf("the image is bad: %s; %s", e.Say, e.Remedy)
}

// ToBurn opens what a path names: an image, a title in any form that holds one track of data, or a folder, which is
// built into an image on the way, with a label. A bad image is a [*BadImageError]; it can be opened all the same where
// that is wanted.
func ToBurn(ctx context.Context, file, label string, set *loader.Set, badToo bool) (*Burnable, error) {
	info, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		return build(file, label)
	}
	if info.Size() == 0 {
		return nil, &BadImageError{Say: "it is empty"}
	}
	t, err := scan.One(file, set)
	if err != nil && !badToo {
		return nil, &BadImageError{Say: err.Error()}
	}
	if t == nil || err != nil {
		t = &title.Title{Discs: []title.Disc{{File: title.File{Path: file, Size: info.Size(),
			Modified: info.ModTime()}}}}
	}
	b, err := OfTitle(ctx, t, 0, badToo)
	if err != nil {
		return nil, err
	}
	if t.Platform == "" {
		b.Title = nil
	}
	return b, nil
}

// OfTitle opens a disc of a title.
func OfTitle(ctx context.Context, t *title.Title, disc int, badToo bool) (*Burnable, error) {
	for _, f := range t.Findings {
		if f.Grade == title.Fault && !badToo {
			return nil, &BadImageError{f.Say, f.Remedy}
		}
	}
	d := &t.Discs[disc]
	from, parts := d.File, d.Parts
	if t.Archive != "" {
		if len(parts) == 0 {
			return nil, fmt.Errorf("what is in %s cannot be had: unpack it first", from.Path)
		}
		from, parts = parts[0].File, parts[1:]
	}
	spec := shape.Spec{Source: from, Size: from.Size}
	switch {
	case t.Form == title.Tracks:
		if err := oneTrack(from, parts); err != nil {
			return nil, err
		}
		spec = shape.PlainOf(from, parts)
	case t.Form != "" && t.Form != title.Image:
		return nil, errors.New("it is no image of a disc")
	case t.Archive != "":
		spec.Shape = shape.Unpack
	}
	o := &source.Opener{}
	c, err := o.Make(ctx, &spec)
	if err != nil {
		return nil, errors.Join(err, o.Close())
	}
	return &Burnable{ReaderAt: c, Size: c.Size(), Title: t, Disc: disc, close: func() error {
		return errors.Join(c.Close(),
			o.Close())
	}}, nil
}

// oneTrack reports an error for a cue sheet of more than one track.
func oneTrack(file title.File, parts []title.Part) error {
	o := &source.Opener{}
	defer o.Close()
	sheet, err := shape.OpenDisc(o, file, parts)
	if err != nil {
		return err
	}
	defer sheet.Close()
	if n := len(sheet.Tracks()); n != 1 {
		return fmt.Errorf("it has %d tracks, and only discs of one track of data are burnt", n)
	}
	return nil
}

// build makes an image of a folder while it is read.
func build(dir, label string) (*Burnable, error) {
	if label == "" {
		full, err := filepath.Abs(dir)
		if err != nil {
			return nil, err
		}
		label = strings.ToUpper(filepath.Base(full))
	}
	if len(label) > 32 {
		label = label[:32]
	}
	im, err := iso9660.Lay(os.DirFS(dir), iso9660.Options{VolumeID: label, Joliet: true, RockRidge: true})
	if err != nil {
		return nil, fmt.Errorf("building an image of %s: %w", dir, err)
	}
	r := im.Reader()
	return &Burnable{ReaderAt: r, Size: im.Size(), Built: true, close: r.Close}, nil
}

// Label is what to write on a burnt disc: ID, name, and which of several it is.
func (b *Burnable) Label(otherwise string) string {
	t := b.Title
	if t == nil {
		return otherwise
	}
	words := []string{}
	for _, w := range []string{t.ID, t.Name, t.Region} {
		if w != "" {
			words = append(words, w)
		}
	}
	if n := t.Discs[b.Disc].Number; t.Of > 1 {
		words = append(words, fmt.Sprintf("disc %d of %d", n, t.Of))
	}
	return strings.Join(words, " · ")
}
