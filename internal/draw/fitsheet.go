package draw

import (
	"fmt"

	"polytome/internal/draw/scene"
	"polytome/internal/draw/typeface"
	"polytome/internal/size"
)

// A FitSheet is the grid of titles by targets, and why what is wanted does not go.
type FitSheet struct {
	Targets []FitTarget
	Titles  []FitTitle // grouped by platform
	Shown   Shown
}

// A FitTarget is a column.
type FitTarget struct {
	Name, Detail string
}

// A FitTitle is a row.
type FitTitle struct {
	Platform, ID, Name string
	Size               int64     // in bytes
	Cells              []FitCell // one for each target
}

// A FitCell is the verdict on a title at a target.
type FitCell struct {
	Word   string // "" where the target has nothing to do with the title
	Wanted bool
	Goes   bool
	Say    string   // why it does not go, a sentence
	Ways   []string // the ways out
}

// whyNot is what keeps titles from a target: one verdict, with all titles that have it.
type whyNot struct {
	target, word string
	titles       []int
	cells        []*FitCell
	at           scene.Spot
}

// mostReported is of how many titles with one verdict each has its reason reported; of more, some have.
const mostReported, sampleReported = 12, 3

// columnsWide is the width of a target's column, its gap included.
const columnsWide = 66.0

// Draw draws the sheet.
func (f FitSheet) Draw(o Options) *scene.Drawing {
	wanted, goes := 0, 0
	for i := range f.Titles {
		for _, c := range f.Titles[i].Cells {
			if c.Wanted {
				wanted++
				if c.Goes {
					goes++
				}
			}
		}
	}
	say := ""
	if wanted > 0 {
		say = fmt.Sprintf("of %s selected somewhere, %s fit", size.Exact(int64(wanted)), size.Exact(int64(goes)))
	}
	s := scene.Begin(o.paper().Across(), "What goes where, and why not", o.sub(titles(len(f.Titles)),
		some(len(f.Targets), plural(len(f.Targets), "target")), say), o.Date)
	switch {
	case len(f.Targets) == 0:
		nothing(s, "The bench has no target yet, so there is nothing to fit.")
		return s.End()
	case len(f.Titles) == 0:
		nothing(s, "The bench has no titles: its folders with games are empty, or could not be read.")
		return s.End()
	}
	reasons, of := f.reasons()
	f.legend(s)
	per := max(1, int((s.Wide()-260)/columnsWide))
	type later struct {
		page       *scene.Page
		x, y, w, h float64
		to         *whyNot
	}
	var links []later
	for from := 0; from < len(f.Targets); from += per {
		to := min(from+per, len(f.Targets))
		if from > 0 {
			s.Head = nil
			s.Next()
		}
		f.grid(s, from, to, func(title, target int, x, y float64) {
			if r := of[[2]int{title, target}]; r > 0 {
				links = append(links, later{s.Page, x, y, columnsWide - 6, 11, &reasons[r-1]})
			}
		}, of)
	}
	s.Head = nil
	f.emit(s, reasons)
	for _, l := range links {
		l.page.Items = append(l.page.Items, &scene.Link{X: l.x, Y: l.y, W: l.w, H: l.h, To: l.to.at})
	}
	return s.End()
}

// reasons groups what does not go by target and verdict, and numbers the groups from 1.
func (f *FitSheet) reasons() (out []whyNot, of map[[2]int]int) {
	of = map[[2]int]int{}
	type key struct {
		target int
		word   string
	}
	numbers := map[key]int{}
	for p := range f.Targets {
		for i := range f.Titles {
			c := &f.Titles[i].Cells[p]
			if c.Goes || c.Word == "" || c.Say == "" || !c.Wanted && f.home(i) {
				continue
			}
			k := key{p, c.Word}
			n := numbers[k]
			if n == 0 {
				out = append(out, whyNot{target: f.Targets[p].Name, word: c.Word})
				n = len(out)
				numbers[k] = n
			}
			out[n-1].titles = append(out[n-1].titles, i)
			out[n-1].cells = append(out[n-1].cells, c)
			of[[2]int{i, p}] = n
		}
	}
	return out, of
}

// home reports whether a title is wanted somewhere where it goes.
func (f *FitSheet) home(i int) bool {
	for _, c := range f.Titles[i].Cells {
		if c.Wanted && c.Goes {
			return true
		}
	}
	return false
}

// sign draws whether a title is wanted and goes.
func sign(p *scene.Page, x, y float64, c *FitCell) {
	const side = 5.0
	switch {
	case c.Goes && c.Wanted:
		p.Fill(x, y-side, side, side, scene.Black)
	case c.Goes:
		p.Rect(x+0.3, y-side+0.3, side-0.6, side-0.6, 0.6, scene.Grey, nil)
	case c.Wanted:
		p.Line(1.1, scene.Black, nil, scene.Point{X: x, Y: y - side}, scene.Point{X: x + side, Y: y})
		p.Line(1.1, scene.Black, nil, scene.Point{X: x, Y: y}, scene.Point{X: x + side, Y: y - side})
	}
}

func (f *FitSheet) legend(s *scene.Sheet) {
	x := s.Left
	for _, l := range []struct {
		cell FitCell
		say  string
	}{{FitCell{Goes: true, Wanted: true}, "selected, fits"}, {FitCell{Goes: true}, "would fit, not selected"},
		{FitCell{Wanted: true}, "selected, does not fit: the number refers to the reasons at the end"}} {
		sign(s.Page, x, s.Y+6, &l.cell)
		x += 9
		x += s.Write(small, x, s.Y+6, l.say) + 16
	}
	s.Y += 18
}

