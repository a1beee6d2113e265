// Package svg writes scenes as SVG (W3C Recommendation "Scalable Vector Graphics (SVG) 1.1", with links without a
// prefix as in SVG 2). A file needs nothing beside itself: letters and words that come often are outlines, once each,
// so that they look alike without any font; over them lies the text itself, unseen, to be found and copied.
package svg

import (
	"bufio"
	"cmp"
	"encoding/base64"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"

	"polytome/internal/draw/scene"
	"polytome/internal/draw/typeface"
)

// gutter is the space between pages that stand beside each other, in points.
const gutter = 18.0

// writer writes one drawing.
type writer struct {
	*bufio.Writer
	at    []scene.Point   // of each page
	names map[word]string // of the outlines
}

// Write writes a drawing. Its pages stand beside and below each other, in rows, as many as make a sheet that is about
// as wide as it is high.
func Write(to io.Writer, d *scene.Drawing) error {
	w := &writer{Writer: bufio.NewWriterSize(to, 1<<16)}
	columns := int(math.Ceil(math.Sqrt(float64(len(d.Pages)))))
	wide, high := w.arrange(d.Pages, max(columns, 1))
	w.str(`<?xml version="1.0" encoding="UTF-8"?>` + "\n" + `<svg xmlns="http://www.w3.org/2000/svg" width="`)
	w.nums("", wide, "pt\" height=\"", high, "pt\" viewBox=\"0 0 ", wide, " ", high, "\">\n")
	w.str("<title>" + escape(d.Title) + "</title>\n<desc>" + escape(d.Subject) + "</desc>\n")
	if err := w.outlines(d.Pages); err != nil {
		return err
	}
	for i, p := range d.Pages {
		at := w.at[i]
		w.str(`<view id="page` + strconv.Itoa(i+1))
		w.nums("\" viewBox=\"", at.X, " ", at.Y, " ", p.Width, " ", p.Height, "\"/>\n")
	}
	if len(d.Pages) > 1 {
		w.nums(`<rect width="`, wide, `" height="`, high)
		w.str("\" fill=\"" + grey(scene.Pale) + "\"/>\n")
	}
	for i, p := range d.Pages {
		w.nums(`<g transform="translate(`, w.at[i].X, " ", w.at[i].Y, ")\">\n")
		w.nums(`<rect width="`, p.Width, `" height="`, p.Height, "\" fill=\"#fff\"/>\n")
		for _, item := range p.Items {
			w.item(item)
		}
		w.str("</g>\n")
	}
	w.str("</svg>\n")
	return w.Flush()
}

// arrange gives each page its position, and returns the size of the whole.
func (w *writer) arrange(pages []*scene.Page, columns int) (wide, high float64) {
	if len(pages) == 0 {
		return 1, 1
	}
	edge := gutter
	if len(pages) == 1 {
		edge = 0
	}
	x, y, row := edge, edge, 0.0
	for i, p := range pages {
		if i > 0 && i%columns == 0 {
			x, y, row = edge, y+row+gutter, 0
		}
		w.at = append(w.at, scene.Point{X: x, Y: y})
		x += p.Width + gutter
		row = max(row, p.Height)
		wide, high = max(wide, x-gutter+edge), y+row+edge
	}
	return wide, high
}

func (w *writer) str(s string) { _, _ = w.WriteString(s) } // an error stays, and Flush returns it

// nums writes texts and numbers in turn.
func (w *writer) nums(all ...any) {
	for _, v := range all {
		switch v := v.(type) {
		case string:
			w.str(v)
		case float64:
			w.str(number(v))
		}
	}
}

// number writes a length to a hundredth of a point.
func number(v float64) string {
	if v = math.Round(v*100) / 100; v == 0 {
		return "0" // and not -0
	}
	return strconv.FormatFloat(v, 'f', -1, 64)
}

func grey(i scene.Ink) string { return fmt.Sprintf("#%02x%02x%02x", i, i, i) }

var escaper = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;")

func escape(s string) string { return escaper.Replace(s) }

// word is a word in a font, or a single character.
type word struct {
	font *typeface.Font
	text string
}

// often is how many times a word is written that is drawn as a whole, and not letter by letter.
const often = 8

// eachWord goes through the words of a run: with how far each is from the beginning, in units of an em.
func eachWord(run typeface.Run, see func(w word, x int)) {
	x, from, at := 0, -1, 0
	for i, r := range run.Text {
		if r == ' ' || r == '\u00a0' {
			if from >= 0 {
				see(word{run.Font, run.Text[from:i]}, at)
			}
			from = -1
		} else if from < 0 {
			from, at = i, x
		}
		x += run.Font.Advance(r)
	}
	if from >= 0 {
		see(word{run.Font, run.Text[from:]}, at)
	}
}

