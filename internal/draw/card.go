package draw

import (
	"bytes"
	"fmt"
	"image"
	_ "image/jpeg" // covers are that
	"slices"
	"strings"

	"polytome/internal/draw/scene"
	"polytome/internal/draw/typeface"
	"polytome/internal/nearest"
	"polytome/internal/size"
)

// A Card is the contents of a target, to be folded into the case of a stick.
type Card struct {
	Target  string
	Loader  string // with its console, as they are shown
	Detail  string // the filesystem and the space
	Titles  []CardTitle
	Steps   []string // what to do at the console
	Fold    Fold
	Shown   Shown
	Nothing string // why there are no titles, in a sentence; "" for the usual one
	Note    string // what could not be found out, in a sentence; "" for nothing
}

// A CardTitle is one of its titles.
type CardTitle struct {
	Platform, Name, ID string
	Discs              int
	Size               int64  // in bytes
	Cover              []byte // a JPEG image; nil for none
}

// A Fold is how a sheet of paper is folded: into panels that are all read the same way up.
type Fold struct {
	Name          string
	Columns, Rows int
	Across        bool // the paper is on its side
}

// Folds are those that are known.
var Folds = []Fold{{"quarter", 2, 2, false}, {"eighth", 4, 2, true}, {"half", 2, 1, true}, {"whole", 1, 1, false}}

// An UnknownFoldError reports an unknown way to fold.
type UnknownFoldError struct{ Name string }

func (e *UnknownFoldError) Error() string {
	var names []string
	for _, f := range Folds {
		names = append(names, f.Name)
	}
	return nearest.Unknown("fold", e.Name, names).Error()
}

// FoldNamed finds a fold by its name; "" is the first one. The error is an *[UnknownFoldError].
func FoldNamed(name string) (Fold, error) {
	if name == "" {
		return Folds[0], nil
	}
	for _, f := range Folds {
		if strings.EqualFold(f.Name, name) {
			return f, nil
		}
	}
	return Fold{}, &UnknownFoldError{name}
}

// panelEdge is kept free around each panel, in points: printers do not reach the edge of the paper.
const panelEdge = 16.0

// panels fills panel after panel, sheet after sheet.
type panels struct {
	*scene.Page
	d             *scene.Drawing
	paper         scene.Paper
	fold          Fold
	target        string
	count         int // panels begun
	left, right   float64
	top, bottom   float64
	y             float64
	wide          float64
	platform      string // the one that goes on, for the head of the next panel
	width, height float64
}

func (p *panels) next() {
	if p.count%(p.fold.Columns*p.fold.Rows) == 0 {
		p.Page = &scene.Page{Width: p.paper.Width, Height: p.paper.Height}
		p.d.Pages = append(p.d.Pages, p.Page)
		dash := []float64{4, 4}
		for i := 1; i < p.fold.Columns; i++ {
			x := float64(i) * p.width
			p.Line(0.5, scene.Rule, dash, scene.Point{X: x}, scene.Point{X: x, Y: p.paper.Height})
		}
		for i := 1; i < p.fold.Rows; i++ {
			y := float64(i) * p.height
			p.Line(0.5, scene.Rule, dash, scene.Point{Y: y}, scene.Point{X: p.paper.Width, Y: y})
		}
	}
	at := p.count % (p.fold.Columns * p.fold.Rows)
	p.left = float64(at%p.fold.Columns)*p.width + panelEdge
	p.right = p.left + p.width - 2*panelEdge
	p.top = float64(at/p.fold.Columns)*p.height + panelEdge
	p.bottom = p.top + p.height - 2*panelEdge
	p.wide, p.y = p.right-p.left, p.top
	p.count++
	if p.count > 1 {
		p.WriteIn(smaller, p.left, p.y+6, p.wide-40, p.target)
		p.WriteRight(smaller, p.right, p.y+6, 36, fmt.Sprint(p.count))
		p.Across(p.left, p.y+9.5, p.wide, 0.5, scene.Rule)
		p.y += 16
		if p.platform != "" {
			p.WriteIn(label, p.left, p.y+7, p.wide, p.platform+", continued")
			p.y += 13
		}
	}
}

func (p *panels) need(h float64) {
	if p.y+h > p.bottom {
		p.next()
	}
}

func (p *panels) here() scene.Spot { return scene.Spot{Page: len(p.d.Pages) - 1, Y: p.top} }

// mostCovered is up to how many titles each has its cover beside it.
const mostCovered = 60

