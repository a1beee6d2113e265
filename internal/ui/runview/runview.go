// Package runview is the fourth stage: the plans being carried out, a lane for each target, step by step; and the runs
// of the past.
package runview

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/estimate"
	"polytome/internal/core/journal"
	"polytome/internal/core/plan"
	"polytome/internal/draw"
	"polytome/internal/size"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/state"
	"polytome/internal/ui/steplist"
	"polytome/internal/ui/style"
)

const (
	lanes = iota
	steps
	past
	parts
)

// Model is the stage.
type Model struct {
	d       *state.State
	part    int
	steps   steplist.List
	past    scroll.List
	disc    int        // the disc that is shown instead of a target; -1 for none
	follow  bool       // the cursor stays on the step under way
	discTop int        // the row in which the discs begin; 0 for none
	tops    [parts]int // the rows in which the parts begin
}

// New makes the stage.
func New(d *state.State) *Model { return &Model{d: d, follow: true, disc: -1} }

// Name is the stage's name on the rail.
func (m *Model) Name() string { return "Run" }

// Number says how far the runs are.
func (m *Model) Number() string {
	share := 1.0
	some, running, bad := false, false, false
	for _, t := range m.d.Targets {
		l := t.Lane
		if l == nil {
			continue
		}
		some = true
		if l.Running() { // they go on side by side, so the last one counts
			running, share = true, min(share, l.Share())
		}
		bad = bad || !l.Running() && !l.Report.All()
	}
	for _, j := range m.d.DiscJobs {
		if j.Running() && !j.Waits {
			some, running, share = true, true, min(share, j.Share())
		}
	}
	switch {
	case !some:
		return "-"
	case running:
		return fmt.Sprintf("%d %%", int(100*share))
	case bad:
		return "not all"
	}
	return "done"
}

func percent(n, of int64) int {
	if of <= 0 {
		return 100
	}
	return min(100, int(100*float64(n)/float64(of)))
}

func (m *Model) lane() *state.Lane { return m.d.At(m.d.Target).Lane }

// plan is the one under way or done, else the one that would be carried out.
func (m *Model) plan() *plan.Plan {
	if l := m.lane(); l != nil {
		return l.Plan
	}
	if p := m.d.Plan(m.d.Target); p != nil {
		return p
	}
	return &plan.Plan{}
}

// Work has the plans made where there are none yet.
func (m *Model) Work() tea.Cmd {
	var all []tea.Cmd
	for n := range m.d.Targets {
		if m.d.Targets[n].Survey != nil && m.d.Targets[n].Lane == nil {
			all = append(all, m.d.PlanSoon(n))
		}
	}
	return tea.Batch(all...)
}

// Refresh takes over changed state.
func (m *Model) Refresh() {}

// SetFilter goes to the step that has the words: all are shown, in their order.
func (m *Model) SetFilter(f string) {
	if f == "" {
		return
	}
	for i, s := range m.plan().Steps {
		if state.HasWords(s.Path, f) {
			m.part, m.follow = steps, false
			m.steps.Rows(m.plan())
			m.steps.Open(i)
			return
		}
	}
}

// Escape goes back to the lanes.
func (m *Model) Escape() bool {
	was := m.part
	m.part = lanes
	return was != lanes
}

// Drawing is what paper shows of the stage: the run of the past under the cursor, or the newest at every target.
func (m *Model) Drawing() draw.Request {
	r := m.d.Drawn(draw.KindRun)
	if m.part == past && m.past.Cursor < len(m.d.History) {
		r.Run = m.d.History[m.past.Cursor].ID
	}
	return r
}

// Title is none: the stage shows steps.
func (m *Model) Title() (int, bool) { return 0, false }

