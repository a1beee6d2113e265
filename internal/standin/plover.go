package standin

import (
	"io/fs"
	"path"
)

// Plover is the Dulcimer's launcher, looking at a stick or share. See
// docs/consoles/dulcimer-plover.md. The system images are not looked for.
type Plover struct{}

const ploverLongest = 30

// List reads a stick.
func (Plover) List(stick fs.FS) (*Listing, error) {
	l := &Listing{}
	at, packages, err := folder(stick, "packages")
	if err != nil {
		return nil, err
	}
	for _, p := range packages {
		full := path.Join(at, p.Name())
		if !p.IsDir() {
			l.pass(full, "a loose file")
			continue
		}
		files, err := fs.ReadDir(stick, full)
		switch {
		case err != nil:
			return nil, err
		case !has(files, "start.prog"):
			l.pass(full, "there is no start.prog in it")
		case len([]rune(p.Name())) > ploverLongest:
			l.pass(full, "its name is too long")
		default:
			l.add(p.Name(), full, "", "")
		}
	}
	return l.sort(), nil
}
