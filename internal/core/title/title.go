// Package title holds the nouns of the job: what a person owns and wants to
// play, apart from any loader or target. It does no I/O.
package title

import (
	"cmp"
	"path/filepath"
	"strings"
	"time"
)

// Form is how a title's data lie in files.
type Form string

const (
	Image     Form = "image"     // one file for each disc
	Tracks    Form = "tracks"    // a cue sheet and its track files for each disc
	Cartridge Form = "cartridge" // one file
	Folder    Form = "folder"    // an unpacked tree of files
	Package   Form = "package"   // an archive that unpacks to a folder
)

// Forms are all forms, in the order in which they are reported.
var Forms = []Form{Image, Tracks, Cartridge, Folder, Package}

// A Title is one game as a person counts it.
type Title struct {
	// Key names the title on a bench: its ID, or the path of its file where it
	// has none or shares it. Stable as long as the file stays.
	Key      string `json:"key"`
	Platform string `json:"platform"` // name of the platform, "" when unknown
	Form     Form   `json:"form"`
	Name     string `json:"name"`
	ID       string `json:"id,omitempty"` // of the first disc
	Region   string `json:"region,omitempty"`
	Details
	Discs []Disc `json:"discs"` // in disc order
	// Pictures are what the title can be shown by: one of a kind for each disc, as far as they were found.
	Pictures []Picture `json:"pictures,omitempty"`
	Of       int       `json:"of"` // how many discs belong to it; 1 if nothing says more
	// Archive is the extension, with its dot, of the archive that the title's file
	// is packed in; "" for a title that lies open.
	Archive string `json:"archive,omitempty"`
	// Extension is what the file's copies end in, with the dot, where the file itself ends otherwise than its
	// platform's do; else "".
	Ext string `json:"ext,omitempty"`
	// Among is how many titles are in that archive, 0 for one.
	Among int `json:"among,omitempty"`
	// Encrypted is set for an archive that cannot be looked into without a password.
	Encrypted bool `json:"encrypted,omitempty"`
	// Locked are the fields that stay as the user has set them.
	Locked []string `json:"locked,omitempty"`
	// Set joins discs that the user has put together; "" for none.
	Set string `json:"set,omitempty"`

	Findings []Finding `json:"findings,omitempty"`
}

// Details are what else may be known of a title. No loader needs them to start it.
type Details struct {
	Year      string   `json:"year,omitempty"`
	Players   string   `json:"players,omitempty"`
	Publisher string   `json:"publisher,omitempty"`
	Text      string   `json:"text,omitempty"` // a description, in plain sentences
	Version   string   `json:"version,omitempty"`
	Tags      []string `json:"tags,omitempty"` // from brackets in the file's name, not understood
}

// A Disc is one medium of a title.
type Disc struct {
	Number int    `json:"number"` // from 1
	ID     string `json:"id,omitempty"`
	Kind   string `json:"kind,omitempty"` // as its platform names its disc kinds
	// File is the image, cartridge or package; the cue sheet of tracks; or the
	// folder itself, with a size of 0.
	File File `json:"file"`
	// Parts are the files beside or below it: tracks in the order of the cue
	// sheet, or what is in the folder.
	Parts []Part `json:"parts,omitempty"`
	// Volumes are the further files of an archive in parts.
	Volumes []File `json:"volumes,omitempty"`
	// Beside are files that belong to it without being needed: covers, manuals, patches.
	Beside []Beside `json:"beside,omitempty"`
	// Inside are the pictures that are in its file, where that is an image.
	Inside []Inside `json:"inside,omitempty"`
	// Chosen are the pictures that the user has chosen for it.
	Chosen   []Chosen   `json:"chosen,omitempty"`
	Evidence []Evidence `json:"evidence,omitempty"`
	// Sign is a fingerprint of the file's length and of what stands where its headers
	// are. Different files seldom share one.
	Sign string `json:"sign,omitempty"`
	// Deep is a fingerprint of samples from all over the file, taken when another file has
	// the same sign; "" when none was.
	Deep string `json:"deep,omitempty"`
	// Dump is how the file holds the game, where it is a dump with a copier's header or its bytes in another order.
	Dump Dump `json:"dump,omitzero"`
	// Used is where the disc itself says which of its sectors it uses.
	Used Used `json:"used,omitzero"`
	// Sums are checksums that are known without reading the file, such as
	// "crc32:0abc1234"; separated by spaces.
	Sums string `json:"sums,omitempty"`
}