// outlines writes the outline of every word that is written often, and of every character of the others, once.
func (w *writer) outlines(pages []*scene.Page) error {
	count := map[word]int{}
	for _, p := range pages {
		for _, item := range p.Items {
			if t, ok := item.(*scene.Text); ok {
				for _, run := range t.Runs {
					eachWord(run, func(wd word, _ int) { count[wd]++ })
				}
			}
		}
	}
	w.names = map[word]string{}
	for wd, n := range count {
		if n >= often {
			w.names[wd] = ""
			continue
		}
		for _, r := range wd.text {
			w.names[word{wd.font, string(r)}] = ""
		}
	}
	all := slices.SortedFunc(maps.Keys(w.names), func(a, b word) int {
		return cmp.Or(strings.Compare(a.font.Name, b.font.Name), strings.Compare(a.text, b.text))
	})
	w.str("<defs>\n")
	for i, wd := range all {
		d, err := pathOfWord(wd)
		if err != nil {
			return err
		}
		name := "w" + strconv.FormatInt(int64(i), 36)
		w.names[wd] = name
		w.str(`<path id="` + name + `" d="` + d + "\"/>\n")
	}
	w.str("</defs>\n")
	return nil
}

// pathOfWord writes the outlines of all letters of a word.
func pathOfWord(wd word) (string, error) {
	var b strings.Builder
	x := 0
	for _, r := range wd.text {
		outline, err := wd.font.Outline(r)
		if err != nil {
			return "", err
		}
		writePath(&b, outline, x)
		x += wd.font.Advance(r)
	}
	return b.String(), nil
}

// writePath writes the outline of a letter that begins at x.
func writePath(b *strings.Builder, outline typeface.Outline, x int) {
	n := func(v int) { b.WriteString(strconv.Itoa(v)) }
	point := func(p fixed.Point26_6) { n(p.X.Round() + x); b.WriteByte(' '); n(p.Y.Round()) }
	for i, s := range outline {
		switch s.Op {
		case sfnt.SegmentOpMoveTo:
			if i > 0 {
				b.WriteByte('Z')
			}
			b.WriteByte('M')
			point(s.Args[0])
		case sfnt.SegmentOpLineTo:
			b.WriteByte('L')
			point(s.Args[0])
		case sfnt.SegmentOpQuadTo:
			b.WriteByte('Q')
			point(s.Args[0])
			b.WriteByte(' ')
			point(s.Args[1])
		case sfnt.SegmentOpCubeTo:
			b.WriteByte('C')
			point(s.Args[0])
			b.WriteByte(' ')
			point(s.Args[1])
			b.WriteByte(' ')
			point(s.Args[2])
		}
	}
	if len(outline) > 0 {
		b.WriteByte('Z')
	}
}

func (w *writer) item(item scene.Item) {
	switch v := item.(type) {
	case *scene.Shape:
		w.shape(v)
	case *scene.Text:
		w.text(v)
	case *scene.Picture:
		w.nums(`<image x="`, v.X, `" y="`, v.Y, `" width="`, v.W, `" height="`, v.H)
		w.str(`" preserveAspectRatio="none" href="data:image/jpeg;base64,` + base64.StdEncoding.EncodeToString(v.JPEG) +
			`"><title>` + escape(v.Name) + "</title></image>\n")
	case *scene.Link:
		to := v.URL
		if to == "" {
			to = "#page" + strconv.Itoa(v.To.Page+1)
		}
		w.str(`<a href="` + escape(to) + `"><rect`)
		w.nums(` x="`, v.X, `" y="`, v.Y, `" width="`, v.W, `" height="`, v.H, "\" fill-opacity=\"0\"/></a>\n")
	}
}

func (w *writer) shape(s *scene.Shape) {
	w.str(`<path d="`)
	for _, g := range s.Path {
		switch g.Op {
		case scene.Move:
			w.nums("M", g.To.X, " ", g.To.Y)
		case scene.Line:
			w.nums("L", g.To.X, " ", g.To.Y)
		case scene.Curve:
			w.nums("C", g.A.X, " ", g.A.Y, " ", g.B.X, " ", g.B.Y, " ", g.To.X, " ", g.To.Y)
		case scene.Close:
			w.str("Z")
		}
	}
	fill := "none"
	if s.Filled {
		fill = grey(s.Fill)
	}
	w.str(`" fill="` + fill)
	if s.Width > 0 {
		w.str(`" stroke="` + grey(s.Stroke))
		w.nums(`" stroke-width="`, s.Width)
	}
	for i, d := range s.Dash {
		if i == 0 {
			w.str(`" stroke-dasharray="`)
		} else {
			w.str(" ")
		}
		w.str(number(d))
	}
	w.str("\"/>\n")
}

// text writes a line as outlines, and as an unseen text of the same width.
func (w *writer) text(t *scene.Text) {
	scale := t.Size / typeface.Em
	w.nums(`<g transform="translate(`, t.X, " ", t.Y, ") scale(")
	w.str(strconv.FormatFloat(scale, 'f', -1, 64) + `)" fill="` + grey(t.Ink) + `">`)
	use := func(wd word, x int) {
		w.str(`<use href="#` + w.names[wd] + `" x="` + strconv.Itoa(x) + `"/>`)
	}
	begin := 0
	for _, run := range t.Runs {
		eachWord(run, func(wd word, x int) {
			x += begin
			if w.names[wd] != "" {
				use(wd, x)
				return
			}
			for _, r := range wd.text {
				use(word{wd.font, string(r)}, x)
				x += wd.font.Advance(r)
			}
		})
		for _, r := range run.Text {
			begin += run.Font.Advance(r)
		}
	}
	w.str("</g>")
	w.nums(`<text x="`, t.X, `" y="`, t.Y, `" font-size="`, t.Size, `" textLength="`, t.Wide, `" fill-opacity="0">`)
	w.str(escape(t.S) + "</text>\n")
}
