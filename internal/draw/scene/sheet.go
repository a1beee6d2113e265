package scene

import (
	"fmt"
	"time"

	"polytome/internal/draw/typeface"
)

// Margins of a sheet, and the space for its heading and its foot.
const (
	marginSide = 40.0
	marginTop  = 38.0
	footHeight = 34.0
)

var (
	titlePen = Pen{17, typeface.Bold, Black}
	subPen   = Pen{9, typeface.Regular, Grey}
	footPen  = Pen{7.5, typeface.Regular, Grey}
)

// A Sheet fills the pages of a drawing from top to bottom, with a heading and a foot on each. Whoever needs space asks
// for it with [Sheet.Need].
type Sheet struct {
	*Page // the present one
	D     *Drawing
	Paper Paper
	// Left, Right, Top and Bottom bound what is drawn between heading and foot; Y is how far that is.
	Left, Right, Top, Bottom, Y float64
	// Head draws what stands above the columns of a table, on every page that resumes it, and moves Y down; nil for
	// nothing.
	Head func()

	sub string
}

// Begin begins a drawing on a paper. sub stands below the title on the first page.
func Begin(paper Paper, title, sub string, date time.Time) *Sheet {
	s := &Sheet{D: &Drawing{Title: typeface.Clean(title), Subject: typeface.Clean(sub), Date: date}, Paper: paper,
		sub: sub}
	s.Next()
	return s
}

// Here is the present spot.
func (s *Sheet) Here() Spot { return Spot{len(s.D.Pages) - 1, s.Y} }

// Space is the height that is left on the page.
func (s *Sheet) Space() float64 { return s.Bottom - s.Y }

// Wide is the width between the margins.
func (s *Sheet) Wide() float64 { return s.Right - s.Left }

// Mark notes the present spot in the table of contents.
func (s *Sheet) Mark(level int, text string) {
	s.D.Marks = append(s.D.Marks, Mark{typeface.Clean(text), level, s.Here()})
}

// Next begins a page.
func (s *Sheet) Next() {
	s.Page = &Page{Width: s.Paper.Width, Height: s.Paper.Height}
	s.D.Pages = append(s.D.Pages, s.Page)
	s.Left, s.Right, s.Top = marginSide, s.Paper.Width-marginSide, marginTop
	s.Bottom = s.Paper.Height - footHeight
	if len(s.D.Pages) == 1 {
		s.WriteIn(titlePen, s.Left, s.Top+10, s.Wide(), s.D.Title)
		y := s.Top + 24
		for _, l := range subPen.WrapMost(s.sub, s.Wide(), 2) {
			s.Write(subPen, s.Left, y, l)
			y += subPen.Leading()
		}
		s.Across(s.Left, y-4, s.Wide(), 1.2, Black)
		s.Y = y + 10
	} else {
		s.WriteIn(subPen, s.Left, s.Top+2, s.Wide()*0.75, s.D.Title+", continued")
		s.Across(s.Left, s.Top+8, s.Wide(), 0.6, Black)
		s.Y = s.Top + 20
	}
	if s.Head != nil {
		s.Head()
	}
}

// Need begins a page where less than a height is left on this one. A height that no page has is taken as it comes.
func (s *Sheet) Need(h float64) (broke bool) {
	if s.Space() >= h {
		return false
	}
	s.Next()
	return true
}

// End writes the foot of every page, and returns the drawing.
func (s *Sheet) End() *Drawing {
	for i, p := range s.D.Pages {
		y := p.Height - footHeight + 18
		p.Across(marginSide, y-11, p.Width-2*marginSide, 0.4, Rule)
		p.Write(footPen, marginSide, y, "polytome · "+s.D.Date.Format("2 January 2006"))
		p.WriteRight(footPen, p.Width-marginSide, y, 100, fmt.Sprintf("page %d of %d", i+1, len(s.D.Pages)))
	}
	return s.D
}
