package state

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/estimate"
	"polytome/internal/core/journal"
	"polytome/internal/core/run"
	"polytome/internal/core/survey"
	"polytome/internal/size"
)

// A HistoryMsg is the newest runs.
type HistoryMsg struct {
	ticket
	runs []journal.Run
	err  error
}

// historyRuns is how many of the newest runs are shown.
const historyRuns = 100

// LookBack reads which runs there were.
func (d *State) LookBack() tea.Cmd {
	j := d.Journal
	if j == nil {
		return nil
	}
	mine, _ := d.begin(-1, readingHistory)
	return func() tea.Msg {
		all, err := j.Runs(historyRuns)
		return HistoryMsg{mine, all, err}
	}
}

// SetHistory takes over which runs there were. At the start, one at a target of this bench that was interrupted is
// offered to be resumed.
func (d *State) SetHistory(m HistoryMsg) {
	if _, ok := d.end(m.ticket); !ok {
		return
	}
	if m.err != nil {
		d.Notice = Sentence(m.err.Error())
		return
	}
	d.History = m.runs
	if d.offered || d.Question != nil {
		return
	}
	d.offered = true
	seen := map[string]bool{}
	for i := range m.runs {
		r := &m.runs[i]
		if d.targetOf(r) < 0 || seen[r.At] {
			continue
		}
		seen[r.At] = true // a later run at the target has seen to what was left
		if r.State == journal.Broken {
			d.Agree(fmt.Sprintf("The run at %s was interrupted after %d of %s. Resume it?", r.Target, r.Done,
				size.Count(r.Steps, "step")), "it resumes where it stopped", func() tea.Cmd { return d.GoOn(r.ID) })
			return
		}
	}
}

// targetOf finds the target of a run on the bench, -1 when it is not on it any longer.
func (d *State) targetOf(r *journal.Run) int {
	for n := range d.Bench.Targets {
		if survey.Lies(r, d.Bench, n) {
			return n
		}
	}
	return -1
}

// GoOn resumes a run that is written down: with all of it that was not done.
func (d *State) GoOn(id int64) tea.Cmd {
	job, b, err := survey.Again(d.Journal, id, d.Set, d.Bench)
	if err != nil {
		d.Notice = Sentence(err.Error())
		return nil
	}
	n := d.targetOf(&journal.Run{Config: b.Config, At: b.At, Bench: b.Bench})
	switch {
	case n < 0:
		d.Notice = fmt.Sprintf("%s has changed on this bench since; resume it with: polytome runs resume %d",
			b.Config.Name, id)
		return nil
	case d.Targets[n].Running():
		d.Notice = fmt.Sprintf("A run at %s is already in progress.", b.Config.Name)
		return nil
	case job.Plan.Empty():
		d.Notice = "Everything in it was done."
		return nil
	}
	d.Target = n
	if job.Limit == 0 {
		job.Limit = d.defaultRate
	}
	return d.carry(n, b, job, b.Config.Speed.Speed(b.Config.Via).Guess(), false, func(*run.Report) {})
}

// Ago describes a run of the past in one line.
func Ago(r *journal.Run) string {
	if r.Report == nil {
		return fmt.Sprintf("%d of %s done", r.Done, size.Count(r.Steps, "step"))
	}
	say := fmt.Sprintf("%s, %s in %s", size.Count(r.Report.Put, "file"), size.Format(r.Report.Bytes),
		estimate.Words(r.Report.Elapsed))
	if s := r.Report.Elapsed.Seconds(); s >= 1 && r.Report.Bytes > 0 {
		say += fmt.Sprintf(", %s/s", size.Format(int64(float64(r.Report.Bytes-r.Report.Resumed)/s)))
	}
	if n := len(r.Report.Failed); n > 0 {
		say += fmt.Sprintf(", %d failed", n)
	}
	return say
}
