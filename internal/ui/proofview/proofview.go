// Package proofview is the fifth stage: what the console will list, as it will show it; what is wrong on the place, and
// what mends it; and what to do at the console.
package proofview

import (
	"fmt"
	"image"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/mend"
	"polytome/internal/core/proof"
	"polytome/internal/core/survey"
	"polytome/internal/draw"
	"polytome/internal/size"
	"polytome/internal/ui/desk"
	"polytome/internal/ui/scroll"
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
	d       *desk.Desk
	pane    pane
	lists   [panes]scroll.List
	filter  string
	changes bool // what differs from the last proof is shown in place of the findings
	shown   *proof.Report
	found   []int // numbers of the findings that the filter leaves
	covers  map[cover]image.Image
	asked   map[cover]bool
	// where the panes are, for the mouse
	split  int
	origin [panes]int
}

// A cover is a picture on a place, as it was when it was proved.
type cover struct {
	of   *proof.Report
	path string
}

// New makes the stage.
func New(d *desk.Desk) *Model {
	return &Model{d: d, covers: map[cover]image.Image{}, asked: map[cover]bool{}}
}

// Name is the stage's name on the rail.
func (m *Model) Name() string { return "Proof" }

// Number is how many titles the loader will list.
func (m *Model) Number() string {
	if r := m.report(); r != nil {
		return fmt.Sprint(len(r.Listed))
	}
	return "-"
}

func (m *Model) proved() desk.Proved {
	if m.d.Place < len(m.d.Proofs) {
		return m.d.Proofs[m.d.Place]
	}
	return desk.Proved{}
}

func (m *Model) report() *proof.Report { return m.proved().Report }

func (m *Model) place() *bench.Place {
	if m.d.Place < len(m.d.Bench.Places) {
		return &m.d.Bench.Places[m.d.Place]
	}
	return nil
}

// Refresh takes over changed state.
func (m *Model) Refresh() {
	r := m.report()
	if r == m.shown {
		return
	}
	if r != nil && m.shown == nil || r == nil {
		m.changes = false
	}
	m.shown = r
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
		if m.filter == "" || desk.HasWords(string(f.Grade)+" "+string(f.Kind)+" "+f.Path+" "+f.Say, m.filter) {
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

// Title is none: the stage shows what is on the place.
func (m *Model) Title() (int, bool) { return 0, false }

// finding is the one under the cursor, nil for none.
func (m *Model) finding() *proof.Finding {
	r, c := m.report(), m.lists[findings].Cursor
	if r == nil || m.changes || c >= len(m.found) {
		return nil
	}
	return &r.Findings[m.found[c]]
}

// Actions are the keys of the stage. The list under the cursor is looked up when a
// key is pressed, as tab changes it.
func (m *Model) Actions() []desk.Action {
	out := []desk.Action{}
	if m.pane == checklist {
		out = append(out, desk.Do("space enter", "tick off", m.tick).Saying("tick a line of the checklist off, or take the tick away"))
	} else {
		out = append(out,
			desk.Do("m space enter", "mend", m.mend).Saying("mark the finding to be mended, or take the mark off; the next run does it"),
			desk.Do("M", "all like it", m.mendKind).Saying("mark all findings of the same kind to be mended"))
	}
	return append(append(out,
		desk.Do("tab", "next part", desk.Just(func() { m.pane = (m.pane + 1) % panes })).Saying("the next part of the screen: the list, the findings, the checklist"),
		desk.Do("shift+tab", "the part before", desk.Just(func() { m.pane = (m.pane + panes - 1) % panes })),
		desk.Do("p", "prove again", func() tea.Cmd { return m.d.StartProof(m.d.Place, "") }).Saying("read the place again, as it is now"),
		desk.Do("F", "full proof", func() tea.Cmd { return m.d.StartProof(m.d.Place, proof.Whole) }).Saying("read every byte of every game, and compare every checksum"),
		desk.Do("c", "what changed", desk.Just(m.compare)).Saying("what differs from the proof before"),
		desk.Do("e", "checklist to a file", desk.Just(func() { m.d.AskChecklist(m.d.Place) })).Saying("write the checklist to a text file"),
		desk.Do("left h", "the place to the left", desk.Just(func() { m.turn(-1) })),
		desk.Do("right l", "the place to the right", desk.Just(func() { m.turn(1) })),
	), desk.Movement(&m.lists[m.pane])...)
}

func (m *Model) turn(by int) {
	m.d.Place = max(0, min(len(m.d.Bench.Places)-1, m.d.Place+by))
	for p := range m.lists {
		m.lists[p].Home()
	}
	m.shown, m.changes = nil, false
	m.Refresh()
}

// Work has the cover under the cursor read, and the place proved when nobody has yet.
func (m *Model) Work() tea.Cmd {
	var all []tea.Cmd
	n := m.d.Place
	if m.report() == nil && n < len(m.d.Proofs) && !m.d.Proving(n) && m.d.Proofs[n].Trouble == "" && !m.d.Running() && n < len(m.d.Surveys) && m.d.Surveys[n] != nil && m.d.Surveys[n].Away == nil {
		all = append(all, m.d.StartProof(n, ""))
	}
	if l := m.line(); l != nil && l.Cover != "" {
		key := cover{m.report(), l.Cover}
		if _, has := m.covers[key]; !has && !m.asked[key] {
			m.asked[key] = true
			all = append(all, m.d.Cover(n, l.Cover))
		}
	}
	return tea.Batch(all...)
}

// SetCover takes over a picture.
func (m *Model) SetCover(msg desk.CoverMsg) {
	if len(m.covers) >= mostCovers { // they are read again when somebody looks
		clear(m.covers)
		clear(m.asked)
	}
	m.covers[cover{msg.Of, msg.Path}] = msg.Picture
}

// line is the line of the list under the cursor, nil for none.
func (m *Model) line() *proof.Listed {
	r, c := m.report(), m.lists[listed].Cursor
	if r == nil || c >= len(r.Listed) {
		return nil
	}
	return &r.Listed[c]
}

func (m *Model) mend() tea.Cmd {
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
		m.d.Notice = "There is nothing to mend."
		return nil
	}
	return m.d.MarkMends(m.d.Place, f.Mends)
}

func (m *Model) mendKind() tea.Cmd {
	f, r := m.finding(), m.report()
	if f == nil {
		m.d.Notice = "tab goes to the findings; there M mends all of one kind."
		return nil
	}
	return m.d.MarkMends(m.d.Place, r.Mends(f.Kind))
}

// compare shows what differs from the proof before.
func (m *Model) compare() {
	p := m.proved()
	switch {
	case p.Report == nil:
		m.d.Notice = "There is no proof yet to compare."
	case p.Changes == nil:
		m.d.Notice = "This is the first proof of the place. The next one is compared with it."
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
	return m.d.Tick(m.d.Place, r.Checklist[c])
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
			return m.mend()
		}
	}
	return nil
}

