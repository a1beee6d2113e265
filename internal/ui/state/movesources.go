package state

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/movesources"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/size"
)

// AskToMoveSources asks where the files of titles that have been copied shall be moved to. Nothing is moved that was
// not read back on every target where it is wanted.
func (d *State) AskToMoveSources() {
	if d.busy() {
		return
	}
	var all []movesources.Carried
	for n, target := range d.Targets {
		s := target.Survey
		if s == nil {
			d.Notice = d.Bench.Targets[n].Name +
				" has not been read, so nothing is moved: its titles may still be needed."
			return
		}
		c := movesources.Carried{Survey: s, Plan: &plan.Plan{}, Report: &run.Report{}}
		if l := d.Targets[n].Lane; l != nil {
			c.Plan, c.Report = l.Plan, l.Report
		}
		all = append(all, c)
	}
	found := movesources.Find(all)
	if len(found.Files) == 0 {
		d.Notice = "No title was written and read back on every target where it is selected, in the runs shown."
		if len(found.Stay) > 0 {
			d.Notice += " " + found.Stay[0] + "."
		}
		return
	}
	var bytes int64
	for i := range found.Files {
		bytes += found.Files[i].Size
	}
	d.Ask(Question{Prompt: fmt.Sprintf("Move %s of %s, %s, to: ", size.Count(len(found.Files), "file"),
		size.Count(len(found.Titles), "title"), size.Format(bytes)),
		Hint: "a folder, or trash; nothing is deleted", Done: func(to string) tea.Cmd {
			if to == "" {
				return nil
			}
			if to != movesources.Trash {
				to = Expand(to)
			}
			ctx, roots := d.Ctx, d.Bench.SourcePaths()
			d.Notice = "Moving."
			return func() tea.Msg {
				m, err := movesources.Move(ctx, found.Files, roots, to)
				return MovedMsg{m, to, err}
			}
		}})
}

// A MovedMsg is how moving sources ended.
type MovedMsg struct {
	movesources.Moved
	To  string
	Err error
}

// SetMoved takes over how moving ended, and looks through the sources again.
func (d *State) SetMoved(m MovedMsg) tea.Cmd {
	if m.Err != nil {
		d.Notice = Sentence(m.Err.Error())
		return nil
	}
	to := m.To
	if to == movesources.Trash {
		to = "the trash"
	}
	d.Notice = fmt.Sprintf("%s, %s, moved to %s.", size.Count(m.Files, "file"), size.Format(m.Bytes), to)
	if len(m.Failed) > 0 {
		d.Notice += " " + strings.TrimSuffix(Sentence(m.Failed[0].Error()), ".") + fmt.Sprintf(" (%d stay).",
			len(m.Failed))
	}
	return d.StartScan()
}
