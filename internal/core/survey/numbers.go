package survey

import (
	"maps"
	"slices"

	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/target"
)

// choose takes over which titles are wanted. Where paths have running numbers, these follow from the choice, and the
// titles are judged again for them.
func (s *Survey) choose(wants func(i int) bool) {
	if s.takes != nil {
		chosen := wants
		wants = func(i int) bool { return chosen(i) && s.takes(i) }
	}
	if len(s.deleted) > 0 {
		chosen := wants
		wants = func(i int) bool { return chosen(i) && !s.Gone(i) }
	}
	s.number(wants)
	s.Sheet.SetGone(s.Gone)
	s.Sheet.Choose(wants)
}

// number gives titles the running numbers that follow from what is on the target and what is wanted.
func (s *Survey) number(wants func(i int) bool) {
	loaders, found, any := slices.Clone(s.Sheet.Loaders()), maps.Clone(s.found), false
	if found == nil {
		found = map[int][]string{}
	}
	for k := range loaders {
		tree := loaders[k].Tree
		if !tree.Numbered() {
			continue
		}
		n := s.numbering(tree, wants)
		now, was := tree.Number(n), tree.Number(layout.Numbering{Held: n.Held, Counts: func(int) bool { return false }})
		for i := range n.Held {
			delete(found, i)
			if had := s.renumbered(&was.Placements[i], &now.Placements[i]); had != nil {
				found[i] = had
			}
		}
		loaders[k].Tree, any = now, true
	}
	if any {
		s.Sheet = s.Sheet.Again(loaders, found)
	}
}

// numbering reads which numbers are in use on the target.
func (s *Survey) numbering(tree *layout.Tree, wants func(i int) bool) layout.Numbering {
	n := layout.Numbering{Counts: wants, Held: map[int]int{}, Taken: map[string]map[int]bool{}}
	var paths []string
	for _, e := range s.There {
		if _, leaves := s.Sheet.Leaves(e); !leaves && !e.Folder && !target.IsTemporary(e.Path) {
			paths = append(paths, e.Path)
		}
	}
	take := func(folder string, number int) {
		if n.Taken[folder] == nil {
			n.Taken[folder] = map[int]bool{}
		}
		n.Taken[folder][number] = true
	}
	for _, x := range tree.NumbersAt(paths) {
		switch {
		case x.Title < 0: // of nobody's that is known
			take(x.Folder, x.Number)
		case !wants(x.Title) && s.Config.DeleteOthers: // it leaves
		case n.Held[x.Title] == 0:
			n.Held[x.Title] = x.Number
		case n.Held[x.Title] != x.Number: // it is there twice
			take(x.Folder, x.Number)
		}
	}
	for i := range n.Held {
		if n.Held[i] > 0 && !wants(i) {
			for d := range tree.Takes(i) {
				take(tree.FolderOf(i), n.Held[i]+d)
			}
		}
	}
	return n
}

// renumbered is where the files of a title are that get another number: for each item its path, "" for one that has to
// be written; nil where none is there under the old number, or all have the right one.
func (s *Survey) renumbered(was, now *layout.Placement) []string {
	if len(was.Items) != len(now.Items) {
		return nil
	}
	out, any := make([]string, len(now.Items)), false
	for k := range was.Items {
		if was.Items[k].Path != now.Items[k].Path && s.Sheet.Holding(&was.Items[k]) && !s.Sheet.Holding(&now.Items[k]) {
			out[k], any = was.Items[k].Path, true
		}
	}
	if !any {
		return nil
	}
	return out
}

// renumbering is how many of the chosen titles get another number than they have.
func renumbering(sheet *fit.Sheet) (n int) {
	for i := range sheet.Titles() {
		if sheet.Chosen[i] && sheet.Verdict(i).Kind == fit.Renamed && sheet.Loader(i).Tree.Renumbered(i) {
			n++
		}
	}
	return n
}