// A Dump is how a file holds a game: see the package dump, whose layout it is. The zero value is a plain one.
type Dump struct {
	Skip  int64  `json:"skip,omitempty"` // bytes of a header in front of the game
	Order string `json:"order,omitempty"`
	Block int64  `json:"block,omitempty"` // bytes
}

// Size is the number of bytes in all of the disc's files. What is in an archive is counted
// as it is packed.
func (d *Disc) Size() int64 {
	n := d.File.Size
	for i := range d.Parts {
		if d.Parts[i].File.Entry == "" {
			n += d.Parts[i].File.Size
		}
	}
	for i := range d.Volumes {
		n += d.Volumes[i].Size
	}
	return n
}

// Used is a bitmap in which a disc says which of its sectors it uses: a bit for each, the lowest first. What lies
// in front of its end is used in any case.
type Used struct {
	Bitmap  int64 `json:"bitmap"`  // where it begins, in bytes
	Unit    int64 `json:"unit"`    // bytes in a sector; 0 where there is no bitmap
	Sectors int64 `json:"sectors"` // that the bitmap tells of
	Blocks  int64 `json:"blocks"`  // runs of 32 KiB with a used sector in them
}

// A Beside is a file that belongs to a disc without being needed.
type Beside struct {
	Kind string `json:"kind"` // cover, manual, patch, checksums or notes
	File File   `json:"file"`
}

// An Inside is a picture that is in the disc's own file.
type Inside struct {
	Of   string `json:"of"` // one of [PictureKinds]
	File File   `json:"file"`
}

// PictureKinds are the kinds of pictures that there are of a title, in the order in which they are reported.
var PictureKinds = []string{"front", "disc", "screen", "logo"}

// A Picture is one that a title can be shown by.
type Picture struct {
	Of   string `json:"of"`             // one of [PictureKinds]
	Disc int    `json:"disc,omitempty"` // index of the disc that it belongs to
	File File   `json:"file"`
	From string `json:"from"` // where it was found, in words
	// Crop is what is cut off it, see [Chosen].
	Crop [4]int `json:"crop,omitzero"`
}

// A Chosen is a picture that the user has chosen for a disc.
type Chosen struct {
	Of string `toml:"of" json:"of"` // one of [PictureKinds]
	// a picture, relative to the bench; "" for the one that is found
	File string `toml:"file,omitempty" json:"file,omitempty"`
	// Crop is what is cut off it at the left, top, right and bottom, in thousandths of its width or height.
	Crop [4]int `toml:"crop,omitempty" json:"crop,omitzero"`
	// None is set where the user wants no such picture.
	None bool `toml:"none,omitempty" json:"none,omitempty"`
}

// Picture is the picture of a kind for a disc, by its index; nil where none was found. A disc without one is shown by
// that of the first.
func (t *Title) Picture(of string, disc int) *Picture {
	var first *Picture
	for i := range t.Pictures {
		if p := &t.Pictures[i]; p.Of == of {
			if p.Disc == disc {
				return p
			}
			if p.Disc == 0 && of != "disc" { // what is printed on one disc is not on another
				first = p
			}
		}
	}
	return first
}

// A Part is one of several files that make a disc.
type Part struct {
	Name string `json:"name"` // in the folder or cue sheet, with slashes
	File File   `json:"file"`
}

