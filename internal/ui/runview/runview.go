// Package runview is the fourth stage: the plan being carried out, a lane for the
// place, step by step.
package runview

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/plan"
	"polytome/internal/size"
	"polytome/internal/ui/desk"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/style"
)

// Model is the stage.
type Model struct {
	d      *desk.Desk
	list   scroll.List
	follow bool // the cursor stays on the step under way
	top    int
}

// New makes the stage.
func New(d *desk.Desk) *Model { return &Model{d: d, follow: true} }

// Name is the stage's name on the rail.
func (m *Model) Name() string { return "Run" }

// Number says how far the run is.
func (m *Model) Number() string {
	l := m.lane()
	switch {
	case l == nil:
		return "-"
	case l.Running():
		return fmt.Sprintf("%d %%", percent(l.Total, l.Plan.Bytes))
	case len(l.Report.Failed) > 0 || l.Report.Untried > 0:
		return "not all"
	}
	return "done"
}

func percent(n, of int64) int {
	if of <= 0 {
		return 100
	}
	return int(100 * float64(n) / float64(of))
}

func (m *Model) lane() *desk.Lane {
	if m.d.Place < len(m.d.Lanes) {
		return m.d.Lanes[m.d.Place]
	}
	return nil
}

// plan is the one under way or done, else the one that would be carried out.
func (m *Model) plan() *plan.Plan {
	if l := m.lane(); l != nil {
		return l.Plan
	}
	if p := m.d.Plan(m.d.Place); p != nil {
		return p
	}
	return &plan.Plan{}
}

// Work has the plan made where there is none yet.
func (m *Model) Work() tea.Cmd { return m.d.PlanSoon(m.d.Place) }

// Refresh takes over changed state.
func (m *Model) Refresh() {}

// SetFilter does nothing: steps are shown in their order, all of them.
func (m *Model) SetFilter(string) {}

// Escape has nothing to undo here.
func (m *Model) Escape() bool { return false }

// Title is none: the stage shows steps.
func (m *Model) Title() (int, bool) { return 0, false }

// Actions are the keys of the stage.
func (m *Model) Actions() []desk.Action {
	move := desk.Movement(&m.list)
	for i := range move {
		do := move[i].Do
		move[i].Do = func() tea.Cmd { m.follow = false; return do() }
	}
	own := []desk.Action{
		desk.Do("enter r", "begin the run, or begin again", m.start),
		desk.Do("s", "stop the run; what is finished stays", desk.Just(m.stop)),
		desk.Do("f", "follow the step under way", desk.Just(func() { m.follow = true })),
	}
	if l := m.lane(); l != nil && l.Running() { // what can be done now comes first
		own = append(own[1:], own[0])
	}
	return append(own, move...)
}

func (m *Model) stop() {
	l := m.lane()
	if l == nil || !l.Running() {
		m.d.Notice = "No run is going on."
		return
	}
	l.Stop()
	m.d.Notice = "Stopping: what is half written is removed."
}

func (m *Model) start() tea.Cmd {
	if l := m.lane(); l != nil && l.Running() {
		m.d.Notice = "The run is going on already."
		return nil
	}
	m.follow = true
	return m.d.StartRun(m.d.Place)
}

// Click moves the cursor.
func (m *Model) Click(_, y int) tea.Cmd {
	m.follow = false
	m.list.Click(y - m.top)
	return nil
}

// Wheel scrolls.
func (m *Model) Wheel(by int) {
	m.follow = false
	m.list.Move(by)
}

// Why says how the run stands, or why the step under the cursor failed.
func (m *Model) Why() desk.Why {
	s, l := m.d.Current(), m.lane()
	if s == nil {
		return desk.Why{Lead: "Nothing to run:", Say: "the place has not been looked at yet."}
	}
	name := s.Config.Name
	if l == nil {
		p := m.d.Plan(m.d.Place)
		switch {
		case p == nil:
			return desk.Why{Lead: name + ":", Say: "the plan is being made."}
		case s.Away != nil:
			return desk.Why{Lead: name + ": away.", Say: fmt.Sprintf("It cannot be written to: %v. The steps are reckoned with what was on it at %s.", s.Away, s.Taken.Local().Format("2006-01-02 15:04"))}
		}
		if p.Empty() {
			return desk.Why{Lead: name + ":", Say: "everything that is wanted is there. Nothing has to be written.", Ways: []string{"5 shows the proof"}}
		}
		return desk.Why{Lead: name + ":", Say: fmt.Sprintf("%s, %s. Every file is read back before it gets its name; %s.",
			p.Say(), s.PlanTime(p), p.Stays()), Ways: []string{"enter begins"}}
	}
	if say, ok := l.Says[m.list.Cursor]; ok && (!l.Running() || !m.follow) {
		return desk.Why{Lead: "Failed:", Say: say + "."}
	}
	if l.Running() {
		say := "running; other stages can be looked at meanwhile."
		if left, ok := l.Left(); ok {
			say = fmt.Sprintf("about %s left; other stages can be looked at meanwhile.", left)
		}
		return desk.Why{Lead: name + ":", Say: say, Ways: []string{"s stops"}}
	}
	return m.ended(name, l)
}

