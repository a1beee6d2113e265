package sim

import (
	"io/fs"
	"path"
	"slices"
	"strings"
)

// Gantry is the Corvane's front end, looking at one volume. See
// docs/consoles/corvane-gantry.md.
type Gantry struct{}

const (
	gantryForbidden = `<>:"|?*;#\`
	gantryLongest   = 48
	gantryCartridge = 43
)

func gantryName(name string, longest int) bool {
	return len([]rune(name)) <= longest && !strings.ContainsAny(name, gantryForbidden)
}

// List reads a volume.
func (Gantry) List(volume fs.FS) (*Listing, error) {
	volume = about(volume)
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
		i := slices.IndexFunc(inside, func(
			e fs.DirEntry) bool {
			return !e.IsDir() && strings.EqualFold(e.Name(), "main.run")
		})
		switch {
		case err != nil:
			return nil, err
		case !gantryName(g.Name(), gantryLongest):
			l.pass(p, "a name that the disk cannot hold")
		case i < 0:
			l.pass(p, "main.run is not directly in it")
		default:
			b, err := fs.ReadFile(volume, path.Join(p, inside[i].Name()))
			if err != nil {
				return nil, err
			}
			l.add(g.Name(), p, "", mainRunWhy(b))
		}
	}
	for platform := range cartridges {
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
			e := strings.ToLower(path.Ext(f.Name()))
			switch {
			case f.IsDir() || !extOf(platform, e) && e != ".zip":
				l.pass(p, "no cartridge of this platform")
			case !gantryName(base(f.Name()), gantryCartridge):
				l.pass(p, "its name is too long")
			default:
				l.add(base(f.Name()), p, "", gameWhy(volume, p, platform))
				l.Games[len(l.Games)-1].Face = face(volume, "gantry/faces/"+platform, base(f.Name())+".jpg", 320, 320,
					false)
			}
		}
	}
	return l.sort(), nil
}
