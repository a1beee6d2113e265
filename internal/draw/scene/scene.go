// Package scene describes drawings: pages with shapes, texts, pictures and links at positions that are known exactly,
// since every text is measured in the font that it will have. A scene knows no file format; packages svg and pdf write
// one down, and so agree.
//
// Lengths are points, 1/72 inch. The origin of a page is its upper left corner, with y downwards.
package scene

import (
	"time"

	"polytome/internal/draw/typeface"
)

// Ink is how light a colour is, from 0 for black to 255 for white: drawings are made for printers without colours.
type Ink uint8

// The inks. A text is never lighter than [Grey].
const (
	Black Ink = 0
	Dark  Ink = 64
	Grey  Ink = 96
	Rule  Ink = 150
	Pale  Ink = 205
	Faint Ink = 232
	White Ink = 255
)

// A Drawing is all of its pages.
type Drawing struct {
	Title string
	// Subject says in a sentence what is drawn.
	Subject string
	// Date is the one that the drawing bears; there is no other time in it, so that the same input gives the same
	// bytes.
	Date  time.Time
	Pages []*Page
	// Marks are its table of contents, in the order of the pages.
	Marks []Mark
}

// A Mark is an entry of the table of contents.
type Mark struct {
	Text  string
	Level int // 0 for the outermost
	At    Spot
}

// A Spot is a height on a page, to which a link leads.
type Spot struct {
	Page int // from 0
	Y    float64
}

// A Page is one side of paper.
type Page struct {
	Width, Height float64
	Items         []Item
}

// An Item is something on a page: a *[Shape], *[Text], *[Picture] or *[Link]. Later ones lie over earlier ones.
type Item interface{ item() }

// A Point is a position on a page.
type Point struct{ X, Y float64 }

// An Op is what a [Segment] does.
type Op byte

const (
	Move  Op = iota // to To
	Line            // to To
	Curve           // to To, a cubic Bézier curve with the control points A and B
	Close           // to where the last Move went
)

// A Segment is a piece of an outline.
type Segment struct {
	Op       Op
	A, B, To Point
}

// A Shape is an outline that is filled, drawn along, or both.
type Shape struct {
	Path   []Segment
	Filled bool
	Fill   Ink
	Width  float64 // of the line; 0 for none
	Stroke Ink
	Dash   []float64 // lengths of strokes and gaps; empty for a whole line
}

// A Text is one line of letters. It begins at X, and its letters stand on Y.
type Text struct {
	X, Y   float64
	Size   float64
	Weight typeface.Weight
	Ink    Ink
	S      string // clean, see [typeface.Clean]
	Wide   float64
	// Runs are the pieces of it in the fonts in which they are written.
	Runs []typeface.Run
}

// A Picture is a JPEG image (ISO/IEC 10918-1, baseline) in a rectangle.
type Picture struct {
	X, Y, W, H float64
	JPEG       []byte
	Name       string // what it shows, for those who do not see it
}

// A Link is a rectangle that leads to a spot, or to an address.
type Link struct {
	X, Y, W, H float64
	To         Spot
	URL        string // "" for the spot
}

func (*Shape) item()   {}
func (*Text) item()    {}
func (*Picture) item() {}
func (*Link) item()    {}

// Rect draws a rectangle: with a line of a width, 0 for none, and filled unless fill is nil.
func (p *Page) Rect(x, y, w, h, line float64, stroke Ink, fill *Ink) {
	s := &Shape{Path: []Segment{{Op: Move, To: Point{x, y}}, {Op: Line, To: Point{x + w, y}},
		{Op: Line, To: Point{x + w, y + h}}, {Op: Line, To: Point{x, y + h}}, {Op: Close}}, Width: line, Stroke: stroke}
	if fill != nil {
		s.Filled, s.Fill = true, *fill
	}
	p.Items = append(p.Items, s)
}

// Fill draws a rectangle without a line.
func (p *Page) Fill(x, y, w, h float64, ink Ink) { p.Rect(x, y, w, h, 0, Black, &ink) }

// Line draws straight lines from point to point.
func (p *Page) Line(width float64, ink Ink, dash []float64, points ...Point) {
	s := &Shape{Width: width, Stroke: ink, Dash: dash}
	for i, at := range points {
		op := Line
		if i == 0 {
			op = Move
		}
		s.Path = append(s.Path, Segment{Op: op, To: at})
	}
	p.Items = append(p.Items, s)
}

// Across draws a line from left to right.
func (p *Page) Across(x, y, w, width float64, ink Ink) {
	p.Line(width, ink, nil, Point{x, y}, Point{x + w, y})
}

// Polygon draws a filled shape with straight sides.
func (p *Page) Polygon(fill Ink, points ...Point) {
	s := &Shape{Filled: true, Fill: fill}
	for i, at := range points {
		op := Line
		if i == 0 {
			op = Move
		}
		s.Path = append(s.Path, Segment{Op: op, To: at})
	}
	s.Path = append(s.Path, Segment{Op: Close})
	p.Items = append(p.Items, s)
}

// Arc draws a bow over the line from one point to another at the same height, rise points high.
func (p *Page) Arc(from, to, y, rise, width float64, ink Ink) {
	// The curve reaches three quarters of the height of its control points.
	c := y - rise*4/3
	p.Items = append(p.Items, &Shape{Width: width, Stroke: ink, Path: []Segment{{Op: Move, To: Point{from, y}},
		{Op: Curve, A: Point{from, c}, B: Point{to, c}, To: Point{to, y}}}})
}