func (m *Model) ended(name string, l *desk.Lane) desk.Why {
	r := l.Report
	switch {
	case r.Stopped:
		return desk.Why{Lead: name + ": stopped.", Say: fmt.Sprintf("%s finished, %s not tried; nothing is half written.",
			size.Count(r.Put, "file"), size.Count(r.Untried, "step")), Ways: []string{"enter takes it up again"}}
	case len(r.Failed) > 0:
		return desk.Why{Lead: name + ": not all.", Say: fmt.Sprintf("%s put, %s failed, %d not tried. %s.", size.Count(r.Put, "file"),
			size.Count(len(r.Failed), "step"), r.Untried, r.Failed[0].Say), Ways: []string{"mend that, then enter runs what is left"}}
	}
	return desk.Why{Lead: name + ": safe to unplug once ejected.", Say: fmt.Sprintf("%s put and read back, %s in %s; all of it is on the medium.",
		size.Count(r.Put, "file"), size.Format(r.Bytes), r.Elapsed.Round(100*time.Millisecond)), Ways: []string{"5 shows the proof"}}
}

// View draws the stage.
func (m *Model) View(t *style.Theme, w, h int) []string {
	p, l := m.plan(), m.lane()
	if len(p.Steps) == 0 {
		text := "Nothing is planned: choose titles in Fit (2)."
		if m.d.Current() != nil && m.d.Current().Sheet.Count > 0 {
			text = "Everything that is wanted is there already."
		}
		return t.Block([]string{"", "  " + t.Paint(t.Dim, text)}, w, h)
	}
	out := m.head(t, p, l, w, h)
	m.top = len(out)
	if l != nil && m.follow {
		m.list.N = len(p.Steps)
		m.list.Cursor = l.Step
	}
	m.list.Resize(len(p.Steps), h-len(out))
	from, to := m.list.Window()
	for i := from; i < to; i++ {
		out = append(out, m.step(t, w, i, p.Steps[i], l))
	}
	return t.Block(out, w, h)
}

// head is the lane: name, bar, figures and the chart of the speed.
func (m *Model) head(t *style.Theme, p *plan.Plan, l *desk.Lane, w, h int) []string {
	s := m.d.Current()
	name := m.d.Bench.Places[m.d.Place].Name
	state, colour := "ready", t.Accent
	var done int64
	if l != nil {
		done = l.Total
		switch {
		case l.Running() && l.States[l.Step] == desk.Checking:
			state = "reading back"
		case l.Running():
			state = "writing"
		case l.Report.Stopped:
			state, colour = "stopped", t.Warn
		case len(l.Report.Failed) > 0:
			state, colour = "not all", t.Bad
		default:
			state, colour = "all written and read back", t.Good
		}
	}
	head := t.Bold(t.Text, " "+style.Clean(name)) + "  " + t.Bold(colour, state)
	if s != nil {
		head += t.Paint(t.Dim, "  "+s.Facts.Filesystem.Shown+" by "+s.Config.Road)
	}
	all := p.Bytes
	if l != nil {
		all = l.Bytes()
	}
	out := []string{head, " " + bar(t, done, all, w-2), " " + t.Paint(t.Text, m.figures(p, l, w-2))}
	if chartRows := min(4, h/6); l != nil && chartRows > 1 {
		out = append(out, "")
		out = append(out, chart(t, l.Speeds, w-2, chartRows)...)
	}
	return append(out, t.Rule("steps", w))
}

