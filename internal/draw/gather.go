package draw

import (
	"slices"
	"strings"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/connections"
	"polytome/internal/core/fit"
	"polytome/internal/core/journal"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/survey"
	"polytome/internal/core/title"
)

// ShownBy calls platforms as a set of profiles does.
func ShownBy(set *loader.Set) Shown {
	return func(name string) string {
		if p := set.Platform(name); p != nil {
			return p.Shown
		}
		return name
	}
}

// detail is what a target is, in a few words.
func detail(s *survey.Survey) string {
	of := "for " + s.Shown()
	if c := s.Carries(); c != "" {
		of = "carries the covers of " + c
	}
	return strings.Join([]string{s.Facts.Filesystem.Shown, s.Config.Via, of}, " · ")
}

// RackOf is the rack of a bench's targets. A target of the board that is nil could not be looked at.
func RackOf(b *bench.Bench, board survey.Board, set *loader.Set) Rack {
	r := Rack{Shown: ShownBy(set)}
	for n := range b.Targets {
		p := &b.Targets[n]
		v := Volume{Name: p.Name, Detail: p.Via, Capacity: int64(p.Capacity), Away: "it could not be read"}
		if n < len(board) && board[n] != nil {
			v = volumeIn(board[n])
		}
		v.Name, v.Reserve = p.Name, int64(p.Reserve)
		r.Targets = append(r.Targets, v)
	}
	return r
}

// volumeIn is a target as it is drawn.
func volumeIn(s *survey.Survey) Volume {
	v := Volume{Detail: detail(s), Capacity: s.Facts.Capacity, Unknown: s.Facts.Unknown,
		Kept: s.Sheet.Kept - s.Sheet.Released, Planned: s.Sheet.Planned}
	if s.Away != nil {
		v.Away = s.Away.Error()
	}
	leaves := map[int]bool{}
	for _, i := range s.Sheet.Unwanted() {
		leaves[i] = true
	}
	by := map[string]*Share{}
	for i := range s.Titles {
		verdict, chosen := s.Sheet.Verdict(i), s.Sheet.Chosen[i]
		is := verdict.Kind == fit.Present || verdict.Kind == fit.Renamed
		if verdict.Kind == fit.Foreign || leaves[i] || !chosen && !is {
			continue
		}
		sh := by[s.Titles[i].Platform]
		if sh == nil {
			sh = &Share{Platform: s.Titles[i].Platform}
			by[sh.Platform] = sh
		}
		switch {
		case is:
			sh.KeptTitles++
			sh.Kept += verdict.Space
		case verdict.Kind.Goes():
			sh.NewTitles++
			sh.Planned += verdict.Need
			sh.Kept += verdict.Space - verdict.Need
		default:
			v.OverTitles++
			v.Over += verdict.Need
		}
	}
	for _, sh := range by {
		if *sh != (Share{Platform: sh.Platform}) {
			v.Shares = append(v.Shares, *sh)
		}
	}
	slices.SortFunc(v.Shares, func(a, b Share) int { return strings.Compare(a.Platform, b.Platform) })
	return v
}

// holds are the titles that a target has after the next run, by their indexes.
func holds(s *survey.Survey) (out []int) {
	leaves := map[int]bool{}
	for _, i := range s.Sheet.Unwanted() {
		leaves[i] = true
	}
	for i := range s.Titles {
		kind := s.Sheet.Verdict(i).Kind
		if s.Sheet.Chosen[i] && kind.Goes() || kind == fit.Present && !leaves[i] {
			out = append(out, i)
		}
	}
	return out
}

// TreeOf is the tree of a target.
func TreeOf(s *survey.Survey, whole bool) Tree {
	t := Tree{Target: s.Config.Name, Detail: detail(s), Lines: s.Lines(s.Sheet, s.Plan()), Whole: whole}
	for _, i := range holds(s) {
		state := survey.New
		switch s.Sheet.Verdict(i).Kind {
		case fit.Present:
			state = survey.Kept
		case fit.Renamed:
			state = survey.Renamed
		case fit.Replaced:
			state = survey.Replaced
		}
		t.Titles = append(t.Titles, TreeTitle{s.Titles[i].Label(), layout.Common(s.Sheet.Placement(i)), state})
	}
	return t
}

// CardOf is the card of a target: what is on it after the next run. jpeg gives the picture of a title, nil for one
// without; the lines are what to do at the console.
func CardOf(s *survey.Survey, set *loader.Set, fold Fold, lines []string, jpeg func(t *title.Title) []byte) Card {
	c := Card{Target: s.Config.Name, Loader: s.Shown(), Detail: s.Facts.Filesystem.Shown + ", " +
		s.Facts.Space(s.Facts.Capacity), Steps: lines, Fold: fold, Shown: ShownBy(set)}
	if of := s.Carries(); of != "" {
		c.Loader = "covers of " + of
	} else if console := s.Profile.Console; console != "" {
		c.Loader += " on " + console
	}
	all := holds(s)
	if m := s.Model(); m != nil {
		c.Loader = s.Shown() + " on " + m.Shown
		for _, b := range s.BuiltIn() {
			if !slices.ContainsFunc(all, func(i int) bool { return s.Titles[i].ID == b.ID }) {
				c.Titles = append(c.Titles, CardTitle{Platform: m.Platform, Name: b.Name + builtIn, ID: b.ID})
			}
		}
	}
	for n, i := range all {
		t := &s.Titles[i]
		ct := cardTitle(t)
		if v := s.Sheet.Verdict(i); v.Space > 0 {
			ct.Size = v.Space
		}
		if jpeg != nil && n < mostCovered {
			ct.Cover = jpeg(t)
		}
		c.Titles = append(c.Titles, ct)
	}
	return c
}