// grid writes the rows of all titles for some of the targets.
func (f *FitSheet) grid(s *scene.Sheet, from, to int, cell func(title, target int, x, y float64), of map[[2]int]int) {
	const idWidth, sizeWidth = 60.0, 52.0
	targets := float64(to-from) * columnsWide
	nameWidth := s.Wide() - idWidth - sizeWidth - targets - 3*columnGap
	columnAt := func(p int) float64 { return s.Right - targets + float64(p-from)*columnsWide }
	group := ""
	head := func() {
		high := 0.0
		for p := from; p < to; p++ {
			lines := label.WrapMost(f.Targets[p].Name, columnsWide-6, 2)
			y := s.Y + 8
			y = s.Para(label, columnAt(p), y, lines)
			for _, l := range smaller.WrapMost(f.Targets[p].Detail, columnsWide-6, 2) {
				s.Write(smaller, columnAt(p), y-1, l)
				y += smaller.Leading()
			}
			high = max(high, y-s.Y-6)
		}
		if group != "" {
			s.WriteIn(label, s.Left, s.Y+high-1, nameWidth+idWidth, group+", continued")
		}
		s.Across(s.Left, s.Y+high+3, s.Wide(), 0.6, scene.Black)
		s.Y += high + 7
	}
	head()
	s.Head = head
	name := scene.Pen{Size: 8.5, Ink: scene.Black}
	for i := range f.Titles {
		t := &f.Titles[i]
		if i == 0 || t.Platform != f.Titles[i-1].Platform {
			count := 0
			for k := i; k < len(f.Titles) && f.Titles[k].Platform == t.Platform; k++ {
				count++
			}
			group = ""
			s.Need(36)
			s.Y += 4
			shown := f.Shown.of(t.Platform)
			if from == 0 {
				s.Mark(0, shown)
			}
			w := s.Write(strong, s.Left, s.Y+8, shown)
			s.Write(quiet, s.Left+w+8, s.Y+8, titles(count))
			s.Y += 14
			group = shown
		}
		lines := name.Wrap(t.Name, nameWidth)
		s.Need(min(float64(len(lines))*10.5+2, s.Bottom-s.Top-80))
		y := s.Y + 8
		s.WriteIn(small, s.Left, y, idWidth, t.ID)
		s.WriteRight(small, columnAt(from)-columnGap, y, sizeWidth, size.Format(t.Size))
		for p := from; p < to; p++ {
			c := &t.Cells[p]
			x := columnAt(p)
			if c.Word == "" {
				s.Write(small, x+9, y, "·")
				continue
			}
			sign(s.Page, x, y-0.5, c)
			pen := small
			if c.Wanted && !c.Goes {
				pen.Weight = typeface.Bold
			}
			word := c.Word
			if n := of[[2]int{i, p}]; n > 0 {
				word += fmt.Sprintf(" %d", n)
			}
			s.WriteIn(pen, x+9, y, columnsWide-13, word)
			cell(i, p, x, y-8)
		}
		for k, l := range lines {
			if k > 0 {
				s.Need(10.5)
			}
			s.Write(name, s.Left+idWidth+columnGap, s.Y+8, l)
			s.Y += 10.5
		}
		s.Y += 1.5
		s.Across(s.Left, s.Y-1, s.Wide(), 0.25, scene.Pale)
	}
}

// tell writes the reasons.
func (f *FitSheet) emit(s *scene.Sheet, reasons []whyNot) {
	s.Y += 10
	if len(reasons) == 0 {
		s.Need(20)
		paragraph(s, body, 0, "Everything selected fits.")
		return
	}
	section(s, "Why not", 60)
	for n := range reasons {
		r := &reasons[n]
		s.Need(48)
		r.at = s.Here()
		s.Mark(1, fmt.Sprintf("%d  %s: %s", n+1, r.target, r.word))
		w := s.WriteIn(strong, s.Left, s.Y+9, s.Wide()*0.7, fmt.Sprintf("%d  %s: %s", n+1, r.target, r.word))
		s.Write(quiet, s.Left+w+8, s.Y+9, titles(len(r.titles)))
		s.Y += 14
		reported := len(r.titles)
		if reported > mostReported {
			reported = sampleReported
		}
		for k, i := range r.titles[:reported] {
			s.Need(24)
			c := r.cells[k]
			paragraph(s, body, 16, f.Titles[i].Name+": "+c.Say)
			for _, way := range c.Ways {
				for j, l := range small.Wrap(way, s.Wide()-40) {
					s.Need(small.Leading())
					if j == 0 {
						y := s.Y + 5
						s.Line(0.7, scene.Dark, nil, scene.Point{X: s.Left + 24, Y: y}, scene.Point{X: s.Left + 32,
							Y: y})
						s.Polygon(scene.Dark, scene.Point{X: s.Left + 31, Y: y - 2}, scene.Point{X: s.Left + 35, Y: y},
							scene.Point{X: s.Left + 31, Y: y + 2})
					}
					s.Write(small, s.Left+40, s.Y+small.Size, l)
					s.Y += small.Leading()
				}
			}
			s.Y += 3
		}
		if more := len(r.titles) - reported; more > 0 {
			s.Need(12)
			paragraph(s, quiet, 16, fmt.Sprintf("and the same for %s more, with this number in the grid", titles(more)))
		}
		s.Y += 6
	}
}
