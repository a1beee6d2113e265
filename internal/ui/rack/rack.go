// Package rack draws targets as upright volumes side by side, filled to scale:
// what is kept, what is written, what is planned, and the ghost of the title
// under the cursor, which stands over the edge when it does not fit.
package rack

import (
	"fmt"
	"image/color"
	"strings"

	"charm.land/lipgloss/v2"

	"polytome/internal/size"
	"polytome/internal/ui/style"
)

// A Volume is one target. Amounts are in bytes.
type Volume struct {
	Name     string
	Detail   string // the filesystem
	Capacity int64
	Unknown  bool  // no one reports how much space there is: the capacity is none
	Kept     int64 // there before
	Written  int64 // put there by the run under way
	Planned  int64 // chosen, not there yet, less the ghost where that is counted
	Ghost    int64 // the title under the cursor
	Over     bool  // the ghost cannot go there
	Share    bool  // the ghost is counted: it is chosen, and its share of the plan is shown
	Current  bool
}

// overRows is the share of the height that is kept above the volumes for what
// stands over their edge: one row in so many.
const overRows = 9

type part struct {
	units   int // eighths of a row
	colour  color.Color
	texture string
}

// Draw draws the volumes in w by h cells.
func Draw(t *style.Theme, volumes []Volume, w, h int) []string {
	if len(volumes) == 0 || h < 8 {
		return t.Block(nil, w, h)
	}
	legend := len(volumes) == 1 && w >= 28
	volumes = around(volumes, max(1, w/leastWidth))
	each := w / len(volumes)
	if legend {
		each = 14
	}
	each = max(6, min(each, 16))
	columns := make([][]string, 0, len(volumes)+1)
	for _, v := range volumes {
		if len(columns)*each+each > w {
			break
		}
		columns = append(columns, column(t, v, each, h))
	}
	if legend {
		columns = append(columns, key(t, volumes[0], w-each, h))
	}
	lines := make([]string, h)
	for y := range lines {
		for _, c := range columns {
			lines[y] += c[y]
		}
	}
	return t.Block(lines, w, h)
}

// leastWidth is how many cells a volume needs for its name to be read.
const leastWidth = 11

// around are as many volumes as have space, with the current one among them.
func around(all []Volume, space int) []Volume {
	if len(all) <= space {
		return all
	}
	from := 0
	for i := range all {
		if all[i].Current {
			from = max(0, min(i-space/2, len(all)-space))
		}
	}
	return all[from : from+space]
}

// geometry of one volume in h rows: rows over the edge, and rows inside.
func geometry(h int) (over, inside int) {
	over = max(1, h/overRows)
	return over, h - over - 6 // name (2 lines), top edge, bottom edge, percent, detail
}

// column draws one volume.
func column(t *style.Theme, v Volume, w, h int) []string {
	over, inside := geometry(h)
	name := t.Style(t.Dim)
	if v.Current {
		name = t.Style(t.Text).Bold(true)
	}
	var lines []string
	for _, n := range nameLines(t, v.Name, w-2) {
		lines = append(lines, " "+name.Render(t.Pad(n, w-1)))
	}
	cells := fill(t, v, over+1+inside, inside)
	bar := w - 4
	for y := range over {
		lines = append(lines, "  "+strings.Repeat(cells[y], bar)+"  ")
	}
	edge := t.Style(t.Dim)
	if v.Ghost > 0 && cells[over] != " " {
		lines = append(lines, " "+edge.Render(t.Glyph("┌"))+strings.Repeat(cells[over], bar)+edge.Render(
			t.Glyph("┐"))+" ")
	} else {
		lines = append(lines, " "+edge.Render(t.Glyph("┌")+strings.Repeat(t.Glyph("─"), bar)+t.Glyph("┐"))+" ")
	}
	side := edge.Render(t.Glyph("│"))
	for y := range inside {
		lines = append(lines, " "+side+strings.Repeat(cells[over+1+y], bar)+side+" ")
	}
	lines = append(lines, " "+edge.Render(t.Glyph("└")+strings.Repeat(t.Glyph("─"), bar)+t.Glyph("┘"))+" ")
	used := v.used()
	lines = append(lines,
		t.Paint(t.Text, centre(v.share(used), w)),
		t.Paint(t.Dim, centre(v.Detail, w)))
	return t.Block(lines, w, h)
}

// share is a part of the space in words.
func (v Volume) share(bytes int64) string {
	if v.Unknown {
		return "not reported"
	}
	return fmt.Sprintf("%d %%", percent(bytes, v.Capacity))
}

// space is an amount of the space in words.
func (v Volume) space(bytes int64) string {
	if v.Unknown {
		return "not reported"
	}
	return size.Format(bytes)
}

// used is what will be taken, the title under the cursor only if it is chosen.
func (v Volume) used() int64 {
	n := v.Kept + v.Written + v.Planned
	if v.Share {
		n += v.Ghost
	}
	return n
}

func percent(n, of int64) int {
	if of <= 0 {
		return 0
	}
	return int(float64(n)/float64(of)*100 + 0.5)
}

