// Package bench keeps the working state: where the games are, what shall be
// filled, and what was chosen for each target. It is one TOML file that a person
// can read and keep in git.
package bench

import (
	"fmt"

	"polytome/internal/core/arrange"
	"polytome/internal/core/estimate"
	"polytome/internal/core/fix"
	"polytome/internal/core/title"
	"polytome/internal/size"
)

// FormatVersion is the version of the bench file that is read and written.
const FormatVersion = 1

// A Bench is the working state. Paths in it are relative to the file's folder,
// or absolute.
type Bench struct {
	Format int    `toml:"format"`
	Name   string `toml:"name"`
	// Lists are CSV files with proper names of titles.
	Lists []string `toml:"lists,omitempty"`
	// Passwords are tried on encrypted archives. They are kept as they are: who can read the bench
	// can read them.
	Passwords []string `toml:"passwords,omitempty"`
	// Orders are those in which the stages list titles, by the names of the stages.
	Orders map[string]string `toml:"orders,omitempty"`
	// Favourites are the titles that get space before all others, by their keys.
	Favourites Keys `toml:"favourites,omitempty"`
	// Priorities are how much titles are wanted beside, from -9 to 9; 0 for all that are not named.
	Priorities map[string]int `toml:"priorities,omitempty"`
	Sources    []Source       `toml:"source"`
	Covers     Covers         `toml:"covers,omitempty"`
	Targets    []Target       `toml:"target"`
	// Edits are what was set by hand for titles.
	Edits []title.Edit `toml:"edit,omitempty"`

	file  string // "" for a bench that is not saved
	state *state // shared by copies
	// Notes are what was found odd in the file and does not keep it from being used.
	Notes []string `toml:"-"`
}

// A Source is a folder where titles are found.
type Source struct {
	Path string `toml:"path"`
}

// A Target is something to be filled.
type Target struct {
	id ID

	Name string `toml:"name"`
	At   string `toml:"at"`
	// Like is the name of another target whose choices and setup this one has; "" for its own. Such targets are a set.
	Like string `toml:"like,omitempty"`
	// Stick is what the volume is known by that is the target, wherever it is mounted: its serial number or UUID. No
	// other volume is taken for it. "" for whatever is at the address.
	Stick  string `toml:"stick,omitempty"`
	Loader string `toml:"loader,omitempty"`
	// Also are further loaders that read from the same target. A title is for the first that takes it.
	Also     []string `toml:"also-for,omitempty"`
	Via      string   `toml:"via,omitempty"`      // "" for the loader's usual one
	As       string   `toml:"as,omitempty"`       // declares the filesystem
	Capacity Size     `toml:"capacity,omitempty"` // declares the capacity
	Cluster  Size     `toml:"cluster,omitempty"`  // declares the allocation unit
	Volume   string   `toml:"volume,omitempty"`   // which of the console's it is; "" for what its name says
	Rate     Size     `toml:"rate,omitempty"`     // writes at most so much a second
	// Listen is the address of this computer at which an export is served, with a port or without; "" for its end of
	// the console's cable.
	Listen  string `toml:"listen,omitempty"`
	Reserve Size   `toml:"reserve,omitempty"` // stays free
	// Verify is how files are checked when they were written: none, size or full; "" for what is usual on the
	// connection.
	Verify string `toml:"verify,omitempty"`
	// Encoding is how a console spells names over FTP, Connections how many it bears at a time; "" and 0 for what its
	// profile says.
	Encoding    string `toml:"encoding,omitempty"`
	Connections int    `toml:"connections,omitempty"`
	// Unchecked takes any certificate that a console shows over FTP with TLS.
	Unchecked bool `toml:"unchecked-certificate,omitempty"`
	NoCovers  bool `toml:"no-covers,omitempty"`
	NoSaves   bool `toml:"no-saves,omitempty"` // no kept saves come along with titles
	// WhenConnected is what a dock does when the target comes: look, ask or fill; "" for look.
	WhenConnected string `toml:"when-connected,omitempty"`
	// Model is which variant of the console it is for, by its name in the loader's profile; "" for none that matters.
	Model string `toml:"model,omitempty"`
	// List is how the console's list is arranged, as far as the loaders can have it.
	List arrange.Wishes `toml:"list,omitempty"`
	// CoversMost is what covers may take of the target.
	CoversMost Budget `toml:"covers-at-most,omitempty"`
	// Carries is the name of another target, whose covers alone are put here, in its own layout: a stick whose folders
	// are merged into the console's at the console.
	Carries string `toml:"carries-covers-of,omitempty"`
	// Rules are keys of the first loader's profile that are set otherwise for this target.
	Rules map[string]string `toml:"rules,omitempty"`
	// BackupTo is a folder of this computer to which files are copied before they go.
	BackupTo string `toml:"backup-to,omitempty"`
	// Exactly has everything leave that a loader knows and that is not wanted.
	DeleteOthers bool `toml:"delete-others,omitempty"`
	// Leaving are paths on the target that shall go, Replace those that may be written over.
	Removing   []string `toml:"removing,omitempty"`
	Replace    []string `toml:"replace,omitempty"`
	Everything bool     `toml:"everything,omitempty"` // all titles are wanted, but for Without
	Without    Keys     `toml:"without,omitempty"`
	Titles     Keys     `toml:"titles,omitempty"` // what is wanted when not everything is
	// CopyAgain are titles that were deleted on the target and shall be there again.
	CopyAgain Keys `toml:"copy-again,omitempty"`
	// Names are those that titles have been given where several wanted one, by
	// their keys: they keep them.
	Names map[string]string `toml:"names,omitempty"`
	// Fixes are changes of files on the target that the check proposed and the user wants.
	Fixes []fix.Fix `toml:"fix,omitempty"`
	// Ticked are the lines of the checklist that were ticked off since the last run.
	Ticked []string `toml:"ticked,omitempty"`
	// Cable is how the target is joined to this computer by a cable of its own; nil for a network that was there
	// before.
	Cable *Cable `toml:"cable,omitempty"`
	// Pace is what was learnt of how fast the target takes files.
	Speed *estimate.Learnt `toml:"speed,omitempty"`
}

