// Package teachview is the panel in which an unknown console is taught: what lies on a stick that it reads, the rules
// that were found with their evidence, and what is still to be asked.
package teachview

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/learn"
	"polytome/internal/draw"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/state"
)

// side is what the right side shows.
type side int

const (
	rules side = iota
	ownGames
	profile
	sides
)

// Model is the panel.
type Model struct {
	d *state.State

	from    state.Teaching // what is learnt from
	number  int            // of what is learnt: what was begun before it is not taken
	session *session       // nil while nothing was looked at
	busy    string         // what is being done, "" for nothing
	cancel  context.CancelFunc
	problem string // why nothing could be learnt

	answers learn.Answers
	unread  string // why answers of an earlier time could not be read, and new ones are not kept
	keeper  *keeper
	undone  learn.Answers // the last one first
	draft   *learn.Draft
	// ruleNumber is by which number a rule is shown.
	ruleNumber map[string]int
	beyond     *learn.Draft // what the target's loader does not account for; nil for nothing
	asked      int          // the question that is shown

	rows   []row
	tree   scroll.List
	said   scroll.List
	lines  []line
	width  int // that the lines were broken for
	shown  side
	onSaid bool // the cursor is on the right side
	filter string

	games []game // the user's own, by what was learnt
	laid  bool
	hex   *hexView // nil while none is shown

	paneTop, split int
}

// session is what was looked at, as long as it is learnt from.
type session struct {
	look learn.Look
	end  func()
}

// row is a line of the tree.
type row struct {
	path    string
	depth   int
	folder  bool
	why     learn.Reason
	heading string
}

// game is where one of the user's own titles would go.
type game struct {
	name, path string
	refused    bool
}

// New makes the panel.
func New(d *state.State) *Model {
	m := &Model{d: d, keeper: &keeper{}}
	m.tree.Stops = func(i int) bool { return i < len(m.rows) && m.rows[i].heading == "" }
	return m
}

// Name is the panel's name.
func (m *Model) Name() string { return "Teach" }

// Number is how many questions are open.
func (m *Model) Number() string {
	if m.draft == nil {
		return ""
	}
	return fmt.Sprint(len(m.draft.Open))
}

// Refresh has nothing to list again: what was learnt stays as it is.
func (m *Model) Refresh() {}

// Open learns from what was asked for, or else from the target that is shown.
func (m *Model) Open() tea.Cmd {
	from := m.d.Teaching
	if from.At == "" && m.session != nil {
		return nil // as it was left
	}
	if from.At == "" && m.d.Target < len(m.d.Bench.Targets) {
		c := m.d.Bench.Targets[m.d.Target]
		from = state.Teaching{At: m.d.Bench.Resolve(c.At), Name: c.Name, Config: c}
	}
	m.d.Teaching = state.Teaching{}
	if from.At == "" {
		m.problem = "There is no target to learn from: P adds one."
		return nil
	}
	if m.session != nil && from.At == m.from.At {
		return nil // as it was left
	}
	end := m.leave()
	m.from, m.answers, m.undone, m.draft, m.problem, m.unread = from, nil, nil, nil, "", ""
	m.beyond = nil
	m.rows, m.games, m.laid, m.asked, m.shown, m.hex = nil, nil, false, 0, rules, nil
	look := m.look()
	return func() tea.Msg {
		if end != nil { // a server may take one client at a time
			end()
		}
		return look()
	}
}

// Close lets go of what is learnt from, when the program ends.
func (m *Model) Close() {
	if end := m.leave(); end != nil {
		end()
	}
}

// leave drops what is learnt from. The command closes it, which may take as long as its connection does.
func (m *Model) leave() (end tea.Cmd) {
	m.number++
	if m.cancel != nil {
		m.cancel()
		m.cancel = nil
	}
	end = m.session.close()
	m.session, m.busy = nil, ""
	return end
}

// close is the command that ends the session; nil for none.
func (s *session) close() tea.Cmd {
	if s == nil {
		return nil
	}
	return func() tea.Msg {
		s.end()
		return nil
	}
}

