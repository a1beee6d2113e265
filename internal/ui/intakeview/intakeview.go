// Package intakeview is the first stage: what have I got? Titles by platform, and
// the evidence for the one under the cursor.
package intakeview

import (
	"fmt"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/ui/desk"
	"polytome/internal/ui/style"
)

// Model is the stage.
type Model struct {
	*desk.TitleRows
	d   *desk.Desk
	top int // lines above the list
}

// New makes the stage.
func New(d *desk.Desk) *Model { return &Model{d: d, TitleRows: desk.NewTitleRows(d)} }

// Name is the stage's name on the rail.
func (m *Model) Name() string { return "Intake" }

// Number is the stage's number on the rail.
func (m *Model) Number() string {
	n := fmt.Sprint(len(m.d.Scan.Titles))
	if m.d.Scanning {
		n += "+"
	}
	return n
}

// Actions are the keys of the stage.
func (m *Model) Actions() []desk.Action {
	l := &m.List
	return append(desk.Movement(l),
		desk.Do("m", "show what needs mending only, or all", desk.Just(func() {
			m.Narrow(func(i int) bool { return len(m.d.Scan.Titles[i].Findings) > 0 })
		})),
		desk.Do("s", "scan the folders again", func() tea.Cmd {
			m.d.Notice = "Scanning again."
			return m.d.StartScan()
		}),
	)
}

// Click moves the cursor.
func (m *Model) Click(_, y int) tea.Cmd {
	m.List.Click(y - m.top)
	return nil
}

// sound says what speaks for a title, by what was looked at.
func sound(t *title.Title) string {
	inside := false // something in the files themselves tells what it is
	for _, d := range t.Discs {
		for _, e := range d.Evidence {
			inside = inside || !strings.HasPrefix(e.From, "the name of the ")
		}
	}
	switch {
	case !inside:
		return "is taken for what the ending of its name says: nothing in the file tells more."
	case t.Form == title.Image:
		return "is sound: its volume is whole and says what it is."
	case t.Form == title.Tracks:
		return "is sound: its cue sheet and track files agree, and the volume in them says what it is."
	case t.Form == title.Folder:
		return "is sound: a file in the folder says what it is."
	}
	return "is sound: its header is whole and says what it is."
}

// Why says what is known of the title under the cursor.
func (m *Model) Why() desk.Why {
	i, ok := m.Title()
	if !ok {
		return m.empty()
	}
	t := &m.d.Scan.Titles[i]
	w := desk.Why{Lead: t.Label(), Say: sound(t)}
	if f := t.Fault(); f != nil {
		w.Say = "is unsound: " + f.Say + "."
		if f.Remedy != "" {
			w.Ways = []string{f.Remedy}
		}
	} else if len(t.Findings) > 0 {
		f := t.Findings[0]
		w.Say = "is sound. Worth knowing: " + f.Say + "."
		if f.Remedy != "" {
			w.Ways = []string{f.Remedy}
		}
	}
	return w
}

func (m *Model) empty() desk.Why {
	switch {
	case m.d.Scanning:
		return desk.Why{Lead: "Scanning", Say: "your folders; titles appear as they are found."}
	case m.Narrowed():
		return desk.Why{Lead: "Nothing", Say: "is left by the filter. esc shows all titles again."}
	}
	return desk.Why{Lead: "No titles", Say: fmt.Sprintf("were found: %s looked at, none of a known platform. Sources: %s.",
		size.Count(m.d.Scan.Files, "file"), strings.Join(m.d.Bench.SourcePaths(), ", "))}
}

// View draws the stage.
func (m *Model) View(t *style.Theme, w, h int) []string {
	evidence := max(5, min(12, h/3))
	m.top = 1
	head := []style.Cell{{Text: "ID"}, {Text: "title"}, {Text: "size"}, {Text: "kind"}, {Text: "region"}, {Text: "discs"}, {Text: "state"}, {Text: "file"}}
	for i := range head {
		head[i].FG = t.Dim
	}
	out := []string{t.Row(w, false, columns(w, head)...)}
	problems := m.problems(t, w)
	out = append(out, m.Draw(t, w, h-evidence-1-len(problems), func(i int, cursor bool) string {
		return t.Row(w, cursor, columns(w, titleCells(t, &m.d.Scan.Titles[i]))...)
	})...)
	out = append(out, problems...)
	return append(out, m.evidence(t, w, evidence)...)
}

