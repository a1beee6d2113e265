package check

import (
	"fmt"
	"path"
	"slices"

	"polytome/internal/core/fix"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/saves"
	"polytome/internal/core/settings"
	"polytome/internal/target"
)

// findSaves finds what belongs to the players: it is no game, whatever its name.
func (y *loaderAudit) findSaves() {
	y.players = map[string]bool{}
	if y.reached = saves.Find(y.profile, y.on, y.tree.entries); y.at.Apart {
		y.reached = nil
	}
	for i := range y.reached {
		for _, f := range y.reached[i].Files {
			file := path.Join(y.reached[i].Path, f.Path)
			y.players[y.tree.fold(file)] = true
			y.claim(file)
		}
	}
}

// saves looks at what belongs to the players: whose it is, whether it has the name that the loader looks for, and
// whether the cards are there that titles are set to use.
func (y *loaderAudit) saves() {
	if len(y.profile.Saves) == 0 {
		return
	}
	found := y.reached
	wants := map[string]*line{} // folded path -> the line that looks there
	for _, l := range y.lines {
		for _, at := range saves.Paths(y.profile, y.at, l.Platform, []loader.Values{*y.values(l)}) {
			wants[y.tree.fold(at)] = l
		}
	}
	has := map[string]bool{}
	for i := range found {
		has[y.tree.fold(found[i].Path)] = true
	}
	cards := y.cards()
	for i := range found {
		s := &found[i]
		key := y.tree.fold(s.Path)
		switch f := (Finding{Kind: Save, Grade: Remark, Path: s.Path}); {
		case s.Odd != "":
			f.Grade, f.Say, f.Remedy = Fault, s.Odd, "put a kept version back: polytome saves list, and restore"
			f.Matters = "the console will not read it, or begin from the start"
			y.report(f)
		case s.Shared && cards != nil && cards[key] == nil:
			f.Say, f.Remedy = "it is a card for several titles, and no title here uses it",
				"link titles with it under Saves, or leave it"
			y.report(f)
		case !s.Shared && wants[key] == nil:
			y.orphan(s, wants, has)
		}
	}
}

// orphan describes a save that no title looks for: it may have the name that a title had before.
func (y *loaderAudit) orphan(s *saves.Save, wants map[string]*line, has map[string]bool) {
	f := Finding{Kind: Save, Grade: Remark, Path: s.Path, Say: "it is a save, but no title here has that name",
		Remedy: "leave it in case the title returns; polytome saves keep copies it to this computer"}
	for _, l := range y.lines {
		for _, at := range saves.Paths(y.profile, y.at, l.Platform, []loader.Values{*y.values(l)}) {
			if has[y.tree.fold(at)] || wants[y.tree.fold(at)] != l || path.Dir(at) != path.Dir(s.Path) {
				continue
			}
			if why := nearly(path.Base(s.Path), path.Base(at)); why != "" {
				f.Grade = Fault
				f.Say = fmt.Sprintf("it is a save that %s will not find, as it looks for %s: %s", l.Name,
					path.Base(at), why)
				f.Matters = "the player would begin from the start"
				f.Remedy, f.Fixes = "give it the name that is looked for",
					[]fix.Fix{{Do: fix.Rename, Path: s.Path, To: at, Why: "so that the title finds its save"}}
				y.report(f)
				return
			}
		}
	}
	y.report(f)
}

// cards are the shared saves that titles are set to use, by their folded paths, with those that use them. It is nil
// where that was not looked at. One that is not there is reported.
func (y *loaderAudit) cards() map[string][]*line {
	if y.o.Depth == Names {
		return nil
	}
	used := map[string][]*line{}
	for i := range y.profile.Saves {
		r := &y.profile.Saves[i]
		if r.Link.Key == "" || !r.Holds(y.on) {
			continue
		}
		for _, l := range y.lines {
			if !slices.Contains(r.Platforms, l.Platform) {
				continue
			}
			e, ok := y.tree.file(y.made(r.Link.File, y.values(l)))
			if !ok {
				continue
			}
			card := y.cardOf(r, e)
			if card == "" {
				continue
			}
			key := y.tree.fold(card)
			used[key] = append(used[key], l)
			if _, there := y.tree.file(card); !there && len(used[key]) == 1 {
				f := Finding{Kind: Card, Grade: Fault, Path: e.Path,
					Say:    fmt.Sprintf("%s is set to use the card %s, which is not here", l.Name, card),
					Remedy: "put a kept one back, make one under Saves, or take " + r.Link.Key + " out of the file"}
				if r.MadeBy != "" {
					f.Say += fmt.Sprintf(": the %s makes it at the next start, empty", r.MadeBy)
					f.Remedy = "put a kept one back where something was reached; else leave it"
				}
				y.report(f)
			}
		}
	}
	return used
}

// cardOf is the path of the shared save that a file with a title's settings names; "" for none.
func (y *loaderAudit) cardOf(r *loader.SaveRule, e *target.Entry) string {
	text, err := y.tree.text(e)
	if err != nil { // reported where its companion is looked at
		return ""
	}
	name := settings.Text(layout.Decoded("", text), settings.Syntax(r.Link.Syntax), "", r.Link.Key)
	if name == "" {
		return ""
	}
	return y.at.Cased(r.Card(name))
}