// begin has something be the newest work, of which alone the result is taken.
func (m *Model) begin(what string) (ctx context.Context, number int) {
	if m.cancel != nil {
		m.cancel()
	}
	ctx, m.cancel = context.WithCancel(m.d.Ctx)
	m.number++
	m.busy, m.width = what, 0
	return ctx, m.number
}

func (m *Model) questions() []learn.Question {
	if m.draft == nil {
		return nil
	}
	return m.draft.Open
}

// question is the one that is shown; nil where nothing is open.
func (m *Model) question() *learn.Question {
	all := m.questions()
	if m.asked >= len(all) {
		return nil
	}
	return &all[m.asked]
}

// leftOut is a file that a person has said is none of the console's.
const leftOut learn.Part = "left out"

// explained is why a file lies where it does: by itself, or as what lies in a folder that is a game.
func (m *Model) explained(p string) learn.Reason {
	if m.draft == nil {
		return learn.Reason{}
	}
	if m.answers.LeaveOut(p) {
		return learn.Reason{Part: leftOut}
	}
	for at := p; at != "."; at = path.Dir(at) {
		if why := m.draft.Explained[at]; why.Part != "" {
			return why
		}
	}
	return learn.Reason{}
}

// countRules numbers the rules of the draft in the order in which they were found.
func (m *Model) countRules() {
	m.ruleNumber = map[string]int{}
	for _, f := range m.draft.Findings {
		if f.Rule != "" && m.ruleNumber[f.Rule] == 0 {
			m.ruleNumber[f.Rule] = len(m.ruleNumber) + 1
		}
	}
}

// list makes the rows of the tree: what nothing explains first, then all.
func (m *Model) list() {
	m.rows = nil
	if m.session == nil {
		return
	}
	all := slices.Clone(m.session.look.Entries)
	slices.SortFunc(all, func(a, b target.Entry) int {
		return strings.Compare(strings.ToLower(a.Path)+"\x00", strings.ToLower(b.Path)+"\x00")
	})
	var strange, rest []row
	for _, e := range all {
		if target.OfSystem(e.Path) || target.IsTemporary(e.Path) || !state.HasWords(e.Path, m.filter) {
			continue
		}
		r := row{path: e.Path, depth: strings.Count(e.Path, "/"), folder: e.Folder, why: m.explained(e.Path)}
		rest = append(rest, r)
		if r.why.Part == "" && !e.Folder {
			r.depth = 0
			strange = append(strange, r)
		}
	}
	if len(strange) > 0 && m.draft != nil {
		m.rows = append(m.rows, row{heading: fmt.Sprintf("not explained: %s", size.Count(len(strange), "file"))})
		m.rows = append(m.rows, strange...)
		m.rows = append(m.rows, row{heading: "all that is there"})
	}
	m.rows = append(m.rows, rest...)
	from, to := m.tree.Window()
	m.tree.Resize(len(m.rows), max(1, to-from))
}

// current is the file under the cursor.
func (m *Model) current() (row, bool) {
	if m.tree.Cursor >= len(m.rows) || m.rows[m.tree.Cursor].heading != "" {
		return row{}, false
	}
	return m.rows[m.tree.Cursor], true
}

// Escape leaves the bytes of a file, or drops the filter; it reports whether there was something.
func (m *Model) Escape() bool {
	if m.hex != nil {
		m.hex = nil
		return true
	}
	had := m.filter != ""
	m.SetFilter("")
	return had
}

// SetFilter shows only paths that contain the words.
func (m *Model) SetFilter(f string) {
	m.filter = f
	m.list()
}

// Drawing is what paper shows of the panel.
func (m *Model) Drawing() draw.Request { return m.d.Drawn(draw.KindTree) }

// Title is the title under the cursor.
func (m *Model) Title() (int, bool) { return 0, false }

// turn shows another question.
func (m *Model) turn(by int) {
	if n := len(m.questions()); n > 0 {
		m.asked = (m.asked + by + n) % n
	}
}

// next shows another right side.
func (m *Model) next() tea.Cmd {
	m.shown = (m.shown + 1) % sides
	m.width = 0
	m.said.Home()
	if m.shown == ownGames && !m.laid {
		return m.lay()
	}
	return nil
}

