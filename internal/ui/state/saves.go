package state

import (
	"context"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/saves"
	"polytome/internal/core/survey"
	"polytome/internal/core/title"
	"polytome/internal/size"
)

// Kept is what is known of the vault: every version in it.
type Kept struct {
	Versions []saves.Version
	Err      error // why it cannot be read
}

// A KeptMsg is what the vault has now.
type KeptMsg struct {
	ticket
	versions []saves.Version
	err      error
}

// ReadKept reads what is in the vault.
func (d *State) ReadKept() tea.Cmd {
	mine, _ := d.begin(-1, readingSaves)
	v := d.Vault
	return func() tea.Msg {
		all, err := v.Versions()
		return KeptMsg{mine, all, err}
	}
}

// SetKept takes over what is in the vault.
func (d *State) SetKept(m KeptMsg) {
	if _, ok := d.end(m.ticket); ok {
		d.Kept = Kept{m.versions, m.err}
	}
}

// Saves are all saves of all targets and of the vault, by title.
func (d *State) Saves() []survey.SavesOf { return d.Board().Saves(d.Kept.Versions) }

// SavesAt are the saves of title i at target n.
func (d *State) SavesAt(n, i int) (out []survey.Reached) {
	s := d.At(n).Survey
	if !d.known(s, i) {
		return nil
	}
	for _, r := range s.Saves() {
		if slices.Contains(r.Titles, i) {
			out = append(out, r)
		}
	}
	return out
}

// A SavesMsg is how work on saves of a target ended.
type SavesMsg struct {
	ticket
	say   string
	err   error
	quiet bool // nobody asked for it
}

// onSaves has work on the saves of target n done in the background, by its newest look.
func (d *State) onSaves(n int, begins string, quiet bool, do func(ctx context.Context, s *survey.Survey) (string,
	error)) tea.Cmd {
	t := d.At(n)
	if t.Survey == nil || t.Survey.Away != nil {
		d.Notice = "The target has to be connected for that."
		return nil
	}
	if t.Running() || d.goesOn(n, savesWork) {
		if !quiet {
			d.Notice = "Something is being written to it: wait for it to end."
		}
		return nil
	}
	mine, ctx := d.begin(n, savesWork)
	if !quiet {
		d.Notice = begins
	}
	s := *t.Survey
	return func() tea.Msg {
		say, err := do(ctx, &s)
		return SavesMsg{mine, say, err, quiet}
	}
}

// SetSaves says how work on saves ended, and looks again at what is there.
func (d *State) SetSaves(m SavesMsg) tea.Cmd {
	n, ok := d.end(m.ticket)
	if !ok {
		return nil
	}
	switch {
	case m.err != nil:
		d.Notice = d.Bench.Targets[n].Name + ": " + m.err.Error()
	case !m.quiet || m.say != "":
		d.Notice = m.say
	}
	d.Targets[n].savesSeen, d.Targets[n].wrote = true, true
	return tea.Batch(d.ReadKept(), d.SurveyTarget(n))
}

// KeepSaves keeps the saves that are on target n.
func (d *State) KeepSaves(n int) tea.Cmd { return d.keepSaves(n, false) }

func (d *State) keepSaves(n int, quiet bool) tea.Cmd {
	dir, name := d.Vault.Dir, d.Bench.Targets[n].Name
	return d.onSaves(n, "Keeping the saves of "+name+" …", quiet, func(ctx context.Context, s *survey.Survey) (string,
		error) {
		all, fresh, err := s.KeepSaves(ctx, "")
		if err != nil {
			return "", fmt.Errorf("the saves are not kept: %w", err)
		}
		if fresh == 0 {
			if quiet {
				return "", nil
			}
			return fmt.Sprintf("%s: %s, all kept already.", name, size.Count(all, "save")), nil
		}
		return fmt.Sprintf("%s: %s kept, %d of them new or changed, in %s.", name, size.Count(all, "save"), fresh,
			dir), nil
	})
}

// sawSaves keeps the saves of a target after a look, where that is set and they are newer than what is kept.
func (d *State) sawSaves(n int) tea.Cmd {
	t := d.At(n)
	s := t.Survey
	switch {
	case s == nil || s.Away != nil || t.Running():
		return nil
	case len(s.Unkept()) == 0:
		t.savesSeen = false
		return nil
	case !d.KeepAlways || t.savesSeen:
		return nil
	}
	t.savesSeen = true // once, if it cannot be done
	return d.keepSaves(n, true)
}

// AskPutBack asks whether a version shall be put on target n, where it was or as a card of its loader is there now.
func (d *State) AskPutBack(n int, v saves.Version, to string) {
	if n < 0 || n >= len(d.Targets) || d.busy() {
		return
	}
	name := d.Bench.Targets[n].Name
	do := d.Later(n, func(n int) tea.Cmd {
		return d.onSaves(n, "Writing number "+fmt.Sprint(v.Number)+" …", false, func(ctx context.Context,
			s *survey.Survey) (string, error) {
			r, err := s.PutBack(ctx, &v, to)
			if err != nil {
				return "", err
			}
			return fmt.Sprintf("Number %d is on %s, read back.", v.Number, name) + wasThere(r), nil
		})
	})
	d.Agree(fmt.Sprintf("Put number %d, kept %s from %s, on %s?", v.Number, v.Kept.Local().Format("2006-01-02 15:04"),
		v.Target, name), "what is there now is kept first", do)
}