// figures are amounts, speed and time; in a narrow window the time so far gives
// way.
func (m *Model) figures(p *plan.Plan, l *desk.Lane, w int) string {
	if l == nil {
		return fmt.Sprintf("%s in %s", size.Format(p.Bytes), size.Count(p.Files, "file"))
	}
	f := fmt.Sprintf("%11s of %s", size.Format(l.Total), size.Format(l.Bytes()))
	if sec := l.Elapsed.Seconds(); sec > 0.2 && l.Total > 0 {
		f += fmt.Sprintf("   %11s/s", size.Format(int64(float64(l.Total)/sec)))
	}
	if !l.Running() {
		return f + "   in " + l.Elapsed.Round(100*time.Millisecond).String()
	}
	gone := "   " + l.Elapsed.Round(time.Second).String() + " so far"
	left, ok := l.Left()
	if !ok {
		return f + gone
	}
	rest := "about " + left.String() + " left"
	if whole := f + gone + ", " + rest; style.Width(whole) <= w {
		return whole
	}
	return f + "   " + rest
}

func bar(t *style.Theme, n, of int64, w int) string {
	full := 0
	if of > 0 {
		full = int(float64(n) / float64(of) * float64(w))
	}
	return t.Solid(t.Written, min(full, w)) + t.Paint(t.Faint, strings.Repeat(t.Glyph("░"), max(0, w-full)))
}

// chart draws the newest samples of the speed, to the scale of the highest.
func chart(t *style.Theme, speeds []float64, w, h int) []string {
	labelWidth := 14
	room := max(1, w-labelWidth)
	if len(speeds) > room {
		speeds = speeds[len(speeds)-room:]
	}
	highest := 1.0
	for _, s := range speeds {
		highest = max(highest, s)
	}
	out := make([]string, h)
	for y := range out {
		label := ""
		switch y {
		case 0:
			label = size.Format(int64(highest)) + "/s"
		case h - 1:
			label = "0"
		}
		var b strings.Builder
		for _, s := range speeds {
			units := int(s/highest*float64(h*8)+0.5) - (h-1-y)*8
			units = max(0, min(8, units))
			switch {
			case t.ASCII && units >= 4:
				b.WriteString("#")
			case t.ASCII:
				b.WriteString(" ")
			default:
				b.WriteString(t.Block8(t.Planned, units))
			}
		}
		out[y] = " " + t.Paint(t.Dim, t.PadLeft(label, labelWidth-1)) + " " + b.String()
	}
	return out
}

func (m *Model) step(t *style.Theme, w, i int, s plan.Step, l *desk.Lane) string {
	state, colour := "waiting", t.Dim
	if l != nil {
		switch l.States[i] {
		case desk.Active:
			state, colour = fmt.Sprintf("%d %%", percent(l.Written, s.Size)), t.Accent
		case desk.Checking:
			state, colour = "checking", t.Accent
		case desk.Done:
			state, colour = "done", t.Good
		case desk.Failed:
			state, colour = "FAILED", t.Bad
		case desk.Waiting:
			if !l.Running() {
				state, colour = "not tried", t.Warn
			}
		}
	}
	what := s.Words()
	bytes := ""
	if s.Size > 0 {
		bytes = size.Column(s.Size)
	}
	pathWidth := max(10, w-1-10-12-12-3)
	if w < 90 { // no column for what is nearly always the same word
		path := s.Path
		if s.Kind != plan.Put {
			path = what + " " + path
		}
		if s.Kind == plan.Move {
			path = what + " " + s.From + " " + t.Glyph("→") + " " + s.Path
		}
		return t.Row(w, i == m.list.Cursor && l != nil, style.Cell{Text: state, Width: 9, FG: colour},
			style.Cell{Text: path, Width: pathWidth + 12}, style.Cell{Text: bytes, Width: 11, Right: true, FG: t.Dim})
	}
	return t.Row(w, i == m.list.Cursor && l != nil, style.Cell{Text: state, Width: 9, FG: colour}, style.Cell{Text: what, Width: 11, FG: t.Dim},
		style.Cell{Text: whereTo(t, &s), Width: pathWidth}, style.Cell{Text: bytes, Width: 11, Right: true, FG: t.Dim})
}

// whereTo is the path of a step, and where it moves from.
func whereTo(t *style.Theme, s *plan.Step) string {
	if s.Kind == plan.Move {
		return s.From + " " + t.Glyph("→") + " " + s.Path
	}
	return s.Path
}
