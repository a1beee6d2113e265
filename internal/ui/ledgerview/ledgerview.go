// Package ledgerview is the panel of the ledger: every stick, disk and share that was looked at, with what lies on it,
// also when it is in a drawer; where a title is, which are nowhere, and which exist once only.
package ledgerview

import (
	"fmt"
	"image/color"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/ledger"
	"polytome/internal/draw"
	"polytome/internal/size"
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// Model is the panel.
type Model struct {
	d      *state.State
	rows   []row
	lists  scroll.Pair // volumes, and the titles of the one under the cursor
	titles []entry
	filter string
	shown  shown
}

// kind is what a row is.
type kind int

const (
	volume  kind = iota
	nowhere      // titles of the bench that are on no volume
	once         // those that are on one alone
)

// A row is a volume, or what titles of the bench have in common.
type row struct {
	kind   kind
	volume ledger.Volume
	titles int // that are shown
}

// An entry is a title of the row under the cursor.
type entry struct {
	id, name string
	size     int64
	title    int // of the bench, -1 for one that is not on it
	note     string
	bad      bool // it does not start
	on       []*ledger.Volume
}

// shown is what the titles were listed for.
type shown struct {
	id         string
	kind       kind
	filter     string
	generation int
	of         *ledger.Index
}

// New makes the panel.
func New(d *state.State) *Model { return &Model{d: d} }

// Name is the panel's name.
func (m *Model) Name() string { return "Ledger" }

// Number is how many volumes are remembered.
func (m *Model) Number() string { return fmt.Sprint(len(m.d.Remembered.Volumes)) }

// Open reads what is remembered.
func (m *Model) Open() tea.Cmd {
	m.Refresh()
	return m.d.ReadLedger()
}

// Refresh lists the volumes again; the cursor stays on its volume.
func (m *Model) Refresh() {
	was := m.row()
	m.rows = m.rows[:0]
	for _, v := range m.d.Remembered.Volumes {
		n := len(v.Titles)
		if m.filter != "" {
			n = 0
			for k := range v.Titles {
				if state.HasWords(v.Titles[k].ID+" "+v.Titles[k].Name, m.filter) {
					n++
				}
			}
			if n == 0 && !state.HasWords(v.Called()+" "+v.Label+" "+v.Place, m.filter) {
				continue
			}
		}
		m.rows = append(m.rows, row{volume, v, n})
	}
	for _, k := range []kind{nowhere, once} {
		if n := len(m.common(k)); n > 0 {
			m.rows = append(m.rows, row{kind: k, titles: n})
		}
	}
	m.lists.Left.N = len(m.rows)
	m.lists.Left.Cursor = max(0, min(m.lists.Left.Cursor, len(m.rows)-1))
	if was != nil {
		if i := slices.IndexFunc(m.rows, func(r row) bool {
			return r.kind == was.kind && r.volume.ID == was.volume.ID
		}); i >= 0 {
			m.lists.Left.Cursor = i
		}
	}
	m.listTitles()
}

// common are the titles of the bench that are on no volume, or on one alone, and have the words of the filter.
func (m *Model) common(k kind) (out []entry) {
	x := m.d.Remembered.Index
	if x == nil || len(m.d.Remembered.Volumes) == 0 {
		return nil
	}
	for i := range m.d.Scan.Titles {
		t := &m.d.Scan.Titles[i]
		on := x.On(t)
		if k == nowhere && len(on) > 0 || k == once && len(on) != 1 || !state.HasWords(t.ID+" "+t.Name, m.filter) {
			continue
		}
		e := entry{id: t.ID, name: t.Label(), size: t.Size(), title: i, on: on}
		if k == once {
			e.note = on[0].Called()
		}
		out = append(out, e)
	}
	return out
}

// listTitles lists what is in the row under the cursor, where that is another one than before.
func (m *Model) listTitles() {
	r := m.row()
	if r == nil {
		m.titles = nil
		return
	}
	now := shown{r.volume.ID, r.kind, m.filter, m.d.Generation, m.d.Remembered.Index}
	if now == m.shown {
		return
	}
	if now.id != m.shown.id || now.kind != m.shown.kind || now.filter != m.shown.filter {
		m.lists.Right.Home()
	}
	m.shown = now
	if r.kind != volume {
		m.titles = m.common(r.kind)
		return
	}
	m.titles = nil
	keys := make(map[string]int, len(m.d.Scan.Titles))
	for i := range m.d.Scan.Titles {
		t := &m.d.Scan.Titles[i]
		keys[t.Key] = i
		if t.ID != "" {
			keys[t.Platform+"\x00"+strings.ToUpper(t.ID)] = i
		}
	}
	named := m.filter == "" || r.titles == 0 // the volume itself has the words
	for k := range r.volume.Titles {
		t := &r.volume.Titles[k]
		if !named && !state.HasWords(t.ID+" "+t.Name, m.filter) {
			continue
		}
		e := entry{id: t.ID, name: t.Name, size: t.Size, title: -1, bad: !t.Starts}
		i, is := keys[t.Key]
		if !is && t.ID != "" {
			i, is = keys[t.Platform+"\x00"+strings.ToUpper(t.ID)]
		}
		if is {
			e.title, e.on = i, m.d.Remembered.Index.On(&m.d.Scan.Titles[i])
		}
		switch {
		case e.bad:
			e.note = "does not start"
		case e.title >= 0 && len(e.on) == 1:
			e.note = "only here"
		case e.title >= 0 && len(e.on) > 1:
			e.note = fmt.Sprintf("on %d more", len(e.on)-1)
		}
		m.titles = append(m.titles, e)
	}
}

// SetFilter shows only volumes with titles that have the words, and those titles.
func (m *Model) SetFilter(f string) {
	m.filter = f
	m.Refresh()
}

// Escape leaves the titles, or takes the filter back.
func (m *Model) Escape() bool {
	if m.lists.Leave() {
		return true
	}
	had := m.filter != ""
	m.SetFilter("")
	return had
}

// Drawing is what paper shows of the panel: the card of the target that is shown.
func (m *Model) Drawing() draw.Request { return m.d.Drawn(draw.KindCard) }

// row is the one under the cursor; nil for none.
func (m *Model) row() *row {
	if m.lists.Left.Cursor >= len(m.rows) {
		return nil
	}
	return &m.rows[m.lists.Left.Cursor]
}

// entry is the title under the cursor; nil for none.
func (m *Model) entry() *entry {
	if !m.lists.Side || m.lists.Right.Cursor >= len(m.titles) {
		return nil
	}
	return &m.titles[m.lists.Right.Cursor]
}

// Title is the title of the bench under the cursor.
func (m *Model) Title() (int, bool) {
	if e := m.entry(); e != nil && e.title >= 0 && e.title < len(m.d.Scan.Titles) {
		return e.title, true
	}
	return 0, false
}

// Actions are the keys of the panel.
func (m *Model) Actions() []state.Action {
	m.listTitles()
	r := m.row()
	some := r != nil && r.kind == volume
	on := func(do func(v ledger.Volume)) func() tea.Cmd {
		return state.Just(func() {
			if r := m.row(); r != nil && r.kind == volume {
				do(r.volume)
				return
			}
			m.d.Notice = "This is for a stick, disk or share: choose one."
		})
	}
	return append([]state.Action{
		state.Do("n", "name", on(m.d.AskVolumeName)).Saying("as it stands on the stick").When(some),
		state.Do("p", "place", on(m.d.AskVolumePlace)).Saying("where it is kept, such as drawer 2").When(some),
		state.Do("tab enter", "its titles", state.Just(func() { m.lists.Side = !m.lists.Side && len(m.titles) > 0 })).
			Saying("go to the titles, or back").When(len(m.titles) > 0),
		state.Do("t", "twin", on(m.d.AskTwin)).
			Saying("have another stick get its titles, as far as your games have them").When(some),
		state.Do("x", "forget", on(m.d.ForgetVolume)).
			Saying("what is remembered of it; the volume itself is not touched").When(some),
	}, state.Movement(m.lists.Active())...)
}

// Click moves the cursor to the row that was clicked.
func (m *Model) Click(x, y int) tea.Cmd {
	m.lists.Click(x, y, 2)
	m.listTitles()
	return nil
}

// Wheel scrolls the part under the cursor.
func (m *Model) Wheel(by int) { m.lists.Wheel(by) }

// Why explains the volume or title under the cursor.
func (m *Model) Why() state.Why {
	r := m.row()
	switch {
	case r == nil && m.filter != "":
		return state.Why{Lead: "Nothing", Say: "that was looked at has these words.", Ways: []string{"esc shows all"}}
	case r == nil:
		return state.Why{Lead: "The ledger is empty.",
			Say: "Every stick, disk and share that is looked at is remembered here, also when it lies in a drawer."}
	}
	if e := m.entry(); e != nil {
		return m.whyTitle(e)
	}
	if r.kind == nowhere {
		return state.Why{Lead: size.Count(r.titles, "title") + " of yours", Say: "are on no volume that was looked at.",
			Ways: []string{"tab shows which, and where there is space"}}
	}
	if r.kind == once {
		return state.Why{Lead: size.Count(r.titles, "title") + " of yours", Say: "are on one volume alone.",
			Ways: []string{"tab shows which"}}
	}
	return m.whyVolume(&r.volume)
}

func (m *Model) whyVolume(v *ledger.Volume) state.Why {
	w := state.Why{Lead: v.Called() + ":"}
	say := []string{}
	if here := m.d.Here(v); len(here) > 0 {
		as := ""
		if name := m.d.Bench.Targets[here[0]].Name; name != v.Called() {
			as = ", as " + name
		}
		say = append(say, "It is here"+as+".")
	} else {
		where := "Nobody has said where it is kept."
		if v.Place != "" {
			where = "It is kept " + v.Where() + "."
		}
		say = append(say, where+" Seen last "+v.Seen.Local().Format("2 January 2006")+" at "+v.Address+".")
	}
	if !v.Changed.IsZero() {
		say = append(say, "Something else wrote to it: it changed since "+v.Changed.Local().Format("2 January")+".")
	}
	switch missing, others, known := m.d.Behind(v); {
	case known && missing > 0:
		say = append(say, fmt.Sprintf("%s that you selected for it %s not on it.", size.Count(missing, "title"),
			map[bool]string{true: "is", false: "are"}[missing == 1]))
	case known && others > 0:
		say = append(say, fmt.Sprintf("%s on it %s not selected.", size.Count(others, "title"),
			map[bool]string{true: "is", false: "are"}[others == 1]))
	case known:
		say = append(say, "It has all that you selected and that can go there.")
	}
	if c := v.Check; c != nil && c.Problems > 0 {
		say = append(say, fmt.Sprintf("When it was checked on %s, there were %s.", c.Taken.Local().Format("2 January"),
			size.Count(c.Problems, "problem")))
	}
	if o := ledger.Before(m.d.Remembered.Volumes, v); o != nil && len(m.d.Here(v)) > 0 {
		say = append(say, "Before it, "+o.Called()+" was plugged in there.")
	}
	unkept := 0
	for _, s := range v.Saves {
		if !s.Kept {
			unkept++
		}
	}
	if unkept == 1 {
		say = append(say, "1 save on it is not kept on this computer.")
	} else if unkept > 1 {
		say = append(say, fmt.Sprintf("%d saves on it are not kept on this computer.", unkept))
	}
	w.Say = strings.Join(say, " ")
	if v.Name == "" && v.Kind == ledger.Drive {
		w.Ways = []string{"n gives it a name", "p says where it is kept"}
	}
	return w
}

func (m *Model) whyTitle(e *entry) state.Why {
	w := state.Why{Lead: e.name + ":"}
	switch {
	case e.title < 0:
		w.Say = "It is not among your games on this computer."
	case len(e.on) == 0:
		w.Say = "It is on no volume that was looked at."
		var room []string
		for _, v := range m.d.RoomFor(&m.d.Scan.Titles[e.title]) {
			if len(room) < 3 {
				at := v.Called()
				if v.Place != "" {
					at += " " + v.Where()
				}
				room = append(room, fmt.Sprintf("%s has %s free", at, size.Format(v.Free)))
			}
		}
		w.Ways = room
	default:
		var names []string
		for _, v := range e.on {
			at := v.Called()
			if v.Place != "" {
				at += " " + v.Where()
			}
			names = append(names, at)
		}
		w.Say = "It is on " + strings.Join(names, ", ") + "."
	}
	if e.bad {
		w.Say += " It does not start there."
	}
	return w
}

// View draws the panel.
func (m *Model) View(t *style.Theme, w, h int) []string {
	m.listTitles()
	return m.lists.Draw(w, h, 55, t.Paint(t.Faint, t.Glyph("│")),
		func(w, h int) []string { return m.drawVolumes(t, w, h) },
		func(w, h int) []string { return m.drawTitles(t, w, h) })
}

func (m *Model) drawVolumes(t *style.Theme, w, h int) []string {
	caption := size.Count(len(m.d.Remembered.Volumes), "volume")
	if m.filter != "" {
		caption += " " + t.Glyph("·") + " with " + m.filter
	}
	const place, titles, free, seen, state = 14, 7, 11, 11, 12
	name := max(12, w-place-titles-free-seen-state-8)
	wide := w >= 80
	cells := func(c ...style.Cell) []style.Cell {
		if !wide {
			c = append(c[:1], c[2], c[4], c[5])
			c[0].Width = max(12, w-titles-seen-state-6)
		}
		return c
	}
	out := []string{t.Rule(caption, w), t.Row(w, false, cells(style.Cell{Text: "volume", Width: name, FG: t.Dim},
		style.Cell{Text: "kept in", Width: place, FG: t.Dim},
		style.Cell{Text: "titles", Width: titles, FG: t.Dim, Right: true},
		style.Cell{Text: "free", Width: free, FG: t.Dim, Right: true},
		style.Cell{Text: "seen", Width: seen, FG: t.Dim}, style.Cell{Width: state})...)}
	if len(m.rows) == 0 {
		return t.Block(append(out, "", "  "+t.Paint(t.Dim, "Nothing that was looked at yet.")), w, h)
	}
	m.lists.Left.Resize(len(m.rows), h-2)
	from, to := m.lists.Left.Window()
	for k := from; k < to; k++ {
		r := &m.rows[k]
		at := k == m.lists.Left.Cursor && !m.lists.Side
		if r.kind != volume {
			word := map[kind]string{nowhere: "titles nowhere", once: "titles once only"}[r.kind]
			out = append(out, t.Row(w, at, cells(style.Cell{Text: word, Width: name, FG: t.Accent},
				style.Cell{Width: place}, style.Cell{Text: fmt.Sprint(r.titles), Width: titles, Right: true},
				style.Cell{Width: free}, style.Cell{Width: seen}, style.Cell{Width: state})...))
			continue
		}
		v := &r.volume
		room := ""
		if v.Capacity > 0 {
			room = size.Column(v.Free)
		}
		word, fg := m.standing(t, v)
		out = append(out, t.Row(w, at, cells(style.Cell{Text: v.Called(), Width: name},
			style.Cell{Text: v.Place, Width: place, FG: t.Dim},
			style.Cell{Text: fmt.Sprint(r.titles), Width: titles, Right: true},
			style.Cell{Text: room, Width: free, Right: true},
			m.seen(t, v, seen),
			style.Cell{Text: word, Width: state, FG: fg})...))
	}
	return t.Block(out, w, h)
}

func (m *Model) drawTitles(t *style.Theme, w, h int) []string {
	r := m.row()
	if r == nil {
		return t.Block([]string{t.Rule("titles", w)}, w, h)
	}
	caption := "on " + style.Clean(r.volume.Called())
	if r.kind != volume {
		caption = map[kind]string{nowhere: "on no volume", once: "on one volume alone"}[r.kind]
	}
	const id, bytes, note = 10, 11, 16
	name := max(10, w-id-bytes-note-6)
	out := []string{t.Rule(caption, w), t.Row(
		w,
		false,
		style.Cell{Text: "ID", Width: id, FG: t.Dim},
		style.Cell{
			Text:  "title",
			Width: name,
			FG:    t.Dim,
		},
		style.Cell{Text: "size", Width: bytes, FG: t.Dim, Right: true},
		style.Cell{Width: note},
	)}
	m.lists.Right.Resize(len(m.titles), h-2)
	from, to := m.lists.Right.Window()
	for k := from; k < to; k++ {
		e := &m.titles[k]
		fg := t.Dim
		if e.bad {
			fg = t.Bad
		}
		at := m.lists.Side && k == m.lists.Right.Cursor
		out = append(out, t.Row(w, at, style.Cell{Text: e.id, Width: id, FG: t.Dim},
			style.Cell{Text: e.name, Width: name}, style.Cell{Text: size.Column(e.size), Width: bytes, Right: true},
			style.Cell{Text: e.note, Width: note, FG: fg}))
	}
	if len(m.titles) == 0 {
		out = append(out, "", "  "+t.Paint(t.Dim, "No titles."))
	}
	return t.Block(out, w, h)
}

// standing says in a word what is to be known of a volume.
func (m *Model) standing(t *style.Theme, v *ledger.Volume) (word string, fg color.Color) {
	missing, others, known := m.d.Behind(v)
	switch {
	case !v.Changed.IsZero():
		return "changed", t.Warn
	case known && missing > 0:
		return fmt.Sprintf("%d behind", missing), t.Warn
	case known && others > 0:
		return fmt.Sprintf("%d too many", others), t.Warn
	case v.Check != nil && v.Check.Problems > 0:
		return size.Count(v.Check.Problems, "problem"), t.Warn
	case known:
		return "up to date", t.Good
	}
	return "", t.Dim
}

// seen says when a volume was seen last.
func (m *Model) seen(t *style.Theme, v *ledger.Volume, w int) style.Cell {
	if len(m.d.Here(v)) > 0 {
		return style.Cell{Text: "here now", Width: w, FG: t.Good}
	}
	return style.Cell{Text: v.Seen.Local().Format("2006-01-02"), Width: w, FG: t.Dim}
}
