package shape

import (
	"context"
	"fmt"
	"io"

	"polytome/internal/core/title"
	"polytome/internal/format/cuesheet"
	"polytome/internal/target"
)

// sheet is a cue sheet in which files are named as they are named on the target. Or it is one for a single file
// in which all tracks are, when parts are given.
var sheet = Kind{
	Name: Sheet, Word: "rewrite",
	Reported: "rewritten from %s",
	Says: func(l, _ string) string {
		return l + " needs other names for the tracks, so the cue sheet is changed too"
	},
	Open: func(_ context.Context, w SourceOpener, s *Spec) (target.Content, error) {
		text, err := readText(w, &s.Source)
		if err != nil {
			return nil, err
		}
		if len(s.With.Parts) == 0 {
			names := map[string]string{}
			for _, n := range s.With.Names {
				names[n.From] = n.To
			}
			return Bytes([]byte(cuesheet.Rename(text, names))), nil
		}
		d, err := openDisc(w, text, s.With.Parts)
		if err != nil {
			return nil, &SourceError{s.Source.Called(), err}
		}
		defer d.Close()
		merged, err := cuesheet.Merge(text, d.sizes(), s.With.Names[0].To)
		if err != nil {
			return nil, &SourceError{s.Source.Called(), err}
		}
		return Bytes([]byte(merged)), nil
	},
}

// quotes are what a name gets that had none, and index what the times of an index may grow by.
const quotes = 2

// SheetOf is a cue sheet whose files get other names. Its size is the most that it can be: names without quotes
// get some.
func SheetOf(f title.File, names []Renamed) Spec {
	size := f.Size
	for _, n := range names {
		size += int64(max(0, len(n.To)-len(n.From))) + quotes
	}
	return Spec{Shape: Sheet, Source: f, Size: size, AtMost: true, With: &With{Names: names}}
}

// OneSheet is the cue sheet of several files for a single one.
func OneSheet(f title.File, parts []title.Part, name string) Spec {
	return Spec{Shape: Sheet, Source: f, Size: f.Size + int64(len(name)) + quotes + 128, AtMost: true,
		With: &With{Parts: parts, Names: []Renamed{{parts[0].Name, name}}}}
}

func readText(w SourceOpener, f *title.File) (string, error) {
	if f.Size > cuesheet.MaxBytes {
		return "", &SourceError{f.Called(), fmt.Errorf("with %d bytes it is too long for a cue sheet", f.Size)}
	}
	c, err := w.Open(f)
	if err != nil {
		return "", err
	}
	defer c.Close()
	b, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
	return string(b), err
}
