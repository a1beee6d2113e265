// Package gamesview is the first stage: what have I got? Titles by platform, and
// the evidence for the one under the cursor.
package gamesview

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/title"
	"polytome/internal/draw"
	"polytome/internal/size"
	"polytome/internal/ui/pixels"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// Model is the stage.
type Model struct {
	*state.TitleRows
	d       *state.State
	top     int             // lines above the list
	drawn   pixels.Cache    // covers
	marked  map[string]bool // keys of titles to be joined, dropped or verified together
	editing bool            // the fields of the title under the cursor are shown for changing
	field   int             // of title.Editable, while editing
}

// New makes the stage.
func New(d *state.State) *Model {
	m := &Model{d: d, TitleRows: state.NewTitleRows(d), marked: map[string]bool{}}
	m.Kept("scan")
	return m
}

// Name is the stage's name on the rail.
func (m *Model) Name() string { return "Games" }

// Number is the stage's number on the rail.
func (m *Model) Number() string {
	n := fmt.Sprint(len(m.d.Scan.Titles))
	if m.d.Scanning {
		n += "+"
	}
	return n
}

// Drawing is what paper shows of the stage: the card of all titles.
func (m *Model) Drawing() draw.Request { return draw.Request{Kind: draw.KindCard, Target: -1} }

// Actions are the keys of the stage.
func (m *Model) Actions() []state.Action {
	if m.editing {
		return m.fieldActions()
	}
	l := &m.List
	at, some := m.Title()
	verify := "verify"
	if m.d.Verifying != nil {
		verify = "stop verifying"
	}
	return append(state.Movement(l),
		state.Do("e", "edit", state.Just(m.edit)).Saying("its name, ID, region, platform, year, description").
			When(some),
		state.Do("space", "mark", state.Just(m.mark)).Saying("for verify, leave out and join").When(some),
		state.Do("m", "problems only, or all", state.Just(func() {
			m.Narrow(func(i int) bool { return len(m.d.Scan.Titles[i].Findings) > 0 })
		})),
		state.Do("o", "order", m.NextOrder).Saying("worst first, largest, by name, by ID, newest, by platform"),
		state.Do("v", verify, func() tea.Cmd { return m.d.Verify(m.chosen()) }).
			Saying("read all of its files and compare checksums; again: stop").When(some),
		state.Do("V", "verify all shown", func() tea.Cmd { return m.d.Verify(m.listed()) }).When(some),
		state.Do("x", "leave out", m.drop).Saying("its files stay where they are").When(some),
		state.Do("X", "include again", func() tea.Cmd { return m.d.BringBack() }).Saying("everything left out").
			When(len(m.d.Scan.Dropped) > 0),
		state.Do("+", "join marked discs", func() tea.Cmd { return m.taken(m.d.Join(m.marks())) }).
			Saying("as discs of one title").When(len(m.marked) > 1),
		state.Do("-", "separate discs", func() tea.Cmd { return m.with(m.d.Part) }).Saying("make each a title").
			When(some && len(m.d.Scan.Titles[at].Discs) > 1),
		state.Do("p", "password", state.Just(m.password)).Saying("for encrypted archives"),
		state.Do("t", "title list", state.Just(m.list)).Saying("add a CSV file with names, regions, years"),
		state.Do("y", "allow a large archive", func() tea.Cmd { return m.with(m.d.Allow) }).
			Saying("open it although it is suspiciously large inside"),
		state.Do("i", "read the disc", m.readDisc).Saying("that lies in a drive, into the first folder").
			When(m.d.NewDisc() != nil),
		state.Do("a", "add a folder", state.Just(m.d.AskSource)).Saying("with more games"),
		state.Do("d", "drop a folder", state.Just(m.d.AskSourceLess)).Saying("it is not searched any longer").
			When(len(m.d.Bench.Sources) > 0),
		state.Do("r", "scan again", func() tea.Cmd {
			m.d.Notice = "Scanning again."
			return m.d.StartScan()
		}),
	)
}

// Escape leaves the fields, or drops marks, or the filter.
func (m *Model) Escape() bool {
	switch {
	case m.editing:
		m.editing = false
		return true
	case m.TitleRows.Escape():
		return true
	case len(m.marked) > 0:
		clear(m.marked)
		return true
	}
	return false
}

func (m *Model) mark() {
	i, ok := m.Title()
	if !ok {
		return
	}
	if key := m.d.Scan.Titles[i].Key; m.marked[key] {
		delete(m.marked, key)
	} else {
		m.marked[key] = true
	}
	m.List.Move(1)
}

// marks are the marked titles.
func (m *Model) marks() (out []title.Title) {
	for i := range m.d.Scan.Titles {
		if t := &m.d.Scan.Titles[i]; m.marked[t.Key] {
			out = append(out, *t)
		}
	}
	return out
}

// chosen are the marked titles, or the one under the cursor.
func (m *Model) chosen() []title.Title {
	if all := m.marks(); len(all) > 0 {
		return all
	}
	if i, ok := m.Title(); ok {
		return []title.Title{m.d.Scan.Titles[i]}
	}
	return nil
}

