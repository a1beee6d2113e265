// Package treeview is the third stage: what a target will hold, every path with
// the rule that made it, and the steps that lead there.
package treeview

import (
	"fmt"
	"path"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/plan"
	"polytome/internal/core/survey"
	"polytome/internal/draw"
	"polytome/internal/size"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/state"
	"polytome/internal/ui/steplist"
)

// Model is the stage.
type Model struct {
	d      *state.State
	list   scroll.List
	steps  steplist.List
	asList bool // the steps are shown instead of the tree
	lines  []survey.Line
	shown  []int // indexes of the lines that are shown
	folded map[string]bool
	filter string
	made   made // what the lines were made of
	wanted made // what they are being made of
	counts map[survey.State]int
	top    int
}

// made is what lines are made of.
type made struct {
	of   *survey.Survey
	plan *plan.Plan
}

// New makes the stage.
func New(d *state.State) *Model { return &Model{d: d, folded: map[string]bool{}} }

// Name is the stage's name on the rail.
func (m *Model) Name() string { return "Tree" }

// Number is the number of new titles.
func (m *Model) Number() string {
	s := m.d.Current()
	if s == nil {
		return "0"
	}
	return fmt.Sprintf("+%d", s.Sheet.New)
}

// SetFilter shows only paths and states that contain the words.
func (m *Model) SetFilter(f string) {
	m.filter = f
	m.show()
}

// Escape undoes what narrows the list; it reports whether there was something.
func (m *Model) Escape() bool {
	if m.asList {
		m.asList = false
		return true
	}
	had := m.filter != ""
	m.SetFilter("")
	return had
}

// Drawing is what paper shows of the stage.
func (m *Model) Drawing() draw.Request { return m.d.Drawn(draw.KindTree) }

// Title is the title whose file is under the cursor.
func (m *Model) Title() (int, bool) {
	if m.asList {
		return 0, false
	}
	l := m.line()
	return max(0, titleOf(l)), titleOf(l) >= 0
}

func titleOf(l *survey.Line) int {
	if l == nil {
		return -1
	}
	return l.Title
}

// line is the one under the cursor, nil for none.
func (m *Model) line() *survey.Line {
	if m.list.Cursor < 0 || m.list.Cursor >= len(m.shown) {
		return nil
	}
	return &m.lines[m.shown[m.list.Cursor]]
}

// A LinesMsg is the tree of a target, made in the background.
type LinesMsg struct {
	made
	lines []survey.Line
}

// Refresh takes over changed state.
func (m *Model) Refresh() {
	s := m.d.Current()
	if s == nil {
		m.set(LinesMsg{})
		return
	}
	if p := m.d.Plan(m.d.Target); p != nil && len(s.Titles) <= state.Inline && m.made != (made{s, p}) {
		m.set(LinesMsg{made{s, p}, s.Lines(s.Sheet, p)})
	}
}

// Work has the plan and the tree made in the background, where there are many titles.
func (m *Model) Work() tea.Cmd {
	s := m.d.Current()
	if s == nil {
		return nil
	}
	p := m.d.Plan(m.d.Target)
	if p == nil {
		return m.d.PlanSoon(m.d.Target)
	}
	now := made{s, p}
	if m.made == now {
		return nil
	}
	if len(s.Titles) <= state.Inline {
		m.Refresh()
		return nil
	}
	if m.wanted == now {
		return nil
	}
	m.wanted = now
	sheet := s.Sheet.Clone()
	return func() tea.Msg { return LinesMsg{now, s.Lines(sheet, p)} }
}

// Update takes over a tree that was made in the background, unless it is outdated.
func (m *Model) Update(msg tea.Msg, _ bool) (t state.Taken, ok bool) {
	lines, ok := msg.(LinesMsg)
	if ok && lines.of == m.d.Current() && lines.plan == m.d.Plan(m.d.Target) {
		m.set(lines)
	}
	return t, ok
}

func (m *Model) set(msg LinesMsg) {
	at := ""
	if l := m.line(); l != nil {
		at = l.Path
	}
	m.made, m.lines, m.counts = msg.made, msg.lines, map[survey.State]int{}
	for i := range m.lines {
		if !m.lines[i].Folder {
			m.counts[m.lines[i].State]++
		}
	}
	m.show()
	if at == "" {
		return
	}
	for k, i := range m.shown {
		if m.lines[i].Path == at {
			m.list.Cursor = k
			m.list.Move(0)
			return
		}
	}
}

