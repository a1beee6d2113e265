package standin

import (
	"io/fs"
	"path"
	"strings"
)

// Gantry is the Corvane's front end, looking at one volume. See
// docs/consoles/corvane-gantry.md.
type Gantry struct{}

const gantryForbidden = `<>:"|?*;#\`

// List reads a volume.
func (Gantry) List(volume fs.FS) (*Listing, error) {
	l := &Listing{}
	at, games, err := folder(volume, "Games")
	if err != nil {
		return nil, err
	}
	for _, g := range games {
		p := path.Join(at, g.Name())
		if !g.IsDir() {
			l.pass(p, "a loose file")
			continue
		}
		inside, err := fs.ReadDir(volume, p)
		switch {
		case err != nil:
			return nil, err
		case len([]rune(g.Name())) > 48 || strings.ContainsAny(g.Name(), gantryForbidden):
			l.pass(p, "a name that the disk cannot hold")
		case !has(inside, "main.run"):
			l.pass(p, "main.run is not directly in it")
		default:
			l.add(g.Name(), p, "", "")
		}
	}
	for platform, ending := range cartridges {
		dir := "gantry/shelf/" + platform
		if platform == "kestrel64" {
			dir = "gantry/cores/kestrel"
		}
		at, files, err := folder(volume, dir)
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			p := path.Join(at, f.Name())
			if e := strings.ToLower(path.Ext(f.Name())); f.IsDir() || e != ending && e != ".zip" {
				l.pass(p, "no cartridge of this platform")
				continue
			}
			l.add(base(f.Name()), p, "", "")
		}
	}
	return l.sort(), nil
}
