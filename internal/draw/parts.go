package draw

import (
	"cmp"
	"slices"
	"strings"

	"polytome/internal/draw/scene"
	"polytome/internal/draw/typeface"
	"polytome/internal/size"
)

// The pens of all drawings. The smallest is still read without a glass.
var (
	body    = scene.Pen{Size: 9, Ink: scene.Black}
	strong  = scene.Pen{Size: 9, Weight: typeface.Bold, Ink: scene.Black}
	heading = scene.Pen{Size: 11, Weight: typeface.Bold, Ink: scene.Black}
	small   = scene.Pen{Size: 7.5, Ink: scene.Dark}
	smaller = scene.Pen{Size: 6.5, Ink: scene.Dark}
	label   = scene.Pen{Size: 7.5, Weight: typeface.Bold, Ink: scene.Black}
	quiet   = scene.Pen{Size: 8, Ink: scene.Grey}
)

// inkOf is an ink to fill with.
func inkOf(i scene.Ink) *scene.Ink { return &i }

// column is one of a table.
type column struct {
	name  string
	width float64 // 0 for a share of what is left
	right bool    // its cells end at its right edge
	path  bool    // its cells are clipped in the middle
	pen   *scene.Pen
}

// table writes rows below each other, with its heading again on every page.
type table struct {
	s       *scene.Sheet
	columns []column
	height  float64 // of a row
	left    float64
}

const columnGap = 8.0

func newTable(s *scene.Sheet, columns ...column) *table {
	rest, shares := s.Wide()-columnGap*float64(len(columns)-1), 0.0
	for _, c := range columns {
		rest -= c.width
		if c.width == 0 {
			shares++
		}
	}
	t := &table{s: s, columns: columns, height: 12, left: s.Left}
	for i := range t.columns {
		if t.columns[i].width == 0 {
			t.columns[i].width = rest / shares
		}
	}
	s.Need(5 * t.height)
	t.head()
	s.Head = t.head
	return t
}

// head writes the names of the columns.
func (t *table) head() {
	t.cells(t.s.Y+8, func(i int) (scene.Pen, string) { return small, t.columns[i].name })
	t.s.Across(t.left, t.s.Y+11, t.s.Wide(), 0.5, scene.Rule)
	t.s.Y += t.height + 3
}

// cells writes a cell in every column.
func (t *table) cells(y float64, cell func(i int) (scene.Pen, string)) {
	x := t.left
	for i, c := range t.columns {
		pen, text := cell(i)
		switch {
		case c.right:
			t.s.WriteRight(pen, x+c.width, y, c.width, text)
		case c.path:
			t.s.PathIn(pen, x, y, c.width, text)
		default:
			t.s.WriteIn(pen, x, y, c.width, text)
		}
		x += c.width + columnGap
	}
}

// row writes a row in a pen; columns with pens of their own keep them.
func (t *table) row(pen scene.Pen, cells ...string) {
	t.s.Need(t.height)
	t.cells(t.s.Y+8, func(i int) (scene.Pen, string) {
		if own := t.columns[i].pen; own != nil {
			return *own, cells[i]
		}
		return pen, cells[i]
	})
	t.s.Y += t.height
}

// total writes a row below a line.
func (t *table) total(cells ...string) {
	t.s.Need(t.height + 3)
	t.s.Across(t.left, t.s.Y, t.s.Wide(), 0.5, scene.Black)
	t.s.Y += 3
	t.row(strong, cells...)
}

// end ends the table.
func (t *table) end() {
	t.s.Head = nil
	t.s.Y += 12
}

// section writes a heading inside a drawing, with space for some lines below it on the same page.
func section(s *scene.Sheet, text string, space float64) {
	s.Need(20 + space)
	s.Mark(0, text)
	s.WriteIn(heading, s.Left, s.Y+9, s.Wide(), text)
	s.Y += 18
}

// paragraph writes a text over the whole width.
func paragraph(s *scene.Sheet, pen scene.Pen, indent float64, text string) {
	for _, l := range pen.Wrap(text, s.Wide()-indent) {
		s.Need(pen.Leading())
		s.Write(pen, s.Left+indent, s.Y+pen.Size, l)
		s.Y += pen.Leading()
	}
}

// nothing says why a drawing is empty.
func nothing(s *scene.Sheet, say string) {
	s.Rect(s.Left, s.Y+6, s.Wide(), 54, 0.8, scene.Rule, nil)
	y := s.Y + 32
	for _, l := range body.WrapMost(say, s.Wide()-40, 2) {
		s.WriteCentre(body, (s.Left+s.Right)/2, y, s.Wide()-40, l)
		y += body.Leading()
	}
	s.Y += 70
}

// box draws a box to tick, with a tick in it where that was done.
func box(p *scene.Page, x, y, side float64, ticked bool) {
	p.Rect(x, y, side, side, 0.9, scene.Black, nil)
	if ticked {
		p.Line(1.3, scene.Black, nil, scene.Point{X: x + side*0.18, Y: y + side*0.5}, scene.Point{X: x + side*0.42,
			Y: y + side*0.78}, scene.Point{X: x + side*0.85, Y: y + side*0.18})
	}
}

// counted is a number with a noun for each of several things: none of those that are not there.
func counted(parts ...string) string {
	return strings.Join(slices.DeleteFunc(parts, func(s string) bool { return s == "" }), ", ")
}

// some is a number and its noun, "" for none.
func some(n int, words string) string {
	if n == 0 {
		return ""
	}
	return size.Exact(int64(n)) + " " + words
}

// Shown is how a platform is named: its name as people write it, or the short one.
type Shown func(platform string) string

func (f Shown) of(platform string) string {
	if platform == "" {
		return "unknown platform"
	}
	if f == nil {
		return platform
	}
	return cmp.Or(f(platform), platform)
}
