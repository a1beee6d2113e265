// Package connectionsview is the panel of what is joined to what: this computer, the consoles, the boxes and the
// drives, with addresses, ports, and what must be running; a test of each link; and what to set for a cable of its own.
package connectionsview

import (
	"fmt"
	"image/color"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/connections"
	"polytome/internal/draw"
	"polytome/internal/size"
	"polytome/internal/target/remote"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// Model is the panel.
type Model struct {
	d     *state.State
	list  scroll.List
	notes scroll.List // the details
	side  bool        // the cursor is in the details
	split int
	top   int // rows above the first link
}

// New makes the panel.
func New(d *state.State) *Model { return &Model{d: d} }

// Name is the panel's name.
func (m *Model) Name() string { return "Connections" }

// Number is how many links answer.
func (m *Model) Number() string {
	h := m.d.Connections
	if h == nil {
		return "-"
	}
	n := 0
	for i := range h.Links {
		if h.Links[i].Tried.State == connections.Answers {
			n++
		}
	}
	return fmt.Sprintf("%d/%d", n, len(h.Links))
}

// Open looks at the links, and goes on to do so while the panel is shown.
func (m *Model) Open() tea.Cmd { return tea.Batch(m.d.LookAtLinks(), m.d.LookAgain()) }

// Refresh takes over changed state.
func (m *Model) Refresh() {}

// Update tries the links again from time to time while the panel is shown.
func (m *Model) Update(msg tea.Msg, shown bool) (t state.Taken, ok bool) {
	if _, ok = msg.(state.LookAgainMsg); ok {
		t.Cmd = m.d.LookNow(shown)
	}
	return t, ok
}

// SetFilter goes to the link that has the words: all of them stay shown.
func (m *Model) SetFilter(f string) {
	if m.d.Connections == nil || f == "" {
		return
	}
	for i := range m.d.Connections.Links {
		l := &m.d.Connections.Links[i]
		if l.Target >= len(m.d.Bench.Targets) { // it was taken away meanwhile
			continue
		}
		p := &m.d.Bench.Targets[l.Target]
		if state.HasWords(p.Name+" "+p.At+" "+strings.Join(p.Loaders(), " "), f) {
			m.side, m.list.Cursor = false, i
			return
		}
	}
}

// Escape has nothing to undo here.
func (m *Model) Escape() bool { return false }

// Drawing is what paper shows of the panel.
func (m *Model) Drawing() draw.Request { return m.d.Drawn(draw.KindConnections) }

// Title is none.
func (m *Model) Title() (int, bool) { return 0, false }

// link is the one under the cursor, nil for none.
func (m *Model) link() *connections.Link {
	h := m.d.Connections
	if h == nil || m.list.Cursor >= len(h.Links) {
		return nil
	}
	return &h.Links[m.list.Cursor]
}

// Actions are the keys of the panel.
func (m *Model) Actions() []state.Action {
	on := func(do func(n int) tea.Cmd) func() tea.Cmd {
		return func() tea.Cmd {
			l := m.link()
			if l == nil || l.Target >= len(m.d.Bench.Targets) {
				m.d.Notice = "There is no target yet: P adds one."
				return nil
			}
			return do(l.Target)
		}
	}
	list := &m.list
	if m.side {
		list = &m.notes
	}
	l := m.link()
	some := l != nil && l.Target < len(m.d.Bench.Targets)
	return append([]state.Action{
		state.Do("t enter", "test", on(m.d.TestLink)).
			Saying("log in, send a small file and read it back: what the server supports, and how fast it is").
			When(some && l.Remote()),
		state.Do("T", "test all", m.testAll).Saying("test every target that is on another machine").
			When(m.d.Connections != nil && slices.ContainsFunc(m.d.Connections.Links, isRemote)),
		state.Do("c", "direct cable", on(m.d.AskCable)).
			Saying("plan a cable between console and computer: a free network, both addresses, and what to set").
			When(some),
		state.Do("b", "set back", on(m.d.PartCable)).Saying("end the cable setup, and show what to set back").
			When(some),
		state.Do("tab", "details", state.Just(func() { m.side = !m.side })).
			Saying("go to the details, or back to the links"),
		state.Do("r", "look again", func() tea.Cmd { return m.d.LookAtLinks() }).
			Saying("try all links again, without logging in"),
	}, state.Movement(list)...)
}

func (m *Model) testAll() tea.Cmd {
	h := m.d.Connections
	if h == nil {
		return nil
	}
	var all []tea.Cmd
	for i := range h.Links {
		if h.Links[i].Remote() {
			all = append(all, m.d.TestLink(h.Links[i].Target))
		}
	}
	if len(all) == 0 {
		m.d.Notice = "All targets are local: there is no link to test."
	}
	return tea.Batch(all...)
}

// Click moves the cursor to the link that was clicked.
func (m *Model) Click(x, y int) tea.Cmd {
	if m.split > 0 && x >= m.split {
		m.side = true
		return nil
	}
	m.side = false
	m.list.Click((y - m.top) / perLink)
	return nil
}

// Wheel scrolls the part under the cursor.
func (m *Model) Wheel(by int) {
	if m.side {
		m.notes.Move(by)
	} else {
		m.list.Move(by)
	}
}

// Why explains the link under the cursor.
func (m *Model) Why() state.Why {
	l := m.link()
	switch {
	case m.d.Connections == nil:
		return state.Why{Lead: "Looking", Say: "at what is plugged into this computer."}
	case l == nil:
		return state.Why{Lead: "There is no target yet.",
			Say: "P adds a target: a folder, an image, a console or a share."}
	}
	w := state.Why{Lead: l.Name + ":", Say: state.Sentence(l.Tried.Say)}
	if l.Tried.Do != "" {
		w.Ways = append(w.Ways, l.Tried.Do)
	} else if len(l.Must) > 0 {
		w.Say += " Must be on: " + l.Must[0] + "."
	}
	if h := m.d.Connections; len(h.Reminder) > 0 {
		w.Ways = append(w.Ways, h.Reminder[0])
	}
	return w
}

// perLink is how many rows a link takes.
const perLink = 4

// View draws the panel.
func (m *Model) View(t *style.Theme, w, h int) []string {
	if m.d.Connections == nil {
		return t.Block([]string{"", "  " + t.Paint(t.Dim, "Looking at what is plugged into this computer.")}, w, h)
	}
	if w >= 110 {
		left := w * 3 / 5
		m.split = left
		l, r := m.diagram(t, left, h), m.details(t, w-left-1, h)
		for y := range l {
			l[y] += t.Paint(t.Faint, t.Glyph("│")) + r[y]
		}
		return l
	}
	m.split = 0
	if m.side {
		return m.details(t, w, h)
	}
	return m.diagram(t, w, h)
}

func stateColour(t *style.Theme, s connections.State) color.Color {
	switch s {
	case connections.Answers:
		return t.Good
	case connections.Unknown:
		return t.Dim
	case connections.Absent:
		return t.Warn
	}
	return t.Bad
}

// computer is a box with this computer and its interfaces.
func (m *Model) computer(t *style.Theme, w int) []string {
	h := m.d.Connections
	line := strings.Repeat(t.Glyph("─"), w-2)
	out := []string{t.Paint(t.Dim, t.Glyph("┌")+line+t.Glyph("┐"))}
	row := func(c color.Color, s string) {
		out = append(out, t.Paint(t.Dim, t.Glyph("│"))+t.Paint(c, t.Pad(t.Clip(" "+style.Clean(s), w-2), w-2))+t.Paint(
			t.Dim, t.Glyph("│")))
	}
	row(t.Text, h.Computer)
	for i := range h.Cards {
		c := &h.Cards[i]
		if c.Loopback || c.Virtual && len(c.Addresses) == 0 {
			continue
		}
		row(t.Dim, "")
		name := c.Name
		switch {
		case c.Wireless:
			name += ", wireless"
		case !c.Plugged:
			name += ", no cable in"
		}
		row(t.Text, name)
		shown := 0
		for _, a := range c.Addresses {
			if a.Addr().Is4() {
				row(t.Dim, a.String())
				shown++
			}
		}
		if shown == 0 {
			row(t.Dim, "no address")
		}
	}
	return append(out, t.Paint(t.Dim, t.Glyph("└")+line+t.Glyph("┘")))
}

// diagram draws this computer, and a connection to each target.
func (m *Model) diagram(t *style.Theme, w, h int) []string {
	hk := m.d.Connections
	out := []string{m.caption(t, !m.side, fmt.Sprintf("%s and what it fills", hk.Computer), w)}
	for _, r := range hk.Reminder {
		for _, l := range t.Wrap(state.Sentence(r), w-4) {
			out = append(out, "  "+t.Bold(t.Warn, l))
		}
	}
	var box []string
	wide := 0
	if w >= 84 {
		wide = 26
		box = m.computer(t, wide)
	}
	m.top = len(out)
	rows := max(1, (h-len(out))/perLink)
	m.list.Resize(len(hk.Links), rows)
	from, to := m.list.Window()
	var wires []string
	trunk := func(g string) string { return t.Paint(t.Dim, t.Glyph(g)) }
	for i := from; i < to; i++ {
		l := &hk.Links[i]
		first, last := i == 0, i == len(hk.Links)-1
		mark, rest := "├", "│"
		switch {
		case first && last:
			mark, rest = "─", " "
		case first:
			mark = "┬"
		case last:
			mark, rest = "└", " "
		}
		lead := trunk("─")
		if !first {
			lead = " "
		}
		space := w - wide - 4
		via := l.Via + ", " + l.Joined()
		if l.Remote() {
			via += fmt.Sprintf(", port %d", l.Port)
		}
		if l.Card != "" && l.Joined() != "this computer itself" {
			via += " (" + l.Card + ")"
		}
		names := l.Name
		if l.Console != "" {
			names += " " + t.Glyph("→") + " " + l.Console + ", " + l.Loader
		}
		head := t.Row(space, !m.side && i == m.list.Cursor, style.Cell{Text: strings.Repeat(t.Glyph("─"),
			2) + t.Glyph("▸"), Width: 3, FG: t.Dim}, style.Cell{Text: names, Width: space - 7, Bold: true})
		say := l.Tried.Say
		if l.Tried.State == connections.Answers && l.Remote() {
			say = fmt.Sprintf("answers in %s", state.Brief(l.Tried.RoundTrip))
		}
		if p := l.Probe; p != nil && l.Tried.State == connections.Answers {
			say += fmt.Sprintf(", %s/s up, %s/s down", size.Format(p.Up), size.Format(p.Down))
		}
		if m.d.Testing(l.Target) {
			say = "under test"
		}
		at := l.At
		if l.Served != "" {
			at = "nbd://" + l.Served + "/" + l.Export
		}
		if l.Local != "" && l.Joined() != "this computer itself" {
			at += " from " + l.Local
		}
		wires = append(wires, lead+trunk(mark)+head)
		if l.Remote() {
			at += " " + t.Glyph("·") + " " + via
		} else {
			at = via + " " + t.Glyph("·") + " " + at
		}
		for _, s := range []struct {
			c    color.Color
			text string
		}{{t.Dim, at}, {stateColour(t, l.Tried.State), say}, {t.Dim, ""}} {
			wires = append(wires, " "+trunk(rest)+"      "+t.Paint(s.c, t.Clip(style.Clean(s.text), space-7)))
		}
	}
	for y := 0; y < max(len(box), len(wires)); y++ {
		line := strings.Repeat(" ", wide)
		if y < len(box) {
			line = box[y]
		}
		if y < len(wires) {
			line += wires[y]
		}
		out = append(out, line)
	}
	if len(hk.Links) == 0 {
		out = append(out, "", "  "+t.Paint(t.Dim, "No target is on the bench yet: P adds one."))
	}
	return t.Block(out, w, h)
}

func (m *Model) caption(t *style.Theme, here bool, text string, w int) string {
	if here {
		return t.Bold(t.Accent, t.Glyph("▸")) + " " + t.Bold(t.Accent, t.Clip(style.Clean(text), w-3))
	}
	return "  " + t.Bold(t.Dim, t.Clip(style.Clean(text), w-3))
}

// details are what is known of the link under the cursor: what must be on, what a test has shown, and the sheet of its
// cable.
func (m *Model) details(t *style.Theme, w, h int) []string {
	l := m.link()
	if l == nil {
		return t.Block(nil, w, h)
	}
	var lines []string
	part := func(title string) { lines = append(lines, "", "  "+t.Bold(t.Text, t.Clip(title, w-4))) }
	add := func(c color.Color, text string) {
		for k, x := range t.Wrap(style.Clean(text), w-7) {
			lead := "   " + t.Glyph("·") + " "
			if k > 0 {
				lead = "     "
			}
			lines = append(lines, lead+t.Paint(c, x))
		}
	}
	part("What must be on")
	for _, s := range l.Must {
		add(t.Text, s)
	}
	for _, s := range l.Notes {
		add(t.Dim, s)
	}
	part("The link")
	add(stateColour(t, l.Tried.State), l.Tried.Say)
	if l.Tried.Do != "" {
		add(t.Text, l.Tried.Do)
	}
	if p := l.Probe; p != nil && l.Tried.State != connections.Answers && l.Tried.State != connections.Unknown {
		add(t.Dim, fmt.Sprintf("last test: %s, sent %s/s, received %s/s; t tests again", loggedIn(p),
			size.Format(p.Up), size.Format(p.Down)))
	} else if p != nil {
		add(t.Text, fmt.Sprintf("%s; connected in %s, round trip %s", loggedIn(p), state.Brief(p.Connect),
			state.Brief(p.RoundTrip)))
		add(t.Text, fmt.Sprintf("sending %s/s, receiving %s/s", size.Format(p.Up), size.Format(p.Down)))
		if p.Capacity > 0 {
			add(t.Text, fmt.Sprintf("%s of %s free", size.Format(p.Free), size.Format(p.Capacity)))
		}
		if say := l.Plain(); say != "" {
			add(t.Warn, say)
		}
		if !p.Flushes {
			add(t.Text, "brings files to its disk "+connections.NoFlush)
		}
		for _, x := range p.Wrong {
			add(t.Bad, x)
		}
	} else if l.Remote() {
		add(t.Dim, "t logs in and measures the speed")
	}
	if c := l.Cable; c != nil {
		sheet, err := connections.SheetOf(c, m.d.Connections.System, orConsole(l.Console), l.At)
		if err != nil {
			part("Direct cable")
			add(t.Bad, err.Error())
		} else {
			status := map[connections.Set]string{connections.Unset: "neither end is set yet",
				connections.HalfSet: "this computer is set; the console does not answer yet",
				connections.IsSet:   "both ends are set", connections.Gone: "the interface " + c.Interface +
					" is not there"}[l.CableSet]
			part("Direct cable: " + status)
			for _, s := range []struct {
				title string
				lines []string
			}{{"on this computer", sheet.Computer}, {"on the " + orConsole(l.Console), sheet.Console},
				{"then", sheet.Then}, {"afterwards, set back", sheet.Back}} {
				lines = append(lines, "   "+t.Paint(t.Accent, s.title))
				for _, x := range s.lines {
					add(t.Text, x)
				}
			}
		}
	} else if l.Remote() {
		part("Direct cable")
		add(t.Dim, "c plans one: a free network, both addresses, and what to set")
	}
	m.notes.Resize(len(lines), h-1)
	from, to := m.notes.Window()
	return t.Block(append([]string{m.caption(t, m.side, l.Name, w)}, lines[from:to]...), w, h)
}

func orConsole(s string) string {
	if s == "" {
		return "console"
	}
	return s
}

// loggedIn says as whom a test came in.
func loggedIn(p *remote.Probe) string {
	if p.Login == "" {
		return "let in without a login"
	}
	return "logged in as " + p.Login
}

func isRemote(l connections.Link) bool { return l.Remote() }
