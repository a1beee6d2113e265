// Package scenetest looks at scenes as someone would who has them on paper: is a text cut off at the edge, over
// another one, too small or too pale?
package scenetest

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"polytome/internal/draw/scene"
	"polytome/internal/draw/typeface"
)

// What can still be read: the smallest letters in points, and the palest ink.
const (
	smallest = 6.0
	palest   = scene.Grey
)

// edge is how near to the edge of the paper a text may come, in points.
const edge = 10.0

// Wrong reports what is wrong with a drawing, in sentences; nothing for one that can be read.
func Wrong(d *scene.Drawing) (out []string) {
	wrong := func(format string, args ...any) {
		if len(out) < 40 {
			out = append(out, fmt.Sprintf(format, args...))
		}
	}
	if len(d.Pages) == 0 {
		wrong("there is no page")
	}
	for n, p := range d.Pages {
		var texts []*scene.Text
		for _, item := range p.Items {
			switch v := item.(type) {
			case *scene.Text:
				if v.Size < smallest {
					wrong("page %d: %q is %.1f points high", n+1, v.S, v.Size)
				}
				if v.Ink > palest && v.Ink != scene.White {
					wrong("page %d: %q is too pale", n+1, v.S)
				}
				if v.X < edge || v.X+v.Wide > p.Width-edge+0.01 || v.Y-v.Size < edge-4 || v.Y > p.Height-edge+4 {
					wrong("page %d: %q leaves the page: %.0f to %.0f, %.0f", n+1, v.S, v.X, v.X+v.Wide, v.Y)
				}
				if clean := typeface.Clean(v.S); clean != v.S {
					wrong("page %d: %q has characters that no font has", n+1, v.S)
				}
				texts = append(texts, v)
			case *scene.Shape:
				for _, s := range v.Path {
					if s.Op != scene.Close && (bad(s.To.X, p.Width) || bad(s.To.Y, p.Height)) {
						wrong("page %d: a line leaves the page at %.1f, %.1f", n+1, s.To.X, s.To.Y)
						break
					}
				}
			case *scene.Picture:
				if bad(v.X, p.Width) || bad(v.X+v.W, p.Width) || bad(v.Y, p.Height) || bad(v.Y+v.H, p.Height) {
					wrong("page %d: the picture %q leaves the page", n+1, v.Name)
				}
			case *scene.Link:
				if v.URL == "" && (v.To.Page < 0 || v.To.Page >= len(d.Pages) ||
					bad(v.To.Y, d.Pages[v.To.Page].Height)) {
					wrong("page %d: a link leads to page %d of %d", n+1, v.To.Page+1, len(d.Pages))
				}
			}
		}
		for _, pair := range overlapping(texts) {
			wrong("page %d: %q lies over %q", n+1, pair[0].S, pair[1].S)
		}
	}
	last := scene.Spot{}
	for _, m := range d.Marks {
		if m.At.Page < last.Page || m.At.Page >= len(d.Pages) {
			wrong("the entry %q of the contents leads to page %d of %d", m.Text, m.At.Page+1, len(d.Pages))
		}
		last = m.At
	}
	return out
}

func bad(v, most float64) bool { return math.IsNaN(v) || v < -0.01 || v > most+0.01 }

// overlapping are texts that lie over one another.
func overlapping(texts []*scene.Text) (out [][2]*scene.Text) {
	top := func(t *scene.Text) float64 { return t.Y - t.Size*0.62 } // of letters without accents
	bottom := func(t *scene.Text) float64 { return t.Y + t.Size*0.1 }
	slices.SortFunc(texts, func(a, b *scene.Text) int { return cmp.Compare(top(a), top(b)) })
	for i, a := range texts {
		for _, b := range texts[i+1:] {
			if top(b) >= bottom(a) {
				break
			}
			if a.X+0.3 < b.X+b.Wide && b.X+0.3 < a.X+a.Wide {
				out = append(out, [2]*scene.Text{a, b})
			}
		}
	}
	return out
}