// show finds the lines that are shown: not in a folded folder, and with the words that are asked for.
func (m *Model) show() {
	m.shown = m.shown[:0]
	hidden := ""
	for i := range m.lines {
		l := &m.lines[i]
		if hidden != "" && strings.HasPrefix(l.Path, hidden) {
			continue
		}
		hidden = ""
		if m.filter != "" && !state.HasWords(l.Path+" "+string(l.State), m.filter) {
			continue
		}
		m.shown = append(m.shown, i)
		if l.Folder && m.folded[l.Path] && m.filter == "" {
			hidden = l.Path + "/"
		}
	}
	from, to := m.list.Window()
	m.list.Resize(len(m.shown), max(1, to-from))
}

// Actions are the keys of the stage.
func (m *Model) Actions() []state.Action {
	if m.asList {
		return append([]state.Action{
			state.Do("s", "tree", state.Just(func() { m.asList = false })).
				Saying("the tree again, instead of the steps"),
			state.Do("enter z", "open/fold", state.Just(func() {
				if !m.steps.Turn() {
					m.d.Notice = "Only covers and settings files are folded."
				}
			})).Saying("show covers or settings files one by one, or as one row"),
			m.d.FixKnown(), m.d.AddKit(),
		}, state.Movement(&m.steps.List)...)
	}
	l, some := m.line(), m.target() != nil
	inWay := l != nil && (l.State == survey.InTheWay || l.State == survey.Contested)
	return append([]state.Action{
		state.Do("s", "steps", state.Just(func() { m.asList = true })).
			Saying("the steps in their order, with bytes and times"),
		state.Do("delete x", "remove/keep", m.leave).
			Saying("mark the file or folder to be removed, or unmark it; a title's files go together").
			When(l != nil && l.There),
		state.Do("o", "replace", m.replace).Saying("replace the file that is in the title's way").When(inWay),
		state.Do("X", "remove others", m.deleteOthers).
			Saying("remove everything that a loader knows and you did not select").When(some),
		state.Do("B", "back up", m.backupTo).Saying("copy what will be removed to a folder on this computer first").
			When(some),
		state.Do("enter", "fold", state.Just(m.fold)).Saying("fold a folder, or open it").
			When(l != nil && l.Folder),
		m.d.FixKnown(), m.d.AddKit(),
		state.Do("left h", "the target to the left", state.Just(func() { m.turn(-1) })),
		state.Do("right l", "the target to the right", state.Just(func() { m.turn(1) })),
	}, state.Movement(&m.list)...)
}

func (m *Model) turn(by int) {
	m.d.Target = max(0, min(len(m.d.Bench.Targets)-1, m.d.Target+by))
	m.list.Home()
	m.Refresh()
}

func (m *Model) fold() {
	l := m.line()
	if l == nil || !l.Folder {
		m.d.Notice = "Only a folder can be folded."
		return
	}
	m.folded[l.Path] = !m.folded[l.Path]
	m.show()
}

// leave marks what is under the cursor.
func (m *Model) leave() tea.Cmd {
	l := m.line()
	p := m.target()
	switch {
	case l == nil || p == nil:
		return nil
	case !l.There:
		m.d.Notice = l.Path + " is not on the target yet: deselect its title in Fit (2) instead."
		return nil
	case l.State == survey.Removing && !marked(p, l.Path):
		m.d.Notice = "It will be removed because the target is set to hold only what you selected: select its title " +
			"in Fit (2), or press X."
		return nil
	case l.Folder:
		return m.leaveFolder(l)
	}
	paths, titles := []string{l.Path}, []int(nil)
	if l.Title >= 0 {
		titles = []int{l.Title}
		for i := range m.lines {
			if x := &m.lines[i]; x.Title == l.Title && x.There && x.Path != l.Path {
				paths = append(paths, x.Path)
			}
		}
	}
	return m.d.Leave(m.d.Target, paths, titles)
}

func marked(p *bench.Target, path string) bool { return slices.Contains(p.Removing, path) }

