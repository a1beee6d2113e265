// Package proofview is the fifth stage: what the console will list, what is wrong
// on the place, and what to do at the console.
package proofview

import (
	"fmt"
	"image/color"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/proof"
	"polytome/internal/size"
	"polytome/internal/ui/desk"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/style"
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
	d      *desk.Desk
	pane   pane
	lists  [panes]scroll.List
	ticked map[string]bool
	// where the panes are, for the mouse
	split  int
	origin [panes]int
}

// New makes the stage.
func New(d *desk.Desk) *Model { return &Model{d: d, ticked: map[string]bool{}} }

// Name is the stage's name on the rail.
func (m *Model) Name() string { return "Proof" }

// Number is how many titles the loader will list.
func (m *Model) Number() string {
	if r := m.report(); r != nil {
		return fmt.Sprint(len(r.Listed))
	}
	return "-"
}

func (m *Model) report() *proof.Report {
	if m.d.Place < len(m.d.Proofs) {
		return m.d.Proofs[m.d.Place]
	}
	return nil
}

// Refresh takes over changed state.
func (m *Model) Refresh() {}

// SetFilter does nothing: the loader's list is shown as it is.
func (m *Model) SetFilter(string) {}

// Escape has nothing to undo here.
func (m *Model) Escape() bool { return false }

// Title is none: the stage shows what is on the place.
func (m *Model) Title() (int, bool) { return 0, false }

// Actions are the keys of the stage. The list under the cursor is looked up when a
// key is pressed, as tab changes it.
func (m *Model) Actions() []desk.Action {
	return append([]desk.Action{
		desk.Do("tab", "the next part of the screen", desk.Just(func() { m.pane = (m.pane + 1) % panes })),
		desk.Do("shift+tab", "the part before", desk.Just(func() { m.pane = (m.pane + panes - 1) % panes })),
		desk.Do("space enter", "tick a line of the checklist off", desk.Just(m.tick)),
		desk.Do("p", "prove the place again", func() tea.Cmd { return m.d.StartProof(m.d.Place) }),
	}, desk.Movement(&m.lists[m.pane])...)
}

func (m *Model) tick() {
	r := m.report()
	c := m.lists[checklist].Cursor
	if r == nil || m.pane != checklist || c >= len(r.Checklist) {
		m.d.Notice = "tab goes to the checklist; there space ticks a line off."
		return
	}
	m.ticked[r.Checklist[c]] = !m.ticked[r.Checklist[c]]
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
	if m.lists[p].Click(y-m.origin[p]) && p == checklist {
		m.tick()
	}
	return nil
}

// Wheel scrolls the pane under the cursor.
func (m *Model) Wheel(by int) { m.lists[m.pane].Move(by) }

// Why explains the finding, or the line of the list, under the cursor.
func (m *Model) Why() desk.Why {
	r := m.report()
	if r == nil {
		if m.d.Place < len(m.d.Proving) && m.d.Proving[m.d.Place] {
			return desk.Why{Lead: "Reading the place", Say: "as the loader would."}
		}
		if m.d.Running() {
			return desk.Why{Lead: "A run is going on.", Say: "The place is proved at its end, without being asked.", Ways: []string{"p reads the place as it is now"}}
		}
		return desk.Why{Lead: "Not proved yet.", Say: "The proof reads the place as the loader would, and says what it will list.", Ways: []string{"p proves it now"}}
	}
	c := m.lists[m.pane].Cursor
	switch {
	case m.pane == listed && c < len(r.Listed):
		l := r.Listed[c]
		say := fmt.Sprintf("will be listed and start. It is %s, %s.", l.Path, size.Format(l.Size))
		if !l.Starts {
			say = "will be listed, but not start. See the finding on " + l.Path + "."
		}
		return desk.Why{Lead: l.Name, Say: say}
	case m.pane == findings && c < len(r.Findings):
		f := r.Findings[c]
		w := desk.Why{Lead: f.Path, Say: f.Say + "."}
		if f.Path == "" {
			w.Lead = "The place:"
		}
		if f.Remedy != "" {
			w.Ways = []string{f.Remedy}
		}
		return w
	case m.pane == checklist && c < len(r.Checklist):
		return desk.Why{Lead: fmt.Sprintf("Step %d at the console:", c+1), Say: r.Checklist[c] + "."}
	}
	return desk.Why{Lead: "Nothing", Say: "here."}
}

// View draws the stage.
func (m *Model) View(t *style.Theme, w, h int) []string {
	r := m.report()
	if r == nil {
		text := "Not proved yet: p reads the place as the loader would."
		if m.d.Running() {
			text = "A run is going on; the place is proved at its end."
		}
		if m.d.Place < len(m.d.Proving) && m.d.Proving[m.d.Place] {
			text = "Reading the place as the loader would."
		}
		return t.Block([]string{"", "  " + t.Paint(t.Dim, text)}, w, h)
	}
	left := min(36, w/2) // a name and its number
	if w > 110 {
		left = 62 // with ID and kind
	}
	m.split = left
	right := w - left - 1
	checks := min(len(r.Checklist)+1, max(3, h/3))
	l := m.drawListed(t, r, left, h)
	f := m.drawFindings(t, r, right, h-checks-1)
	m.origin = [panes]int{1, 1, len(f) + 2}
	f = append(f, t.Rule("", right))
	f = t.Block(append(f, m.drawChecklist(t, r, right, checks)...), right, h)
	out := make([]string, h)
	for y := range out {
		out[y] = l[y] + t.Paint(t.Faint, t.Glyph("│")) + f[y]
	}
	return out
}