// listed are all titles that are shown.
func (m *Model) listed() (out []title.Title) {
	for _, i := range m.All() {
		out = append(out, m.d.Scan.Titles[i])
	}
	return out
}

func (m *Model) with(do func(title.Title) tea.Cmd) tea.Cmd {
	if i, ok := m.Title(); ok {
		return do(m.d.Scan.Titles[i])
	}
	return nil
}

// taken ends a work on the marked titles.
func (m *Model) taken(cmd tea.Cmd) tea.Cmd {
	if cmd != nil {
		clear(m.marked)
	}
	return cmd
}

func (m *Model) drop() tea.Cmd {
	all := m.chosen()
	if len(all) == 0 {
		return nil
	}
	return m.taken(m.d.Drop(all))
}

func (m *Model) list() {
	m.d.Ask(state.Question{Prompt: "list of titles: ",
		Hint: "a CSV file; its first line names the columns: id, name, region, year, players, publisher, text",
		Done: m.d.AddList})
}

func (m *Model) password() {
	m.d.Ask(state.Question{Prompt: "password: ",
		Hint: "it is tried on all encrypted archives, and stored in the bench as plain text", Done: m.d.Password})
}

// Click moves the cursor.
func (m *Model) Click(_, y int) tea.Cmd {
	m.List.Click(y - m.top)
	return nil
}

// evidence says what speaks for a title, by what was looked at.
func evidence(t *title.Title) string {
	inside := false // something in the files themselves reports what it is
	for _, d := range t.Discs {
		for _, e := range d.Evidence {
			inside = inside || !strings.HasPrefix(e.From, "the name of the ") && !strings.HasPrefix(e.From,
				"set by hand") &&
				!strings.HasPrefix(e.From, "reading it all") && !strings.Contains(e.From, ", found by ")
		}
	}
	switch {
	case !inside:
		return "is identified by its extension only: nothing in the file says more."
	case t.Form == title.Image:
		return "is OK: its volume is complete and identifies it."
	case t.Form == title.Tracks:
		return "is OK: its cue sheet and tracks match, and the volume in them identifies it."
	case t.Form == title.Folder:
		return "is OK: a file in the folder identifies it."
	}
	return "is OK: its header is valid and identifies it."
}

// Why says what is known of the title under the cursor.
func (m *Model) Why() state.Why {
	if b := m.BuiltIn(); b != nil {
		return m.d.BuiltInWhy(b)
	}
	i, ok := m.Title()
	if !ok {
		return m.empty()
	}
	t := &m.d.Scan.Titles[i]
	w := state.Why{Lead: t.Label(), Say: evidence(t)}
	if f := t.Fault(); f != nil {
		w.Say = "is bad: " + f.Say + "."
		if f.Remedy != "" {
			w.Ways = []string{f.Remedy}
		}
		if t.Encrypted {
			w.Ways = []string{"p gives a password"}
		}
	} else if k := slices.IndexFunc(t.Findings,
		func(f title.Finding) bool { return f.Grade == title.Suspicion }); k >= 0 {
		w.Say, w.Ways = "may be bad: "+t.Findings[k].Say+".", []string{t.Findings[k].Remedy}
	} else if len(t.Findings) > 0 {
		f := t.Findings[0]
		w.Say = "is OK. Note: " + f.Say + "."
		if f.Remedy != "" {
			w.Ways = []string{f.Remedy}
		}
	}
	w.Say += m.d.Doubles(i)
	return w
}

func (m *Model) empty() state.Why {
	switch {
	case m.d.Scanning:
		return state.Why{Lead: "Scanning", Say: "your folders; titles appear as they are found."}
	case len(m.d.Scan.Titles) > 0 && m.Trouble() != "":
		return state.Why{Lead: "Nothing", Say: "is left: " + m.Trouble() + "."}
	case m.Narrowed():
		return state.Why{Lead: "Nothing", Say: "match the filter. esc shows all titles again."}
	}
	if len(m.d.Bench.Sources) == 0 {
		return state.Why{Lead: "No games yet.",
			Say: "Polytome looks for them in the folders that you name, and only reads there."}
	}
	return state.Why{Lead: "No titles", Say: fmt.Sprintf("found: %s searched, none of a known platform. Sources: %s.",
		size.Count(m.d.Scan.Files, "file"), strings.Join(m.d.Bench.SourcePaths(), ", "))}
}

