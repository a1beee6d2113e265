package treeview

import (
	"slices"
	"strings"

	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/core/plan"
	"polytome/internal/core/shape"
	"polytome/internal/core/survey"
	"polytome/internal/place"
)

// State is what becomes of a file or folder.
type state string

const (
	kept      state = "kept"
	fresh     state = "new"
	written   state = "written" // by Polytome, from a rule
	renamed   state = "renamed"
	replaced  state = "replaced"
	leaving   state = "leaving"
	leftover  state = "leftover"
	inTheWay  state = "in the way"
	contested state = "yours" // a person and a rule have changed it to different things
)

// line is one file or folder of the merged tree.
type line struct {
	path   string
	folder bool
	size   int64
	state  state
	rule   string // why it is there, a plain sentence
	title  int    // index of the title that it is for, -1 for none
	from   string // where it lies now, of one that is renamed
	there  bool   // it is on the place now, under this path
	order  string // by which the tree is sorted
}

// lines merges what is on a place with what the plan makes of it.
func lines(s *survey.Survey, sheet *fit.Sheet, p *plan.Plan) []line {
	fold := s.Facts.Filesystem.Fold
	byPath := make(map[string]*line, len(s.There)+len(p.Steps))
	all := make([]line, 0, len(s.There)+len(p.Steps))
	add := func(l line) *line {
		all = append(all, l)
		byPath[fold(l.path)] = &all[len(all)-1]
		return &all[len(all)-1]
	}
	holders := map[string]int{}
	rules := map[string]string{}
	for i := range s.Titles {
		pl := sheet.Placement(i)
		if pl.Refusal != nil {
			continue
		}
		for k := range pl.Items {
			if e, ok := sheet.At(pl.Items[k].Path); ok {
				if _, taken := holders[e.Path]; !taken || sheet.Chosen[i] {
					holders[e.Path], rules[e.Path] = i, pl.Because(&pl.Items[k])
				}
			}
		}
	}
	for _, e := range s.There {
		l := line{path: e.Path, folder: e.Folder, size: e.Size, state: kept, title: -1, there: true}
		i, held := holders[e.Path]
		switch {
		case !e.Folder && place.IsTemporary(e.Path):
			l.state, l.rule = leftover, "half a file from a broken-off run; the next run clears it"
		case held && sheet.Chosen[i]:
			l.title, l.rule = i, rules[e.Path]
			if sheet.Verdict(i).Kind == fit.Differs {
				l.state, l.rule = inTheWay, sheet.Explain(i).Say
			}
		case held:
			l.title, l.rule = i, "it is not wanted here, and stays all the same as long as nobody marks it"
		case e.Folder:
			l.rule = "was there before, and stays"
		case owned(sheet, e.Path):
			l.rule = "it lies where the loader has files of titles, and belongs to none of your games; it stays"
		default:
			l.rule = "no loader of this place knows it; it stays"
		}
		if say, ok := s.Conflicts[e.Path]; ok {
			l.state, l.rule = contested, say
		}
		add(l)
	}
	keys := map[string]int{}
	for i := range s.Titles {
		if sheet.Chosen[i] {
			keys[s.Titles[i].Key] = i
		}
	}
	index := func(key string) int {
		if i, ok := keys[key]; ok {
			return i
		}
		return -1
	}
	for k := range p.Steps {
		step := &p.Steps[k]
		switch step.Kind {
		case plan.Remove, plan.RemoveFolder:
			if l := byPath[fold(step.Path)]; l != nil {
				l.state, l.rule = leaving, step.Why
			}
		case plan.Move:
			if l := byPath[fold(step.From)]; l != nil {
				carry(all, l, step, index(step.Title))
			}
		case plan.MakeFolder:
			add(line{path: step.Path, folder: true, state: fresh, rule: step.Why, title: -1})
		case plan.Put, plan.Replace:
			st := fresh
			if step.Kind == plan.Replace {
				st = replaced
			}
			if step.Make.Shape == shape.Written || step.Make.Shape == shape.Fitted || step.Make.Shape == shape.Set || step.Make.Shape == shape.Sheet {
				st = written
			}
			rule := step.Why
			if told := step.Make.Tell(); told != "" {
				rule += "; " + told
			}
			if l := byPath[fold(step.Path)]; l != nil {
				l.state, l.rule, l.size, l.title = st, rule, step.Size, index(step.Title)
				continue
			}
			add(line{path: step.Path, size: step.Size, state: st, rule: rule, title: index(step.Title)})
		}
	}
	for i := range all { // what is in a folder comes right behind it
		all[i].order = strings.ReplaceAll(fold(all[i].path), "/", "\x00")
	}
	slices.SortStableFunc(all, func(a, b line) int { return strings.Compare(a.order, b.order) })
	return all
}

// carry gives a file its new path in the tree, and a folder with all that is in it.
func carry(all []line, l *line, step *plan.Step, title int) {
	from := l.path
	for k := range all {
		x := &all[k]
		rest, below := strings.CutPrefix(x.path, from+"/")
		if x != l && (!l.folder || !below) {
			continue
		}
		x.from, x.state, x.title, x.there = x.path, renamed, title, false
		x.path = step.Path
		if below {
			x.path += "/" + rest
		}
		x.rule = "it is there already, as " + x.from + ", and is renamed, not copied: " + step.Why
	}
}

func owned(sheet *fit.Sheet, file string) bool {
	for _, l := range sheet.Loaders() {
		on := ""
		if at := l.Tree.Target().Attachment; at != nil {
			on = at.Name
		}
		if layout.Owns(l.Profile, on, file) {
			return true
		}
	}
	return false
}