// problems says what could not be read, in one line.
func (m *Model) problems(t *style.Theme, w int) []string {
	all := m.d.Scan.Problems
	if len(all) == 0 {
		return nil
	}
	text := "not read: " + all[0].Path + ": " + all[0].Say
	if len(all) > 1 {
		text = size.Count(len(all), "file or folder") + " not read; the first: " + strings.TrimPrefix(text, "not read: ")
	}
	return []string{" " + t.Paint(t.Bad, t.Clip(style.Clean(text), w-2))}
}

// columns gives the cells of a row their widths. In a narrow window the
// details give way.
func columns(w int, c []style.Cell) []style.Cell {
	const id, bytes, kind, region, discs, state = 10, 11, 6, 6, 6, 8
	c[0].Width, c[2].Width, c[2].Right, c[6].Width = id, bytes, true, state
	if w < 100 {
		c[1].Width = max(12, w-1-(id+1)-(bytes+1)-(state+1)-1)
		return []style.Cell{c[0], c[1], c[2], c[6]}
	}
	rest := w - 1 - (id + bytes + kind + region + discs + state + 7) - 1
	c[3].Width, c[4].Width, c[5].Width = kind, region, discs
	c[1].Width = rest * 3 / 5
	c[7].Width = rest - c[1].Width
	return c
}

func titleCells(t *style.Theme, tt *title.Title) []style.Cell {
	discs := ""
	if tt.Of > 1 {
		discs = fmt.Sprintf("%d of %d", len(tt.Discs), tt.Of)
	}
	state := style.Cell{Text: "sound", FG: t.Good}
	switch {
	case !tt.Sound():
		state = style.Cell{Text: "unsound", FG: t.Bad}
	case len(tt.Findings) > 0:
		state = style.Cell{Text: "note", FG: t.Warn}
	}
	return []style.Cell{
		{Text: tt.ID, FG: t.Dim}, {Text: tt.Label()}, {Text: size.Column(tt.Size())},
		{Text: tt.Discs[0].Kind, FG: t.Dim}, {Text: tt.Region, FG: t.Dim}, {Text: discs, FG: t.Dim}, state,
		{Text: style.Clean(filepath.Base(tt.Source())), FG: t.Dim},
	}
}

// evidence shows where each value was read, and what is wrong.
func (m *Model) evidence(t *style.Theme, w, h int) []string {
	i, ok := m.Title()
	if !ok {
		return t.Block([]string{t.Rule("evidence", w)}, w, h)
	}
	tt := &m.d.Scan.Titles[i]
	lines := []string{t.Rule("evidence for "+style.Clean(tt.Label()), w)}
	for _, f := range tt.Findings {
		colour, word := t.Warn, "note"
		if f.Grade == title.Fault {
			colour, word = t.Bad, "fault"
		}
		text := f.Say
		if f.Remedy != "" {
			text += " " + t.Glyph("→") + " " + f.Remedy
		}
		for k, l := range t.Wrap(style.Clean(text), w-11) {
			label := ""
			if k == 0 {
				label = word
			}
			lines = append(lines, " "+t.Paint(colour, t.Pad(label, 9))+t.Paint(t.Text, l))
		}
	}
	for _, d := range tt.Discs {
		name := "file"
		if tt.Of > 1 {
			name = fmt.Sprintf("disc %d", d.Number)
		}
		bytes := "  " + size.Exact(d.File.Size) + " bytes"
		lines = append(lines, " "+t.Paint(t.Dim, t.Pad(name, 9))+t.Paint(t.Text, t.Clip(style.Clean(d.File.Path), w-11-len(bytes)))+t.Paint(t.Dim, bytes))
		for _, e := range d.Evidence {
			lines = append(lines, " "+t.Paint(t.Dim, t.Pad(e.Field, 9))+
				t.Paint(t.Text, t.Pad(style.Clean(e.Value), min(44, w-36)))+t.Paint(t.Dim, " from "+style.Clean(e.From)))
		}
	}
	return t.Block(lines, w, h)
}