// View draws the stage.
func (m *Model) View(t *style.Theme, w, h int) []string {
	m.top = 1
	head := []style.Cell{{Text: "ID"}, {Text: "title"}, {Text: "size"}, {Text: "kind"}, {Text: "region"},
		{Text: "discs"}, {Text: "state"}, {Text: "file"}}
	for i := range head {
		head[i].FG = t.Dim
	}
	out := []string{t.Row(w, false, columns(w, head)...)}
	problems := append(append(m.verifying(t, w), m.problems(t, w)...), m.inTray(t, w)...)
	evidence := max(5, min(14, h/3))
	switch {
	case m.editing:
		evidence = len(title.Editable) + 2
	case m.Shown() > 0: // with few titles, their evidence and covers have the rest of the window
		evidence = max(evidence, h-2-m.List.N-len(problems))
	}
	out = append(out, m.Draw(t, w, h-evidence-1-len(problems), func(i int, cursor bool) string {
		return t.Row(w, cursor, columns(w, m.titleCells(t, &m.d.Scan.Titles[i]))...)
	}, func(b *state.BuiltIn, cursor bool) string {
		return t.Row(
			w,
			cursor,
			columns(w, []style.Cell{{Text: b.ID, FG: t.Dim}, {Text: b.Name, FG: t.Dim}, {}, {}, {}, {},
				{Text: "built in", FG: t.Dim}, {}})...)
	})...)
	out = append(out, problems...)
	if m.editing {
		return append(out, m.fields(t, w, evidence)...)
	}
	return append(out, m.evidence(t, w, evidence)...)
}

// verifying reports how far a check of files has come.
func (m *Model) verifying(t *style.Theme, w int) []string {
	v := m.d.Verifying
	if v == nil {
		return nil
	}
	text := fmt.Sprintf("verifying: %s of %s", size.Format(v.Done), size.Format(v.Total))
	if v.Total > 0 {
		text += fmt.Sprintf(", %d %%", v.Done*100/v.Total)
	}
	if v.Bad > 0 {
		text += fmt.Sprintf(", %d bad", v.Bad)
	}
	text += ": " + style.Clean(filepath.Base(v.Path)) + "  (v stops)"
	return []string{" " + t.Paint(t.Accent, t.Clip(text, w-2))}
}

// problems says what could not be read, in one line.
func (m *Model) problems(t *style.Theme, w int) []string {
	all := m.d.Scan.Problems
	if len(all) == 0 {
		return nil
	}
	text := "not read: " + all[0].Path + ": " + all[0].Say
	if len(all) > 1 {
		text = size.Count(len(all), "file or folder") + " not read; the first: " + strings.TrimPrefix(text,
			"not read: ")
	}
	return []string{" " + t.Paint(t.Bad, t.Clip(style.Clean(text), w-2))}
}

// readDisc reads the disc that is not among the games yet.
func (m *Model) readDisc() tea.Cmd {
	if x := m.d.NewDisc(); x != nil {
		return m.d.ReadDisc(x.At, false)
	}
	return nil
}

// inTray says that a disc lies in a drive that is not among the games.
func (m *Model) inTray(t *style.Theme, w int) []string {
	x := m.d.NewDisc()
	if x == nil {
		return nil
	}
	text := fmt.Sprintf("In %s: %s, which is not among your games. i reads it.", x.Drive,
		strings.TrimSpace(x.ID+" "+x.Title))
	return []string{" " + t.Paint(t.Good, t.Clip(style.Clean(text), w-2))}
}

// columns gives the cells of a row their widths. In a narrow window the
// details give way.
func columns(w int, c []style.Cell) []style.Cell {
	const id, bytes, kind, region, discs, status = 10, 11, 9, 6, 6, 8
	c[0].Width, c[2].Width, c[2].Right, c[6].Width = id, bytes, true, status
	if w < 100 {
		c[1].Width = max(12, w-1-(id+1)-(bytes+1)-(status+1)-1)
		return []style.Cell{c[0], c[1], c[2], c[6]}
	}
	rest := w - 1 - (id + bytes + kind + region + discs + status + 7) - 1
	c[3].Width, c[4].Width, c[5].Width = kind, region, discs
	c[1].Width = rest * 3 / 5
	c[7].Width = rest - c[1].Width
	return c
}

func (m *Model) titleCells(t *style.Theme, tt *title.Title) []style.Cell {
	discs := ""
	if tt.Of > 1 {
		discs = fmt.Sprintf("%d of %d", len(tt.Discs), tt.Of)
	}
	status := style.Cell{Text: "OK", FG: t.Good}
	switch {
	case !tt.OK():
		status = style.Cell{Text: "bad", FG: t.Bad}
	case slices.ContainsFunc(tt.Findings, func(f title.Finding) bool { return f.Grade == title.Suspicion }):
		status = style.Cell{Text: "suspect", FG: t.Warn}
	case len(tt.Findings) > 0:
		status = style.Cell{Text: "note", FG: t.Warn}
	}
	label := style.Cell{Text: tt.Label()}
	if m.marked[tt.Key] {
		label = style.Cell{Text: t.Glyph("▸") + " " + tt.Label(), FG: t.Accent, Bold: true}
	}
	kind := tt.Discs[0].Kind
	if kind == "" {
		kind = string(tt.Form)
		if tt.Archive != "" {
			kind = strings.TrimPrefix(tt.Archive, ".")
		}
	}
	return []style.Cell{
		{Text: tt.ID, FG: t.Dim}, label, {Text: size.Column(tt.Size())},
		{Text: kind, FG: t.Dim}, {Text: tt.Region, FG: t.Dim}, {Text: discs, FG: t.Dim}, status,
		{Text: style.Clean(filepath.Base(tt.Source())), FG: t.Dim},
	}
}