// caption heads a pane, and shows where the cursor is.
func (m *Model) caption(t *style.Theme, p pane, text string, w int) string {
	if p == m.pane {
		return t.Bold(t.Accent, t.Glyph("▸")) + " " + t.Bold(t.Accent, t.Clip(text, w-3))
	}
	return "  " + t.Bold(t.Dim, t.Clip(text, w-3))
}

func (m *Model) drawListed(t *style.Theme, r *proof.Report, w, h int) []string {
	name := r.Loader
	if s := m.d.Current(); s != nil {
		name = s.Profile.Shown
	}
	out := []string{m.caption(t, listed, fmt.Sprintf("%s will list %s", name, size.Count(len(r.Listed), "title")), w)}
	list := &m.lists[listed]
	list.Resize(len(r.Listed), h-1)
	from, to := list.Window()
	for i := from; i < to; i++ {
		l := r.Listed[i]
		number := style.Cell{Text: fmt.Sprint(i + 1), Width: 3, Right: true, FG: t.Dim}
		name := style.Cell{Text: l.Name, Width: w - 6}
		state := style.Cell{Text: l.Kind, Width: 11, FG: t.Dim}
		if !l.Starts {
			name.FG = t.Bad
			state = style.Cell{Text: "won't start", Width: 11, FG: t.Bad}
		}
		cells := []style.Cell{number, name}
		switch {
		case w >= 46:
			cells[1].Width -= 23
			cells = slices.Insert(append(cells, state), 1, style.Cell{Text: l.ID, Width: 10, FG: t.Dim})
		case !l.Starts:
			cells[1].Width -= 12
			cells = append(cells, state)
		}
		out = append(out, t.Row(w, m.pane == listed && i == list.Cursor, cells...))
	}
	if len(r.Listed) == 0 {
		out = append(out, "", "  "+t.Paint(t.Bad, t.Clip("nothing: see the findings", w-3)))
	}
	return t.Block(out, w, h)
}

func (m *Model) drawFindings(t *style.Theme, r *proof.Report, w, h int) []string {
	text := "nothing to mend"
	if n := len(r.Findings); n > 0 {
		text = size.Count(n, "finding")
	}
	out := []string{m.caption(t, findings, text, w)}
	list := &m.lists[findings]
	list.Resize(len(r.Findings), max(1, (h-2)/5))
	from, to := list.Window()
	for i := from; i < to; i++ {
		f := r.Findings[i]
		colour, word := grade(t, f.Grade)
		at := f.Path
		if at == "" {
			at = "the place"
		}
		out = append(out, t.Row(w, m.pane == findings && i == list.Cursor, style.Cell{Text: word, Width: 7, FG: colour, Bold: true}, style.Cell{Text: at, Width: w - 11}))
		for k, l := range t.Wrap(style.Clean(f.Say), w-12) {
			if k < 2 {
				out = append(out, strings.Repeat(" ", 9)+t.Paint(t.Dim, l))
			}
		}
		if f.Remedy != "" {
			for k, l := range t.Wrap(t.Glyph("→")+" "+style.Clean(f.Remedy), w-12) {
				if k < 2 {
					out = append(out, strings.Repeat(" ", 9)+t.Paint(t.Good, l))
				}
			}
		}
	}
	if len(r.Findings) == 0 {
		out = append(out, "  "+t.Paint(t.Good, t.Clip("Everything here is as the loader wants it.", w-3)))
	}
	if len(out) < h-1 {
		out = append(out, "")
		for _, u := range r.Unchecked {
			for _, l := range t.Wrap("Not checked: "+u+".", w-4) {
				out = append(out, "  "+t.Paint(t.Dim, l))
			}
		}
	}
	return t.Block(out, w, min(h, len(out)+1))
}

func grade(t *style.Theme, g proof.Grade) (color.Color, string) {
	switch g {
	case proof.Stops:
		return t.Bad, "STOPS"
	case proof.Fault:
		return t.Bad, "fault"
	}
	return t.Warn, "remark"
}

func (m *Model) drawChecklist(t *style.Theme, r *proof.Report, w, h int) []string {
	out := []string{m.caption(t, checklist, "at the console", w)}
	list := &m.lists[checklist]
	list.Resize(len(r.Checklist), h-1)
	from, to := list.Window()
	for i := from; i < to; i++ {
		box, fg := "[ ]", t.Text
		if m.ticked[r.Checklist[i]] {
			box, fg = "["+t.Glyph("✓")+"]", t.Dim
		}
		out = append(out, t.Row(w, m.pane == checklist && i == list.Cursor, style.Cell{Text: box, Width: 3, FG: fg}, style.Cell{Text: r.Checklist[i], Width: w - 7, FG: fg}))
	}
	return t.Block(out, w, h)
}