// Draw draws the card.
func (c Card) Draw(o Options) *scene.Drawing {
	paper := o.paper()
	fold := c.Fold
	if fold.Columns == 0 {
		fold = Folds[0]
	}
	if fold.Across {
		paper = paper.Across()
	}
	p := &panels{paper: paper, fold: fold, target: typeface.Clean(c.Target), width: paper.Width / float64(fold.Columns),
		height: paper.Height / float64(fold.Rows)}
	p.d = &scene.Drawing{Title: typeface.Clean("Contents of " + c.Target),
		Subject: typeface.Clean(o.sub(c.Loader, titles(len(c.Titles)))), Date: o.Date}
	all := slices.Clone(c.Titles)
	slices.SortStableFunc(all, func(a, b CardTitle) int { return strings.Compare(a.Platform, b.Platform) })
	index := c.front(p, o, all)
	spots := c.list(p, all)
	for i, at := range spots {
		row := index[i]
		page := p.d.Pages[row.page]
		page.WriteRight(row.pen, row.right, row.y, 20, fmt.Sprint(at.panel))
		page.Items = append(page.Items, &scene.Link{X: row.left, Y: row.y - 7, W: row.right - row.left, H: 10,
			To: at.spot})
	}
	c.steps(p)
	return p.d
}

// indexRow is a line of the front that names a platform and the panel where it begins.
type indexRow struct {
	page        int
	left, right float64
	y           float64
	pen         scene.Pen
}

// group counts the titles of one platform.
type group struct {
	platform string
	titles   int
	bytes    int64
}

func groupsOf(all []CardTitle) (out []group) {
	for i := range all {
		if len(out) == 0 || out[len(out)-1].platform != all[i].Platform {
			out = append(out, group{platform: all[i].Platform})
		}
		g := &out[len(out)-1]
		g.titles++
		g.bytes += all[i].Size
	}
	return out
}

// front draws the first panel, and returns the lines that name platforms.
func (c *Card) front(p *panels, o Options, all []CardTitle) (index []indexRow) {
	p.next()
	var bytes int64
	for i := range all {
		bytes += all[i].Size
	}
	name := scene.Pen{Size: 19, Weight: typeface.Bold, Ink: scene.Black}
	if p.wide < 200 {
		name.Size = 14
	}
	p.y += name.Size
	for _, l := range name.WrapMost(c.Target, p.wide, 3) {
		p.Write(name, p.left, p.y, l)
		p.y += name.Leading()
	}
	p.Across(p.left, p.y-name.Size*0.7, p.wide, 1.4, scene.Black)
	p.y += 4
	for _, line := range []string{c.Loader, c.Detail, o.Date.Format("2 January 2006"), o.Bench} {
		if line != "" {
			for _, l := range body.WrapMost(line, p.wide, 2) {
				p.Write(body, p.left, p.y, l)
				p.y += body.Leading()
			}
		}
	}
	p.y += 5
	p.Write(strong, p.left, p.y, titles(len(all)))
	p.WriteRight(strong, p.right, p.y, 90, size.Format(bytes))
	p.y += 14
	if c.Note != "" {
		p.y = p.Para(small, p.left, p.y, small.WrapMost(c.Note, p.wide, 3)) + 4
	}
	hint := "fold at the dashed lines, to " + folded(p.width, p.height)
	if p.fold.Columns*p.fold.Rows == 1 {
		hint = "a whole sheet"
	}
	p.WriteIn(smaller, p.left, p.bottom, p.wide, hint)
	p.bottom -= 12
	rows := groupsOf(all)
	pen := small
	if len(rows) == 0 {
		say := c.Nothing
		if say == "" {
			say = "There is no title here yet: select some in Fit."
		}
		p.y = p.Para(body, p.left, p.y+4, body.WrapMost(say, p.wide, 4))
	}
	for _, g := range rows {
		if p.y+11 > p.bottom { // more platforms than the front has lines: the rest are listed where they begin
			p.next()
		}
		p.WriteIn(pen, p.left, p.y, p.wide-100, c.Shown.of(g.platform))
		p.WriteRight(pen, p.right-66, p.y, 32, size.Exact(int64(g.titles)))
		p.WriteRight(pen, p.right-18, p.y, 48, size.Format(g.bytes))
		index = append(index, indexRow{len(p.d.Pages) - 1, p.left, p.right, p.y, pen})
		p.y += 11
	}
	c.mosaic(p, all)
	return index
}

// folded is the size of a panel in words.
func folded(w, h float64) string { return fmt.Sprintf("%.0f x %.0f mm", w/72*25.4, h/72*25.4) }

// mosaic shows as many covers as have space below the front's lines.
func (c *Card) mosaic(p *panels, all []CardTitle) {
	const each, high = 42.0, 56.0
	columns := int((p.wide + 6) / (each + 6))
	x, y, n := 0, p.y+6, 0
	for i := range all {
		if all[i].Cover == nil || columns == 0 {
			continue
		}
		if y+high > p.bottom {
			break
		}
		drawCover(p.Page, all[i].Cover, all[i].Name, p.left+float64(x)*(each+6), y, each, high)
		n++
		if x++; x == columns {
			x, y = 0, y+high+6
		}
	}
	if n > 0 {
		p.y = y + high
	}
}

