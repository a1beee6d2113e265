// Package plan turns what is wanted on a target, and what is there, into the
// steps between the two. It is pure, and a plan is plain data.
package plan

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"polytome/internal/core/fit"
	"polytome/internal/core/fix"
	"polytome/internal/core/saves"
	"polytome/internal/core/shape"
	"polytome/internal/size"
	"polytome/internal/target"
)

// Kind is what a step does.
type Kind string

const (
	Clear        Kind = "clear"         // remove a temporary file that an interrupted run left
	Backup       Kind = "backup"        // copy a file that will go to a folder of this computer
	Remove       Kind = "remove"        // remove a file
	RemoveFolder Kind = "remove-folder" // remove a folder that is empty by then
	MakeFolder   Kind = "folder"        // make a folder
	Move         Kind = "move"          // give a file or folder another path
	Copy         Kind = "copy"          // write a file that is not there
	Replace      Kind = "replace"       // write a file over one that is there
)

// Kinds are all kinds of steps, in the order in which they are reported.
var Kinds = []Kind{Clear, Backup, Remove, MakeFolder, Move, Copy, Replace, RemoveFolder}

// Words are what a step of the kind does, for a column.
func (k Kind) Words() string {
	return map[Kind]string{Clear: "clear", Backup: "back up", Remove: "remove", RemoveFolder: "rm folder",
		MakeFolder: "make folder", Move: "rename", Copy: "copy", Replace: "replace"}[k]
}

// A Step is one thing to do on the target.
type Step struct {
	id   int    // while the plan is made: what it is needed by
	Kind Kind   `json:"do"`
	Path string `json:"path"`
	// From is where a file is that is moved.
	From  string `json:"from,omitempty"`
	Title string `json:"title,omitempty"` // key of the title that it is for
	Label string `json:"label,omitempty"` // the title's name for people
	// Why is the rule or mark that it is for, a plain sentence.
	Why string `json:"why,omitempty"`
	// Size is the bytes of the file; one that is written may turn out smaller, see [shape.Spec.AtMost].
	Size int64 `json:"size,omitempty"`
	// Make is what the bytes of a file that is written are made of.
	Make *shape.Spec `json:"make,omitempty"`
	// Space is by how many bytes the target fills; negative where it empties.
	Space int64 `json:"space,omitempty"`
	// Was is what is there while the plan is made: at From for a move, else at Path. The step is not
	// done when it is something else by then.
	Was *target.Entry `json:"was,omitempty"`
	// Needs are the numbers of steps without which this one is not done.
	Needs []int `json:"needs,omitempty"`
	// Merged is set for a text that keeps what a person has changed in it: nothing is lost.
	Merged bool `json:"merged,omitempty"`
	// Wanted is what the rule of a merged text wants, which is remembered as written; "" while a conflict is open.
	Wanted shape.Text `json:"wanted,omitempty"`
	// Remade is set for a picture that a run has made, and that is made again of another source or by another rule:
	// nothing is lost.
	Remade bool `json:"remade,omitempty"`
	// Fix is set for what fixes a finding of the check.
	Fix bool `json:"fix,omitempty"`
	// Last is set for what names files of other steps: it is done only when nothing before it failed.
	Last bool `json:"last,omitempty"`
}

// Words are what the step does, for a column: of a file that is brought into another shape, that.
func (s *Step) Words() string {
	if s.Kind == Copy && s.Make.Shape != shape.Whole {
		return shape.Of(s.Make.Shape).Word
	}
	return s.Kind.Words()
}

// Writes reports whether the step writes a file to the target.
func (s *Step) Writes() bool { return s.Kind == Copy || s.Kind == Replace }

// A Left is a chosen title that cannot go, with the reason.
type Left struct {
	Title string          `json:"title"` // its key
	Label string          `json:"label"`
	Why   fit.Explanation `json:"why"`
}

// A Plan is the steps that make a target hold what is wanted, and what is
// wanted but cannot be.
type Plan struct {
	Steps    []Step `json:"steps"`
	Files    int    `json:"files"`               // to be written
	Bytes    int64  `json:"bytes"`               // in those files
	Titles   int    `json:"titles"`              // of which files are written
	Moves    int    `json:"moves,omitempty"`     // files and folders that get another path
	Removes  int    `json:"removes,omitempty"`   // files that go
	Freed    int64  `json:"freed,omitempty"`     // bytes in those
	Kept     int    `json:"kept,omitempty"`      // files that are copied to this computer first
	BackupTo string `json:"backup-to,omitempty"` // the folder that they are copied to
	There    int    `json:"there"`               // chosen titles that are there already
	Refers   bool   `json:"refers,omitempty"`    // files stay where they are, and are read from there
	// Shaping is how many seconds it takes to bring files into their shapes, on the processors that were reported.
	Shaping float64 `json:"-"`
	Left    []Left  `json:"left,omitempty"`
	// Saves are versions of saves that come along with titles, with the paths that they get.
	Saves []saves.Version `json:"saves,omitempty"`
	// Notes are what else is to be known, in sentences.
	Notes []string `json:"notes,omitempty"`
}

// Say tells in a few words what a plan does.
func (p *Plan) Say() string {
	var out []string
	if p.Files > 0 || len(p.Steps) == 0 {
		do := "write"
		if p.Refers {
			do = "lay out"
		}
		out = append(out, fmt.Sprintf("%s to %s, %s", size.Count(p.Files, "file"), do, size.Format(p.Bytes)))
	}
	if p.Moves > 0 {
		out = append(out, fmt.Sprintf("%d to rename", p.Moves))
	}
	if p.Removes > 0 {
		out = append(out, fmt.Sprintf("%s to remove, %s", size.Count(p.Removes, "file"), size.Format(p.Freed)))
	}
	if p.Kept > 0 {
		out = append(out, fmt.Sprintf("%s to back up first", size.Count(p.Kept, "file")))
	}
	if len(out) == 0 {
		return size.Count(len(p.Steps), "step") + " to tidy up"
	}
	return strings.Join(out, ", ")
}

