package state

import (
	"fmt"
	"path"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/check"
	"polytome/internal/core/survey"
	"polytome/internal/size"
	"polytome/internal/ui/style"
)

// Foreseen is what a check will say of a target when its plan has been carried out.
type Foreseen struct {
	*check.Report // nil until it is known, or where it cannot be
	of            foreseeing
	at            map[string]*check.Finding // the worst problem of each path
	atOf          *check.Report             // of which
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
	d.Targets[n].Foreseen = Foreseen{Report: m.report, of: m.foreseeing}
	return d.writeNow(n)
}

// foreseenNow reports whether it is known, as far as it can be, what a check will say of target n.
func (d *State) foreseenNow(n int) bool {
	t := d.Targets[n]
	return t.Foreseen.of == foreseeing{t.Survey, d.changes} && !d.goesOn(n, foresees)
}

// byPath are the worst problems of each path.
func (f *Foreseen) byPath() map[string]*check.Finding {
	if f.at != nil && f.atOf == f.Report {
		return f.at
	}
	f.at, f.atOf = map[string]*check.Finding{}, f.Report
	for _, x := range f.Problems() { // the worst come first
		if x.Path != "" && f.at[x.Path] == nil {
			f.at[x.Path] = x
		}
	}
	return f.at
}

// KnownAt is what is known before to be wrong with a path of target n after a run; nil for nothing.
func (d *State) KnownAt(n int, path string) *check.Finding { return d.At(n).Foreseen.byPath()[path] }

// Known is what is known before to be wrong with title i at target n after a run: that it will not be listed, or not
// start. It is nil for nothing.
func (d *State) Known(n, i int) *check.Finding {
	t := d.At(n)
	if len(t.Foreseen.byPath()) == 0 || t.Survey == nil || i >= len(t.Survey.Titles) {
		return nil
	}
	for _, item := range t.Survey.Sheet.Placement(i).Items {
		for at := item.Path; at != "." && at != "/" && at != ""; at = path.Dir(at) {
			if f := t.Foreseen.byPath()[at]; f != nil {
				return f
			}
		}
	}
	return nil
}

// KnownWays are what can be done about a problem.
func KnownWays(f *check.Finding) []string {
	switch {
	case len(f.Fixes) > 0:
		return []string{"M has the run fix it"}
	case f.Kind == check.Kit, f.Kind == check.System:
		return []string{"K adds it, from a folder or archive that you have"}
	case f.Remedy != "":
		return []string{f.Remedy}
	}
	return nil
}

// KnownLines say above a list what a check would find at target n after the run: nothing, or one line.
func (d *State) KnownLines(t *style.Theme, w, n int) []string {
	f := d.At(n).Foreseen
	all := f.Problems()
	if len(all) == 0 {
		return nil
	}
	fixable := 0
	for _, x := range all {
		if len(x.Fixes) > 0 {
			fixable++
		}
	}
	fg, say := t.Warn, size.Count(len(all), "problem")
	if f.Stops() != nil {
		fg, say = t.Bad, "the console will list nothing"
	}
	switch {
	case fixable == len(all):
		say += ", M fixes " + map[bool]string{true: "it", false: "all"}[fixable == 1]
	case fixable > 0:
		say += fmt.Sprintf(", M fixes %d of %d", fixable, len(all))
	}
	if d.LacksKit(n) {
		say += ", K adds the loader"
	}
	first := all[0].Say
	if all[0].Path != "" {
		first = all[0].Path + ": " + first
	}
	return []string{" " + t.Paint(fg, t.Clip(style.Clean("Known before: "+say+". "+first), w-2))}
}

// FixKnown is the action that has the next run fix what a check would find after it.
func (d *State) FixKnown() Action {
	f := d.At(d.Target).Foreseen
	can := slices.ContainsFunc(f.Problems(), func(x *check.Finding) bool { return len(x.Fixes) > 0 })
	return Do("M", "fix what is known", func() tea.Cmd {
		if f.Report == nil || len(f.Problems()) == 0 {
			d.Notice = "Nothing is known that a check would find after the run."
			return nil
		}
		return d.MarkFixes(d.Target, f.Fixes())
	}).Saying("have the run fix what a check would find after it").When(can)
}
