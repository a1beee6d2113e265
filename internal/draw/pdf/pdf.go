// Package pdf writes scenes as PDF (ISO 32000-1): with its fonts, as far as they are used; with texts that can be found
// and copied; with a table of contents and links between the pages.
package pdf

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"

	"codeberg.org/go-pdf/fpdf"

	"polytome/internal/draw/scene"
	"polytome/internal/draw/typeface"
)

// writer writes one drawing.
type writer struct {
	*fpdf.Fpdf
	fonts map[*typeface.Font]bool
	links map[scene.Spot]int
}

// Write writes a drawing.
func Write(to io.Writer, d *scene.Drawing) error {
	w := &writer{fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt"}), map[*typeface.Font]bool{}, map[scene.Spot]int{}}
	w.SetCatalogSort(true) // the same input gives the same bytes
	w.SetCreationDate(d.Date)
	w.SetModificationDate(d.Date)
	w.SetProducer("Polytome", true)
	w.SetTitle(d.Title, true)
	w.SetSubject(d.Subject, true)
	w.SetLang("en")
	w.SetMargins(0, 0, 0)
	w.SetAutoPageBreak(false, 0)
	w.SetCellMargin(0)
	marks := d.Marks
	for i, p := range d.Pages {
		w.AddPageFormat("P", fpdf.SizeType{Wd: p.Width, Ht: p.Height})
		for _, item := range p.Items {
			w.item(item)
		}
		for len(marks) > 0 && marks[0].At.Page <= i {
			w.write(marks[0])
			marks = marks[1:]
		}
	}
	for at, id := range w.links {
		w.SetLink(id, at.Y, at.Page+1)
	}
	if err := w.Output(to); err != nil {
		return fmt.Errorf("writing PDF: %w", err)
	}
	return nil
}

// write adds a mark to the table of contents.
func (w *writer) write(m scene.Mark) {
	// how the entry is encoded goes by the font in use, and all of ours have two bytes a character
	if len(w.fonts) > 0 {
		w.Bookmark(m.Text, m.Level, m.At.Y)
	}
}

func (w *writer) item(item scene.Item) {
	switch v := item.(type) {
	case *scene.Shape:
		w.shape(v)
	case *scene.Text:
		w.text(v)
	case *scene.Picture:
		// One that is shown twice is in the file once.
		name, o := fmt.Sprintf("%x", sha256.Sum256(v.JPEG)), fpdf.ImageOptions{ImageType: "JPG"}
		if w.GetImageInfo(name) == nil {
			w.RegisterImageOptionsReader(name, o, bytes.NewReader(v.JPEG))
		}
		w.ImageOptions(name, v.X, v.Y, v.W, v.H, false, o, 0, "")
	case *scene.Link:
		if v.URL != "" {
			w.LinkString(v.X, v.Y, v.W, v.H, v.URL)
			return
		}
		id, ok := w.links[v.To]
		if !ok {
			id = w.AddLink()
			w.links[v.To] = id
		}
		w.Link(v.X, v.Y, v.W, v.H, id)
	}
}

func (w *writer) shape(s *scene.Shape) {
	style := ""
	if s.Filled {
		style = "F"
		w.SetFillColor(int(s.Fill), int(s.Fill), int(s.Fill))
	}
	if s.Width > 0 {
		style += "D"
		w.SetDrawColor(int(s.Stroke), int(s.Stroke), int(s.Stroke))
		w.SetLineWidth(s.Width)
		w.SetDashPattern(s.Dash, 0)
	}
	if style == "" || len(s.Path) == 0 {
		return
	}
	for _, g := range s.Path {
		switch g.Op {
		case scene.Move:
			w.MoveTo(g.To.X, g.To.Y)
		case scene.Line:
			w.LineTo(g.To.X, g.To.Y)
		case scene.Curve:
			w.CurveBezierCubicTo(g.A.X, g.A.Y, g.B.X, g.B.Y, g.To.X, g.To.Y)
		case scene.Close:
			w.ClosePath()
		}
	}
	w.DrawPath(style)
}

func (w *writer) text(t *scene.Text) {
	w.SetTextColor(int(t.Ink), int(t.Ink), int(t.Ink))
	for _, run := range t.Runs {
		if !w.fonts[run.Font] {
			w.fonts[run.Font] = true
			w.AddUTF8FontFromBytes(run.Font.Name, "", bytes.Clone(run.Font.TTF()))
		}
		w.SetFont(run.Font.Name, "", t.Size)
		w.Text(t.X+run.X, t.Y, run.Text)
	}
}