// Actions are the keys of the stage: what can be done now comes first.
func (m *Model) Actions() []state.Action {
	if j := m.discJob(); j != nil {
		return append(m.discActions(j), m.movement()...)
	}
	l := m.lane()
	running := l != nil && l.Running()
	var own []state.Action
	begin := []state.Action{
		state.Do("enter", "write", m.start).Saying("write to this target, or what is left").
			When(m.canWrite()),
	}
	if m.part == past {
		own = append(own, state.Do("enter", "resume", m.goOn).Saying("resume a run that was interrupted or stopped"))
		begin = begin[1:]
	}
	if running {
		pause := "pause"
		if l.Paused {
			pause = "resume"
		}
		own = append(own,
			state.Do("p", pause, state.Just(l.Pause)).Saying("nothing is written until you press p again"),
			state.Do("f", "stop after file",
				state.Just(func() { l.Finish(); m.d.Notice = "The run ends after the current file." })).
				Saying("end the run after the current file"),
			state.Do("s", "stop now", state.Just(m.stop)).
				Saying("end the run now; a half-written large file is kept for resuming where that is possible, and "+
					"removed otherwise"),
		)
		if m.part == steps {
			own = append(own,
				state.Do("n", "next", m.each(l.Sooner, true)).
					Saying("write this title's files first"),
				state.Do("N", "last", m.each(l.Later, false)).
					Saying("write this title's files last"),
				state.Do("x", "skip", m.each(l.Skip, false)).
					Saying("skip this step, even if it is running"),
				state.Do("t", "try again", m.each(l.Retry, false)).
					Saying("try a step again that failed or was skipped"),
			)
		}
	}
	if m.stays() {
		word, more := "serve", "have consoles play the games from this computer"
		if m.serving() != nil {
			word, more = "end serving", "consoles that are connected lose the games"
		}
		own = append([]state.Action{state.Do("v", word, func() tea.Cmd {
			return m.d.ToggleServing(m.d.Target)
		}).Saying(more)},
			own...)
		begin = append(begin, state.Do("c", "console's stick", state.Just(func() { m.d.AskOwnStick(m.d.Target) })).
			Saying("say where the console reads the list and the covers of what is served"))
	}
	if !running && m.part != past {
		own = append(own, m.d.FixKnown(), m.d.AddKit())
	}
	own = append(own, state.Do("b", "limit", m.limit).Saying("limit the speed of this run and of later ones"))
	own = append(own, begin...)
	own = append(own,
		state.Do("tab", "part", state.Just(func() { m.part = (m.part + 1) % parts })).
			Saying("the next part of the screen: targets, steps, past runs"),
		state.Do("shift+tab", "the part before", state.Just(func() { m.part = (m.part + parts - 1) % parts })),
		state.Do("o", "follow", state.Just(func() { m.follow = true })).Saying("keep the cursor on the current step"),
		state.Do("left h", "the target to the left", state.Just(func() { m.turn(-1) })),
		state.Do("right l", "the target to the right", state.Just(func() { m.turn(1) })),
	)
	if m.d.Target < len(m.d.Bench.Targets) && m.d.Unplugs(m.d.Target) {
		own = append(own, state.Do("e", "eject", func() tea.Cmd { return m.d.Eject(m.d.Target) }).
			Saying("write pending data, unmount and power off; then it is safe to unplug").When(!running))
	}
	if l != nil && !running && !m.stays() {
		own = append(own, state.Do("m", "move sources", state.Just(m.d.AskToMoveSources)).
			Saying("move the source files of titles that were copied and read back to a folder or the trash"))
	}
	return append(own, m.movement()...)
}

// canWrite reports whether there is something to write now.
func (m *Model) canWrite() bool {
	p := m.d.Plan(m.d.Target)
	return p != nil && !p.Empty() && !m.d.At(m.d.Target).Running()
}

// movement is for the part that has the cursor.
func (m *Model) movement() []state.Action {
	switch m.part {
	case lanes:
		return []state.Action{
			state.Do("up k", "up", state.Just(func() { m.turn(-1) })), state.Do("down j", "down",
				state.Just(func() { m.turn(1) })),
			state.Do("home g", "to the top", state.Just(func() { m.turn(-m.laneCount()) })),
			state.Do("end G", "to the bottom", state.Just(func() { m.turn(m.laneCount()) })),
		}
	case past:
		return state.Movement(&m.past)
	}
	move := append(state.Movement(&m.steps.List), state.Do("z", "open/fold", state.Just(func() {
		if !m.steps.Turn() {
			m.d.Notice = "Only covers and settings files are folded."
		}
	})).Saying("show covers or settings files one by one, or as one row"))
	for i := range move {
		do := move[i].Do
		move[i].Do = func() tea.Cmd { m.follow = false; return do() }
	}
	return move
}

// each does something with every step under the cursor, the last first where each is put before all others.
func (m *Model) each(do func(step int), lastFirst bool) func() tea.Cmd {
	return state.Just(func() {
		from, to := m.steps.Steps()
		for i := from; i < to; i++ {
			step := i
			if lastFirst {
				step = to - 1 - (i - from)
			}
			do(step)
		}
	})
}

// laneCount is how many lanes there are: of targets, and behind them of discs.
func (m *Model) laneCount() int { return len(m.d.Bench.Targets) + len(m.d.DiscJobs) }

// turn goes to another target, or to a disc.
func (m *Model) turn(by int) {
	at, targets := m.d.Target, len(m.d.Bench.Targets)
	if m.disc >= 0 {
		at = targets + m.disc
	}
	at = max(0, min(m.laneCount()-1, at+by))
	if m.disc = -1; at >= targets {
		m.disc = at - targets
	} else {
		m.d.Target = at
	}
	m.steps.Home()
	m.follow = true
}

