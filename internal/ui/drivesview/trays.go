package drivesview

import (
	"fmt"
	"image/color"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/discs"
	"polytome/internal/size"
	"polytome/internal/ui/discmap"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// mostTrays is how many disc drives are listed below the others.
const mostTrays = 3

// trayLines are the disc drives, below the drives that can be filled.
func (m *Model) trayLines(t *style.Theme, w int) []string {
	if len(m.d.Discs) == 0 {
		return nil
	}
	out := []string{t.Rule("disc drives (d)", w)}
	for i := range m.d.Discs[:min(mostTrays, len(m.d.Discs))] {
		out = append(out, m.trayRow(t, w, i, false))
	}
	if more := len(m.d.Discs) - mostTrays; more > 0 {
		out = append(out, t.Paint(t.Dim, fmt.Sprintf("  and %d more", more)))
	}
	return out
}

// trayRow is a disc drive, and what lies in it.
func (m *Model) trayRow(t *style.Theme, w, i int, cursor bool) string {
	x := &m.d.Discs[i]
	state, colour := m.trayState(t, x)
	name := x.Drive
	if name == "" {
		name = x.At
	}
	return t.Row(w, cursor, style.Cell{Text: name, Width: 20, Bold: true}, style.Cell{Text: state, Width: 16,
		FG: colour},
		style.Cell{Text: x.Words(), Width: max(10, w-1-20-16-3)})
}

// trayState says in a word or two what there is to do with a drive.
func (m *Model) trayState(t *style.Theme, x *state.DiscDrive) (string, color.Color) {
	j := m.d.DiscJob(x.At)
	switch {
	case j != nil && j.Waits:
		return "next disc?", t.Accent
	case j != nil && j.Burns():
		return fmt.Sprintf("burning, %d %%", int(100*j.Share())), t.Accent
	case j != nil:
		return fmt.Sprintf("reading, %d %%", int(100*j.Share())), t.Accent
	case x.Trouble != "":
		return "not readable", t.Bad
	case x.Empty:
		return "empty", t.Dim
	case x.Room > 0:
		return "can be burnt", t.Good
	case m.d.Owns(x):
		return "in your games", t.Dim
	}
	return "not read yet", t.Good
}

// currentTray is the disc drive under the cursor; nil for none.
func (m *Model) currentTray() *state.DiscDrive {
	if len(m.d.Discs) == 0 {
		return nil
	}
	m.tray = max(0, min(m.tray, len(m.d.Discs)-1))
	return &m.d.Discs[m.tray]
}

// trayActions are the keys of the disc drives.
func (m *Model) trayActions() []state.Action {
	x := m.currentTray()
	free := x != nil && m.d.DiscJob(x.At) == nil
	at := ""
	if x != nil {
		at = x.At
	}
	move := func(by int) func() tea.Cmd {
		return state.Just(func() { m.tray = max(0, min(m.tray+by, len(m.d.Discs)-1)) })
	}
	return []state.Action{
		state.Do("enter i", "read the disc", func() tea.Cmd { return m.d.ReadDisc(at, false) }).
			Saying("into the first folder of your games, under its name").When(free && x.Full()),
		state.Do("n", "one after the other", func() tea.Cmd { return m.d.ReadDisc(at, true) }).
			Saying("read a whole shelf: the tray opens, and the next disc is read by itself").When(free &&
			!x.Blank && x.Trouble == ""),
		state.Do("W", "burn a title", func() tea.Cmd { return m.d.AskBurn(at, "") }).Saying("on the empty disc in it").
			Writing().When(free && x.Room > 0),
		state.Do("e", "eject", func() tea.Cmd { return m.d.EjectDisc(at) }).Saying("open the tray").When(free),
		state.Do("r", "look again", func() tea.Cmd { return m.d.FindDiscs() }).Saying("what lies in the drives"),
		state.Do("b", "back to the drives", state.Just(func() { m.Escape() })),
		state.Do("up k", "the drive above", move(-1)), state.Do("down j", "the drive below", move(1)),
	}
}

// trayView draws the disc drives, and what is known of the disc in one of them.
func (m *Model) trayView(t *style.Theme, w, h int) []string {
	x := m.currentTray()
	if x == nil {
		return t.Block([]string{"", " " + t.Paint(t.Dim, "There are no disc drives.")}, w, h)
	}
	out := []string{t.Rule("disc drives", w)}
	for i := range m.d.Discs {
		if len(out) < h/2 {
			out = append(out, m.trayRow(t, w, i, i == m.tray))
		}
	}
	out = append(out, t.Rule("in "+x.Drive, w))
	say := func(label string, colour color.Color, format string, args ...any) {
		for i, l := range t.Wrap(fmt.Sprintf(format, args...), max(10, w-20)) {
			if i > 0 {
				label = ""
			}
			out = append(out, "  "+t.Pad(t.Paint(t.Dim, label), 17)+t.Paint(colour, l))
		}
	}
	say("disc", t.Text, "%s", x.Words())
	switch {
	case x.Trouble != "" || x.Empty:
	case x.Room > 0 && len(x.Speeds) > 0:
		say("can be written", t.Text, "at %s", strings.Join(x.Speeds, ", "))
	}
	if x.Full() {
		for i, tr := range x.Tracks {
			kind := "data"
			if !tr.Data {
				kind = "sound"
			}
			label := ""
			if i == 0 {
				label = "tracks"
			}
			if len(out) < h-8 {
				say(label, t.Text, "%2d  %-5s  %9s blocks from %s", tr.Number, kind, size.Exact(tr.End-tr.Start),
					size.Exact(tr.Start))
			}
		}
	}
	say("found at", t.Dim, "%s", x.At)
	if x.Most > 0 {
		say("reads", t.Dim, "up to %s/s", size.Format(x.Most))
	}
	if len(x.Writes) > 0 {
		say("writes", t.Dim, "%s", strings.Join(x.Writes, ", "))
	}
	if len(x.Writes) > 0 && !x.Full() && len(out) < h-6 {
		out = append(out, "", t.Rule("consoles that play burnt discs", w))
		takers := discs.Takers(m.d.Set, &x.Facts)
		for i := range takers {
			colour := t.Text
			if takers[i].Fits {
				colour = t.Good
			}
			say(takers[i].Who(), colour, "%s", takers[i].Words())
		}
	}
	for _, j := range m.d.DiscJobs {
		if j.At != x.At || j.Blocks == nil && !j.Burns() {
			continue
		}
		b := j.Blocks
		if j.Burns() {
			b = discmap.Upto(j.Block, j.Of/2048)
		}
		at := j.Block
		if !j.Running() {
			at = -1
		}
		out = append(out, "", t.Rule("the last one: "+j.What, w))
		for _, l := range discmap.Rows(t, b, at, w-4, max(1, min(4, h-len(out)-2))) {
			out = append(out, "  "+l)
		}
		out = append(out, "  "+discmap.Legend(t))
		if !j.Running() {
			out = append(out, "  "+t.Paint(t.Text, t.Clip(j.Outcome(), w-4)))
		}
	}
	return t.Block(out, w, h)
}

// whyTray says what can be done with what lies in a drive.
func (m *Model) whyTray() state.Why {
	x := m.currentTray()
	if x == nil {
		return state.Why{Lead: "Discs:", Say: "there are no disc drives."}
	}
	w := state.Why{Lead: x.Drive + ":"}
	j := m.d.DiscJob(x.At)
	switch {
	case j != nil && j.Waits:
		w.Say, w.Ways = "put the next disc in; it is read by itself.", []string{"Run (4) shows how far it is"}
	case j != nil:
		w.Say, w.Ways = j.What+" is being "+map[bool]string{true: "burnt.", false: "read."}[j.Burns()],
			[]string{"Run (4) shows how far it is"}
	case x.Trouble != "":
		w.Say, w.Ways = x.Trouble+".", []string{"r looks again"}
	case x.Empty:
		w.Say, w.Ways = x.Facts.Say+".", []string{"put a disc in", "n reads one disc after the other"}
	case x.Blank && x.Room == 0:
		w.Say = "an empty disc, which this drive cannot write."
	case x.Room > 0:
		w.Say, w.Ways = x.Words()+".", []string{"W burns a title on it"}
	case m.d.Owns(x):
		w.Say, w.Ways = x.Words()+". It is among your games.", []string{"e opens the tray", "enter reads it once more"}
	default:
		w.Say, w.Ways = x.Words()+". It is not among your games yet.", []string{"enter reads it",
			"n reads a whole shelf, one after the other"}
	}
	return w
}
