// Package shape knows the shapes that a title's files can go over in: as they are, in parts, unpacked,
// as a packed image and so on. For each it says what it is named, from what it is made, how
// large it gets, what it costs, and how its bytes come about. Nothing is unpacked to a disk on the way: a shape is
// a stream between a source and a target.
//
// A shape is one file here, and its line in [All]. Profiles then know it by its name.
package shape

import (
	"context"
	"path"
	"strings"
	"time"

	"polytome/internal/core/title"
	"polytome/internal/format/dump"
	"polytome/internal/format/picture"
	"polytome/internal/target"
)

// Name names a shape: in profiles, plans and on the screen.
type Name string

// The shapes. The empty one leaves files as they are.
const (
	Whole   Name = ""         // as it is
	Split   Name = "split"    // one part of several
	Unpack  Name = "unpack"   // what is in an archive or package
	Extract Name = "extract"  // what is in an image
	Pack    Name = "pack"     // a packed image
	Build   Name = "build"    // an image made of a folder
	OneFile Name = "one-file" // all tracks of a disc in one file
	Plain   Name = "plain"    // the plain image in the raw sectors of a disc's data track
	Sheet   Name = "sheet"    // a cue sheet or playlist with the names that its files get
	Written Name = "written"  // made from a template
	Fitted  Name = "fitted"   // a picture brought to size
	Set     Name = "set"      // a text with some values set in it

	Joined   Name = "joined"   // several files in one, with what stands before, between and behind them
	Patched  Name = "patched"  // a copy of a file of the target, with some bytes set in it
	Straight Name = "straight" // the game in a dump, without a copier's header and with its bytes in order
)

// A Spec is all that is needed to make the bytes of one file. It is plain data.
type Spec struct {
	Shape  Name       `json:"shape,omitempty"`
	Source title.File `json:"source,omitzero"`  // where the bytes come from
	Offset int64      `json:"offset,omitempty"` // of a part in what is cut
	Size   int64      `json:"size"`             // in bytes, on the target
	// AtMost is set where the size is the most that it can be.
	AtMost bool     `json:"at-most,omitempty"`
	Text   Text     `json:"text,omitempty"` // of a file that has no source
	Sums   []Summed `json:"sums,omitempty"` // what is still to be filled into the text
	With   *With    `json:"with,omitempty"`
}

// With is what only some shapes need.
type With struct {
	// Parts are the files that one is made of: of a folder, by their names in it; or tracks.
	Parts []title.Part `json:"parts,omitempty"`
	// Names are those that change in a sheet.
	Names []Renamed `json:"names,omitempty"`
	// Picture is how a picture is brought to size.
	Picture *picture.Rule `json:"picture,omitempty"`
	// Compress lets a packed image be compressed.
	Compress bool `json:"compress,omitempty"`
	// Used is where the disc itself says which of its sectors it uses.
	Used title.Used `json:"used,omitzero"`
	// Placed is set where the source is a file of the target itself, by its path there.
	Placed bool `json:"placed,omitempty"`
	// Elsewhere is set where it is a file of another target, by its path there.
	Elsewhere bool `json:"elsewhere,omitempty"`
	// Values are those that are set in a text.
	Values []Value `json:"values,omitempty"`
	// Label is the volume identifier of an image that is made, and UDF whether it has that filesystem too.
	Label string `json:"label,omitempty"`
	UDF   bool   `json:"udf,omitempty"`
	// Block is what a joined file is made of.
	Block *Block `json:"block,omitempty"`
	// Patches are bytes that are set in a copy.
	Patches []Patch `json:"patches,omitempty"`
	// Dump is how the source holds the game.
	Dump dump.Layout `json:"dump,omitzero"`
	// Dated is the date that the file gets; the zero time for that of what it is taken out of, or of now.
	Dated time.Time `json:"dated,omitzero"`
}

// A Value is one that is set in a text; see [settings.Set].
type Value struct {
	Syntax  string `json:"syntax,omitempty"`
	Section string `json:"section,omitempty"`
	Key     string `json:"key"`
	Value   string `json:"value"`
}

// OnTarget reports whether the source is a file of the target that is written to.
func (s *Spec) OnTarget() bool { return s.With != nil && s.With.Placed }

