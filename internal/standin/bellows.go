package standin

import (
	"io/fs"
	"path"
	"regexp"
	"strings"
)

// Bellows is the Pipit Mini's add-on, looking at a stick. See
// docs/consoles/pipit-mini-bellows.md. The label cannot be seen through an fs.FS.
type Bellows struct{}

const bellowsEntries = 60

var bellowsPage = regexp.MustCompile(`^\+[0-9]+$`)

// List reads a stick.
func (Bellows) List(stick fs.FS) (*Listing, error) {
	l := &Listing{}
	err := bellowsPages(stick, "Titles", func(at string, e fs.DirEntry) error {
		p := path.Join(at, e.Name())
		if !e.IsDir() {
			l.pass(p, "a loose file")
			return nil
		}
		files, err := fs.ReadDir(stick, p)
		if err != nil {
			return err
		}
		cue := e.Name() + ".cue"
		if !has(files, cue) {
			if cue = e.Name() + " (Disc 1).cue"; !has(files, cue) {
				l.pass(p, "no cue sheet has the folder's name")
				return nil
			}
		}
		why := tracksMissing(stick, path.Join(p, cue), files)
		if why == "" && strings.Contains(cue, "(Disc 1)") && !has(files, e.Name()+".m3u") {
			why = "there is no playlist for its discs"
		}
		l.add(e.Name(), p, "", why)
		return nil
	})
	if err != nil {
		return nil, err
	}
	for platform, ending := range cartridges {
		err := bellowsPages(stick, "Carts/"+platform, func(at string, e fs.DirEntry) error {
			p := path.Join(at, e.Name())
			if e.IsDir() || !strings.EqualFold(path.Ext(e.Name()), ending) {
				l.pass(p, "no cartridge of this platform")
				return nil
			}
			l.add(base(e.Name()), p, "", "")
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return l.sort(), nil
}

// bellowsPages goes through a folder and its pages, as far as a page shows its entries.
func bellowsPages(stick fs.FS, name string, each func(at string, e fs.DirEntry) error) error {
	at, entries, err := folder(stick, name)
	if err != nil {
		return err
	}
	shown := 0
	var pages []string
	for _, e := range entries {
		if e.IsDir() && bellowsPage.MatchString(e.Name()) {
			pages = append(pages, path.Join(at, e.Name()))
			continue
		}
		if shown++; shown > bellowsEntries {
			continue
		}
		if err := each(at, e); err != nil {
			return err
		}
	}
	for _, p := range pages {
		entries, err := fs.ReadDir(stick, p)
		if err != nil {
			return err
		}
		for _, e := range entries[:min(len(entries), bellowsEntries)] {
			if err := each(p, e); err != nil {
				return err
			}
		}
	}
	return nil
}
