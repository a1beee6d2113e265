package state

import (
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/check"
	"polytome/internal/core/survey"
	"polytome/internal/size"
)

// Foreseen is what a check will say of a target when its plan has been carried out.
type Foreseen struct {
	*check.Report // nil until it is known, or where it cannot be
	of            foreseeing
}

// foreseeing is what is foreseen: a look at a target, and the choices.
type foreseeing struct {
	look    *survey.Survey
	changes int
}

// Problems are the findings that matter.
func (f Foreseen) Problems() (out []*check.Finding) {
	if f.Report == nil {
		return nil
	}
	for i := range f.Findings {
		if f.Findings[i].Grade != check.Remark {
			out = append(out, &f.Findings[i])
		}
	}
	return out
}

// Stops is the first finding for which the console would list nothing; nil for none.
func (f Foreseen) Stops() *check.Finding {
	if f.Report == nil || len(f.Findings) == 0 || f.Findings[0].Grade != check.Stops { // the worst come first
		return nil
	}
	return &f.Findings[0]
}

// Say is what is known to be wrong, in a clause; "" for nothing.
func (f Foreseen) Say() string {
	all := f.Problems()
	if len(all) == 0 {
		return ""
	}
	say := all[0].Say
	if all[0].Path != "" {
		say = all[0].Path + ": " + say
	}
	if n := len(all) - 1; n > 0 {
		say += fmt.Sprintf(", and %s", size.Count(n, "more problem"))
	}
	return say
}

// A ForeseenMsg is what a check will say of a target.
type ForeseenMsg struct {
	ticket
	foreseeing
	report *check.Report
}

// foreseePause is for how long choices must stay before it is worked out what comes of them, where there are so many
// titles that it takes a while.
const foreseePause = 300 * time.Millisecond

// Foresee has what a check will say of target n be worked out, where that is not known yet.
func (d *State) Foresee(n int) tea.Cmd {
	t := d.At(n)
	s := t.Survey
	if s == nil || s.Away != nil || t.Running() || d.Looking(n) {
		return nil
	}
	p := d.Plan(n)
	now := foreseeing{s, d.changes}
	if p == nil || t.Foreseen.of == now {
		return nil
	}
	t.Foreseen.of = now
	mine, ctx := d.begin(n, foresees)
	look := *s
	look.Sheet = s.Sheet.Clone()
	return func() tea.Msg {
		if len(look.Titles) > Inline {
			select {
			case <-ctx.Done():
				return ForeseenMsg{ticket: mine}
			case <-time.After(foreseePause):
			}
		}
		r, _ := look.CheckPlanned(ctx, p, check.Names) // where it cannot be known, the check says so
		return ForeseenMsg{mine, now, r}
	}
}

// SetForeseen takes over what a check will say. Who waited for it to write is asked now.
func (d *State) SetForeseen(m ForeseenMsg) tea.Cmd {
	n, ok := d.end(m.ticket)
	if !ok || m.foreseeing != (foreseeing{d.Targets[n].Survey, d.changes}) {
		return nil
	}
	t := d.Targets[n]
	t.Foreseen = Foreseen{m.report, m.foreseeing}
	if !t.asksToWrite || d.Question != nil {
		return nil
	}
	return d.AskWrite(n)
}

// foreseenNow reports whether it is known, as far as it can be, what a check will say of target n.
func (d *State) foreseenNow(n int) bool {
	t := d.Targets[n]
	return t.Foreseen.of == foreseeing{t.Survey, d.changes} && !d.goesOn(n, foresees)
}