// Actions are the keys of the panel.
func (m *Model) Actions() []state.Action {
	if m.hex != nil {
		return m.hexActions()
	}
	list := &m.tree
	if m.onSaid {
		list = &m.said
	}
	asked := m.question() != nil
	some := m.draft != nil && len(m.draft.Rules) > 0
	all := []state.Action{
		state.Do("y", "take the proposal", m.accept).When(asked),
		state.Do("enter", "answer otherwise", m.other).When(asked),
		state.Do("W", "write the profile", m.askSave).Writing().When(some),
		state.Do("v", "view", m.next).Saying("the right side shows the rules, your games by them, or the file"),
		state.Do("i", "say its ID", m.point("id", "ID")).Saying("of the game under the cursor").When(some),
		state.Do("m", "say its name", m.point("name", "name")).Saying("of the game under the cursor").When(some),
		state.Do("x", "its bytes", m.openHex).Saying("point at the ID or name in the game itself").When(some),
		state.Do("o", "leave it out", m.leaveOut).Saying("the file under the cursor is none of the console's").
			When(some),
		state.Do("right l", "the next question", state.Just(func() { m.turn(1) })),
		state.Do("left h", "the question before", state.Just(func() { m.turn(-1) })),
		state.Do("u", "undo the last answer", m.undo).When(len(m.answers) > 0),
		state.Do("U", "redo it", m.redo).When(len(m.undone) > 0),
		state.Do("a", "learn from another stick", m.another).Saying("a folder, an image or an address"),
		state.Do("tab", "the other side", state.Just(func() { m.onSaid = !m.onSaid })),
	}
	if m.beyond != nil && m.beyond.Additions() != "" {
		all = slices.Insert(all, 3, state.Do("+", "add to its profile", m.askAdd).
			Saying("rules for what the console has made since it was filled"))
	}
	return append(all, state.Movement(list)...)
}

// Next is the step that brings teaching forward; ok is false while nothing is taught.
func (m *Model) Next() (n state.Next, ok bool) {
	if m.draft == nil || m.busy != "" || m.hex != nil {
		return n, false
	}
	if open := len(m.questions()); open > 0 {
		return state.Next{Screen: m.Name(), Key: "y", Say: "take what is proposed, or answer otherwise with enter: " +
			size.Count(open, "question") + " open"}, true
	}
	return state.Next{Screen: m.Name(), Key: "W", Say: "write the profile; then the stick is on the bench"}, true
}

// Click moves the cursor to the side and row that was clicked.
func (m *Model) Click(x, y int) tea.Cmd {
	m.onSaid = m.split > 0 && x >= m.split || m.split == 0 && m.onSaid
	if m.hex == nil && !m.onSaid {
		m.tree.Click(y - m.paneTop)
	}
	return nil
}

// Wheel scrolls the side with the cursor.
func (m *Model) Wheel(by int) {
	if m.onSaid {
		m.said.Move(by)
	} else {
		m.tree.Move(by)
	}
}

// Why says what the file under the cursor is to the draft.
func (m *Model) Why() state.Why {
	switch {
	case m.busy != "":
		return state.Why{Lead: "One moment.", Say: state.Sentence(m.busy)}
	case m.problem != "":
		return state.Why{Lead: "Teach.", Say: m.problem}
	}
	r, ok := m.current()
	if !ok {
		return state.Why{Lead: "Teach.", Say: "What lies on a stick that the console reads shows its rules."}
	}
	w := state.Why{Lead: r.path + ".", Say: "Nothing explains it yet."}
	if r.why.Part != "" {
		w.Say = state.Sentence("it is " + string(r.why.Part))
		if r.why.Rule != "" {
			w.Say = fmt.Sprintf("It is %s, by rule %d: %s", r.why.Part, m.ruleNumber[r.why.Rule], r.why.Rule)
		}
	} else if r.folder {
		w.Say = "A folder."
	}
	if !r.folder && r.why.Part == "" {
		w.Ways = []string{"i: it is a game, say its ID", "o: leave it out"}
	}
	return w
}
