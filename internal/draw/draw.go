// Package draw makes drawings for paper out of what the core knows: the rack of all targets, the map of a volume,
// trees, how everything is joined, cards of contents, charts of runs, the fit sheet and checklists. Each kind is plain
// data that is gathered first, and a method that draws it; what is drawn is a scene, which packages svg and pdf write
// down.
package draw

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"polytome/internal/draw/pdf"
	"polytome/internal/draw/scene"
	"polytome/internal/draw/svg"
	"polytome/internal/nearest"
	"polytome/internal/wholefile"
)

// A Kind is what is drawn.
type Kind string

const (
	KindRack        Kind = "rack"
	KindMap         Kind = "map"
	KindTree        Kind = "tree"
	KindConnections Kind = "connections"
	KindCard        Kind = "card"
	KindRun         Kind = "run"
	KindFit         Kind = "fit"
	KindChecklist   Kind = "checklist"
)

// Kinds are all of them.
var Kinds = []Kind{KindRack, KindMap, KindTree, KindConnections, KindCard, KindRun, KindFit, KindChecklist}

var kindWords = map[Kind]string{KindRack: "the rack", KindMap: "the map of the volume", KindTree: "the tree",
	KindConnections: "the connections", KindCard: "the contents card",
	KindRun: "the chart of the run", KindFit: "the fit sheet", KindChecklist: "the checklist"}

// Words are what is drawn, in a sentence.
func (k Kind) Words() string { return kindWords[k] }

// An UnknownKindError reports an unknown kind of drawing.
type UnknownKindError struct{ Name string }

func (e *UnknownKindError) Error() string {
	var names []string
	for _, k := range Kinds {
		names = append(names, string(k))
	}
	return nearest.Unknown("drawing", e.Name, names).Error()
}

// KindNamed finds a kind by its name. The error is an *[UnknownKindError].
func KindNamed(name string) (Kind, error) {
	for _, k := range Kinds {
		if strings.EqualFold(string(k), strings.TrimSpace(name)) {
			return k, nil
		}
	}
	return "", &UnknownKindError{name}
}

// Options are how something is drawn.
type Options struct {
	Paper scene.Paper // the zero value is A4
	Date  time.Time   // that the drawing bears
	Bench string      // its name, "" for none
}

func (o Options) paper() scene.Paper {
	if o.Paper == (scene.Paper{}) {
		return scene.Papers[0]
	}
	return o.Paper
}

// sub is a line below a title: the bench, and what else there is to say.
func (o Options) sub(more ...string) string {
	var parts []string
	if o.Bench != "" {
		parts = append(parts, o.Bench)
	}
	for _, m := range more {
		if m != "" {
			parts = append(parts, m)
		}
	}
	return strings.Join(parts, " · ")
}

// A Subject is something that can be drawn.
type Subject interface {
	Draw(o Options) *scene.Drawing
}

// formats are the files that drawings are written to, by how their names end.
var formats = map[string]func(io.Writer, *scene.Drawing) error{".svg": svg.Write, ".pdf": pdf.Write}

// Formats are how the names of files of drawings end.
var Formats = []string{".pdf", ".svg"}

// An UnknownFormatError reports a file that is neither .pdf nor .svg.
type UnknownFormatError struct{ File string }

func (e *UnknownFormatError) Error() string {
	return fmt.Sprintf("%s: a drawing must be a .pdf or .svg file", e.File)
}

// Check says why a file cannot take a drawing, before one is made: its name, or its folder. The error may be an
// *[UnknownFormatError].
func Check(file string) error {
	if formats[strings.ToLower(filepath.Ext(file))] == nil {
		return &UnknownFormatError{file}
	}
	if info, err := os.Stat(file); err == nil && info.IsDir() {
		return fmt.Errorf("%s is a folder; name a file in it", file)
	}
	dir := filepath.Dir(file)
	info, err := os.Stat(dir)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return fmt.Errorf("the folder %s does not exist; create it first, or choose another one", dir)
	case err != nil:
		return fmt.Errorf("the drawing %s cannot be written: %w", file, err)
	case !info.IsDir():
		return fmt.Errorf("%s is not a folder, so %s cannot be in it", dir, filepath.Base(file))
	}
	return nil
}

// Save writes a drawing to a file, whose extension says how. The file appears whole or not at all; one that is there is
// replaced.
func Save(file string, d *scene.Drawing) error {
	if err := Check(file); err != nil {
		return err
	}
	var b bytes.Buffer
	err := Write(&b, filepath.Ext(file), d)
	if err == nil {
		err = wholefile.Write(file, b.Bytes(), 0o644)
	}
	if err != nil {
		return fmt.Errorf("the drawing %s cannot be written: %w", file, err)
	}
	return nil
}

// Write writes a drawing in the format of an extension, one of [Formats].
func Write(to io.Writer, ext string, d *scene.Drawing) error {
	write := formats[strings.ToLower(ext)]
	if write == nil {
		return &UnknownFormatError{ext}
	}
	return write(to, d)
}