// wasThere says what became of what a version took the place of, in a sentence; "" where that was nothing.
func wasThere(r saves.Restored) string {
	if r.Before == nil || r.Written+r.Removed == 0 {
		return ""
	}
	return fmt.Sprintf(" What was there is kept as number %d.", r.Before.Number)
}

// AskCopySave asks to which target a save of target n shall be copied.
func (d *State) AskCopySave(n int, r survey.Reached) {
	if d.busy() {
		return
	}
	var names []string
	for m := range d.Bench.Targets {
		if s := d.At(m).Survey; m != n && s != nil && s.Away == nil && s.ReadsSaves(r.Loader) {
			names = append(names, d.Bench.Targets[m].Name)
		}
	}
	if len(names) == 0 {
		d.Notice = "No other target that is connected has a loader that reads this save."
		return
	}
	to := ""
	copied := d.Later(n, func(n int) tea.Cmd {
		m := slices.IndexFunc(d.Bench.Targets, func(p bench.Target) bool { return strings.EqualFold(p.Name, to) })
		if m < 0 || m == n || !slices.Contains(names, d.Bench.Targets[m].Name) {
			d.Notice = fmt.Sprintf("%q is none of %s.", to, strings.Join(names, ", "))
			return nil
		}
		return d.copySave(n, m, r)
	})
	d.Ask(Question{Prompt: "Copy the save to: ", Value: names[0], Suggestions: names,
		Hint: "a target of the same loader; what is there is kept first", Done: func(answer string) tea.Cmd {
			to = answer
			return copied()
		}})
}

// copySave keeps a save of one target and puts it on another.
func (d *State) copySave(n, m int, r survey.Reached) tea.Cmd {
	look := d.At(n).Survey
	if look == nil || look.Away != nil {
		d.Notice = d.Bench.Targets[n].Name + " has to be connected for that."
		return nil
	}
	from, name := *look, d.Bench.Targets[m].Name
	return d.onSaves(m, "Copying …", false, func(ctx context.Context, s *survey.Survey) (string, error) {
		v, err := from.KeepSave(ctx, r.Path, "to be copied to "+name)
		if err != nil {
			return "", err
		}
		x, err := s.PutBack(ctx, v, "")
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("The save is on %s, read back.", name) + wasThere(x), nil
	})
}

// UsesCards reports whether title i can use cards at target n that others use, too.
func (d *State) UsesCards(n, i int) bool {
	s := d.At(n).Survey
	if !d.known(s, i) {
		return false
	}
	_, _, ok := s.Cards(i)
	return ok
}

// AskCard asks which card title i shall use at target n.
func (d *State) AskCard(n, i int) {
	s := d.At(n).Survey
	if !d.known(s, i) || d.busy() {
		return
	}
	names, uses, ok := s.Cards(i)
	if !ok {
		d.Notice = fmt.Sprintf("%s knows no cards that several titles share.", s.Sheet.Loader(i).Profile.Shown)
		return
	}
	label := s.Titles[i].Label()
	hint := "a new name makes one that begins with what was reached in this title; empty for a card of its own"
	if len(names) > 0 {
		hint = "there: " + strings.Join(names, ", ") + "; " + hint
	}
	key, card := s.Titles[i].Key, ""
	link := d.Later(n, func(n int) tea.Cmd {
		return d.onSaves(n, "Writing …", false, func(ctx context.Context, s *survey.Survey) (string, error) {
			i := slices.IndexFunc(s.Titles, func(t title.Title) bool { return t.Key == key }) // where it is by now
			if i < 0 {
				return "", fmt.Errorf("%s is no longer among your games, so nothing was done", label)
			}
			return s.LinkCard(ctx, i, card)
		})
	})
	d.Ask(Question{Prompt: "Card for " + label + ": ", Value: uses, Suggestions: names, Hint: hint,
		Done: func(answer string) tea.Cmd {
			card = strings.TrimSpace(answer)
			return link()
		}})
}

// ToggleSaves has kept saves come along with titles to target n, or not.
func (d *State) ToggleSaves(n int) tea.Cmd {
	if n >= len(d.Bench.Targets) {
		return nil
	}
	none, name := !d.Bench.Targets[n].NoSaves, d.Bench.Targets[n].Name
	say := "Kept saves come along with titles to " + name + ". u undoes."
	if none {
		say = "No kept saves come along to " + name + ". u undoes."
	}
	return d.SetUp(n, say, func(p *bench.Target) { p.NoSaves = none })
}
