// Package checkview is the fifth stage: what the console will list, as it will show it; what is wrong on the target,
// and what fixes it; and what to do at the console.
package checkview

import (
	"fmt"
	"image"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/fix"
	"polytome/internal/core/survey"
	"polytome/internal/draw"
	"polytome/internal/size"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/state"
)

// pane is a part of the screen that the cursor can be in.
type pane int

const (
	listed pane = iota
	findings
	checklist
	panes
)

// Model is the stage.
type Model struct {
	d       *state.State
	pane    pane
	lists   [panes]scroll.List
	filter  string
	after   bool // what the console will list after the next run is shown, in place of what it lists now
	changes bool // what differs from the last check is shown in place of the findings
	shown   *check.Report
	rows    []row // the list as the console shows it
	// arranging is set when the list is arranged here, and before is what was chosen until then: what comes of it is
	// shown as soon as it is known.
	arranging bool
	before    int
	// at is the title at which the cursor stands in the list, or stood when the list had it last, and stood the row in
	// which it was left.
	at    *check.Listed
	stood int
	// placed is what can be done with a title of the list.
	placed struct {
		of             *check.Listed
		by             *survey.Survey
		place, section bool
	}
	found  []int // numbers of the findings that the filter leaves
	covers map[cover]image.Image
	asked  map[cover]bool
	// where the panes are, for the mouse
	split  int
	origin [panes]int
}

// A cover is a picture on a target, as it was when it was checked.
type cover struct {
	of   *check.Report
	path string
}

// New makes the stage.
func New(d *state.State) *Model {
	return &Model{d: d, covers: map[cover]image.Image{}, asked: map[cover]bool{}}
}

// Name is the stage's name on the rail.
func (m *Model) Name() string { return "Check" }

// Number is how many titles the loader will list.
func (m *Model) Number() string {
	if r := m.report(); r != nil {
		return fmt.Sprint(len(r.Listed))
	}
	return "-"
}

func (m *Model) checked() state.Checked { return m.d.At(m.d.Target).Check }

// report is what is shown: a check of the target as it is, or as the next run will leave it.
func (m *Model) report() *check.Report {
	if m.ahead() {
		return m.d.At(m.d.Target).Foreseen.Report
	}
	return m.checked().Report
}

// ahead reports whether what will be after the next run is shown: it is wished, and known.
func (m *Model) ahead() bool { return m.after && m.d.At(m.d.Target).Foreseen.Report != nil }

// nothingPlanned reports whether the next run would change nothing. While that is not known, it might.
func (m *Model) nothingPlanned() bool {
	t := m.d.At(m.d.Target)
	p := m.d.Plan(m.d.Target)
	return p != nil && p.Empty() || t.Survey != nil && t.Survey.Away != nil
}

// canForesee reports whether a run would change something, and it is known what a check will say then.
func (m *Model) canForesee() bool {
	p := m.d.Plan(m.d.Target)
	return p != nil && !p.Empty() && m.d.At(m.d.Target).Foreseen.Report != nil
}

// foresee shows what the console will list after the next run, or lists now again.
func (m *Model) foresee() {
	if !m.after && !m.canForesee() {
		m.d.Notice = "Nothing is planned that would change what the console lists."
		return
	}
	m.after = !m.after
	m.Refresh()
}

func (m *Model) target() *bench.Target {
	if m.d.Target < len(m.d.Bench.Targets) {
		return &m.d.Bench.Targets[m.d.Target]
	}
	return nil
}

// Refresh takes over changed state.
func (m *Model) Refresh() {
	m.after = (m.after || m.awaited()) && !m.nothingPlanned()
	r := m.report()
	if r == m.shown {
		return
	}
	if l := m.lineOf(m.shown); l != nil && (m.at == nil || m.lists[listed].Cursor != m.stood) {
		if m.at = l; m.lists[listed].Cursor <= m.top() { // nobody has moved it
			m.at = nil
		}
	}
	m.lay(r)
	m.stood = m.lists[listed].Cursor
	if r != nil && m.shown == nil || r == nil {
		m.changes = false
	}
	m.shown = r
	if m.awaited() && m.ahead() {
		m.arranging, m.pane = false, listed
	}
	clear(m.asked)
	if r != nil && m.pane == listed && len(r.Findings) > 0 && m.lists[listed].Cursor == 0 {
		m.pane = findings // what is wrong comes first
	}
	m.find()
}