func cardTitle(t *title.Title) CardTitle {
	return CardTitle{Platform: t.Platform, Name: t.Label(), ID: t.ID, Discs: len(t.Discs), Size: t.Size()}
}

// CollectionOf is a card of all titles, wherever they go.
func CollectionOf(name string, all []title.Title, set *loader.Set, fold Fold, jpeg func(t *title.Title) []byte) Card {
	c := Card{Target: name, Loader: "all titles", Fold: fold, Shown: ShownBy(set),
		Nothing: "There are no titles: the bench's folders with games are empty, or could not be read."}
	for i := range all {
		ct := cardTitle(&all[i])
		if jpeg != nil && i < mostCovered {
			ct.Cover = jpeg(&all[i])
		}
		c.Titles = append(c.Titles, ct)
	}
	return c
}

// builtIn stands behind the names of titles that are built into the console.
const builtIn = " (built in)"

// CardOfList is the card of a target by what its loaders list there, for one whose titles are in none of the bench's
// folders.
func CardOfList(s *survey.Survey, r *check.Report, set *loader.Set, fold Fold) Card {
	c := CardOf(s, set, fold, r.Checklist, nil)
	c.Titles, c.Nothing = nil, "The loader lists nothing here."
	for _, l := range r.Listed {
		name := l.Name
		if l.BuiltIn {
			name += builtIn
		}
		c.Titles = append(c.Titles, CardTitle{Platform: l.Platform, Name: name, ID: l.ID, Discs: l.Discs,
			Size: l.Size})
	}
	return c
}

// FitOf is the fit sheet of a board.
func FitOf(board survey.Board, set *loader.Set) FitSheet {
	f := FitSheet{Shown: ShownBy(set)}
	var columns []int
	for n, s := range board {
		if s == nil {
			continue
		}
		columns = append(columns, n)
		f.Targets = append(f.Targets, FitTarget{Name: s.Config.Name, Detail: s.Facts.Filesystem.Shown + ", " +
			s.Config.Via})
	}
	if len(columns) == 0 {
		return f
	}
	all := board[columns[0]].Titles
	for i := range all {
		t := &all[i]
		row := FitTitle{Platform: t.Platform, ID: t.ID, Name: t.Label(), Size: t.Size(), Cells: make([]FitCell,
			len(columns))}
		for k, n := range columns {
			v := board[n].Sheet.Verdict(i)
			if v.Kind == fit.Foreign {
				continue
			}
			row.Cells[k] = FitCell{Word: v.Word(), Wanted: board[n].Sheet.Chosen[i], Goes: v.Kind.Goes()}
		}
		home := slices.ContainsFunc(row.Cells, func(c FitCell) bool { return c.Wanted && c.Goes })
		for k, n := range columns { // reasons are reported only where they matter
			if c := &row.Cells[k]; c.Word != "" && !c.Goes && (c.Wanted || !home) {
				e := board.Explain(n, i)
				c.Say, c.Ways = e.Say, e.Words()
			}
		}
		f.Titles = append(f.Titles, row)
	}
	slices.SortStableFunc(f.Titles,
		func(a, b FitTitle) int { return strings.Compare(f.Shown.of(a.Platform), f.Shown.of(b.Platform)) })
	return f
}

// StepsOf is the checklist of a target, with the sheet of its cable where it has one.
func StepsOf(s *survey.Survey, lines []string, system string) Steps {
	st := Steps{Target: s.Config.Name, Detail: detail(s), Lines: lines, Ticked: survey.Ticked(&s.Config)}
	if c := s.Config.Cable; c != nil {
		console := s.Profile.Console
		if console == "" {
			console = "the console"
		}
		if sheet, err := connections.SheetOf(c, system, console, s.Config.At); err == nil {
			st.Cable = sheet
		}
	}
	return st
}

// RunsOf charts runs that are written down, the newest at each target of a bench. Those of other benches are left out,
// unless the bench is nil.
func RunsOf(runs []journal.Run, b *bench.Bench) (c RunChart) {
	if b == nil {
		for i := range runs {
			c.Lanes = append(c.Lanes, LaneOf(&runs[i]))
		}
		return c
	}
	for n := range b.Targets {
		if i := slices.IndexFunc(runs, func(r journal.Run) bool { return survey.Lies(&r, b, n) }); i >= 0 {
			c.Lanes = append(c.Lanes, LaneOf(&runs[i]))
		}
	}
	return c
}
