package sim

import (
	"cmp"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Bellows is the Pipit Mini's add-on, looking at a stick. See
// docs/consoles/pipit-mini-bellows.md.
type Bellows struct{}

const (
	bellowsEntries = 60
	bellowsLongest = 64
)

var bellowsPage = regexp.MustCompile(`^\+[0-9]+$`)

// bellowsName reports whether a name is one that Bellows shows.
func bellowsName(name string) bool {
	for _, r := range name {
		if r < ' ' || r > '~' || strings.ContainsRune(`<>:"|?*;+`, r) {
			return false
		}
	}
	return len(name) <= bellowsLongest
}

// List reads a stick.
func (Bellows) List(stick fs.FS) (*Listing, error) {
	stick = about(stick)
	l := &Listing{}
	if v := about(stick); !v.called("PIPIT") || !v.is("fat32") {
		return l.sort(), nil
	}
	err := bellowsPages(stick, "Titles", func(at string, e fs.DirEntry) error {
		p := path.Join(at, e.Name())
		switch {
		case !e.IsDir():
			l.pass(p, "a loose file")
			return nil
		case !bellowsName(e.Name()):
			l.pass(p, "a name that is not shown")
			return nil
		}
		files, err := fs.ReadDir(stick, p)
		if err != nil {
			return err
		}
		if cue := spelled(files, e.Name()+".cue"); cue != "" {
			bellowsAdd(l, stick, p, e.Name(), files, tracksWhy(stick, path.Join(p, cue), files, false))
			return nil
		}
		if spelled(files, e.Name()+" (Disc 1).cue") == "" {
			l.pass(p, "no cue sheet has the folder's name")
			return nil
		}
		bellowsAdd(l, stick, p, e.Name(), files, bellowsDiscs(stick, p, e.Name(), files))
		return nil
	})
	if err != nil {
		return nil, err
	}
	for platform, ext := range cartridges {
		err := bellowsPages(stick, "Carts/"+platform, func(at string, e fs.DirEntry) error {
			p := path.Join(at, e.Name())
			if e.IsDir() || !strings.EqualFold(path.Ext(e.Name()), ext) || !bellowsName(base(e.Name())) {
				l.pass(p, "no cartridge of this platform")
				return nil
			}
			l.add(base(e.Name()), p, "", gameWhy(stick, p, platform))
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	l.sort()
	slices.SortStableFunc(l.Games, func(a, b Game) int {
		return cmp.Or(last(a.Section == "", b.Section == ""),
			strings.Compare(strings.ToLower(a.Section), strings.ToLower(b.Section)),
			last(a.Place == 0, b.Place == 0), cmp.Compare(a.Place, b.Place))
	})
	return l, nil
}

// last sorts what is so behind what is not.
func last(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return 1
	}
	return -1
}

var (
	bellowsText   = regexp.MustCompile(`^(name|section)\s*=\s*(?:"([^"]*)"|'([^']*)')\s*(?:#.*)?$`)
	bellowsNumber = regexp.MustCompile(`^place\s*=\s*([0-9]+)\s*(?:#.*)?$`)
	bellowsTrue   = regexp.MustCompile(`^favourite\s*=\s*true\s*(?:#.*)?$`)
)

// bellowsAdd lists a title as its title.toml says, or by its folder.
func bellowsAdd(l *Listing, stick fs.FS, dir, name string, files []fs.DirEntry, why string) {
	l.add(name, dir, "", why)
	g := &l.Games[len(l.Games)-1]
	at := spelled(files, "title.toml")
	if at == "" {
		return
	}
	text, err := fs.ReadFile(stick, path.Join(dir, at))
	if err != nil {
		return
	}
	for _, line := range linesOf(string(text)) {
		if m := bellowsText.FindStringSubmatch(line); m != nil && m[2]+m[3] != "" {
			if m[1] == "name" {
				g.Title = m[2] + m[3]
			} else {
				g.Section = m[2] + m[3]
			}
		}
		if m := bellowsNumber.FindStringSubmatch(line); m != nil {
			g.Place, _ = strconv.Atoi(m[1])
		}
		g.Favour = g.Favour || bellowsTrue.MatchString(line)
	}
}

// bellowsDiscs tries a title of several discs.
func bellowsDiscs(stick fs.FS, dir, name string, files []fs.DirEntry) string {
	list := spelled(files, name+".m3u")
	if list == "" {
		return "there is no playlist for its discs"
	}
	text, err := fs.ReadFile(stick, path.Join(dir, list))
	if err != nil {
		return err.Error()
	}
	if why := tracksWhy(stick, path.Join(dir, spelled(files, name+" (Disc 1).cue")), files, false); why != "" {
		return why
	}
	named := namedIn(string(text))
	if len(named) == 0 {
		return "its playlist is empty"
	}
	for _, line := range named {
		disc := spelled(files, line)
		if disc == "" {
			return "its playlist names " + line + ", which is not there"
		}
		if why := tracksWhy(stick, path.Join(dir, disc), files, false); why != "" {
			return why
		}
	}
	return ""
}

// bellowsPages goes through a folder and its pages, as far as a page shows its entries.
func bellowsPages(stick fs.FS, name string, each func(at string, e fs.DirEntry) error) error {
	at, entries, err := folder(stick, name)
	if err != nil {
		return err
	}
	show := func(at string, entries []fs.DirEntry) error {
		slices.SortFunc(entries, func(a, b fs.DirEntry) int {
			return cmp.Or(strings.Compare(strings.ToLower(a.Name()), strings.ToLower(b.Name())),
				strings.Compare(a.Name(), b.Name()))
		})
		for _, e := range entries[:min(len(entries), bellowsEntries)] {
			if err := each(at, e); err != nil {
				return err
			}
		}
		return nil
	}
	var shown, pages []fs.DirEntry
	for _, e := range entries {
		if e.IsDir() && bellowsPage.MatchString(e.Name()) {
			pages = append(pages, e)
		} else {
			shown = append(shown, e)
		}
	}
	if err := show(at, shown); err != nil {
		return err
	}
	for _, p := range pages {
		entries, err := fs.ReadDir(stick, path.Join(at, p.Name()))
		if err != nil {
			return err
		}
		if err := show(path.Join(at, p.Name()), entries); err != nil {
			return err
		}
	}
	return nil
}
