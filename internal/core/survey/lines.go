package survey

import (
	"slices"
	"strings"

	"polytome/internal/core/fit"
	"polytome/internal/core/plan"
	"polytome/internal/core/shape"
	"polytome/internal/target"
)

// State is what becomes of a file or folder.
type State string

const (
	Kept      State = "kept"
	New       State = "new"
	Written   State = "written" // by Polytome, from a rule
	Renamed   State = "renamed"
	Replaced  State = "replaced"
	Removing  State = "removed"
	Leftover  State = "leftover" // of an interrupted run
	InTheWay  State = "in the way"
	Contested State = "yours" // a person and a rule have changed it to different things
)

// A Line is one file or folder of what a target holds and will hold.
type Line struct {
	Path   string `json:"path"`
	Folder bool   `json:"folder,omitempty"`
	Size   int64  `json:"size"` // in bytes
	State  State  `json:"state"`
	Rule   string `json:"rule"`           // why it is there, a plain sentence
	Title  int    `json:"title"`          // index of the title that it is for, -1 for none
	From   string `json:"from,omitempty"` // where it lies now, of one that is renamed
	There  bool   `json:"there"`          // it is on the target now, under this path

	order string // by which the tree is sorted
}

// Lines merges what is on the target with what a plan makes of it: what is in a folder comes right behind it. The sheet
// is the one that the plan is for, or a clone of it.
func (s *Survey) Lines(sheet *fit.Sheet, p *plan.Plan) []Line {
	fold := s.Facts.Filesystem.Fold
	byPath := make(map[string]*Line, len(s.There)+len(p.Steps))
	all := make([]Line, 0, len(s.There)+len(p.Steps))
	add := func(l Line) *Line {
		all = append(all, l)
		byPath[fold(l.Path)] = &all[len(all)-1]
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
		l := Line{Path: e.Path, Folder: e.Folder, Size: e.Size, State: Kept, Title: -1, There: true}
		i, held := holders[e.Path]
		switch {
		case !e.Folder && target.IsTemporary(e.Path):
			l.State, l.Rule = Leftover, "a half-written file of an interrupted run; the next run removes it"
		case held && sheet.Chosen[i]:
			l.Title, l.Rule = i, rules[e.Path]
			if sheet.Verdict(i).Kind == fit.Differs {
				l.State, l.Rule = InTheWay, sheet.Explain(i).Say
			}
		case held:
			l.Title, l.Rule = i, "it is not selected here, but stays unless you mark it"
		case e.Folder:
			l.Rule = "was there before, and stays"
		case sheet.Owns(e.Path):
			l.Rule = "it is where the loader keeps titles, but belongs to none of your games; it stays"
		default:
			l.Rule = "no loader of this target knows it; it stays"
		}
		if say, ok := s.Conflicts[e.Path]; ok {
			l.State, l.Rule = Contested, say
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
				l.State, l.Rule = Removing, step.Why
			}
		case plan.Move:
			if l := byPath[fold(step.From)]; l != nil {
				carry(all, l, step, index(step.Title))
			}
		case plan.MakeFolder:
			add(Line{Path: step.Path, Folder: true, State: New, Rule: step.Why, Title: -1})
		case plan.Copy, plan.Replace:
			st := New
			if step.Kind == plan.Replace {
				st = Replaced
			}
			if step.Make.Shape == shape.Written || step.Make.Shape == shape.Fitted || step.Make.Shape == shape.Set ||
				step.Make.Shape == shape.Sheet {
				st = Written
			}
			rule := step.Why
			if reported := step.Make.Emit(); reported != "" {
				rule += "; " + reported
			}
			if l := byPath[fold(step.Path)]; l != nil {
				l.State, l.Rule, l.Size, l.Title = st, rule, step.Size, index(step.Title)
				continue
			}
			add(Line{Path: step.Path, Size: step.Size, State: st, Rule: rule, Title: index(step.Title)})
		}
	}
	for i := range all { // what is in a folder comes right behind it
		all[i].order = strings.ReplaceAll(fold(all[i].Path), "/", "\x00")
	}
	slices.SortStableFunc(all, func(a, b Line) int { return strings.Compare(a.order, b.order) })
	return all
}

// carry gives a file its new path in the tree, and a folder with all that is in it.
func carry(all []Line, l *Line, step *plan.Step, title int) {
	from := l.Path
	for k := range all {
		x := &all[k]
		rest, below := strings.CutPrefix(x.Path, from+"/")
		if x != l && (!l.Folder || !below) {
			continue
		}
		x.From, x.State, x.Title, x.There = x.Path, Renamed, title, false
		x.Path = step.Path
		if below {
			x.Path += "/" + rest
		}
		x.Rule = "it is already there, as " + x.From + ", and is renamed, not copied: " + step.Why
	}
}