// A File is where bytes lie on this computer, as it was when it was looked at.
type File struct {
	Path     string    `json:"path"`
	Size     int64     `json:"size"` // in bytes
	Modified time.Time `json:"modified"`
	// Entry is the name in the archive that is at the path; "" for the file itself. The
	// size is that of the entry, then.
	Entry string `json:"entry,omitempty"`
}

// Called is how the file is named in a message.
func (f *File) Called() string {
	if f.Entry == "" {
		return f.Path
	}
	return f.Path + " (" + f.Entry + ")"
}

// Evidence is one value and where it was read.
type Evidence struct {
	Field string `json:"field"`
	Value string `json:"value"`
	From  string `json:"from"` // such as "VESPER.INF, line 1"
}

// Grade tells a remark from something that keeps a title from being placed.
type Grade string

const (
	Note      Grade = "note"
	Suspicion Grade = "suspicion" // it may be bad; nothing checks it
	Fault     Grade = "fault"
)

// A Finding is something that a person should know about a title.
type Finding struct {
	Grade  Grade  `json:"grade"`
	Say    string `json:"say"`              // what is the matter, a plain sentence
	Remedy string `json:"remedy,omitempty"` // what to do
	// Wants is what the user can give to fix it: a field (see [Editable]), or [Allowance]; "" for
	// nothing.
	Wants string `json:"wants,omitempty"`
}

// Allowance is what an archive wants that is much larger inside than outside.
const Allowance = "allowance"

// Wanting is the finding with what the user can give to fix it.
func (f Finding) Wanting(what string) Finding {
	f.Wants = what
	return f
}

// OK reports whether nothing speaks against placing the title.
func (t *Title) OK() bool { return t.Fault() == nil }

// Fault returns the first finding that speaks against placing the title, or nil.
func (t *Title) Fault() *Finding {
	for i := range t.Findings {
		if t.Findings[i].Grade == Fault {
			return &t.Findings[i]
		}
	}
	return nil
}

// Size is the number of bytes in all of the title's files.
func (t *Title) Size() int64 {
	var n int64
	for i := range t.Discs {
		n += t.Discs[i].Size()
	}
	return n
}

// Source is the path of the first file.
func (t *Title) Source() string {
	if len(t.Discs) == 0 {
		return ""
	}
	return t.Discs[0].File.Path
}

// Label is how the title is named in a sentence: its name, or its file's.
func (t *Title) Label() string {
	if t.Name != "" {
		return t.Name
	}
	return filepath.Base(t.Source())
}

// Compare orders titles for lists: by platform (unknown ones last), name, ID and
// source.
func Compare(a, b *Title) int {
	return cmp.Or(
		cmp.Compare(boolInt(a.Platform == ""), boolInt(b.Platform == "")),
		strings.Compare(a.Platform, b.Platform),
		strings.Compare(strings.ToLower(a.Label()), strings.ToLower(b.Label())),
		strings.Compare(a.ID, b.ID),
		CompareSource(a, b),
	)
}

// CompareSource orders titles by their files: of two copies, the one with the
// plainer name is the first.
func CompareSource(a, b *Title) int {
	return cmp.Or(
		cmp.Compare(len(filepath.Base(a.Source())), len(filepath.Base(b.Source()))),
		strings.Compare(a.Source(), b.Source()),
	)
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

// Where names the file that a title is edited by: its first one, and the entry in it for a
// title among others in an archive.
func (t *Title) Where() string {
	if len(t.Discs) == 0 {
		return ""
	}
	return t.Discs[0].Where(t.Among > 1)
}

// Where is the disc's file, with the entry where an archive holds several titles.
func (d *Disc) Where(among bool) string {
	if among && len(d.Parts) > 0 {
		return d.File.Path + EntryMark + d.Parts[0].File.Entry
	}
	return d.File.Path
}

// EntryMark stands between the path of an archive and a name in it.
const EntryMark = "//"
