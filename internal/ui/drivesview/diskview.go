package drivesview

import (
	"fmt"
	"image/color"
	"slices"
	"strings"

	"polytome/internal/core/blockmap"
	"polytome/internal/format/slab"
	"polytome/internal/size"
	"polytome/internal/ui/style"
)

// diskSide is how wide the switches are beside the titles.
const diskSide = 44

// diskView draws the titles of a console's own disk, the switches of what is meant, and where all of it lies.
func (m *Model) diskView(t *style.Theme, w, h int) []string {
	d := &m.disk
	name := m.subject.Name()
	if d.info.Label != "" && d.info.Label != name {
		name += ", " + d.info.Label
	}
	head := " " + t.Bold(t.Accent, t.Clip(style.Clean(name), w-2))
	if d.tape == nil {
		return t.Block([]string{head, "", " " + t.Paint(t.Dim, m.busy+" "+t.Glyph("…"))}, w, h)
	}
	words := fmt.Sprintf("%s, %s, %s free of %s", size.Count(d.info.Titles, "title"),
		size.Count(d.info.Files, "small file"), size.Format(d.info.Free), size.Format(d.info.Slabs*slab.Slab))
	if n := len(d.chosen); n > 0 {
		words = fmt.Sprintf("%d marked, ", n) + words
	}
	out := []string{head, " " + t.Paint(t.Dim, t.Clip(words, w-2))}
	out = append(out, m.diskStrip(t, w)...)
	out = append(out, "")
	side := 0
	if len(d.switches) > 0 && w >= twoSides {
		side = diskSide
	}
	rows := h - len(out)
	if side == 0 && d.turning {
		for _, l := range m.switchLines(t, w-2, rows) {
			out = append(out, " "+l)
		}
		return t.Block(out, w, h)
	}
	list := m.titleRows(t, w-side, rows, len(out))
	if side == 0 {
		return t.Block(append(out, list...), w, h)
	}
	text := t.Block(m.switchLines(t, side-3, rows), side-2, rows)
	for y := range list {
		out = append(out, list[y]+t.Paint(t.Faint, t.Glyph("│"))+" "+text[y])
	}
	return t.Block(out, w, h)
}

// diskStrip is the disk lying down, from its first slab to its last, the title that is meant pulled out.
func (m *Model) diskStrip(t *style.Theme, w int) []string {
	return m.disk.tape.Strip(t, w, m.disk.onTape())
}

// onTape is the first length of the title under the cursor, -1 for none.
func (d *disk) onTape() int {
	mine := d.under()
	if mine == nil {
		return -1
	}
	return slices.IndexFunc(d.tape.Lengths, func(l blockmap.Length) bool {
		return l.File >= 0 && d.tape.Map.Files[l.File].Path == mine.ID+" "+mine.Name
	})
}

// titleRows are the titles as rows, with a heading.
func (m *Model) titleRows(t *style.Theme, w, h, top int) []string {
	d := &m.disk
	cells := func(mark, id, name, kind, bytes, note string, fg, warn color.Color, bold bool) []style.Cell {
		return []style.Cell{{Text: mark, Width: 1, FG: t.Accent}, {Text: id, Width: 11, FG: t.Dim},
			{Text: name, Width: max(10, w-66), FG: fg, Bold: bold}, {Text: kind, Width: 6, FG: t.Dim},
			{Text: bytes, Width: 10, Right: true, FG: t.Dim}, {Text: note, Width: 26, FG: warn}}
	}
	out := []string{t.Row(w, false, cells("", "ID", "name", "kind", "size", "switches", t.Dim, t.Dim, false)...)}
	d.list.Resize(len(d.titles), h-1)
	m.top = top + 1
	from, to := d.list.Window()
	if len(d.titles) == 0 {
		out = append(out, "", " "+t.Paint(t.Dim, "There are no titles on it."))
	}
	for i := from; i < to; i++ {
		x := &d.titles[i]
		mark := " "
		if d.chosen[x.ID] {
			mark = t.Glyph("✓")
		}
		note, warn := m.turned(x), t.Dim
		if n := len(x.Extents); n > 1 {
			note, warn = strings.TrimSuffix(fmt.Sprintf("%d pieces, %s", n, note), ", "), t.Warn
		}
		out = append(out, t.Row(w, i == d.list.Cursor && !d.turning, cells(mark, x.ID, x.Name, x.Kind,
			size.Format(x.Size), note, t.Text, warn, i == d.list.Cursor && d.turning)...))
	}
	return t.Block(out, w, h)
}

