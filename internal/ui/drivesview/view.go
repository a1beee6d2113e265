package drivesview

import (
	"fmt"
	"image/color"
	"strings"

	"polytome/internal/core/prepare"
	"polytome/internal/drives"
	"polytome/internal/format/volume"
	"polytome/internal/size"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// twoSides is the width from which the details of a drive are beside the drives.
const twoSides = 100

// View draws the panel.
func (m *Model) View(t *style.Theme, w, h int) []string {
	switch m.show {
	case mapping:
		return m.mapView(t, w, h)
	case preparing:
		return m.readyView(t, w, h)
	case checking:
		return m.checkView(t, w, h)
	case titles:
		return m.diskView(t, w, h)
	case repairing:
		return m.repairView(t, w, h)
	case trays:
		return m.trayView(t, w, h)
	}
	if below := m.trayLines(t, w); len(below) > 0 && h > len(below)+10 {
		return append(m.drivesView(t, w, h-len(below)), below...)
	}
	return m.drivesView(t, w, h)
}

// drivesView draws the drives that can be filled.
func (m *Model) drivesView(t *style.Theme, w, h int) []string {
	if len(m.d.Drives) == 0 {
		say := "Looking for drives " + t.Glyph("…")
		if m.d.DrivesSeen > 0 {
			say = "There are no drives."
		}
		return t.Block([]string{"", " " + t.Paint(t.Dim, say)}, w, h)
	}
	if m.listed = w < twoSides; m.listed {
		return m.narrow(t, w, h)
	}
	left := w * 11 / 20
	shelf := m.shelf(t, left, h)
	text := m.emitting(t, w-left-3, h)
	out := make([]string, h)
	for y := range out {
		out[y] = shelf[y] + t.Paint(t.Faint, t.Glyph("│")) + " " + text[y]
	}
	return out
}

// standing is how a drive may be treated, in a word or two.
func standing(f *state.Found) string {
	for _, u := range f.Uses {
		switch u.Kind {
		case drives.OfSystem:
			return "the system"
		case drives.Mounted:
			return "mounted"
		default:
			return "in use"
		}
	}
	switch {
	case f.Denied():
		return "asks first"
	case f.Trouble != "":
		return "closed"
	case f.ReadOnly:
		return "locked"
	case len(f.Volumes) == 0:
		return "unformatted"
	case f.Fixed():
		return "built in"
	}
	return "free to use"
}

func standingColour(t *style.Theme, f *state.Found) color.Color {
	if f.Refusal() != nil {
		return t.Bad
	}
	if f.Fixed() {
		return t.Warn
	}
	return t.Good
}

const (
	driveWidth = 15 // of one drive on the shelf, in cells
	leastRows  = 4  // inside of the smallest drive
)

// shelf draws the drives upright beside one another, to scale, and none lower than can be read.
func (m *Model) shelf(t *style.Theme, w, h int) []string {
	space := max(1, (w-1)/driveWidth)
	from := max(0, min(m.at-space/2, len(m.d.Drives)-space))
	m.tops = make([]int, len(m.d.Drives))
	for i := range m.tops {
		m.tops[i] = -1
	}
	largest := int64(1) // of those that can be filled: beside a system's disk, sticks would all look alike
	for i := range m.d.Drives {
		if f := &m.d.Drives[i]; i == m.at || f.Refusal() == nil {
			largest = max(largest, f.Size)
		}
	}
	lines := make([]string, h)
	rest := w
	for i := from; i < len(m.d.Drives) && i < from+space; i++ {
		m.tops[i] = (i - from) * driveWidth
		inside := max(leastRows, int(float64(m.d.Drives[i].Size)/float64(largest)*float64(h-7)+0.5))
		for y, l := range m.drive(t, i, min(inside, h-7), inside > h-7, h) {
			lines[y] += l
		}
		rest -= driveWidth
	}
	for y := range lines {
		lines[y] += strings.Repeat(" ", max(0, rest))
	}
	return t.Block(lines, w, h)
}

// drive draws one drive: its volumes one above the other, each filled as far as it is. One that is larger than there is
// space for is cut, and says so.
func (m *Model) drive(t *style.Theme, i, inside int, cut bool, h int) []string {
	f := &m.d.Drives[i]
	mine := i == m.at
	edge := t.Style(t.Dim)
	name := t.Style(t.Dim)
	if mine {
		edge, name = t.Style(t.Accent), t.Style(t.Text).Bold(true)
	}
	bar := driveWidth - 4
	pad := func(s string) string { return t.Pad(s, driveWidth) }
	var out []string
	for range h - inside - 6 {
		out = append(out, pad(""))
	}
	rows := m.inside(t, f, mine, bar, inside)
	top := t.Glyph("┌") + strings.Repeat(t.Glyph("─"), bar) + t.Glyph("┐")
	if cut {
		top = t.Pad(" "+t.Glyph("…")+" taller", bar+2)
	}
	out = append(out, " "+edge.Render(top)+" ")
	side := edge.Render(t.Glyph("│"))
	for _, r := range rows {
		out = append(out, " "+side+r+side+" ")
	}
	out = append(out, " "+edge.Render(t.Glyph("└")+strings.Repeat(t.Glyph("─"), bar)+t.Glyph("┘"))+" ")
	for y := range out {
		if w := style.Width(out[y]); w < driveWidth {
			out[y] += strings.Repeat(" ", driveWidth-w)
		}
	}
	words := t.Wrap(style.Clean(f.Name()), driveWidth-2)
	for k := range 2 {
		line := ""
		if k < len(words) {
			line = words[k]
		}
		if k == 1 && len(words) > 2 {
			line = t.Clip(words[1]+words[2], driveWidth-2)
		}
		out = append(out, " "+name.Render(t.Pad(line, driveWidth-1)))
	}
	out = append(out, " "+t.Paint(t.Dim, t.Pad(bytesOf(f), driveWidth-1)), " "+t.Paint(standingColour(t, f),
		t.Pad(standing(f), driveWidth-1)))
	return t.Block(out, driveWidth, h)
}

// bytesOf is the size of a drive, where that is known.
func bytesOf(f *state.Found) string {
	if f.Size == 0 && f.Network {
		return "not reached"
	}
	return size.Format(f.Size)
}

// inside are the rows of a drive, the top one first.
func (m *Model) inside(t *style.Theme, f *state.Found, mine bool, w, rows int) []string {
	out := make([]string, rows)
	for y := range out {
		out[y] = t.Paint(t.Faint, strings.Repeat(t.Glyph("·"), w))
	}
	if f.Size <= 0 {
		return out
	}
	for k := range f.Volumes {
		v := &f.Volumes[k]
		from := int(float64(v.Start) / float64(f.Size) * float64(rows))
		to := max(from+1, int(float64(v.Start+v.Size)/float64(f.Size)*float64(rows)+0.5))
		to = min(to, rows)
		used := 0
		if v.Free >= 0 && v.Size > 0 {
			used = int(float64(v.Size-v.Free)/float64(v.Size)*float64((to-from)*8) + 0.5)
		}
		colour := t.Kept
		switch {
		case mine && k == m.vol:
			colour = t.Planned
		case v.Trouble != "":
			colour = t.Bad
		}
		for y := from; y < to; y++ {
			units := min(8, max(0, used-(y-from)*8))
			if v.Free < 0 {
				units = -1
			}
			at := rows - 1 - y
			switch {
			case units < 0:
				out[at] = t.Paint(colour, strings.Repeat(t.Glyph("▒"), w))
			case t.ASCII && units > 0:
				out[at] = t.Paint(colour, strings.Repeat("#", w))
			case units > 0:
				out[at] = strings.Repeat(t.Block8(colour, units), w)
			default:
				out[at] = strings.Repeat(" ", w)
			}
		}
		if top := rows - to; to-from >= 2 || used < 4 {
			name := v.Label
			if name == "" {
				name = v.Shown()
			}
			if used <= (to-from-1)*8 || to-from == 1 && used < 4 { // on what is free
				fg := t.Style(t.Dim)
				if mine && k == m.vol {
					fg = t.Style(t.Accent).Bold(true)
				}
				out[top] = fg.Render(t.Pad(t.Clip(style.Clean(name), w), w))
			}
		}
	}
	return out
}

// telling is what is to be said of the drive that is shown.
func (m *Model) emitting(t *style.Theme, w, h int) []string {
	f := m.current()
	if f == nil {
		return t.Block(nil, w, h)
	}
	var out []string
	add := func(fg color.Color, bold bool, format string, args ...any) {
		for _, l := range t.Wrap(style.Clean(fmt.Sprintf(format, args...)), w-1) {
			if bold {
				out = append(out, t.Bold(fg, l))
			} else {
				out = append(out, t.Paint(fg, l))
			}
		}
	}
	row := func(name, value string) {
		for k, l := range t.Wrap(style.Clean(value), w-13) {
			if k > 0 {
				name = ""
			}
			out = append(out, t.Paint(t.Dim, t.Pad(name, 12))+t.Paint(t.Text, l))
		}
	}
	add(t.Text, true, "%s", f.Name())
	where := f.Path
	if f.Image {
		where = style.Clean(where)
	}
	row("path", where)
	if f.Size > 0 {
		row("size", fmt.Sprintf("%s, sectors of %d bytes", size.Format(f.Size), f.Sector))
	}
	if f.Serial != "" && !f.Image {
		row("serial", f.Serial)
	}
	row("bus", busWords(f.Drive))
	switch {
	case f.Table != nil:
		row("table", f.Table.Scheme.Shown())
	case f.Denied():
		row("table", "not read yet")
	default:
		row("table", "none")
	}
	if n := m.d.TargetOn(f.Drive); n >= 0 {
		row("target", m.d.Bench.Targets[n].Name)
	}
	out = append(out, "")
	if f.Denied() {
		add(t.Dim, false, "%s", state.Sentence(drives.AskedLater))
	}
	if len(f.Volumes) == 0 && f.Trouble == "" {
		add(t.Dim, false, "There is no readable volume on it.")
	}
	for k := range f.Volumes {
		v := &f.Volumes[k]
		mark := "  "
		fg := t.Text
		if k == m.vol {
			mark, fg = t.Glyph("▸")+" ", t.Accent
		}
		name := v.Shown()
		if v.Label != "" {
			name = v.Label + ", " + v.Shown()
		}
		if v.Number > 0 {
			name = fmt.Sprintf("%d  %s", v.Number, name)
		}
		out = append(out, t.Bold(fg, mark+t.Clip(style.Clean(name), w-4)))
		emit := size.Format(v.Size)
		if v.Free >= 0 {
			emit += ", " + size.Format(v.Free) + " free"
		}
		switch {
		case v.Filesystem == drives.Slab:
			emit += ", slabs of " + size.Format(v.Cluster)
		case v.Cluster > 0:
			emit += ", clusters of " + size.Format(v.Cluster)
		}
		for _, l := range t.Wrap(emit, w-5) {
			out = append(out, "    "+t.Paint(t.Dim, l))
		}
		c := f.Contents[k]
		switch {
		case v.Trouble != "":
			for _, l := range t.Wrap(style.Clean(state.Sentence(v.Trouble)), w-5) {
				out = append(out, "    "+t.Paint(t.Bad, l))
			}
		case v.Ours() || len(v.MountedAt) > 0:
			for _, l := range t.Wrap(style.Clean(c.Words()), w-5) {
				out = append(out, "    "+t.Paint(t.Text, l))
			}
		}
		if v.Dirty {
			out = append(out, "    "+t.Paint(t.Warn, "not ejected cleanly: check it"))
		}
		for _, at := range v.MountedAt {
			out = append(out, "    "+t.Paint(t.Warn, t.Clip("mounted at "+style.Clean(at), w-5)))
		}
	}
	out = append(out, "")
	if f.Table != nil {
		for _, p := range f.Table.Problems {
			add(t.Warn, false, "%s", p)
		}
	}
	switch r := f.Refusal(); {
	case r != nil:
		add(t.Bad, true, "Polytome does not write to it")
		add(t.Text, false, "%s", state.Sentence(r.Say))
		if r.Do != "" && !mounted(f.Drive) {
			add(t.Dim, false, "%s", state.Sentence(r.Do))
		}
	case f.Fixed():
		add(t.Warn, true, "It is built into this computer")
		add(t.Text, false, "It can be filled like any other; preparing it needs a second confirmation.")
	default:
		add(t.Good, true, "It may be filled and prepared")
		add(t.Dim, false, "Nothing on it is erased until you type its name.")
	}
	return t.Block(out, w, h)
}

func busWords(d *drives.Drive) string {
	s := map[string]string{"usb": "USB", "sata": "SATA", "nvme": "NVMe", "card": "a card", "loop": "a loop device",
		"image": "an image file", "network": "the network", "other": "not reported"}[d.Bus]
	if d.Removable && !d.Image && d.Bus != "usb" {
		s += ", removable"
	}
	return s
}

// narrow is the panel where there is little width: the drives as rows, and the details of one below.
func (m *Model) narrow(t *style.Theme, w, h int) []string {
	var out []string
	rows := min(len(m.d.Drives), max(2, h/3))
	from := max(0, min(m.at-rows/2, len(m.d.Drives)-rows))
	m.tops, m.from, m.rows = nil, from, rows
	for i := from; i < from+rows; i++ {
		f := &m.d.Drives[i]
		out = append(out, t.Row(w, i == m.at, style.Cell{Text: f.Name(), Width: w - 30, Bold: i == m.at},
			style.Cell{Text: bytesOf(f), Width: 12, Right: true, FG: t.Dim},
			style.Cell{Text: standing(f), Width: 12, FG: standingColour(t, f)}))
	}
	out = append(out, t.Rule("", w))
	for _, l := range m.emitting(t, w-2, h-len(out)) {
		out = append(out, " "+l)
	}
	return t.Block(out, w, h)
}

// mapView draws what is where on the volume.
func (m *Model) mapView(t *style.Theme, w, h int) []string {
	f, v := m.current(), m.volume()
	head := ""
	if f != nil && v != nil {
		head = f.Name() + ", " + volumeWords(v)
	}
	head = t.Bold(t.Accent, t.Clip(style.Clean(head), w-2))
	if m.tape == nil {
		return t.Block([]string{" " + head, "", " " + t.Paint(t.Dim, m.busy+" "+t.Glyph("…"))}, w, h)
	}
	lay := m.tape.Map
	one, fg := "file", t.Dim
	if m.of == titles {
		one = "title"
	}
	words := "every " + one + " is contiguous"
	if n := len(lay.Fragmented()); n > 0 {
		words, fg = size.Count(n, "fragmented "+one), t.Warn
	}
	words += fmt.Sprintf("; %s free, the largest run %s", size.Format(lay.FreeBytes()), size.Format(lay.Largest()))
	if rest := w - 4 - style.Width(head); rest >= style.Width(words) {
		head += "  " + t.Paint(fg, t.PadLeft(words, rest))
	}
	m.top = 2
	return t.Block(append([]string{" " + head, ""}, m.tape.Draw(t, w, h-m.top, m.d.Shown)...), w, h)
}

// readyView draws what the drive is and what it becomes, and how far that is.
func (m *Model) readyView(t *style.Theme, w, h int) []string {
	p := m.plan
	if p == nil {
		return t.Block([]string{"", " " + t.Paint(t.Dim, m.busy+" "+t.Glyph("…"))}, w, h)
	}
	title := "Prepare " + p.Drive.Describe()
	out := []string{" " + t.Bold(t.Accent, t.Clip(style.Clean(title), w-2)), ""}
	bar := min(w-14, 110)
	out = append(out, m.strip(t, "now", p.Before, bar)...)
	out = append(out, m.strip(t, "then", p.After, bar)...)
	var lines []string
	add := func(mark string, fg color.Color, text string) {
		for k, l := range t.Wrap(style.Clean(text), w-8) {
			if k > 0 {
				mark = strings.Repeat(" ", style.Width(mark))
			}
			lines = append(lines, "  "+mark+t.Paint(fg, l))
		}
	}
	heading := func(s string) { lines = append(lines, " "+t.Bold(t.Text, s)) }
	heading("Steps")
	for i, s := range p.Steps {
		mark, fg := t.Paint(t.Faint, t.Glyph("▫")+" "), t.Text
		switch {
		case m.report != nil || i < m.event.Step:
			mark, fg = t.Paint(t.Good, t.Glyph("✓")+" "), t.Dim
		case i == m.event.Step:
			mark, fg = t.Paint(t.Accent, t.Glyph("▸")+" "), t.Accent
		}
		add(mark, fg, s)
	}
	if m.report != nil {
		lines = append(lines, "")
		if m.report.Good() {
			lines = append(lines, " "+t.Bold(t.Good, "Check: no problems. The drive is ready."))
		} else {
			lines = append(lines, " "+t.Bold(t.Bad, "The check found:"))
			for _, s := range m.report.Wrong {
				add(t.Glyph("•")+" ", t.Bad, s)
			}
		}
	}
	lines = append(lines, "")
	heading("Why")
	for _, r := range p.Reasons {
		add(t.Glyph("·")+" ", t.Dim, r.What+": "+r.Why+".")
	}
	for _, n := range p.Notes {
		add(t.Glyph("•")+" ", t.Warn, n)
	}
	if m.report == nil {
		lines = append(lines, "")
		heading("What is lost")
		loses := "No games or files were recognized on it."
		if p.Loses != "" {
			loses = p.Loses + "."
		}
		add(t.Glyph("•")+" ", t.Bad, loses)
		if len(p.Left) > 0 {
			lines = append(lines, "")
			heading(fmt.Sprintf("What will not go onto it then (%d)", len(p.Left)))
			for _, l := range p.Left {
				add(t.Glyph("•")+" ", t.Warn, l.Label+": "+l.Why.Say)
			}
		}
	}
	rest := h - len(out)
	m.lines.Resize(len(lines), rest)
	from, to := m.lines.Window()
	return t.Block(append(out, lines[from:to]...), w, h)
}

// strip is a drive as a bar lying down, with its parts to scale, and their names below.
func (m *Model) strip(t *style.Theme, name string, all []prepare.Slice, w int) []string {
	total := int64(1)
	for _, s := range all {
		total = max(total, s.Start+s.Size)
	}
	var bar, names strings.Builder
	at := 0
	for i, s := range all {
		to := int(float64(s.Start+s.Size)/float64(total)*float64(w) + 0.5)
		if i == len(all)-1 {
			to = w
		}
		to = max(at+1, to)
		n := min(to, w) - at
		if n <= 0 {
			break
		}
		fg, glyph := t.Faint, "·"
		switch s.Kind {
		case "lost":
			fg, glyph = t.Bad, "▒"
		case "kept":
			fg, glyph = t.Kept, "█"
		case "new":
			fg, glyph = t.Written, "█"
		case "table":
			fg, glyph = t.Accent, "▏"
		}
		bar.WriteString(t.Paint(fg, strings.Repeat(t.Glyph(glyph), n)))
		words := s.Say
		if s.Kind != "free" && s.Kind != "table" && words != "" {
			words += " (" + s.Kind + ")"
		}
		if s.Kind == "table" && n < len(words)+1 {
			words = ""
		}
		names.WriteString(t.Paint(t.Dim, t.Pad(t.Clip(style.Clean(words), max(0, n-1)), n)))
		at += n
	}
	return []string{" " + t.Bold(t.Text, t.Pad(name, 6)) + bar.String(), " " + strings.Repeat(" ",
		6) + names.String(), ""}
}

// checkView lists what a check found.
func (m *Model) checkView(t *style.Theme, w, h int) []string {
	f, v := m.current(), m.volume()
	head := "Check"
	if f != nil && v != nil {
		head = "Check of " + f.Name() + ", " + volumeWords(v)
	}
	out := []string{" " + t.Bold(t.Accent, t.Clip(style.Clean(head), w-2)), ""}
	if m.health == nil {
		return t.Block(append(out, " "+t.Paint(t.Dim, m.busy+" "+t.Glyph("…"))), w, h)
	}
	var lines []string
	say := func(list []volume.Finding, fixes bool) {
		for _, x := range list {
			text := x.Say
			if x.Path != "" {
				text = x.Path + ": " + text
			}
			lines = append(lines, " "+t.Bold(t.Bad, string(x.Kind)))
			for _, l := range t.Wrap(style.Clean(text), w-6) {
				lines = append(lines, "   "+t.Paint(t.Text, l))
			}
			fix := x.Repair
			if fix == "" {
				fix = "It cannot be repaired here."
			}
			for _, l := range t.Wrap(fix, w-8) {
				if fixes {
					lines = append(lines, "   "+t.Paint(t.Good, t.Glyph("→")+" "+l))
				}
			}
			lines = append(lines, "")
		}
	}
	switch {
	case m.left != nil && m.left.OK():
		lines = append(lines, " "+t.Bold(t.Good, fmt.Sprintf("%s repaired. The volume is OK.",
			isWas(len(m.health.Findings), "thing"))), "")
		say(m.health.Findings, true)
	case m.left != nil:
		lines = append(lines, " "+t.Bold(t.Bad, "Still wrong:"), "")
		say(m.left.Findings, false)
	case m.health.OK():
		lines = append(lines, " "+t.Bold(t.Good, "The volume is OK."), "",
			" "+t.Paint(t.Dim, fmt.Sprintf("%s and %s, %s; %s free", size.Count(m.health.Files, "file"),
				size.Count(max(0, m.health.Folders-1), "folder"), size.Format(m.health.Bytes),
				size.Format(m.health.Free))))
	default:
		lines = append(lines, " "+t.Bold(t.Text, "Problems found, and what repairing would do:"), "")
		say(m.health.Findings, true)
	}
	m.lines.Resize(len(lines), h-len(out))
	from, to := m.lines.Window()
	return t.Block(append(out, lines[from:to]...), w, h)
}
