package state

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/fit"
	"polytome/internal/core/loader"
	"polytome/internal/core/survey"
	"polytome/internal/size"
)

// Want puts titles on a target's list or takes them off: all on when one of them
// was off, else all off.
func (d *State) Want(n int, titles []int) tea.Cmd {
	if n >= len(d.Bench.Targets) || len(titles) == 0 || d.busy() {
		return nil
	}
	p := &d.Bench.Targets[n]
	if of, ok := d.Bench.Carried(n); ok {
		d.Notice = fmt.Sprintf("%s carries the covers for %s: select titles there.", p.Name, d.Bench.Targets[of].Name)
		return nil
	}
	gone := func(i int) bool { s := d.At(n).Survey; return d.known(s, i) && s.Gone(i) }
	put := slices.ContainsFunc(titles, func(i int) bool { return !p.Wants(d.Scan.Titles[i].Key) || gone(i) })
	d.remember()
	keys := make([]string, len(titles))
	for k, i := range titles {
		keys[k] = d.Scan.Titles[i].Key
	}
	p.Want(put, keys...)
	d.Bench.Spread(n)
	p.BringBack(false, keys...)
	for k, i := range titles {
		if put && gone(i) {
			p.BringBack(true, keys[k])
		}
	}
	doing := "selected for"
	if !put {
		doing = "deselected on"
	}
	what := fmt.Sprintf("%d titles", len(titles))
	if len(titles) == 1 {
		what = d.Scan.Titles[titles[0]].Label()
	}
	d.Notice = fmt.Sprintf("%s %s %s. u undoes.", what, doing, p.Name)
	if v, _, ok := d.Verdict(n, titles[0]); !put && len(titles) == 1 && ok && v.Kind == fit.Present && !p.DeleteOthers {
		d.Notice = fmt.Sprintf("%s is deselected on %s, but its files stay there. Mark them in Tree to remove them. "+
			"u undoes.", what, p.Name)
	}
	return d.put(n, titles)
}

// following are the targets for which a choice for target number n holds: it, its set, and those that carry covers of
// one of them.
func (d *State) following(n int) []int {
	all := d.Bench.Alike(n)
	for k := range d.Bench.Targets {
		if of, carries := d.Bench.Carried(k); carries && slices.Contains(all, of) {
			all = append(all, k)
		}
	}
	return all
}

// put judges a target again, and those that follow it, after titles were put there or taken off, and saves.
func (d *State) put(n int, titles []int) tea.Cmd {
	d.moved()
	for _, k := range d.following(n) {
		s := d.Targets[k].Survey
		if s == nil || len(s.Titles) != len(d.Scan.Titles) {
			continue
		}
		if len(titles) == 1 {
			s.Put(d.Bench, k, titles[0])
		} else {
			s.Choose(d.Bench, k)
		}
	}
	d.Board().Relate(d.Bench)
	return tea.Batch(d.relist(), d.save())
}

// Declare says what filesystem a target stands for; "" reads it off the target.
func (d *State) Declare(n int, filesystem string) tea.Cmd {
	return d.SetUp(n, "", func(p *bench.Target) { p.As = filesystem })
}

// SetUp changes how a target is set up, and looks at it again.
func (d *State) SetUp(n int, say string, change func(*bench.Target)) tea.Cmd {
	if n >= len(d.Bench.Targets) || d.busy() {
		return nil
	}
	d.remember()
	change(&d.Bench.Targets[n])
	d.Bench.Spread(n)
	if say != "" {
		d.Notice = say
	}
	var all []tea.Cmd
	for _, k := range d.following(n) {
		all = append(all, d.SurveyTarget(k))
	}
	return tea.Batch(append(all, d.changed())...)
}

// Favour makes titles favourites, or none any longer when all of them are.
func (d *State) Favour(titles []int) tea.Cmd {
	if len(titles) == 0 || d.busy() {
		return nil
	}
	yes := slices.ContainsFunc(titles, func(i int) bool { return !d.Bench.Favours(d.Scan.Titles[i].Key) })
	d.remember()
	for _, i := range titles {
		d.Bench.Favour(yes, d.Scan.Titles[i].Key)
	}
	what := d.Scan.Titles[titles[0]].Label()
	d.Notice = what + " is a favourite: it gets space before all others. u undoes."
	if !yes {
		d.Notice = what + " is no longer a favourite. u undoes."
	}
	return d.ranked()
}

// Prioritise has a title wanted more or less than others.
func (d *State) Prioritise(i, by int) tea.Cmd {
	if d.busy() {
		return nil
	}
	d.remember()
	n := d.Bench.Prioritise(d.Scan.Titles[i].Key, by)
	d.Notice = fmt.Sprintf("%s has priority %+d: when space is short, higher goes first. u undoes.",
		d.Scan.Titles[i].Label(), n)
	if n == 0 {
		d.Notice = d.Scan.Titles[i].Label() + " has the normal priority. u undoes."
	}
	return d.ranked()
}