func (m *Model) stop() {
	m.lane().Stop()
	m.d.Notice = "Stopping."
}

// limit asks for the limit of the run under way, or of those to come.
func (m *Model) limit() tea.Cmd {
	l := m.lane()
	if l == nil || !l.Running() {
		m.d.AskRate(m.d.Target)
		return nil
	}
	m.d.AskLimit("", l.Limit, func(n int64) tea.Cmd {
		l.SetLimit(n)
		m.d.Notice = "At most " + size.Format(n) + " a second are written."
		if n == 0 {
			m.d.Notice = "There is no limit."
		}
		return nil
	})
	return nil
}

func (m *Model) start() tea.Cmd {
	if l := m.lane(); l != nil && l.Running() {
		m.d.Notice = "The run is already in progress."
		return nil
	}
	m.follow = true
	return m.d.AskWrite(m.d.Target)
}

// goOn resumes the run under the cursor.
func (m *Model) goOn() tea.Cmd {
	if m.past.Cursor >= len(m.d.History) {
		return nil
	}
	r := &m.d.History[m.past.Cursor]
	if !r.Open() {
		m.d.Notice = "Nothing of that run is left to do."
		return nil
	}
	id := r.ID
	m.d.Agree(fmt.Sprintf("Resume the run at %s after %d of %s?", r.Target, r.Done, size.Count(r.Steps, "step")),
		"what is finished stays", func() tea.Cmd {
			m.follow = true
			cmd := m.d.GoOn(id)
			if cmd != nil {
				m.part = lanes
			}
			return cmd
		})
	return nil
}

// Click moves the cursor.
func (m *Model) Click(_, y int) tea.Cmd {
	m.follow = false
	switch {
	case y >= m.tops[steps] && m.part != past:
		m.part = steps
		m.steps.Click(y - m.tops[steps])
	case y >= m.tops[past] && m.part == past:
		m.past.Click(y - m.tops[past])
	case m.discTop > 0 && y >= m.discTop && y < m.discTop+len(m.d.DiscJobs):
		m.part, m.disc = lanes, y-m.discTop
	case y >= m.tops[lanes] && y < m.tops[lanes]+len(m.d.Bench.Targets):
		m.part, m.disc = lanes, -1
		m.d.Target = max(0, min(len(m.d.Bench.Targets)-1, y-m.tops[lanes]))
	}
	return nil
}

// Wheel scrolls.
func (m *Model) Wheel(by int) {
	if m.part == past {
		m.past.Move(by)
		return
	}
	m.follow = false
	m.steps.Move(by)
}

// failed is why the first step under the cursor failed that did, "" for none.
func (m *Model) failed(l *state.Lane) string {
	from, to := m.steps.Steps()
	for i := from; i < to; i++ {
		if say, ok := l.Says[i]; ok {
			return say
		}
	}
	return ""
}

// Why says how the run stands, or why the step under the cursor failed.
func (m *Model) Why() state.Why {
	if m.part == past {
		return m.whyPast()
	}
	if j := m.discJob(); j != nil {
		return m.whyDisc(j)
	}
	s, l := m.d.Current(), m.lane()
	if s == nil {
		return state.Why{Lead: "Nothing to run:", Say: "the target has not been read yet."}
	}
	name := s.Config.Name
	if l == nil {
		return m.whyBefore(name)
	}
	if say := m.failed(l); say != "" && m.part == steps {
		w := state.Why{Lead: "Failed:", Say: say + "."}
		if l.Running() {
			w.Ways = []string{"t tries it again"}
		}
		return w
	}
	switch {
	case !l.Running() && l.Report.All() && m.stays():
		return m.whyServed(name)
	case !l.Running():
		return m.ended(name, l)
	case l.Paused:
		return state.Why{Lead: name + ": paused.", Say: "Nothing is written until you resume.",
			Ways: []string{"p resumes"}}
	case l.Waiting != "":
		return state.Why{Lead: name + ": waiting.", Say: style.Clean(l.Waiting) +
			". What is finished stays; the run continues when the target is back.", Ways: []string{"s stops"}}
	}
	say := "running; you can use the other stages meanwhile."
	if left, ok := l.Left(); ok {
		say = fmt.Sprintf("about %s left; you can use the other stages meanwhile.", estimate.Words(left))
	}
	ways := []string{"p pauses, f stops after this file, s stops now"}
	if n := l.Fails; n > 0 {
		say += fmt.Sprintf(" %s failed so far.", size.Count(n, "step"))
		ways = append(ways, "tab goes to the steps, which show why")
	}
	return state.Why{Lead: name + ":", Say: say, Ways: ways}
}