// What a dock does when a target comes.
const (
	LookAtIt = "look" // and remember what is on it
	Ask      = "ask"  // say what is to be done
	Fill     = "fill" // do it, where nothing is removed or replaced
)

// WhenConnectedWords are what a dock can do.
var WhenConnectedWords = []string{LookAtIt, Ask, Fill}

// A Cable joins a console and this computer directly. The addresses are set by hand on both ends, and set back
// afterwards.
type Cable struct {
	Interface string `toml:"interface"` // of this computer
	// its address for the time of the cable, with the length of the mask: 192.168.77.1/24
	Computer string `toml:"computer"`
	Console  string `toml:"console"` // that of the console
	// Was is the address of the target before the cable, which it gets back afterwards.
	Was string `toml:"was,omitempty"`
	// Before is what the interface had before, to be set back: addresses with the lengths of their masks, and "dhcp"
	// where they were given to it.
	Before []string `toml:"before,omitempty"`
}

// Loaders are the names of all loaders that the target is filled for.
func (p *Target) Loaders() []string { return append([]string{p.Loader}, p.Also...) }

// Keys are the keys of titles, sorted.
type Keys []string

// Size is an amount of bytes, written like "58GiB".
type Size int64

// UnmarshalText reads a size.
func (s *Size) UnmarshalText(b []byte) error {
	n, err := size.Parse(string(b))
	*s = Size(n)
	return err
}

// MarshalText writes a size so that it reads back exactly.
func (s Size) MarshalText() ([]byte, error) {
	n := int64(s)
	for _, u := range []struct {
		bytes int64
		name  string
	}{{size.TiB, "TiB"}, {size.GiB, "GiB"}, {size.MiB, "MiB"}, {size.KiB, "KiB"}} {
		if n != 0 && n%u.bytes == 0 {
			return fmt.Appendf(nil, "%d%s", n/u.bytes, u.name), nil
		}
	}
	return fmt.Appendf(nil, "%d", n), nil
}