// mostCovers is how many pictures are kept.
const mostCovers = 60

// SetFilter shows only findings that have the words.
func (m *Model) SetFilter(f string) {
	m.filter = f
	m.find()
}

// find finds the findings that are shown.
func (m *Model) find() {
	m.found = m.found[:0]
	r := m.report()
	if r == nil {
		return
	}
	for i := range r.Findings {
		f := &r.Findings[i]
		if m.filter == "" || state.HasWords(string(f.Grade)+" "+string(f.Kind)+" "+f.Path+" "+f.Say, m.filter) {
			m.found = append(m.found, i)
		}
	}
}

// Escape drops the filter, or goes back from the comparison.
func (m *Model) Escape() bool {
	had := m.filter != "" || m.changes
	m.changes = false
	m.SetFilter("")
	return had
}

// Drawing is what paper shows of the stage.
func (m *Model) Drawing() draw.Request { return m.d.Drawn(draw.KindChecklist) }

// Title is none: the stage shows what is on the target.
func (m *Model) Title() (int, bool) { return 0, false }

// finding is the one under the cursor, nil for none.
func (m *Model) finding() *check.Finding {
	r, c := m.report(), m.lists[findings].Cursor
	if r == nil || m.changes || c >= len(m.found) {
		return nil
	}
	return &r.Findings[m.found[c]]
}

// Actions are the keys of the stage. The list under the cursor is looked up when a
// key is pressed, as tab changes it.
func (m *Model) Actions() []state.Action {
	out := []state.Action{}
	if m.pane == checklist {
		out = append(out, state.Do("space enter", "tick off", m.tick).
			Saying("tick off a line of the checklist, or untick it"))
	} else {
		out = append(out,
			state.Do("m space enter", "fix", m.fix).When(m.finding() != nil || m.pane == listed).
				Saying("mark the problem to be fixed by the next run, or unmark it"),
			state.Do("M", "all of this kind", m.fixKind).Saying("mark all problems of the same kind to be fixed").
				When(m.finding() != nil))
	}
	out = append(append(out, m.arrangeKeys()...), m.d.AddKit())
	some, had := m.d.Target < len(m.d.Bench.Targets), m.checked()
	return append(append(out,
		state.Do("tab", "next part", state.Just(func() { m.pane = (m.pane + 1) % panes })).
			Saying("the next part of the screen: the list, the findings, the checklist"),
		state.Do("shift+tab", "the part before", state.Just(func() { m.pane = (m.pane + panes - 1) % panes })),
		state.Do("v", m.afterWord(),
			state.Just(m.foresee)).Saying("what the console will list after the next run, or lists "+
			"now").When(m.after || m.canForesee()),
		state.Do("r", "check again", func() tea.Cmd { return m.d.StartCheck(m.d.Target, "") }).
			Saying("read the target again, as it is now").When(some),
		state.Do("F", "full check", func() tea.Cmd { return m.d.StartCheck(m.d.Target, check.Whole) }).
			Saying("read every byte of every game, and compare every checksum").When(some),
		state.Do("c", "what changed", state.Just(m.compare)).Saying("what changed since the previous check").
			When(had.Report != nil && had.Changes != nil),
		state.Do("e", "checklist to a file", state.Just(func() { m.d.AskChecklist(m.d.Target) })).
			Saying("write the checklist to a text file").When(had.Report != nil),
		state.Do("left h", "the target to the left", state.Just(func() { m.turn(-1) })),
		state.Do("right l", "the target to the right", state.Just(func() { m.turn(1) })),
	), state.Movement(&m.lists[m.pane])...)
}

// afterWord is what v does now.
func (m *Model) afterWord() string {
	if m.after {
		return "as it is"
	}
	return "after the run"
}

func (m *Model) turn(by int) {
	m.d.Target = max(0, min(len(m.d.Bench.Targets)-1, m.d.Target+by))
	for p := range m.lists {
		m.lists[p].Home()
	}
	m.shown, m.at, m.changes = nil, nil, false
	m.Refresh()
}

// Work has the cover under the cursor read, and the target checked when no one has yet.
func (m *Model) Work() tea.Cmd {
	var all []tea.Cmd
	n := m.d.Target
	if t := m.d.At(n); t.Survey != nil && t.Survey.Away == nil && t.Check.Report == nil && t.Check.Trouble == "" &&
		!m.d.Checking(n) && !m.d.Running() {
		all = append(all, m.d.StartCheck(n, ""))
	}
	if l := m.line(); l != nil && l.Cover != "" && !m.ahead() {
		key := cover{m.report(), l.Cover}
		if _, has := m.covers[key]; !has && !m.asked[key] {
			m.asked[key] = true
			all = append(all, m.d.Cover(n, l.Cover))
		}
	}
	return tea.Batch(all...)
}