// drawCover draws a picture as large as a box allows, at its left and upper edge.
func drawCover(p *scene.Page, jpeg []byte, name string, x, y, w, h float64) {
	head, _, err := image.DecodeConfig(bytes.NewReader(jpeg))
	if err != nil || head.Width == 0 || head.Height == 0 {
		return // it was looked at when it was gathered
	}
	scale := min(w/float64(head.Width), h/float64(head.Height))
	w, h = float64(head.Width)*scale, float64(head.Height)*scale
	p.Items = append(p.Items, &scene.Picture{X: x, Y: y, W: w, H: h, JPEG: jpeg, Name: typeface.Clean(name)})
	p.Rect(x, y, w, h, 0.4, scene.Rule, nil)
}

// begins is where a platform begins.
type begins struct {
	panel int
	spot  scene.Spot
}

// list writes the titles, and returns where each platform begins.
func (c *Card) list(p *panels, all []CardTitle) (spots []begins) {
	if len(all) == 0 {
		return nil
	}
	p.next()
	covers := len(all) <= mostCovered && slices.ContainsFunc(all, func(t CardTitle) bool { return t.Cover != nil })
	pen, id := scene.Pen{Size: 7.5, Ink: scene.Black}, smaller
	idWidth := 0.0
	for i := range all {
		idWidth = max(idWidth, id.Width(all[i].ID))
	}
	idWidth = min(idWidth, p.wide*0.3)
	groups := groupsOf(all)
	k := -1
	for i := range all {
		t := &all[i]
		if i == 0 || t.Platform != all[i-1].Platform {
			k++
			p.platform = ""
			p.need(14 + 36) // with a title below it
			if p.y > p.top+20 {
				p.y += 5
			}
			spots = append(spots, begins{p.count, p.here()})
			p.d.Marks = append(p.d.Marks, scene.Mark{Text: typeface.Clean(c.Shown.of(t.Platform)), At: p.here()})
			name := c.Shown.of(t.Platform)
			p.WriteIn(label, p.left, p.y+7, p.wide-60, name)
			p.WriteRight(smaller, p.right, p.y+7, 56, titles(groups[k].titles))
			p.Across(p.left, p.y+10, p.wide, 0.4, scene.Black)
			p.y += 14
			p.platform = name
		}
		x := p.left
		if covers {
			x += 28
		}
		sizeWidth := 44.0
		nameAt := x
		if idWidth > 0 {
			nameAt += idWidth + 6
		}
		name := t.Name
		if t.Discs > 1 {
			name += fmt.Sprintf(" (%d discs)", t.Discs)
		}
		lines := pen.Wrap(name, p.left+p.wide-sizeWidth-4-nameAt)
		h := float64(len(lines))*pen.Leading() + 1
		if covers && t.Cover != nil {
			h = max(h, 34)
		}
		h = min(h, p.height-2*panelEdge-40)
		before := p.left
		p.need(h)
		x, nameAt = x+p.left-before, nameAt+p.left-before
		if covers && t.Cover != nil {
			drawCover(p.Page, t.Cover, t.Name, p.left, p.y, 24, 32)
		}
		p.WriteIn(id, x, p.y+7, idWidth, t.ID)
		p.WriteRight(smaller, p.right, p.y+7, sizeWidth, size.Format(t.Size))
		y := p.y
		for _, l := range lines {
			if y+pen.Leading() > p.bottom+2 { // a name that no panel holds goes on over the next
				p.next()
				nameAt, y = p.left, p.y
				h = pen.Leading()
			}
			p.Write(pen, nameAt, y+7, l)
			y += pen.Leading()
		}
		p.y = max(p.y+h, y)
	}
	p.platform = ""
	return spots
}

// steps writes what to do at the console.
func (c *Card) steps(p *panels) {
	if len(c.Steps) == 0 {
		return
	}
	pen := scene.Pen{Size: 8, Ink: scene.Black}
	high := 20.0
	for _, l := range c.Steps {
		high += float64(len(pen.Wrap(l, p.wide-18)))*pen.Leading() + 4
	}
	p.need(min(high+8, p.height-2*panelEdge-30)) // on one panel where it has space
	p.y += 8
	p.d.Marks = append(p.d.Marks, scene.Mark{Text: "At the console", At: p.here()})
	p.Write(label, p.left, p.y+7, "At the console")
	p.Across(p.left, p.y+10, p.wide, 0.4, scene.Black)
	p.y += 15
	for _, l := range c.Steps {
		lines := pen.Wrap(l, p.wide-18)
		p.need(pen.Leading())
		box(p.Page, p.left, p.y, 8, false)
		for _, line := range lines {
			p.need(pen.Leading())
			p.Write(pen, p.left+15, p.y+7.5, line)
			p.y += pen.Leading()
		}
		p.y += 4
	}
}
