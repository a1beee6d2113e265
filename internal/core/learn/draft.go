package learn

import (
	"polytome/internal/core/infer"
	"polytome/internal/core/loader"
	"polytome/internal/core/teach"
	"polytome/internal/core/title"
	"polytome/internal/target"
)

// Confidence is how sure a finding is, in a word.
type Confidence string

const (
	Certain Confidence = "certain" // many files say so, and none speaks against it
	Likely  Confidence = "likely"  // few files say so, or not all
	Guess   Confidence = "a guess" // only names say so
)

// A Finding is one thing that was learnt.
type Finding struct {
	Say        string     `json:"say"`
	Evidence   string     `json:"evidence"`
	Confidence Confidence `json:"confidence"`
	// Rule is the path of the rule that it is about, as the draft has it; "" for none.
	Rule string `json:"rule,omitempty"`
}

// A Draft is a profile in the making.
type Draft struct {
	Name, Shown, Console, About string

	Via         string
	ListOrder   []string // "title" for none
	Filesystems []string
	Label       string
	Case        string
	Contiguous  bool // files must lie contiguous

	Rules      []Rule
	Saves      []Save
	Companions []Companion
	Lists      []List
	Kit        []KitFile
	Boot       *Boot
	Checklist  []string
	Platforms  []Platform // that are not described yet
	// Taught are platforms that were worked out from the games.
	Taught []*teach.Platform

	Findings []Finding  // in the order in which they were made
	Open     []Question // what the target cannot show
	Against  []string   // what is there otherwise than by the draft
	Titles   int        // that were recognised
	// Explained are the files and folders that the draft accounts for.
	Explained map[string]Reason
}

// A Rule is where titles of some platforms go.
type Rule struct {
	Platforms []string
	Form      title.Form
	Path      string
	Tracks    string // of track files that are named after their cue sheet
	OneFile   bool   // all tracks of a disc are one file
	Discs     string // behind the titles of several discs
	When      string // which of them
	Archives  string
	Packed    bool // images are packed
	Rename    []loader.Rename
	Drop      []string // files of unpacked titles that are left out
	Longest   int
	ASCII     bool
	Forbidden string
	Overflow  int
	Numbers   string // how running numbers are given
	Over      int64  // from which length on files are cut; 0 for what the filesystem holds
	PartSize  int64
	Parts     string
	// Manifest is the list of the parts, and ManifestText what stands in it.
	Manifest, ManifestText string
	Why                    string

	naming naming
	// noDiscs is set where no title shows what distinguishes the discs of one.
	noDiscs bool
}

// A Companion is a file that lies with each title.
type Companion struct {
	Is        string
	Platforms []string
	Path      string
	When      string // of its titles
	PerDisc   bool
	Picture   string // jpg or png
	Width     int
	Height    int
	Text      string
	Make      string
	Encoding  string
	Syntax    string   // of settings
	Keep      []string // keys that are the player's own
	Length    int      // of one that is no text
	Bytes     []infer.Field
	Why       string
}

// A KitFile is a file that no title explains.
type KitFile struct {
	Path string
	Text string // of one that is a short text
	Why  string
}

// Boot is the folders that a console has made by itself.
type Boot struct {
	Folders   []string
	Platforms []string
	MayAdd    bool
	Why       string
}

// A Platform is one that the draft needs and no one has described.
type Platform struct {
	Name, Shown string
	Form        title.Form
	Ext         string
}

// A Reason is why a file or folder lies where it does.
type Reason struct {
	Part Part
	// Rule is the path of the rule that puts it there, as the draft has it; "" where none does.
	Rule string
}

// A Part is what a file is to the draft.
type Part string

const (
	Game  Part = "a game"
	Piece Part = "a part of a game"
	Near  Part = "a file beside a game"
	Lists Part = "a list"
	Own   Part = "the loader's own"
	// Played is what somebody reached in a game.
	Played Part = "what somebody reached in a game"
)

// A Look is what there is to learn from.
type Look struct {
	Dir     string         // folder of the target
	Facts   target.Facts   // of the target
	Entries []target.Entry // on it
	Label   string         // of its volume, "" when not reported
	Open    func(path string) (target.Content, error)
	// Pieces is in how many pieces files lie, of the largest ones; nil where that cannot be known.
	Pieces map[string]int
	Name   string // of the target, where its volume has none
	Via    string // how it is connected; "" for a stick
	// Packed are the images that are packed, by their first files: each with all its files. What is opened is the
	// image.
	Packed map[string][]string
	// Unread are the files that could not be read.
	Unread []string
	Sources
}
