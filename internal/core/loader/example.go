package loader

import (
	"slices"

	"polytome/internal/core/title"
)

// An Example is a game as it may be, and what the loader's rules must make of it.
type Example struct {
	Platform string     `toml:"platform"`
	Form     title.Form `toml:"form"` // "" is the first form of the platform's games
	ID       string     `toml:"id"`
	Name     string     `toml:"name"`
	Region   string     `toml:"region"`
	Kind     string     `toml:"kind"`
	Discs    int        `toml:"discs"` // 0 is one
	Size     Size       `toml:"size"`  // of each disc
	File     string     `toml:"file"`  // the name of its own file, "" for that of the game
	Tags     []string   `toml:"tags"`
	Parts    []string   `toml:"parts"` // the files beside a cue sheet, or in a folder; {disc} is the disc's number
	On       string     `toml:"on"`    // the attachment, "" for the first one
	// Filesystem is the target's, "" for the first one that the attachment reads.
	Filesystem string `toml:"filesystem"`
	Volume     string `toml:"volume"`   // "" for none that is known
	Capacity   Size   `toml:"capacity"` // of the volume

	// Paths are all files that come out, but for covers, in any order.
	Paths []string `toml:"paths"`
	// Lists are texts that must stand in files in which titles are listed, by the paths of these.
	Lists map[string]string `toml:"lists"`
	// Refused is what is said where the loader does not take it.
	Refused string `toml:"refused"`
}

// A GameExample is a game as it may be, and what must be read from it.
type GameExample struct {
	File   string            `toml:"file"`   // the name of its file or folder
	Files  map[string]string `toml:"files"`  // what is in it: texts, by their paths
	Volume string            `toml:"volume"` // its volume identifier
	Hex    Bytes             `toml:"hex"`    // the bytes that its file begins with
	Size   Size              `toml:"size"`   // of its file; bytes that are not given are zeros

	None   bool   `toml:"none"` // it is no game of the platform
	ID     string `toml:"id"`
	Name   string `toml:"name"`
	Region string `toml:"region"`
	Kind   string `toml:"kind"`
	Disc   string `toml:"disc"`
}

// Wanted is what must be read of a field.
func (e *GameExample) Wanted(field string) string {
	return map[string]string{"id": e.ID, "name": e.Name, "region": e.Region, "kind": e.Kind, "disc": e.Disc}[field]
}

// Content is the file's bytes: those that are given, and zeros.
func (e *GameExample) Content() []byte {
	b := make([]byte, max(int(e.Size), len(e.Hex)))
	for i, n := range e.Hex {
		if n != anyByte {
			b[i] = byte(n)
		}
	}
	return b
}

// largestExample is how large an example's file is at most.
const largestExample = 16 << 20

func (c *checker) example(at string, e *Example) {
	c.known(e.Platform != "", at+".platform", "an [[example]] needs the platform of its game")
	if e.Form != "" {
		c.oneOf(at+".form", "form", string(e.Form), formNames())
	}
	c.known(e.Discs >= 0 && e.Discs < 100, at+".discs", "a game has from 1 to 99 discs")
	c.known(e.Size >= 0, at+".size", "a size cannot be negative")
	c.known((len(e.Paths) > 0) != (e.Refused != ""), at, "an [[example]] says either the paths that come out, or with "+
		"refused what is said where it is not taken")
	if e.Volume != "" {
		c.oneOf(at+".volume", "volume", e.Volume, c.volumes())
	}
	if e.On != "" {
		c.known(slices.ContainsFunc(c.p.Attachments, func(a Attachment) bool { return a.Name == e.On }), at+".on",
			"there is no attachment named %q", e.On)
	}
}

func (c *checker) gameExample(at string, e *GameExample, p *Platform) {
	c.known(e.Size >= 0 && e.Size <= largestExample, at+".size", "an example has at most %d bytes", largestExample)
	c.known(len(e.Files) == 0 || p.Has(title.Folder) || p.Has(title.Image) || p.Has(title.Package) ||
		p.Has(title.Tracks),
		at+".files", "games of this platform have no files in them")
	c.known(!e.None || e.ID+e.Name+e.Region+e.Kind+e.Disc == "", at+".none", "nothing is read from what is no game")
	for name := range e.Files {
		c.inside(at+".files", name)
	}
}
