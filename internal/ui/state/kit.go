package state

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/check"
	"polytome/internal/core/fix"
	"polytome/internal/core/kit"
	"polytome/internal/core/survey"
)

// LacksKit reports whether files of the loader itself are missing at target n, or will be after the next run, that a
// person has to give.
func (d *State) LacksKit(n int) bool {
	t := d.At(n)
	for _, r := range []*check.Report{t.Check.Report, t.Foreseen.Report} {
		if r != nil && slices.ContainsFunc(r.Findings, func(f check.Finding) bool {
			return (f.Kind == check.Kit || f.Kind == check.System) && len(f.Fixes) == 0
		}) {
			return true
		}
	}
	return false
}

// AskKit asks where the loader's own files are; those that are missing go along with the next run.
func (d *State) AskKit() tea.Cmd {
	n := d.Target
	s := d.At(n).Survey
	if s == nil || s.Away != nil || d.busy() {
		d.Notice = "The target has to be connected for that."
		return nil
	}
	k := &s.Profile.Kit
	hint := "a folder or archive of this computer, such as what you downloaded"
	if len(k.Editions) > 0 {
		hint += "; put the edition in front: " + k.EditionWords()
	}
	d.Ask(Question{Prompt: "Where is " + orElse(k.Shown, s.Profile.Shown+" itself") + "? ", Hint: hint, Paths: true,
		Done: func(answer string) tea.Cmd {
			if answer == "" {
				return nil
			}
			editions, at := kit.Editions(k, answer)
			at = Expand(at)
			look := *s
			look.Sheet = s.Sheet.Clone()
			return func() tea.Msg {
				fixes, notes, err := look.KitFixes(at, editions)
				return KitMsg{s, fixes, notes, err}
			}
		}})
	return nil
}

func orElse(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

// A KitMsg is what brings a loader's own files to a target.
type KitMsg struct {
	of    *survey.Survey
	fixes []fix.Fix
	notes []string
	err   error
}

// SetKit takes up what brings them, unless the target is another one by now.
func (d *State) SetKit(m KitMsg) tea.Cmd {
	n := slices.Index(d.Board(), m.of)
	if n < 0 {
		return nil
	}
	if m.err != nil {
		d.Notice = Sentence(m.err.Error())
		return nil
	}
	if len(m.fixes) == 0 {
		d.Notice = "All of it is there already."
		return nil
	}
	if d.Bench.Targets[n].Fixing(m.fixes...) {
		d.Notice = "It goes along with the next run already."
		return nil
	}
	cmd := d.MarkFixes(n, m.fixes)
	d.Notice = strings.TrimSpace(fmt.Sprintf("%s %s", d.Notice, strings.Join(m.notes, " ")))
	return cmd
}

// AddKit is the action that has the loader's own files go along.
func (d *State) AddKit() Action {
	return Do("K", "add the loader", d.AskKit).
		Saying("its own files, from a folder or archive; they go along with the next run").When(d.LacksKit(d.Target))
}