// turned says which switches of a title stand on something else than what they do where nothing is set.
func (m *Model) turned(x *slab.Title) string {
	var all []string
	for i := range m.disk.switches {
		s := &m.disk.switches[i]
		switch v := m.disk.value(x, s); {
		case v == s.Values[0]:
		case v == "on":
			all = append(all, s.Key)
		default:
			all = append(all, s.Key+" "+v)
		}
	}
	if len(all) > 2 {
		return fmt.Sprintf("%d switches", len(all))
	}
	return strings.Join(all, ", ")
}

// switchLines are the switches of what is meant, each with when it helps.
func (m *Model) switchLines(t *style.Theme, w, h int) []string {
	d := &m.disk
	meant := d.meant()
	if len(meant) == 0 {
		return t.Block(nil, w, h)
	}
	of := meant[0].Name
	if len(meant) > 1 {
		of = size.Count(len(meant), "marked title")
	}
	out := []string{t.Bold(t.Text, t.Clip(style.Clean("Switches of "+of), w))}
	if !d.turning {
		out = append(out, t.Paint(t.Dim, "tab goes to them"))
	} else {
		out = append(out, t.Paint(t.Dim, "right and left turn one, tab goes back"))
	}
	var at int
	for i := range d.switches {
		s := &d.switches[i]
		value, same := d.valueOfAll(s)
		fg := t.Dim
		switch {
		case !same:
			value, fg = "differs", t.Warn
		case value != s.Values[0]:
			fg = t.Good
		}
		mine := d.turning && i == d.at
		if mine {
			at = len(out)
		}
		out = append(out, t.Row(w, mine, style.Cell{Text: s.Key, Width: 16, Bold: mine}, style.Cell{Text: value,
			Width: 8,
			FG:    fg, Bold: fg != t.Dim}, style.Cell{Text: strings.Join(s.Values, " "), Width: w - 30, FG: t.Faint}))
		for _, l := range t.Wrap(style.Clean(s.Helps), w-4) {
			out = append(out, "   "+t.Paint(t.Dim, l))
		}
	}
	if len(out) > h && at > h/2 { // what is turned stays in sight
		head := out[:2]
		out = append(append([]string{}, head...), out[min(2+at-h/2, 2+len(out)-h):]...)
	}
	return t.Block(out, w, h)
}

// repairView lists what a look at a disk found, and what repairing it would do.
func (m *Model) repairView(t *style.Theme, w, h int) []string {
	out := []string{" " + t.Bold(t.Accent, t.Clip(style.Clean("Check of "+m.subject.Name()), w-2)), ""}
	x := m.wrong
	if x == nil {
		say := m.busy + " " + t.Glyph("…")
		if m.counted > 0 {
			say += " " + size.Format(m.counted)
		}
		return t.Block(append(out, " "+t.Paint(t.Dim, say)), w, h)
	}
	var lines []string
	add := func(fg color.Color, mark, text string) {
		for k, l := range t.Wrap(style.Clean(text), w-6) {
			if k > 0 {
				mark = strings.Repeat(" ", style.Width(mark))
			}
			lines = append(lines, "  "+t.Paint(fg, mark+l))
		}
	}
	heading := func(fg color.Color, s string) { lines = append(lines, " "+t.Bold(fg, s)) }
	switch {
	case x.done:
		heading(t.Good, "Repaired.")
	case len(x.problems) == 0 && len(x.repair.Do) == 0:
		heading(t.Good, "Nothing is wrong.")
		if !x.deep {
			add(t.Dim, "", "The tables, and the beginning of every title, were read. V in the list of titles reads "+
				"every byte.")
		}
	}
	if !x.done && len(x.problems) > 0 {
		heading(t.Bad, "Problems")
		for _, p := range x.problems {
			add(t.Text, t.Glyph("•")+" ", p.Of+": "+p.Say)
		}
		lines = append(lines, "")
	}
	if len(x.repair.Do) > 0 {
		if !x.done {
			heading(t.Text, "Repairing would")
		}
		for _, say := range x.repair.Do {
			mark, fg := t.Glyph("→")+" ", t.Text
			if x.done {
				mark, fg = t.Glyph("✓")+" ", t.Good
			}
			add(fg, mark, say)
		}
		lines = append(lines, "")
	}
	if len(x.repair.Lost) > 0 {
		heading(t.Bad, "Cannot be saved")
		for _, p := range x.repair.Lost {
			add(t.Text, t.Glyph("•")+" ", p.Of+": "+p.Say)
		}
	}
	m.lines.Resize(len(lines), h-len(out))
	from, to := m.lines.Window()
	return t.Block(append(out, lines[from:to]...), w, h)
}