// leaveFolder marks all files of a folder, after its name was written.
func (m *Model) leaveFolder(l *survey.Line) tea.Cmd {
	var paths []string
	var titles []int
	var bytes int64
	all := true
	for i := range m.lines {
		x := &m.lines[i]
		if x.Folder || !x.There || !strings.HasPrefix(x.Path, l.Path+"/") {
			continue
		}
		paths = append(paths, x.Path)
		bytes += x.Size
		all = all && marked(m.target(), x.Path)
		if x.Title >= 0 && !slices.Contains(titles, x.Title) {
			titles = append(titles, x.Title)
		}
	}
	if len(paths) == 0 {
		m.d.Notice = "Nothing in this folder is on the target."
		return nil
	}
	if all {
		return m.d.Leave(m.d.Target, paths, nil)
	}
	name, n := path.Base(l.Path), m.d.Target
	m.d.Ask(state.Question{Prompt: fmt.Sprintf("%s, %s, will be removed. Type the folder's name to confirm: ",
		size.Count(len(paths), "file"), size.Format(bytes)), Hint: name, Done: func(answer string) tea.Cmd {
		if !strings.EqualFold(answer, name) {
			m.d.Notice = "That is not the folder's name, so nothing was marked."
			return nil
		}
		return m.d.Leave(n, paths, titles)
	}})
	return nil
}

func (m *Model) target() *bench.Target {
	if m.d.Target >= len(m.d.Bench.Targets) {
		return nil
	}
	return &m.d.Bench.Targets[m.d.Target]
}

// replace marks what is in a title's way.
func (m *Model) replace() tea.Cmd {
	l, p := m.line(), m.target()
	if l == nil || p == nil {
		return nil
	}
	if l.Folder || l.State != survey.InTheWay && l.State != survey.Contested && !slices.Contains(p.Replace, l.Path) {
		m.d.Notice = "Only a file in the way of a selected title can be replaced; find them with: / in the way"
		return nil
	}
	return m.d.Overwrite(m.d.Target, l.Path)
}

// exactly has the target hold exactly what is wanted, or keep what is there.
func (m *Model) deleteOthers() tea.Cmd {
	s, p, n := m.d.Current(), m.target(), m.d.Target
	if s == nil || p == nil {
		return nil
	}
	if p.DeleteOthers {
		return m.d.SetUp(n, p.Name+" stays as it is. u undoes.", func(p *bench.Target) { p.DeleteOthers = false })
	}
	return m.d.AskDeleteOthers(n)
}

// backupTo asks where what goes is copied to.
func (m *Model) backupTo() tea.Cmd {
	p, n := m.target(), m.d.Target
	if p == nil {
		return nil
	}
	m.d.Ask(state.Question{Prompt: "copy removed files to: ", Value: p.BackupTo,
		Hint: "a folder on this computer; empty for no copies", Done: func(answer string) tea.Cmd {
			say := "Removed files are copied to " + answer + " first; polytome restore puts them back."
			if answer == "" {
				say = "Removed files are not copied first."
			}
			return m.d.SetUp(n, say, func(p *bench.Target) { p.BackupTo = answer })
		}})
	return nil
}

// Click moves the cursor.
func (m *Model) Click(_, y int) tea.Cmd {
	if m.asList {
		m.steps.Click(y - m.top)
		return nil
	}
	if m.list.Click(y-m.top) && m.line() != nil && m.line().Folder {
		m.fold()
	}
	return nil
}

// Wheel scrolls.
func (m *Model) Wheel(by int) {
	if m.asList {
		m.steps.Move(by)
		return
	}
	m.list.Move(by)
}

// Why names the rule behind the path under the cursor.
func (m *Model) Why() state.Why {
	if m.asList {
		return m.stepWhy()
	}
	l := m.line()
	if l == nil {
		if s := m.d.Current(); s != nil && m.made.of != s {
			return state.Why{Lead: "One moment:", Say: "the tree is being made."}
		}
		return state.Why{Lead: "Nothing", Say: "is there, and nothing is planned."}
	}
	w := state.Why{Lead: l.Path + ": " + string(l.State) + ".", Say: strings.ToUpper(l.Rule[:1]) + l.Rule[1:] + "."}
	if s := m.d.Current(); l.Title >= 0 && s != nil && l.Title < len(s.Titles) {
		w.Say = "It is " + s.Titles[l.Title].Label() + ". " + w.Say
	}
	if f := m.d.KnownAt(m.d.Target, l.Path); f != nil {
		w.Say = "Known before: " + f.Say + ". " + w.Say
		w.Ways = state.KnownWays(f)
		return w
	}
	switch l.State {
	case survey.Kept:
		w.Ways = []string{"x marks it to be removed"}
	case survey.Removing:
		w.Ways = []string{"x unmarks it"}
	case survey.Contested:
		w.Ways = []string{"r uses the new one"}
	case survey.InTheWay:
		w.Ways = []string{"o replaces it with the title's file", "x marks it to be removed"}
	}
	return w
}
