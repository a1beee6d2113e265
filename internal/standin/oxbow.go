package standin

import (
	"io/fs"
	"path"
	"strings"
)

// Oxbow is the Tanager's front end, looking at a stick or share. See
// docs/consoles/tanager-oxbow.md.
type Oxbow struct{}

var oxbowPlatforms = []string{"corvane", "dulcimer", "lapwing", "meridian", "siskin", "skua", "skua-first", "vesper"}

// List reads a stick.
func (Oxbow) List(stick fs.FS) (*Listing, error) {
	l := &Listing{}
	platforms := oxbowPlatforms
	for name := range cartridges {
		platforms = append(platforms[:len(platforms):len(platforms)], name)
	}
	for _, platform := range platforms {
		at, entries, err := folder(stick, "oxbow/play/"+platform)
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			p := path.Join(at, e.Name())
			switch {
			case e.IsDir():
				l.add(e.Name(), p, "", "")
			case platform != "lapwing":
				l.add(base(e.Name()), p, "", "")
			case strings.EqualFold(path.Ext(e.Name()), ".cue"):
				l.add(base(e.Name()), p, "", tracksMissing(stick, p, entries))
			}
		}
	}
	return l.sort(), nil
}
