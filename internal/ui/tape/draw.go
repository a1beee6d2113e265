package tape

import (
	"slices"
	"strings"

	"polytome/internal/core/blockmap"
	"polytome/internal/size"
	"polytome/internal/ui/style"
)

// StripLines is how many lines the tape lying down takes.
const StripLines = 6

// wideRows is the width from which rows have a bar and the platform.
const wideRows = 100

// Strip draws the tape lying down, w cells wide: above it the title that a length is of, pulled out, with arcs between
// its parts; below it where on the volume one is. The length is -1 for none.
func (t *Tape) Strip(th *style.Theme, w, at int) []string {
	w = max(10, w)
	shown := t.Map.Strip(t.Lengths, w-2)
	t.left, t.wide = 1, w-2
	together := t.Together(at)
	name, arcs, pulled := t.pulled(th, shown, at, together)
	var bar strings.Builder
	for x := 0; x < len(shown); {
		from, k := x, shown[x]
		for x < len(shown) && shown[x] == k {
			x++
		}
		l := t.Lengths[k]
		fg, glyph := t.look(th, l)
		text := strings.Repeat(glyph, x-from)
		if from > 0 && l.File >= 0 && x-from > 1 {
			text = th.Glyph("▐") + strings.Repeat(glyph, x-from-1) // where one ends and the next begins
		}
		if slices.Contains(together, k) {
			fg = th.Accent
		}
		bar.WriteString(th.Paint(fg, text))
	}
	ticks, numbers := t.ruler(th, w-2)
	lines := []string{name, arcs, pulled, bar.String(), th.Paint(th.Faint, ticks), th.Paint(th.Dim, numbers)}
	for i := range lines {
		lines[i] = " " + lines[i]
	}
	return th.Block(lines, w, StripLines)
}

// pulled are the lines above the tape: the name of a title, arcs from part to part, and the parts.
func (t *Tape) pulled(th *style.Theme, shown []int, at int, together []int) (name, arcs, parts string) {
	if len(together) == 0 {
		return "", "", ""
	}
	w := len(shown)
	arc, body := []rune(strings.Repeat(" ", w)), []rune(strings.Repeat(" ", w))
	var centres []int
	leftmost := w
	total := int64(max(1, t.Map.Info.Clusters))
	var bytes int64
	for _, k := range together {
		l := t.Lengths[k]
		bytes += t.Map.Bytes(l)
		from := slices.Index(shown, k)
		if from < 0 { // too short to be seen on the tape
			from = min(w-1, int(int64(l.First-2)*int64(w)/total))
		}
		to := from + 1
		for to < w && shown[to] == k {
			to++
		}
		_, glyph := t.look(th, l)
		for x := from; x < to; x++ {
			body[x] = []rune(glyph)[0]
			if l.File < 0 { // measured, as nothing lies there
				body[x] = '─'
			}
		}
		if l.File < 0 && to-from > 1 {
			body[from], body[to-1] = '├', '┤'
		}
		leftmost = min(leftmost, from)
		centres = append(centres, (from+to-1)/2)
	}
	first, last := slices.Min(centres), slices.Max(centres)
	if len(together) > 1 {
		for x := first; x <= last; x++ {
			arc[x] = '─'
		}
		for _, c := range centres {
			arc[c] = '┬'
		}
		arc[first], arc[last] = '╭', '╮'
		if first == last {
			arc[first] = '│'
		}
	}
	what, how := t.Map.Say(t.Lengths[at])
	text := th.Clip(strings.TrimSuffix(style.Clean(what)+"  "+size.Format(bytes)+", "+how, ", "), w)
	begins := max(0, min(leftmost, w-style.Width(text)))
	glyphs := func(runes []rune) string {
		var b strings.Builder
		for _, r := range runes {
			b.WriteString(th.Glyph(string(r)))
		}
		return th.Paint(th.Accent, b.String())
	}
	return strings.Repeat(" ", begins) + th.Bold(th.Accent, text), glyphs(arc), glyphs(body)
}

// ruler are the marks below the tape, and their numbers.
func (t *Tape) ruler(th *style.Theme, w int) (ticks, numbers string) {
	line, below := []rune(strings.Repeat("─", w)), []rune(strings.Repeat(" ", w))
	for _, m := range t.Map.Marks(w / 12) {
		x := min(w-1, int(m.At*float64(w)))
		line[x] = '┬'
		copy(below[x:], []rune(m.Say))
	}
	for _, r := range line {
		ticks += th.Glyph(string(r))
	}
	return ticks, string(below)
}

// Draw draws the tape lying down, and below it its lengths as rows, w by h cells.
func (t *Tape) Draw(th *style.Theme, w, h int, platform func(short string) string) []string {
	rows := max(1, h-StripLines-2)
	t.List.Resize(len(t.Lengths), rows)
	out := append(t.Strip(th, w, t.List.Cursor), "")
	cells := func(joined, begins, length, bar, what, platform, how string, fg [3]style.Cell) []style.Cell {
		c := []style.Cell{{Text: joined, Width: lanes, FG: th.Accent},
			{Text: begins, Width: 11, Right: true, FG: th.Dim}, {Text: length, Width: 11, Right: true, FG: th.Dim}}
		rest := w - 2 - lanes - 2*11 - 22 - 5
		if w >= wideRows {
			rest -= barCells + 16 + 2
			c = append(c, style.Cell{Text: bar, Width: barCells, FG: fg[0].FG})
		}
		c = append(c, style.Cell{Text: what, Width: max(8, rest), FG: fg[1].FG, Bold: fg[1].Bold})
		if w >= wideRows {
			c = append(c, style.Cell{Text: platform, Width: 16, FG: fg[0].FG})
		}
		return append(c, style.Cell{Text: how, Width: 22, FG: fg[2].FG})
	}
	dim := [3]style.Cell{{FG: th.Dim}, {FG: th.Dim}, {FG: th.Dim}}
	out = append(out, th.Row(w, false, cells("", "begins at", "length", "", "what lies there", "platform", "how",
		dim)...))
	t.top = len(out)
	from, to := t.List.Window()
	for i := from; i < to; i++ {
		l := t.Lengths[i]
		fg, glyph := t.look(th, l)
		what, how := t.Map.Say(l)
		n := int(uint64(l.Count) * barCells / uint64(max(1, t.longest)))
		bar := strings.Repeat(glyph, min(barCells, max(1, n)))
		look := [3]style.Cell{{FG: fg}, {FG: th.Text}, {FG: th.Dim}}
		switch l.Kind {
		case blockmap.Free, blockmap.System, blockmap.Folder:
			look[1].FG = th.Dim
		case blockmap.Fragmented:
			look[2].FG = th.Bad
		}
		shown := t.Map.Platform(l)
		if shown != "" {
			shown = platform(shown)
		}
		out = append(out, th.Row(w, i == t.List.Cursor, cells(t.joined(th, i), size.Format(t.Map.Begins(l)),
			size.Format(t.Map.Bytes(l)), bar, what, shown, how, look)...))
	}
	return th.Block(out, w, h)
}

// barCells is how long the bar of the longest length is.
const barCells = 24

// joined are the arcs beside a row.
func (t *Tape) joined(th *style.Theme, i int) string {
	var b strings.Builder
	for k := lanes - 1; k >= 0; k-- {
		b.WriteString(th.Glyph(map[lane]string{none: " ", first: "╭", between: "│", member: "├",
			last: "╰"}[t.lanes[i][k]]))
	}
	return b.String()
}
