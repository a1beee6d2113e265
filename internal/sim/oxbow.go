package sim

import (
	"cmp"
	"io/fs"
	"path"
	"slices"
	"strings"
)

// Oxbow is the Tanager's front end, looking at a stick or share. See
// docs/consoles/tanager-oxbow.md.
type Oxbow struct{}

const oxbowLongest, oxbowSheet = 120, 110

var (
	oxbowPlatforms = []string{"corvane", "dulcimer", "lapwing", "meridian", "siskin", "skua", "skua-first", "vesper"}
	oxbowMarkers   = map[string]string{"corvane": "main.run", "meridian": "SYS/TITLE.JSON", "dulcimer": "*.prog"}
)

// List reads a stick or share.
func (Oxbow) List(stick fs.FS) (*Listing, error) {
	stick = about(stick)
	l := &Listing{}
	if v := about(stick); !v.called("OXBOW") || !v.is("fat32", "exfat", "share") {
		return l.sort(), nil
	}
	platforms := slices.Clone(oxbowPlatforms)
	for name := range cartridges {
		platforms = append(platforms, name)
	}
	slices.Sort(platforms)
	for _, platform := range platforms {
		at, entries, err := folder(stick, "oxbow/play/"+platform)
		if err != nil {
			return nil, err
		}
		before := len(l.Games)
		if _, cart := cartridges[platform]; cart {
			if entries, err = oxbowSections(stick, at, entries); err != nil {
				return nil, err
			}
		}
		for _, e := range entries {
			p := path.Join(at, e.Name())
			section := ""
			if in, ok := e.(oxbowIn); ok {
				p, section = path.Join(at, in.section, e.Name()), in.section
			}
			longest := oxbowLongest
			if platform == "lapwing" {
				longest = oxbowSheet
			}
			end := strings.ToLower(path.Ext(e.Name()))
			switch name := base(e.Name()); {
			case e.IsDir():
				if err := oxbowFolder(stick, l, p, e.Name(), platform); err != nil {
					return nil, err
				}
			case platform == "lapwing" && end == ".bin": // a track
			case end == ".hold": // what somebody reached
			case platform == "lapwing" && end != ".cue", !extOf(platform, end) && end != ".zip":
				l.pass(p, "no game of this platform")
			case len([]rune(name)) > longest || strings.ContainsAny(name, `<>:"|?*\`):
				l.pass(p, "a name that is not shown")
			case platform == "lapwing":
				l.add(name, p, "", tracksWhy(stick, p, entries, false))
			case platform == "meridian", platform == "dulcimer": // packages
				why := ""
				if info, err := e.Info(); err != nil || info.Size() == 0 {
					why = "it has no bytes"
				}
				l.add(name, p, "", why)
			default:
				l.add(name, p, "", gameWhy(stick, p, platform))
				l.Games[len(l.Games)-1].Section = section
			}
		}
		games := l.Games[before:]
		slices.SortStableFunc(games, func(a, b Game) int {
			return cmp.Or(last(a.Section == "", b.Section == ""),
				strings.Compare(strings.ToLower(a.Section), strings.ToLower(b.Section)),
				strings.Compare(strings.ToLower(a.Title), strings.ToLower(b.Title)))
		})
	}
	if l.Games == nil {
		l.Games = []Game{}
	}
	return l, nil
}

// oxbowIn is a file in a section of a platform.
type oxbowIn struct {
	fs.DirEntry
	section string
}

// oxbowSections are what is in the folder of a cartridge platform, and in its sections.
func oxbowSections(stick fs.FS, at string, entries []fs.DirEntry) (out []fs.DirEntry, err error) {
	for _, e := range entries {
		if !e.IsDir() {
			out = append(out, e)
			continue
		}
		in, err := fs.ReadDir(stick, path.Join(at, e.Name()))
		if err != nil {
			return nil, err
		}
		for _, f := range in {
			out = append(out, oxbowIn{f, e.Name()})
		}
	}
	return out, nil
}

// oxbowFolder lists a game that lies unpacked.
func oxbowFolder(stick fs.FS, l *Listing, at, name, platform string) error {
	marker, ok := oxbowMarkers[platform]
	if !ok || len([]rune(name)) > oxbowLongest || strings.ContainsAny(name, `<>:"|?*\`) {
		l.pass(at, "a folder that is not looked at")
		return nil
	}
	dir, entries, err := folder(stick, path.Join(at, path.Dir(marker)))
	if err != nil {
		return err
	}
	var found []string
	for _, e := range entries {
		if ok, _ := path.Match(strings.ToLower(path.Base(marker)), strings.ToLower(e.Name())); ok && !e.IsDir() {
			found = append(found, path.Join(dir, e.Name()))
		}
	}
	if len(found) == 0 {
		l.pass(at, "no game of this platform")
		return nil
	}
	b, err := fs.ReadFile(stick, found[0])
	if err != nil {
		return err
	}
	why := ""
	switch {
	case len(found) > 1:
		why = "there are several programs in it"
	case len(b) == 0:
		why = path.Base(found[0]) + " has no bytes"
	case platform == "corvane":
		why = mainRunWhy(b)
	case platform == "meridian":
		why = titleJSON(b, "")
	}
	l.add(name, at, "", why)
	return nil
}
