package shape

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	"polytome/internal/core/title"
	"polytome/internal/format/cuesheet"
	"polytome/internal/format/joined"
	"polytome/internal/format/sectors"
	"polytome/internal/format/wav"
	"polytome/internal/target"
)

// oneFile is the tracks of a disc one after another in one file.
var oneFile = Kind{
	Name: OneFile, Word: "one file", From: title.Tracks,
	Rule:     "the tracks of a disc are joined into one file",
	Reported: "joined as %s says",
	Says:     func(l, _ string) string { return l + " needs the tracks of a disc in one file" },
	Open: func(_ context.Context, w SourceOpener, s *Spec) (target.Content, error) {
		d, err := openSheet(w, s)
		if err != nil {
			return nil, err
		}
		for _, t := range d.spans {
			if t.SectorBytes() != cuesheet.RawSector {
				_ = d.Close()
				return nil, &SourceError{s.Source.Called(),
					fmt.Errorf("track %d has sectors of %d bytes: only tracks with full sectors (%d) can be joined",
						t.Number, t.SectorBytes(), cuesheet.RawSector)}
			}
		}
		return window(d, s)
	},
}

// plain is what is in the data track of a disc, as a plain image.
var plain = Kind{
	Name: Plain, Word: "plain", From: title.Tracks,
	Rule:     "the data track of a disc becomes a plain image",
	Reported: "taken out of the data track of %s",
	Says:     func(l, _ string) string { return l + " needs the plain image in the disc's data track" },
	Open: func(_ context.Context, w SourceOpener, s *Spec) (target.Content, error) {
		d, err := openSheet(w, s)
		if err != nil {
			return nil, err
		}
		for _, t := range d.spans {
			n, offset, ok := t.Data()
			if !ok {
				continue
			}
			r := sectors.New(d.files[t.File], t.At+t.Length, n, offset, t.At/n)
			c := &full{r, r.Size(), d.Close}
			if s.Offset > 0 || s.Size < c.size && !s.AtMost {
				return window(c, s)
			}
			return c, nil
		}
		_ = d.Close()
		return nil, &SourceError{s.Source.Called(), errors.New("it is an audio disc without a data track")}
	},
}

// OneFileOf is the one file of all tracks of a disc.
func OneFileOf(f title.File, parts []title.Part) Spec {
	s := Spec{Shape: OneFile, Source: f, With: &With{Parts: parts}}
	for i := range parts {
		s.Size += parts[i].File.Size
		s.AtMost = s.AtMost || waveNamed(parts[i].Name)
	}
	return s
}

// waveNamed reports whether a file has a header in front of its sound, as its name tells.
func waveNamed(name string) bool { return strings.EqualFold(path.Ext(name), ".wav") }

// PlainOf is the plain image in a disc's data track, which is in the first of its files as a rule. The size is the
// most that it can have: where the track ends stands in the sheet.
func PlainOf(f title.File, parts []title.Part) Spec {
	s := Spec{Shape: Plain, Source: f, AtMost: true, With: &With{Parts: parts}}
	for i := range parts {
		s.Size = max(s.Size, parts[i].File.Size)
	}
	return s
}

// A Disc is the files of a cue sheet as one run of bytes, without the headers of WAVE files.
type Disc struct {
	*joined.Contents
	files []joined.Content
	spans []cuesheet.Span
}

// OpenDisc opens the files of a cue sheet, which are its parts in their order.
func OpenDisc(w SourceOpener, sheet title.File, parts []title.Part) (*Disc, error) {
	return openSheet(w, &Spec{Source: sheet, With: &With{Parts: parts}})
}

// Tracks are the tracks of the disc, in order.
func (d *Disc) Tracks() []cuesheet.Span { return d.spans }

// Track is the bytes of one track, from its index 1 on.
func (d *Disc) Track(n int) target.Content {
	t := d.spans[n]
	return &part{d.files[t.File].(target.Content), t.At, t.Length}
}

// openSheet opens the files that the sheet of a spec tells, which are its parts.
func openSheet(w SourceOpener, s *Spec) (*Disc, error) {
	text, err := readText(w, &s.Source)
	if err != nil {
		return nil, err
	}
	d, err := openDisc(w, text, s.With.Parts)
	var se *SourceError
	if err != nil && !errors.As(err, &se) {
		err = &SourceError{s.Source.Called(), err}
	}
	return d, err
}

func openDisc(w SourceOpener, text string, parts []title.Part) (*Disc, error) {
	sheet, err := cuesheet.Parse(text)
	if err != nil {
		return nil, err
	}
	if len(sheet.Files) != len(parts) {
		return nil, fmt.Errorf("the cue sheet names %d files, but %d belong to it", len(sheet.Files), len(parts))
	}
	d := &Disc{}
	failed := func(err error) (*Disc, error) {
		_ = joined.Of(d.files...).Close()
		return nil, err
	}
	for i := range parts {
		c, err := w.Open(&parts[i].File)
		if err != nil {
			return failed(err)
		}
		d.files = append(d.files, c)
		if sheet.Files[i].Type == "WAVE" {
			at, length, err := wav.Sound(c, c.Size())
			if err != nil {
				return failed(&SourceError{parts[i].File.Called(), err})
			}
			d.files[i] = &part{c, at, length}
		}
	}
	if d.spans, err = sheet.Spans(d.sizes()); err != nil {
		return failed(err)
	}
	d.Contents = joined.Of(d.files...)
	return d, nil
}

func (d *Disc) sizes() (out []int64) {
	for _, f := range d.files {
		out = append(out, f.Size())
	}
	return out
}
