package sim

import (
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
)

// An ownGame is a game that is in the console itself.
type ownGame struct {
	id, name    string
	north, east bool
}

// builtIn are the games that are built into the models of the Pipit Mini; see docs/consoles/pipit-mini-bellows.md.
var builtIn = []ownGame{
	{"LAP_05001", "Alder Weir", true, true},
	{"LAP_05037", "Amber Locks", false, true},
	{"LAP_05038", "Bell Meadow", false, true},
	{"LAP_05002", "Brass Heron", true, true},
	{"LAP_05003", "Candle Reach", true, true},
	{"LAP_05039", "Copper Lamps", false, true},
	{"LAP_05004", "Drift & Tally", true, true},
	{"LAP_05040", "Dune Postal", false, true},
	{"LAP_05005", "Eleven Oars", true, true},
	{"LAP_05006", "Fallow Signal", true, true},
	{"LAP_05007", "Garland Bay", true, true},
	{"LAP_05008", "Hush of Reeds", true, true},
	{"LAP_05011", "Ivory Slipway", true, false},
	{"LAP_05012", "Juniper Ledger", true, false},
	{"LAP_05013", "Kettle Point", true, false},
	{"LAP_05014", "Lantern Steps", true, false},
	{"LAP_05015", "Mill Lane Derby", true, false},
	{"LAP_05016", "North Pier Nights", true, false},
	{"LAP_05017", "Otter and Key", true, false},
	{"LAP_05018", "Parish Kites", true, false},
	{"LAP_05019", "Quill Race", true, false},
	{"LAP_05031", "Salt Parade", false, true},
	{"LAP_04420", "Saltmarsh Symphony", true, false},
	{"LAP_05032", "Tin Orchard", false, true},
	{"LAP_05033", "Umber Gate", false, true},
	{"LAP_05034", "Velvet Tram", false, true},
	{"LAP_05035", "Wharf Choir", false, true},
	{"LAP_05036", "Yarrow Circus", false, true},
}

// bellowsMost is how many titles the console's list holds.
const bellowsMost = 150

// BellowsModel is the add-on on a model of the Pipit Mini, with the games that are built into that.
type BellowsModel struct {
	East bool // or North
}

// List reads a stick.
func (m BellowsModel) List(stick fs.FS) (*Listing, error) {
	added, err := Bellows{}.List(stick)
	if err != nil {
		return nil, err
	}
	own := slices.Clone(builtIn)
	if at, files, err := folder(stick, "bellows"); err == nil && spelled(files, "own.lst") != "" {
		text, err := fs.ReadFile(stick, path.Join(at, spelled(files, "own.lst")))
		if err != nil {
			return nil, err
		}
		for _, line := range linesOf(string(text)) {
			if id, name, ok := strings.Cut(strings.TrimSpace(line), " "); ok {
				own = append(own, ownGame{id, strings.TrimSpace(name), true, true})
			}
		}
		slices.SortStableFunc(own, func(a, b ownGame) int {
			return strings.Compare(strings.ToLower(a.name), strings.ToLower(b.name))
		})
	}
	l := &Listing{Games: []Game{}, Passed: added.Passed, Faces: added.Faces}
	for _, b := range own {
		hidden := slices.ContainsFunc(added.Games, func(g Game) bool { return lapwingID(stick, g) == b.id })
		if !hidden && (m.East && b.east || !m.East && b.north) {
			l.Games = append(l.Games, Game{ID: b.id, Title: b.name, Starts: true})
		}
	}
	for _, g := range added.Games {
		if len(l.Games) < bellowsMost {
			l.Games = append(l.Games, g)
		} else {
			l.pass(g.Path, "the list is full")
		}
	}
	return l, nil
}

// lapwingID is the ID of the disc in a title's folder, where its first sheet's data track has one; "" for none.
func lapwingID(stick fs.FS, g Game) string {
	if !strings.HasPrefix(strings.ToLower(g.Path), "titles/") {
		return ""
	}
	files, err := fs.ReadDir(stick, g.Path)
	if err != nil {
		return ""
	}
	for _, f := range files {
		if !strings.EqualFold(path.Ext(f.Name()), ".bin") {
			continue
		}
		if b, err := fs.ReadFile(stick, path.Join(g.Path, f.Name())); err == nil {
			if id := lapAnywhere.Find(b); id != nil {
				return string(id)
			}
		}
	}
	return ""
}

// lapAnywhere is a volume identifier in a track.
var lapAnywhere = regexp.MustCompile(`LAP_[0-9]{5}`)