// ranked judges all targets again after titles came to be wanted more or less.
func (d *State) ranked() tea.Cmd {
	d.moved()
	ranks := d.Bench.Ranks(d.Scan.Titles)
	for _, target := range d.Targets {
		s := target.Survey
		if s != nil && len(s.Titles) == len(d.Scan.Titles) {
			s.Sheet.Rank(ranks)
			s.SetPlan(nil)
		}
	}
	d.Board().Relate(d.Bench)
	return tea.Batch(d.relist(), d.save())
}

// Leave marks files of a target to leave, or takes the marks off when all of them are marked. Titles whose
// files they are, are not wanted there any longer.
func (d *State) Leave(n int, paths []string, titles []int) tea.Cmd {
	if n >= len(d.Bench.Targets) || len(paths) == 0 || d.busy() {
		return nil
	}
	p := &d.Bench.Targets[n]
	leave := slices.ContainsFunc(paths, func(f string) bool { return !slices.Contains(p.Removing, f) })
	d.remember()
	p.Mark(leave, paths...)
	what := paths[0]
	if len(paths) > 1 {
		what = size.Count(len(paths), "file")
	}
	d.Notice = fmt.Sprintf("The next run will remove %s from %s. u undoes.", what, p.Name)
	if !leave {
		d.Notice = fmt.Sprintf("%s stays on %s. u undoes.", what, p.Name)
	}
	if leave {
		for _, i := range titles {
			if key := d.Scan.Titles[i].Key; p.Wants(key) {
				p.Want(false, key)
			}
		}
		d.Bench.Spread(n)
	}
	return tea.Batch(d.SurveyTarget(n), d.changed())
}

// HasModels reports whether a loader of target n knows models of its console.
func (d *State) HasModels(n int) bool { return len(d.models(n)) > 0 }

func (d *State) models(n int) (out []loader.Model) {
	if s := d.At(n).Survey; s != nil {
		for _, p := range s.Profiles {
			out = append(out, p.Models...)
		}
	}
	return out
}

// NextModel has target n be for the next model of its console, or for none.
func (d *State) NextModel(n int) tea.Cmd {
	all := d.models(n)
	if len(all) == 0 {
		d.Notice = "No loader of this target knows models of its console."
		return nil
	}
	i := slices.IndexFunc(all, func(m loader.Model) bool { return m.Name == d.Bench.Targets[n].Model }) + 1
	name, say := "", d.Bench.Targets[n].Name+" is for any model of its console. u undoes."
	if i < len(all) {
		name, say = all[i].Name, fmt.Sprintf("%s is for the %s, with %s built in. n tries the next one, u undoes.",
			d.Bench.Targets[n].Name, all[i].Shown, size.Count(len(all[i].BuiltIn), "title"))
	}
	return d.SetUp(n, say, func(p *bench.Target) { p.Model = name })
}

// AskDeleteOthers asks whether a target shall hold exactly what is wanted. What that loses is worked out in the
// background and named, and the target's name has to be written.
func (d *State) AskDeleteOthers(n int) tea.Cmd {
	if d.busy() {
		return nil
	}
	board, b := d.frozen(), d.Bench.Clone()
	if board[n] == nil {
		return nil
	}
	set := d.Later(n, func(n int) tea.Cmd {
		say := d.Bench.Targets[n].Name + ": the next run will remove everything you did not select. u undoes."
		return d.SetUp(n, say, func(p *bench.Target) { p.DeleteOthers = true })
	})
	return func() tea.Msg {
		after, err := board[n].With(d.Ctx, b, n, func(p *bench.Target) { p.DeleteOthers = true })
		if err != nil {
			return AskMsg{Question{Prompt: err.Error(), Done: func(string) tea.Cmd { return nil }}}
		}
		would, name := after.Plan(), b.Targets[n].Name
		return AskMsg{Question{Prompt: fmt.Sprintf("%s, %s, would be removed from %s. Type its name to confirm: ",
			size.Count(would.Removes, "file"), size.Format(would.Freed), name),
			Hint: name + "; files no loader knows stay", Done: func(answer string) tea.Cmd {
				if !strings.EqualFold(answer, name) {
					d.Notice = "That is not the target's name. Nothing will be removed."
					return nil
				}
				return set()
			}}}
	}
}

// Overwrite marks a file that is in a title's way to be replaced, or takes the mark off.
func (d *State) Overwrite(n int, path string) tea.Cmd {
	p := &d.Bench.Targets[n]
	yes := !slices.Contains(p.Replace, path)
	say := fmt.Sprintf("The next run will replace %s. u undoes.", path)
	if !yes {
		say = fmt.Sprintf("%s will not be replaced. u undoes.", path)
	}
	return d.SetUp(n, say, func(p *bench.Target) { p.Allow(yes, path) })
}

