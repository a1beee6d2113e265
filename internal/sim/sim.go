// Package sim holds simulated loaders: small programs that read a filled
// target as the real loader would, and report what it would list and what it would
// skip. They are written from docs/consoles alone and know nothing of
// profiles, so that they can judge what profiles make.
package sim

import (
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"
)

// A Game is one line of a loader's list.
type Game struct {
	ID      string `json:"id"`
	Title   string `json:"title"`
	Path    string `json:"path"`
	Starts  bool   `json:"starts"`
	Why     string `json:"why,omitempty"`     // why it does not start
	Section string `json:"section,omitempty"` // of the list that it is shown in
	Place   int    `json:"-"`                 // in its section; 0 where names decide
	Favour  bool   `json:"favourite,omitempty"`
	// Face is the picture that it shows beside it, "" for none.
	Face string `json:"face,omitempty"`
}

// A Passed file is one that the loader does not list, with its reason.
type Passed struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}

// A Listing is what a loader shows for a target.
type Listing struct {
	Games  []Game   `json:"games"`
	Passed []Passed `json:"passed,omitempty"`
	Faces  bool     `json:"faces"` // covers are shown
}

// A Volume is a target with what its files alone do not tell.
type Volume struct {
	fs.FS
	Label      string                // "" where no one knows
	Filesystem string                // such as fat32; "" for one that the loader reads
	Fragments  func(path string) int // in how many fragments a file lies; nil for one
}

// about is what is known of a target beside its files.
func about(fsys fs.FS) Volume {
	if v, ok := fsys.(Volume); ok {
		return v
	}
	return Volume{FS: fsys}
}

// called reports whether a volume is named as a console wants it, or does not tell.
func (v Volume) called(label string) bool { return v.Label == "" || strings.EqualFold(v.Label, label) }

// is reports whether the filesystem is one of those named, or not reported.
func (v Volume) is(filesystems ...string) bool {
	return v.Filesystem == "" || slices.Contains(filesystems, v.Filesystem)
}

// A Loader is a simulated loader.
type Loader interface {
	// List reads a filled target.
	List(stick fs.FS) (*Listing, error)
}

// Loaders are the simulated loaders by name.
var Loaders = map[string]Loader{
	"bellows": Bellows{}, "gantry": Gantry{}, "mica": Mica{}, "oxbow": Oxbow{}, "plover": Plover{}, "rowan": Rowan{},
	"trellis": Trellis{},
}

// folder reads a folder that may be missing; letter case makes no difference. It returns the
// folder's path as it is spelled.
func folder(fsys fs.FS, name string) (at string, entries []fs.DirEntry, err error) {
	return folderAs(fsys, name, false)
}

// folderAs is folder for a console for which letter case may count.
func folderAs(fsys fs.FS, name string, cased bool) (at string, entries []fs.DirEntry, err error) {
	at = "."
	for want := range strings.SplitSeq(name, "/") {
		all, err := fs.ReadDir(fsys, at)
		if err != nil {
			return "", nil, err
		}
		i := slices.IndexFunc(all, func(e fs.DirEntry) bool {
			return e.IsDir() && (e.Name() == want || !cased && strings.EqualFold(e.Name(), want))
		})
		if i < 0 {
			return "", nil, nil
		}
		at = path.Join(at, all[i].Name())
	}
	entries, err = fs.ReadDir(fsys, at)
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return at, entries, err
}

// spelled is a file's name as the folder spells it; "" when it is not there.
func spelled(entries []fs.DirEntry, name string) string {
	for _, e := range entries {
		if !e.IsDir() && strings.EqualFold(e.Name(), name) {
			return e.Name()
		}
	}
	return ""
}

// base is a name without its extension.
func base(name string) string { return strings.TrimSuffix(name, path.Ext(name)) }

// add takes a game into the list.
func (l *Listing) add(title, at, id, why string) {
	l.Games = append(l.Games, Game{ID: id, Title: title, Path: at, Starts: why == "", Why: why})
}

// pass notes a file that is not listed.
func (l *Listing) pass(at, why string) { l.Passed = append(l.Passed, Passed{at, why}) }

// sort orders the list by title, without regard to letter case.
func (l *Listing) sort() *Listing {
	if l.Games == nil {
		l.Games = []Game{}
	}
	slices.SortStableFunc(l.Games,
		func(a, b Game) int { return strings.Compare(strings.ToLower(a.Title), strings.ToLower(b.Title)) })
	return l
}

// cartridges are the extensions of the cartridge platforms.
var cartridges = map[string]string{
	"wren8": ".w8", "heron16": ".h16", "finch": ".fin", "kestrel64": ".k64", "dotterel": ".dtl", "brambling": ".bmb",
	"sanderling": ".sdl", "whimbrel": ".wmb",
	"redstart8": ".rs8", "fieldfare": ".ffr", "wagtail16": ".wt16", "twite": ".twt", "linnet": ".lnt",
	"pochard": ".pch", "garganey": ".grg", "ruddock": ".rdk",
}
