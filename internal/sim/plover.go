package sim

import (
	"crypto/sha256"
	"encoding/hex"
	"io/fs"
	"path"
	"slices"
	"strings"
)

// Plover is the Dulcimer's launcher, looking at a stick or share. See
// docs/consoles/dulcimer-plover.md.
type Plover struct{}

const ploverLongest = 30

// ploverSystem is the sum of the system that nothing starts without.
const ploverSystem = "0bf9f3d35b79a509d4120839a4e0abf7137c88bf137342a045d850dc9bcecffe"

func ploverName(name string) bool {
	for _, r := range name {
		if r < ' ' || r > '~' || strings.ContainsRune(`<>:"|?*\`, r) {
			return false
		}
	}
	return len(name) <= ploverLongest
}

// List reads a stick or share.
func (Plover) List(stick fs.FS) (*Listing, error) {
	stick = about(stick)
	l := &Listing{}
	if !about(stick).is("fat32", "share") {
		return l.sort(), nil
	}
	system := "the system of the first Dulcimer is missing"
	at, images, err := folder(stick, "system/images")
	if err != nil {
		return nil, err
	}
	for _, e := range images {
		if !e.IsDir() && strings.EqualFold(e.Name(), "dulcimer-one.rom") {
			b, err := fs.ReadFile(stick, path.Join(at, e.Name()))
			if err != nil {
				return nil, err
			}
			if sum := sha256.Sum256(b); hex.EncodeToString(sum[:]) == ploverSystem {
				system = ""
			}
		}
	}
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
		i := slices.IndexFunc(files, func(
			e fs.DirEntry) bool {
			return !e.IsDir() && strings.EqualFold(e.Name(), "start.prog")
		})
		switch {
		case err != nil:
			return nil, err
		case i < 0:
			l.pass(full, "there is no start.prog in it")
		case !ploverName(p.Name()):
			l.pass(full, "a name that is not shown")
		default:
			why := system
			if info, err := files[i].Info(); why == "" && (err != nil || info.Size() == 0) {
				why = "start.prog has no bytes"
			}
			l.add(p.Name(), full, "", why)
		}
	}
	return l.sort(), nil
}