// Open checks the target when it was not checked yet.
func (m *Model) Open() tea.Cmd {
	if m.report() == nil && m.d.Target < len(m.d.Targets) && !m.d.Running() {
		return m.d.StartCheck(m.d.Target, "")
	}
	return nil
}

// Update takes over a picture.
func (m *Model) Update(msg tea.Msg, _ bool) (t state.Taken, ok bool) {
	picture, ok := msg.(state.CoverMsg)
	if !ok {
		return t, false
	}
	if len(m.covers) >= mostCovers { // they are read again when someone looks
		clear(m.covers)
		clear(m.asked)
	}
	m.covers[cover{picture.Of, picture.Path}] = picture.Picture
	return t, true
}

// line is the line of the list under the cursor, nil for none.
func (m *Model) line() *check.Listed {
	return m.lineOf(m.report())
}

// lineOf is that line of a report which was divided into the rows that there are.
func (m *Model) lineOf(r *check.Report) *check.Listed {
	c := m.lists[listed].Cursor
	if r == nil || c >= len(m.rows) || m.rows[c].line < 0 || m.rows[c].line >= len(r.Listed) {
		return nil
	}
	return &r.Listed[m.rows[c].line]
}

func (m *Model) fix() tea.Cmd {
	if m.pane == listed { // the finding that the line is about
		l := m.line()
		if l == nil {
			return nil
		}
		for k, i := range m.found {
			if f := &m.report().Findings[i]; concerns(f, l) {
				m.pane, m.lists[findings].Cursor = findings, k
				return nil
			}
		}
		m.d.Notice = "Nothing is wrong with " + l.Name + "."
		return nil
	}
	f := m.finding()
	if f == nil {
		m.d.Notice = "No problems to fix."
		return nil
	}
	return m.d.MarkFixes(m.d.Target, f.Fixes)
}

func (m *Model) fixKind() tea.Cmd {
	f, r := m.finding(), m.report()
	if f == nil {
		m.d.Notice = "tab goes to the problems; M there fixes all of one kind."
		return nil
	}
	return m.d.MarkFixes(m.d.Target, r.Fixes(f.Kind))
}

// compare shows what differs from the check before.
func (m *Model) compare() {
	p := m.checked()
	switch {
	case p.Report == nil:
		m.d.Notice = "There is no earlier check to compare with."
	case p.Changes == nil:
		m.d.Notice = "This is the first check of this target. The next one will be compared with it."
	default:
		m.changes = !m.changes
		m.pane = findings
		m.lists[findings].Home()
	}
}

func (m *Model) tick() tea.Cmd {
	r := m.report()
	c := m.lists[checklist].Cursor
	if r == nil || c >= len(r.Checklist) {
		return nil
	}
	return m.d.Tick(m.d.Target, r.Checklist[c])
}

// Click moves the cursor into the pane that was clicked.
func (m *Model) Click(x, y int) tea.Cmd {
	p := listed
	if x >= m.split {
		p = findings
		if y >= m.origin[checklist] {
			p = checklist
		}
	}
	m.pane = p
	row := y - m.origin[p]
	if p == findings {
		row /= perFinding
	}
	if m.lists[p].Click(row) {
		switch p {
		case checklist:
			return m.tick()
		case findings:
			return m.fix()
		}
	}
	return nil
}

// Wheel scrolls the pane under the cursor.
func (m *Model) Wheel(by int) { m.lists[m.pane].Move(by) }

