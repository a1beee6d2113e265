// Package pixels draws pictures in half blocks: two pixels in each cell, one above the other.
package pixels

import (
	"fmt"
	"image"
	"image/color"
	"strings"

	"charm.land/lipgloss/v2"
	"golang.org/x/image/draw"

	"polytome/internal/ui/style"
)

// Draw draws a picture as large as it fits into w x h cells, keeping its shape. It returns a line for each row that it
// takes. Where there are no colours or no block characters, a card says what the picture is.
func Draw(t *style.Theme, im image.Image, w, h int) []string {
	if im == nil || w < 1 || h < 1 {
		return nil
	}
	b := im.Bounds()
	if b.Empty() {
		return nil
	}
	if t.Plain || t.ASCII {
		return Card(t, []string{"cover", fmt.Sprintf("%d x %d", b.Dx(), b.Dy())}, w, h)
	}
	if t.Pictures != nil {
		return t.Pictures.Hang(im, w, h)
	}
	pw, ph := w, w*b.Dy()/b.Dx() // a half cell is about as wide as it is high
	if ph > 2*h {
		pw, ph = 2*h*b.Dx()/b.Dy(), 2*h
	}
	pw, ph = max(1, pw), max(2, ph+ph%2)
	to := image.NewRGBA(image.Rect(0, 0, pw, ph))
	draw.CatmullRom.Scale(to, to.Bounds(), im, b, draw.Src, nil)
	out := make([]string, 0, ph/2)
	for y := 0; y < ph; y += 2 {
		var line strings.Builder
		for x := 0; x < pw; {
			upper, lower := opaque(to.RGBAAt(x, y)), opaque(to.RGBAAt(x, y+1))
			n := 1
			for x+n < pw && opaque(to.RGBAAt(x+n, y)) == upper && opaque(to.RGBAAt(x+n, y+1)) == lower {
				n++
			}
			line.WriteString(lipgloss.NewStyle().Foreground(upper).Background(lower).Render(strings.Repeat("▀", n)))
			x += n
		}
		out = append(out, line.String())
	}
	return out
}

// opaque is a colour without transparency, before black.
func opaque(c color.RGBA) color.RGBA {
	c.A = 0xFF
	return c
}

// Card is a frame with some words in it, in place of a picture.
func Card(t *style.Theme, words []string, w, h int) []string {
	w, h = min(w, 18), min(h, 7)
	if w < 6 || h < 3 {
		return nil
	}
	line := strings.Repeat(t.Glyph("─"), w-2)
	out := []string{t.Paint(t.Faint, t.Glyph("┌")+line+t.Glyph("┐"))}
	for y := range h - 2 {
		text := ""
		if k := y - (h-2-len(words))/2; k >= 0 && k < len(words) {
			text = t.Clip(words[k], w-2)
		}
		left := (w - 2 - style.Width(text)) / 2
		out = append(out, t.Paint(t.Faint, t.Glyph("│"))+t.Paint(t.Dim, t.Pad(strings.Repeat(" ", max(0, left))+text,
			w-2))+t.Paint(t.Faint, t.Glyph("│")))
	}
	return append(out, t.Paint(t.Faint, t.Glyph("└")+line+t.Glyph("┘")))
}