// Circle draws a circle around a point, filled unless fill is nil.
func (p *Page) Circle(x, y, r, line float64, stroke Ink, fill *Ink) {
	const k = 0.5523 // control points of a quarter circle
	s := &Shape{Width: line, Stroke: stroke, Path: []Segment{
		{Op: Move, To: Point{x + r, y}},
		{Op: Curve, A: Point{x + r, y + k*r}, B: Point{x + k*r, y + r}, To: Point{x, y + r}},
		{Op: Curve, A: Point{x - k*r, y + r}, B: Point{x - r, y + k*r}, To: Point{x - r, y}},
		{Op: Curve, A: Point{x - r, y - k*r}, B: Point{x - k*r, y - r}, To: Point{x, y - r}},
		{Op: Curve, A: Point{x + k*r, y - r}, B: Point{x + r, y - k*r}, To: Point{x + r, y}},
		{Op: Close}}}
	if fill != nil {
		s.Filled, s.Fill = true, *fill
	}
	p.Items = append(p.Items, s)
}

// Hatch fills a rectangle with slanting lines, gap points apart: with rising ones, or falling ones.
func (p *Page) Hatch(x, y, w, h, gap, width float64, ink Ink, falling bool) {
	if w <= 0 || h <= 0 {
		return
	}
	s := &Shape{Width: width, Stroke: ink}
	// Lines lie where u = column + row is a multiple of the gap, counted on the page, so that neighbours go on in one
	// another.
	at := func(u float64) (from, to Point) {
		top, bottom := Point{u - y, y}, Point{u - y - h, y + h}
		if bottom.X < x {
			bottom = Point{x, u - x}
		}
		if top.X > x+w {
			top = Point{x + w, u - x - w}
		}
		return bottom, top
	}
	for u := gap * float64(int((x+y)/gap)+1); u < x+y+w+h; u += gap {
		a, b := at(u)
		if falling {
			a.X, b.X = 2*x+w-a.X, 2*x+w-b.X
		}
		s.Path = append(s.Path, Segment{Op: Move, To: a}, Segment{Op: Line, To: b})
	}
	if len(s.Path) > 0 {
		p.Items = append(p.Items, s)
	}
}

// A Pen is how texts are written.
type Pen struct {
	Size   float64 // in points
	Weight typeface.Weight
	Ink    Ink
}

// Width is how wide a text is.
func (n Pen) Width(s string) float64 { return n.Weight.Width(typeface.Clean(s), n.Size) }

// Wrap breaks a text into lines.
func (n Pen) Wrap(s string, width float64) []string {
	return n.Weight.Wrap(typeface.Clean(s), n.Size, width)
}

// WrapMost is Wrap into so many lines at most: the last one is clipped.
func (n Pen) WrapMost(s string, width float64, most int) []string {
	lines := n.Wrap(s, width)
	if len(lines) <= most {
		return lines
	}
	last := lines[most-1] + " " + lines[most]
	if clipped := n.Weight.Clip(last, n.Size, width); clipped != last {
		lines[most-1] = clipped
	} else {
		lines[most-1] = n.Weight.Clip(last+" …", n.Size, width)
	}
	return lines[:most]
}

// Leading is the height of a line of text.
func (n Pen) Leading() float64 { return n.Size * 1.25 }

// Write writes a text that begins at x and stands on y. It returns its width.
func (p *Page) Write(n Pen, x, y float64, s string) float64 {
	s = typeface.Clean(s)
	runs, wide := n.Weight.Runs(s, n.Size)
	if len(runs) > 0 {
		p.Items = append(p.Items, &Text{X: x, Y: y, Size: n.Size, Weight: n.Weight, Ink: n.Ink, S: s, Wide: wide,
			Runs: runs})
	}
	return wide
}

// WriteIn is Write for a text that must not be wider than width: it is clipped.
func (p *Page) WriteIn(n Pen, x, y, width float64, s string) float64 {
	return p.Write(n, x, y, n.Weight.Clip(typeface.Clean(s), n.Size, width))
}

// PathIn is WriteIn for paths and names that end in what distinguishes them: their middle is clipped.
func (p *Page) PathIn(n Pen, x, y, width float64, s string) float64 {
	return p.Write(n, x, y, n.Weight.ClipMiddle(typeface.Clean(s), n.Size, width))
}

// WriteRight writes a text that ends at x, clipped to width.
func (p *Page) WriteRight(n Pen, x, y, width float64, s string) {
	s = n.Weight.Clip(typeface.Clean(s), n.Size, width)
	p.Write(n, x-n.Weight.Width(s, n.Size), y, s)
}

// WriteCentre writes a text around x, clipped to width.
func (p *Page) WriteCentre(n Pen, x, y, width float64, s string) {
	s = n.Weight.Clip(typeface.Clean(s), n.Size, width)
	p.Write(n, x-n.Weight.Width(s, n.Size)/2, y, s)
}

// Para writes lines one below the other, the first one on y. It returns the line below the last one.
func (p *Page) Para(n Pen, x, y float64, lines []string) float64 {
	for _, l := range lines {
		p.Write(n, x, y, l)
		y += n.Leading()
	}
	return y
}