// Why explains the finding, or the line of the list, under the cursor.
func (m *Model) Why() state.Why {
	r := m.report()
	if r == nil {
		return m.notYet()
	}
	c := m.lists[m.pane].Cursor
	switch {
	case m.pane == listed && m.line() == nil && c < len(m.rows):
		return state.Why{Lead: m.rows[c].head + ".", Say: "So the console shows it."}
	case m.pane == listed && m.line() != nil:
		l := *m.line()
		if l.BuiltIn {
			return state.Why{Lead: l.Name, Say: "is built into the console. It takes no room, and cannot be removed."}
		}
		say := fmt.Sprintf("will be listed and start. It is %s, %s.", l.Path, size.Format(l.Size))
		if !l.Starts {
			return state.Why{Lead: l.Name, Say: "will be listed, but not start. It is " + l.Path + ".",
				Ways: []string{"enter shows its problem"}}
		}
		w := state.Why{Lead: l.Name, Say: say}
		if l.Section != "" {
			w.Say += " It is in the section " + l.Section + "."
		}
		if place, section := m.placeable(m.line()); place && section {
			w.Ways = []string{"[ and ] move it", "f puts it into a section of the list"}
		} else if place {
			w.Ways = []string{"[ and ] move it"}
		} else if section {
			w.Ways = []string{"f puts it into a section of the list"}
		}
		return w
	case m.pane == findings && m.changes:
		return state.Why{Lead: "Since the check before", Say: "this has changed. c goes back to the problems."}
	case m.pane == findings && m.finding() != nil:
		return m.whyFinding(m.finding())
	case m.pane == checklist && c < len(r.Checklist):
		return state.Why{Lead: fmt.Sprintf("Step %d at the console:", c+1), Say: r.Checklist[c] + ".",
			Ways: []string{"space ticks it off until the next run"}}
	}
	return state.Why{Lead: "Nothing", Say: "here."}
}

// whyFinding says what it is, where, why it matters, and what fixes it.
func (m *Model) whyFinding(f *check.Finding) state.Why {
	w := state.Why{Lead: f.Path, Say: f.Say + "."}
	if f.Path == "" {
		w.Lead = "The target:"
	}
	if f.Matters != "" {
		w.Say += " At the console: " + f.Matters + "."
	}
	switch p := m.target(); {
	case len(f.Fixes) > 0 && p != nil && p.Fixing(f.Fixes...):
		w.Ways = []string{"marked: the next run will " + words(f.Fixes)}
	case len(f.Fixes) > 0:
		w.Ways = []string{"m: the next run will " + words(f.Fixes)}
	case f.Remedy != "":
		w.Ways = state.KnownWays(f)
	}
	return w
}

// words say what fixes do, in a clause.
func words(all []fix.Fix) string {
	if len(all) == 1 {
		return all[0].Words()
	}
	return fmt.Sprintf("%s, and make %s", all[0].Words(), size.Count(len(all)-1, "more change"))
}

// notYet says why there is no check.
func (m *Model) notYet() state.Why {
	n := m.d.Target
	switch {
	case m.d.Checking(n):
		return state.Why{Lead: "Reading the target", Say: "as the loader would."}
	case m.d.Running():
		return state.Why{Lead: "A run is running.", Say: "It checks the target when it ends.",
			Ways: []string{"r checks it now"}}
	case m.checked().Trouble != "":
		return state.Why{Lead: "The target could not be checked:", Say: m.checked().Trouble + ".",
			Ways: []string{"r tries it again"}}
	case m.d.At(n).Survey != nil && m.d.At(n).Away() != nil:
		return state.Why{Lead: "The target is not connected", Say: fmt.Sprintf("(%v), so it cannot be checked.",
			m.d.At(n).Away()), Ways: []string{"connect it, and press r"}}
	}
	return state.Why{Lead: "Not checked yet.",
		Say:  "A check reads the target as the loader would, and shows what it will list.",
		Ways: []string{"r checks it now"}}
}

// marked counts the findings that are marked to be fixed.
func (m *Model) marked() (n int) {
	p, r := m.target(), m.report()
	if p == nil || r == nil {
		return 0
	}
	for i := range r.Findings {
		if len(r.Findings[i].Fixes) > 0 && p.Fixing(r.Findings[i].Fixes...) {
			n++
		}
	}
	return n
}

// ticked reports whether a line of the checklist is ticked off.
func (m *Model) ticked(line string) bool {
	p := m.target()
	return p != nil && survey.Ticked(p)(line)
}

// about are the findings that are about a line of the list.
func about(r *check.Report, l *check.Listed) bool {
	return slices.ContainsFunc(r.Findings,
		func(f check.Finding) bool { return concerns(&f, l) && f.Grade != check.Remark })
}

// concerns reports whether a finding is about a line of the list: its file, what is in its folder, or its cover.
func concerns(f *check.Finding, l *check.Listed) bool {
	return !l.BuiltIn && f.Path == l.Path || strings.HasPrefix(f.Path, l.Path+"/") || l.Cover != "" && f.Path == l.Cover
}