// Wheel scrolls the pane under the cursor.
func (m *Model) Wheel(by int) { m.lists[m.pane].Move(by) }

// Why explains the finding, or the line of the list, under the cursor.
func (m *Model) Why() desk.Why {
	r := m.report()
	if r == nil {
		return m.notYet()
	}
	c := m.lists[m.pane].Cursor
	switch {
	case m.pane == listed && c < len(r.Listed):
		l := r.Listed[c]
		say := fmt.Sprintf("will be listed and start. It is %s, %s.", l.Path, size.Format(l.Size))
		if !l.Starts {
			return desk.Why{Lead: l.Name, Say: "will be listed, but not start. It is " + l.Path + ".", Ways: []string{"enter goes to what is wrong with it"}}
		}
		return desk.Why{Lead: l.Name, Say: say}
	case m.pane == findings && m.changes:
		return desk.Why{Lead: "Since the proof before", Say: "this has changed. c goes back to the findings."}
	case m.pane == findings && m.finding() != nil:
		return m.whyFinding(m.finding())
	case m.pane == checklist && c < len(r.Checklist):
		return desk.Why{Lead: fmt.Sprintf("Step %d at the console:", c+1), Say: r.Checklist[c] + ".", Ways: []string{"space ticks it off, and the tick stays until the next run"}}
	}
	return desk.Why{Lead: "Nothing", Say: "here."}
}

// whyFinding says what it is, where, why it matters, and what mends it.
func (m *Model) whyFinding(f *proof.Finding) desk.Why {
	w := desk.Why{Lead: f.Path, Say: f.Say + "."}
	if f.Path == "" {
		w.Lead = "The place:"
	}
	if f.Matters != "" {
		w.Say += " At the console: " + f.Matters + "."
	}
	switch p := m.place(); {
	case len(f.Mends) > 0 && p != nil && p.Mending(f.Mends...):
		w.Ways = []string{"marked: the next run will " + words(f.Mends)}
	case len(f.Mends) > 0:
		w.Ways = []string{"m has the next run " + words(f.Mends)}
	case f.Remedy != "":
		w.Ways = []string{f.Remedy}
	}
	return w
}

// words say what mends do, in a clause.
func words(all []mend.Mend) string {
	if len(all) == 1 {
		return all[0].Words()
	}
	return fmt.Sprintf("%s, and make %s more", all[0].Words(), size.Count(len(all)-1, "change"))
}

// notYet says why there is no proof.
func (m *Model) notYet() desk.Why {
	n := m.d.Place
	switch {
	case m.d.Proving(n):
		return desk.Why{Lead: "Reading the place", Say: "as the loader would."}
	case m.d.Running():
		return desk.Why{Lead: "A run is going on.", Say: "The place is proved at its end, without being asked.", Ways: []string{"p reads the place as it is now"}}
	case m.proved().Trouble != "":
		return desk.Why{Lead: "The place could not be proved:", Say: m.proved().Trouble + ".", Ways: []string{"p tries it again"}}
	case n < len(m.d.Surveys) && m.d.Surveys[n] != nil && m.d.Surveys[n].Away != nil:
		return desk.Why{Lead: "The place is away", Say: fmt.Sprintf("(%v), so it cannot be proved.", m.d.Surveys[n].Away), Ways: []string{"connect it, and press p"}}
	}
	return desk.Why{Lead: "Not proved yet.", Say: "The proof reads the place as the loader would, and says what it will list.", Ways: []string{"p proves it now"}}
}

// marked counts the findings that are marked to be mended.
func (m *Model) marked() (n int) {
	p, r := m.place(), m.report()
	if p == nil || r == nil {
		return 0
	}
	for i := range r.Findings {
		if len(r.Findings[i].Mends) > 0 && p.Mending(r.Findings[i].Mends...) {
			n++
		}
	}
	return n
}

// ticked reports whether a line of the checklist is ticked off.
func (m *Model) ticked(line string) bool {
	p := m.place()
	return p != nil && survey.Ticked(p)(line)
}

// about are the findings that are about a line of the list.
func about(r *proof.Report, l *proof.Listed) bool {
	return slices.ContainsFunc(r.Findings, func(f proof.Finding) bool { return concerns(&f, l) && f.Grade != proof.Remark })
}

// concerns reports whether a finding is about a line of the list: its file, what lies in its folder, or its cover.
func concerns(f *proof.Finding, l *proof.Listed) bool {
	return f.Path == l.Path || strings.HasPrefix(f.Path, l.Path+"/") || l.Cover != "" && f.Path == l.Cover
}