// busy reports, and says, that choices must wait for the end of a run: what it
// was planned with would no longer be what is shown. A bench that another Polytome has open cannot
// be changed here at all.
func (d *State) busy() bool {
	if who := d.Bench.ReadOnly(); who != "" {
		d.Notice = fmt.Sprintf("Another Polytome (%s) has this bench open, so this one is read-only. To make "+
			"changes, close the other one and start again.", who)
		return true
	}
	switch {
	case d.Dock != nil:
		d.Notice = "The dock is open: close it (E, then space) before changing the selection."
	case d.Running():
		d.Notice = "A run is in progress: stop it before changing the selection."
	}
	return d.Dock != nil || d.Running()
}

// choice is a change of the choices: what was chosen on the other side of it, and what was done, in a sentence.
type choice struct {
	bench.Choices
	say string
}

func (d *State) remember() {
	d.undo = append(d.undo, choice{Choices: d.Bench.Choices()})
	d.redo = nil
}

// undoHint ends the sentence that says what was chosen.
const undoHint = " u undoes."

// NameChoice has the last change be known by the sentence that was just said of it.
func (d *State) NameChoice() {
	if n := len(d.undo); n > 0 && d.undo[n-1].say == "" {
		d.undo[n-1].say, _, _ = strings.Cut(d.Notice, undoHint)
	}
}

// Changed are the changes that can be undone, in sentences; the newest is the first.
func (d *State) Changed() (out []string) {
	for i := len(d.undo) - 1; i >= 0; i-- {
		out = append(out, d.undo[i].say)
	}
	return out
}

// UndoTo undoes the newest changes, as many as are said.
func (d *State) UndoTo(n int) tea.Cmd {
	var all []tea.Cmd
	for range n {
		all = append(all, d.Undo())
	}
	if n > 1 && len(all) > 0 && d.Notice != "" {
		d.Notice = fmt.Sprintf("%d changes undone. U redoes them one by one.", n)
	}
	return tea.Batch(all...)
}

// Undo goes back to the choices before the last change, Redo forward again.
func (d *State) Undo() tea.Cmd { return d.step(&d.undo, &d.redo, "undo", "Undone") }

// Redo takes the last undo back.
func (d *State) Redo() tea.Cmd { return d.step(&d.redo, &d.undo, "redo", "Done again") }

func (d *State) step(from, to *[]choice, name, done string) tea.Cmd {
	if d.busy() {
		return nil
	}
	if len(*from) == 0 {
		d.Notice = fmt.Sprintf("Nothing to %s.", name)
		return nil
	}
	kept := d.keepable()
	last := (*from)[len(*from)-1]
	*to = append(*to, choice{d.Bench.Choices(), last.say})
	edited := d.Bench.Restore(last.Choices)
	*from = (*from)[:len(*from)-1]
	if d.Notice = done + "."; last.say != "" {
		d.Notice = done + ": " + last.say
	}
	d.resize() // it may be other targets
	if edited {
		return tea.Batch(d.StartScan(), d.changed())
	}
	ranks := d.Bench.Ranks(d.Scan.Titles)
	var cmds []tea.Cmd
	for n := range d.Bench.Targets {
		if k, ok := kept[d.Bench.Targets[n].ID()]; ok && k.target.SetUpLike(&d.Bench.Targets[n]) {
			d.Targets[n].Survey = k.survey
			k.survey.Sheet.Rank(ranks)
		} else {
			cmds = append(cmds, d.SurveyTarget(n))
		}
	}
	return tea.Batch(append(cmds, d.changed())...)
}

// kept is a look at a target, and how that was set up.
type kept struct {
	target bench.Target
	survey *survey.Survey
}

// keepable are the looks at targets that still hold when other titles are wanted there: they need not be taken again.
func (d *State) keepable() map[bench.ID]kept {
	out := map[bench.ID]kept{}
	for n := range d.Bench.Targets {
		p, s := &d.Bench.Targets[n], d.Targets[n].Survey
		if s != nil && s.Away == nil && p.Carries == "" && !d.Looking(n) && len(s.Titles) == len(d.Scan.Titles) {
			out[p.ID()] = kept{*p, s}
		}
	}
	return out
}

// moved puts away what belongs to other choices: runs that have ended, checks that were made, homes and
// differences that were worked out.
func (d *State) moved() {
	d.changes++
	for _, t := range d.Targets {
		t.Lane, t.Check = nil, Checked{}
		t.jobs[checking].drop()
		t.jobs[trying].drop()
	}
	d.Sharing, d.Supposing = nil, nil
}

// changed judges all targets again and saves.
func (d *State) changed() tea.Cmd {
	d.moved()
	for n, t := range d.Targets {
		if t.Survey != nil && n < len(d.Bench.Targets) {
			t.Survey.Choose(d.Bench, n)
		}
	}
	d.Board().Relate(d.Bench)
	return tea.Batch(d.relist(), d.save())
}

// Changes counts the changes of the choices.
func (d *State) Changes() int { return d.changes }
