package survey

import (
	"slices"
	"strings"

	"polytome/internal/core/bench"
	"polytome/internal/core/saves"
	"polytome/internal/core/title"
)

// SavesOf are the saves of one title, or a card that several titles share, wherever they are.
type SavesOf struct {
	Key    string
	Label  string
	Shared bool
	Places []SavePlace     // on targets, in their order
	Kept   []saves.Version // in the vault, the newest first
	// Tips are the versions that nothing newer came of: with more than one, somebody played on in two places.
	Tips []saves.Version
}

// A SavePlace is a save on a target.
type SavePlace struct {
	ID bench.ID // of the target
	On string   // its name
	Reached
	// Owners are the titles that it belongs to: their numbers in [Reached] are those of the look.
	Owners []Owner
	// Standing is how it compares with the same title's saves elsewhere.
	Standing Standing
}

// An Owner is a title that a save belongs to.
type Owner struct{ Key, Label string }

// Standing is how a save on a target compares with the others of the same title.
type Standing string

// The standings.
const (
	OnlyHere Standing = "only here"        // not kept, and on no other target
	Unkept   Standing = "not kept yet"     // or changed since
	Newest   Standing = "newest"           // nothing newer is known
	Older    Standing = "older"            // a newer one came of it
	Parted   Standing = "played on in two" // another one is as new, and neither came of the other
)

// Once reports whether what a player has reached is in one place alone.
func (g *SavesOf) Once() bool {
	return len(g.Places) == 1 && g.Places[0].State != saves.IsKept && len(g.Kept) == 0
}

// Saves are all saves of all targets and of the vault, by title, in the order of their names.
func (b Board) Saves(kept []saves.Version) (out []SavesOf) {
	by := map[string]int{}
	of := func(key, label string, shared bool) *SavesOf {
		i, known := by[key]
		if !known {
			i = len(out)
			by[key], out = i, append(out, SavesOf{Key: key, Label: label, Shared: shared})
		}
		return &out[i]
	}
	versions := saves.ByKey(kept)
	var titles []title.Title
	for _, s := range b {
		if s == nil {
			continue
		}
		titles = s.Titles
		for _, r := range s.Saves() {
			label := named(s.Titles, r.Of)
			if len(r.Titles) == 1 && !r.Shared {
				label = s.Titles[r.Titles[0]].Label()
			}
			g := of(r.Key(), label, r.Shared)
			if r.Shared {
				g.Label = "card " + cardName(r.Path)
			}
			r.State, r.Kept = saves.NotKept, 0
			var v *saves.Version
			if r.State, v = saves.Compare(versions[g.Key], s.place().ID, &r.Save); v != nil {
				r.Kept = v.Number
			}
			at := SavePlace{ID: s.Config.ID(), On: s.Config.Name, Reached: r}
			for _, i := range r.Titles {
				at.Owners = append(at.Owners, Owner{s.Titles[i].Key, s.Titles[i].Label()})
			}
			g.Places = append(g.Places, at)
		}
	}
	for key, all := range versions {
		v := &all[len(all)-1]
		label := named(titles, v.Of)
		if v.Shared {
			label = "card " + cardName(v.Path)
		}
		g := of(key, label, v.Shared)
		g.Kept = slices.Clone(all)
		slices.Reverse(g.Kept)
		g.Tips = saves.Tips(all)
	}
	for i := range out {
		out[i].compare()
	}
	slices.SortStableFunc(out, func(a, b SavesOf) int {
		return strings.Compare(strings.ToLower(a.Label), strings.ToLower(b.Label))
	})
	return out
}

// named is the name of the title whose ID a save has, else what the save says.
func named(titles []title.Title, of string) string {
	for i := range titles {
		if of != "" && strings.EqualFold(titles[i].ID, of) {
			return titles[i].Label()
		}
	}
	return of
}

// compare says of each place how it stands.
func (g *SavesOf) compare() {
	for k := range g.Places {
		p := &g.Places[k]
		switch {
		case g.Once():
			p.Standing = OnlyHere
		case p.State != saves.IsKept:
			p.Standing = Unkept
		default:
			p.Standing = Older
			i := slices.IndexFunc(g.Kept, func(v saves.Version) bool { return v.Number == p.Kept })
			if i >= 0 && slices.ContainsFunc(g.Tips, func(v saves.Version) bool { return v.Holds(&g.Kept[i]) }) {
				p.Standing = Newest
				if len(g.Tips) > 1 {
					p.Standing = Parted
				}
			}
		}
	}
}