func nameLines(t *style.Theme, name string, w int) []string {
	l := t.Wrap(style.Clean(name), w)
	if len(l) > 2 {
		l = []string{l[0], t.Clip(strings.Join(l[1:], " "), w)}
	}
	for len(l) < 2 {
		l = append(l, "")
	}
	return l
}

func centre(s string, w int) string {
	left := max(0, (w-style.Width(s))/2)
	return strings.Repeat(" ", left) + s + strings.Repeat(" ", max(0, w-left-style.Width(s)))
}

// fill returns the cell of each row, the top one first. The lowest inside rows
// are the volume; what is above them stands over the edge.
func fill(t *style.Theme, v Volume, rows, inside int) []string {
	units := func(n int64) int {
		if n <= 0 || v.Capacity <= 0 {
			return 0
		}
		return max(1, int(float64(n)/float64(v.Capacity)*float64(inside*8)+0.5))
	}
	ghost := t.Ghost
	if v.Over {
		ghost = t.Bad
	}
	parts := []part{
		{units(v.Kept), t.Kept, t.Glyph("█")},
		{units(v.Written), t.Written, t.Glyph("▓")},
		{units(v.Planned), t.Planned, t.Glyph("▒")},
		{units(v.Ghost), ghost, t.Glyph("░")},
	}
	if below := parts[0].units + parts[1].units + parts[2].units; below > inside*8 {
		parts[2].units = max(0, parts[2].units-(below-inside*8)) // rounding never fills beyond the edge
	}
	out := make([]string, rows)
	for y := range rows {
		bottom := (rows - 1 - y) * 8
		out[y] = cell(t, parts, bottom)
	}
	return out
}

// cell draws the eighths from bottom to bottom+8 of a column of parts.
func cell(t *style.Theme, parts []part, bottom int) string {
	type run struct {
		units int
		part  part
	}
	var runs []run
	at := 0
	for _, p := range parts {
		n := min(at+p.units, bottom+8) - max(at, bottom)
		if n > 0 {
			runs = append(runs, run{n, p})
		}
		at += p.units
	}
	if len(runs) == 0 {
		return " "
	}
	if t.Plain || t.ASCII {
		most := runs[0]
		sum := 0
		for _, r := range runs {
			sum += r.units
			if r.units > most.units {
				most = r
			}
		}
		if sum < 4 {
			return " "
		}
		return t.Paint(most.part.colour, most.part.texture)
	}
	for len(runs) > 2 { // a cell shows two colours: the smallest run gives way
		least := 0
		for i := range runs {
			if runs[i].units < runs[least].units {
				least = i
			}
		}
		to := least - 1
		if least == 0 {
			to = 1
		}
		runs[to].units += runs[least].units
		runs = append(runs[:least], runs[least+1:]...)
	}
	if len(runs) == 2 && runs[0].units+runs[1].units < 8 { // a third colour, that of the empty part, cannot be shown
		larger := runs[0]
		if runs[1].units > larger.units {
			larger = runs[1]
		}
		larger.units = runs[0].units + runs[1].units
		runs = append(runs[:0], larger)
	}
	if len(runs) == 2 {
		return lipgloss.NewStyle().Foreground(runs[0].part.colour).Background(runs[1].part.colour).
			Render(style.Eighths[runs[0].units])
	}
	return t.Block8(runs[0].part.colour, runs[0].units)
}

// key names the fills of a volume, and their amounts.
func key(t *style.Theme, v Volume, w, h int) []string {
	over, inside := geometry(h)
	lines := make([]string, 2+over, h)
	add := func(c color.Color, texture, word string, n int64) {
		swatch := t.Paint(c, t.Glyph("█"))
		if t.Plain || t.ASCII {
			swatch = t.Glyph(texture)
		}
		lines = append(lines, swatch+" "+t.Paint(t.Text, word), "  "+t.Paint(t.Dim, size.Format(n)), "")
	}
	free := v.Capacity - v.used()
	planned := v.Planned
	if v.Share {
		planned += v.Ghost
	}
	switch {
	case v.Ghost > 0 && v.Over:
		add(t.Bad, "░", "does not go", v.Ghost)
	case v.Ghost > 0:
		add(t.Ghost, "░", "this title", v.Ghost)
	}
	lines = append(lines, "  "+t.Paint(t.Text, "free space"), "  "+t.Paint(t.Dim, v.space(free)), "")
	if planned > 0 {
		add(t.Planned, "▒", "planned", planned)
	}
	if v.Written > 0 {
		add(t.Written, "▓", "written", v.Written)
	}
	add(t.Kept, "█", "kept", v.Kept)
	if len(lines) > 3+over+inside {
		compact := lines[:2+over]
		for _, l := range lines[2+over:] {
			if l != "" {
				compact = append(compact, l)
			}
		}
		lines = compact
	}
	lines = append(lines, "  "+t.Paint(t.Text, "of"), "  "+t.Paint(t.Dim, v.space(v.Capacity)))
	return t.Block(lines, w, h)
}