// Reads are the files of this computer that are read.
func (s *Spec) Reads() (paths []string) {
	if s.OnTarget() {
		return nil
	}
	if s.Source.Path != "" {
		paths = append(paths, s.Source.Path)
	}
	if s.With != nil {
		for i := range s.With.Parts {
			if p := s.With.Parts[i].File.Path; p != "" && p != s.Source.Path {
				paths = append(paths, p)
			}
		}
	}
	for i := range s.Sums {
		if p := s.Sums[i].Source.Path; p != "" && p != s.Source.Path {
			paths = append(paths, p)
		}
	}
	return paths
}

// A Summed is a target in a text where the CRC-32 of some bytes stands, as eight hexadecimal
// digits. It is known only when they are read.
type Summed struct {
	At     int        `json:"at"` // in bytes
	Source title.File `json:"source"`
	Offset int64      `json:"offset,omitempty"` // of the bytes in their source
	Size   int64      `json:"size"`
}

// A Renamed is a file that is named otherwise on the target.
type Renamed struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// From where hands out what sources hold.
type SourceOpener interface {
	// Open opens a file of this computer, or what is in an archive or image.
	Open(f *title.File) (target.Content, error)
	// Placed opens a file of the target that is written to.
	Placed(ctx context.Context, path string) (target.Content, error)
	// Ongoing is what a shape keeps between the files that it makes of one source, such as the parts
	// of a stream; nil at first. It is closed when another source's turn comes.
	Ongoing() *Ongoing
}

// An Ongoing is something that goes on from one file to the next.
type Ongoing struct {
	Of    string // what it belongs to
	Value interface{ Close() error }
}

// Take returns what goes on under a name; what went on under another one is closed, and begun is
// called.
func (o *Ongoing) Take(of string, begin func() (interface{ Close() error }, error)) (interface{ Close() error },
	error) {
	if o.Value != nil && o.Of == of {
		return o.Value, nil
	}
	o.Drop()
	v, err := begin()
	if err == nil {
		o.Of, o.Value = of, v
	}
	return v, err
}

// Drop closes what goes on.
func (o *Ongoing) Drop() {
	if o.Value != nil {
		_ = o.Value.Close()
	}
	o.Of, o.Value = "", nil
}

// A Kind is what is known of a shape.
type Kind struct {
	Name Name
	// Word is the shape in the cell of a verdict, and in a step.
	Word string
	// From is the form whose titles a profile can want in the shape, by naming it in the key of the
	// same name; "" for shapes that come about otherwise.
	From title.Form
	// Rate is how many bytes of its source one processor shapes in a second; nil, or 0, where that costs no more than
	// copying. Workers are how many processors it uses at most; 0 for all.
	Rate    func(s *Spec) int64
	Workers int
	// Rule is the shape as a rule of a loader, in words.
	Rule string
	// Reported is what becomes of a file on its way, with %s for its source.
	Reported string
	// Says tells in a sentence what becomes of a title of the form; the loader's name is given.
	Says func(loader, form string) string
	// Open makes the bytes.
	Open func(ctx context.Context, w SourceOpener, s *Spec) (target.Content, error)
}

// All are all shapes.
var All = []*Kind{&whole, &split, &unpack, &extract, &pack, &build, &oneFile, &plain, &sheet, &written, &fitted, &set,
	&straight, &patched, &block}

// Of is what is known of a shape; nil for one that there is not.
func Of(n Name) *Kind {
	for _, k := range All {
		if k.Name == n {
			return k
		}
	}
	return nil
}

// From are the names of the shapes in which a profile can want titles of a form.
func From(f title.Form) (out []string) {
	for _, k := range All {
		if k.From == f {
			out = append(out, string(k.Name))
		}
	}
	return out
}

// Cost is how many seconds of shaping the bytes of a spec take with so many processors, beside copying.
func (s *Spec) Cost(processors int) float64 {
	k := Of(s.Shape)
	if k == nil || k.Rate == nil {
		return 0
	}
	rate := k.Rate(s)
	if rate == 0 {
		return 0
	}
	if k.Workers > 0 {
		processors = min(processors, k.Workers)
	}
	return float64(s.Size) / float64(rate*int64(max(1, processors)))
}

// Tell says what becomes of a file on its way; "" where it is left as it is.
func (s *Spec) Emit() string {
	k := Of(s.Shape)
	if k == nil || k.Reported == "" {
		return ""
	}
	return strings.Replace(k.Reported, "%s", path.Base(strings.ReplaceAll(s.Source.Path, `\`, "/")), 1)
}