// Loses counts the files that a plan removes or writes over, but for those of which everything stays that is not ours.
func (p *Plan) Loses() (n int) {
	if p.Refers { // what goes is nowhere but where it lies
		return 0
	}
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Kind == Remove || s.Kind == Replace && !s.Merged && !s.Remade && !s.Fix {
			n++
		}
	}
	return n
}

// Stays says what becomes of the rest of the target.
func (p *Plan) Stays() string {
	if p.Removes > 0 {
		return "unmarked files stay"
	}
	return "existing files stay"
}

// Empty reports whether there is nothing to do.
func (p *Plan) Empty() bool { return len(p.Steps) == 0 }

// Idle says why there is nothing to do, in a clause: that all is there is said only where it is.
func (p *Plan) Idle() string {
	left := ""
	if n := len(p.Left); n > 0 {
		left = fmt.Sprintf("%s do not fit, first %s (%s)", size.Count(n, "wanted title"), p.Left[0].Label,
			p.Left[0].Why.Verdict)
	}
	switch {
	case left == "" && p.There == 0:
		return "no title is selected for it"
	case left == "":
		return "everything selected is already there"
	case p.There == 0:
		return left
	}
	return fmt.Sprintf("%s already there, %s", size.Count(p.There, "title"), left)
}

// Without is the plan without the steps that are done.
func (p *Plan) Without(done func(step int) bool) *Plan {
	rest := &Plan{BackupTo: p.BackupTo, There: p.There, Refers: p.Refers, Left: p.Left, Notes: p.Notes}
	number := make(map[int]int, len(p.Steps))
	for i, s := range p.Steps {
		if done(i) {
			continue
		}
		number[i] = len(rest.Steps)
		needs := s.Needs
		s.Needs = nil
		for _, n := range needs {
			if at, ok := number[n]; ok {
				s.Needs = append(s.Needs, at)
			}
		}
		rest.Steps = append(rest.Steps, s)
	}
	rest.count()
	return rest
}

// OnlyCovers is what of the plan writes pictures of titles that are there already, and the folders for them: a run of
// its own, without the games.
func (p *Plan) OnlyCovers() *Plan {
	keep := make([]bool, len(p.Steps))
	folders := map[string]bool{}
	for i := range p.Steps {
		s := &p.Steps[i]
		if !s.Writes() || s.Make.Shape != shape.Fitted || s.Fix || slices.ContainsFunc(s.Needs,
			func(n int) bool { return p.Steps[n].Kind != MakeFolder && p.Steps[n].Kind != Backup }) {
			continue
		}
		keep[i] = true
		for dir := path.Dir(s.Path); dir != "."; dir = path.Dir(dir) {
			folders[dir] = true
		}
	}
	for i := range p.Steps {
		keep[i] = keep[i] || p.Steps[i].Kind == MakeFolder && folders[p.Steps[i].Path]
	}
	out := p.Without(func(i int) bool { return !keep[i] })
	out.Left = nil
	return out
}

// count sums the steps up.
func (p *Plan) count() {
	last := ""
	titles := make(map[string]bool, len(p.Steps)/2)
	for i := range p.Steps {
		s := &p.Steps[i]
		switch {
		case s.Writes():
			p.Files++
			p.Bytes += s.Size
			if s.Title != "" && s.Title != last { // they come one after another
				last = s.Title
				titles[last] = true
			}
		case s.Kind == Move:
			p.Moves++
		case s.Kind == Remove:
			p.Removes++
			p.Freed += s.Size
		case s.Kind == Backup:
			p.Kept++
		}
	}
	p.Titles = len(titles)
}

// Options are how to plan.
type Options struct {
	// Texts are the contents of files on the target that are made from what is chosen, by their paths
	// as the target spells them.
	Texts map[string]string
	// Last are those texts as a run wrote them last, as far as that is remembered: what is not in them someone else
	// made.
	Last map[string]string
	// Fixes are what fixes findings of the check.
	Fixes []fix.Fix
	// BackupTo is a folder of this computer to which files are copied before they go; "" for none.
	BackupTo string
	// Processors are how many there are to bring files into their shapes.
	Processors int
	// Updates are texts on the target that shall say something else, merged with what a person made of them.
	Updates []Update
	// Saves are what belongs to the players of titles.
	Saves []Save
}

// An Update is a text or picture that is on the target and is written again.
type Update struct {
	Title int // index; -1 for one of the loader's own
	Path  string
	Text  string
	// Wanted is what the rule wants; "" while a conflict is open.
	Wanted string
	// Make is what a picture is made of that a run made of something else; nil for texts.
	Make *shape.Spec
	Why  string
}

// Make plans for the chosen titles of a sheet.
//
// Leftovers are cleared first, and what goes is copied to safety. Then comes space, as far as it is
// needed; then folders and new names for what is there; then large files before small ones, so that they find
// free runs while there are some; then what is written for titles, and the lists of them, so that a run
// that is interrupted never names what is not there. What may leave later leaves last.
func Make(sheet *fit.Sheet, o Options) *Plan {
	m := &maker{plan: &Plan{}, sheet: sheet, facts: sheet.Facts(), o: o, dirs: map[string]string{".": "."},
		carried: map[int]bool{}}
	m.sanitize()
	m.titles()
	m.saves()
	m.startFiles()
	m.updates()
	m.removing()
	m.lists() // by what stays
	m.fixes()
	return m.order()
}