func (m *Model) whyBefore(name string) state.Why {
	s, p := m.d.Current(), m.d.Plan(m.d.Target)
	if s.Away == nil && p != nil && (p.Empty() || m.serving() != nil) && s.Stays() {
		return m.whyServed(name)
	}
	switch {
	case s.Away != nil:
		return state.Why{Lead: name + ": not connected.",
			Say: fmt.Sprintf("It is not connected: %v. The plan is based on what was on it at %s.", s.Away,
				s.Taken.Local().Format("2006-01-02 15:04"))}
	case p == nil:
		return state.Why{Lead: name + ":", Say: "the plan is being made."}
	case p.Empty():
		ways := []string{"5 shows the check"}
		if len(p.Left) > 0 {
			ways = []string{"2 shows the reason for each, and what you can do"}
		}
		return state.Why{Lead: name + ":", Say: p.Idle() + ". Nothing is written.", Ways: ways}
	}
	how := checks(s.Job(m.d.Bench, p).Verify)
	if p.Refers {
		how = "Games stay where they are, and are read from there"
	}
	return state.Why{Lead: name + ":", Say: fmt.Sprintf("%s, %s. %s; %s.", p.Say(),
		m.d.PlanTime(m.d.Target, p), how, p.Stays()),
		Ways: []string{"W writes it, to all targets too"}}
}

func (m *Model) ended(name string, l *state.Lane) state.Why {
	r := l.Report
	half := "nothing is half-written"
	if say := r.Waits(); say != "" {
		half = say
	}
	switch {
	case r.Stopped:
		return state.Why{Lead: name + ": stopped.", Say: fmt.Sprintf("%s finished, %s not tried; %s.",
			size.Count(r.Put, "file"), size.Count(r.Untried, "step"), half), Ways: []string{"enter resumes"}}
	case len(r.Failed) > 0:
		return state.Why{Lead: name + ": incomplete.", Say: fmt.Sprintf("%s copied, %s failed, %d not tried. %s.",
			size.Count(r.Put, "file"),
			size.Count(len(r.Failed), "step"), r.Untried, r.Failed[0].Say),
			Ways: []string{"fix that, then enter runs what is left"}}
	case r.Skipped > 0:
		return state.Why{Lead: name + ": incomplete.", Say: fmt.Sprintf("%s copied, %s skipped.",
			size.Count(r.Put, "file"), size.Count(r.Skipped, "step")), Ways: []string{"enter runs what is left"}}
	}
	lead := m.d.Finished(m.d.Target)
	say := fmt.Sprintf("%s: %s copied, %s, %s in %s", name, size.Count(r.Put, "file"), r.Verify.Words(),
		size.Format(r.Bytes), r.Elapsed.Round(100*time.Millisecond))
	if r.Rewritten > 0 {
		say += fmt.Sprintf("; %s had to be written twice: do not trust this medium or its cable",
			size.Count(r.Rewritten, "file"))
	}
	ways := []string{"5 shows the check"}
	if m.d.Unplugs(m.d.Target) && !m.d.At(m.d.Target).Ejected {
		ways = append(ways, "e ejects it; then it is safe to unplug")
	}
	return state.Why{Lead: lead, Say: say + ".", Ways: ways}
}

// whyPast says what became of a run of the past.
func (m *Model) whyPast() state.Why {
	if m.d.Journal == nil || len(m.d.History) == 0 {
		return state.Why{Lead: "Past runs:", Say: "none yet. Every step of a run is recorded."}
	}
	r := &m.d.History[min(m.past.Cursor, len(m.d.History)-1)]
	lead := fmt.Sprintf("Run %d at %s: %s.", r.ID, r.Target, r.State)
	w := state.Why{Lead: lead, Say: strings.ToUpper(state.Ago(r)[:1]) + state.Ago(r)[1:] + "."}
	switch {
	case r.State == journal.Resuming:
		w.Say = "It is still running, here or in another Polytome."
	case r.State == journal.Broken && r.Report == nil:
		w.Say = fmt.Sprintf("It was cut off after %d of %s, %s written: the program or the computer stopped.", r.Done,
			size.Count(r.Steps, "step"), size.Format(r.Written))
	case r.Report != nil && len(r.Report.Failed) > 0:
		w.Say += " " + state.Sentence(r.Report.Failed[0].Say)
	}
	if r.Open() {
		w.Ways = []string{"enter resumes what is left"}
	}
	return w
}

// queue is where a step stands among those that wait, -1 for nowhere.
func queue(l *state.Lane, i int) int { return slices.Index(l.Order, i) }
