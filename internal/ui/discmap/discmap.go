// Package discmap draws how each part of a disc was read or written, in rows of cells.
package discmap

import (
	"strings"

	"polytome/internal/core/discread"
	"polytome/internal/ui/style"
)

// The signs of a cell: they differ in shape, whatever colours there are.
const (
	good   = "█"
	bad    = "×"
	partly = "▒" // some of it is good, the rest was not tried
	unread = "·"
)

// Rows draws a disc in so many rows of w cells, row after row. A cell stands for as many blocks as any other; one in
// which a block is bad is marked so, however many are good. Where at is a block, its cell is marked.
func Rows(t *style.Theme, b *discread.Blocks, at int64, w, rows int) []string {
	cells := int64(w * rows)
	if b == nil || b.Count == 0 || cells <= 0 {
		return nil
	}
	signs := make([]string, cells)
	k := 0
	for c := range cells {
		first, end := c*b.Count/cells, max(c*b.Count/cells+1, (c+1)*b.Count/cells)
		for b.Spans[k].End() <= first {
			k++
		}
		some, lack := false, false
		sign := ""
		for i := k; i < len(b.Spans) && b.Spans[i].First < end; i++ {
			switch b.Spans[i].State {
			case discread.Bad:
				sign = bad
			case discread.Good:
				some = true
			case discread.Unread:
				lack = true
			}
		}
		switch {
		case sign != "":
		case some && lack:
			sign = partly
		case some:
			sign = good
		default:
			sign = unread
		}
		signs[c] = sign
	}
	head := int64(-1)
	if at >= 0 && at < b.Count {
		head = min(cells-1, at*cells/b.Count)
	}
	out := make([]string, rows)
	for y := range rows {
		var line strings.Builder
		for x := 0; x < w; {
			c := int64(y*w + x)
			n := 1
			for x+n < w && signs[c+int64(n)] == signs[c] && c+int64(n) != head && c != head {
				n++
			}
			colour := t.Faint
			switch signs[c] {
			case good, partly:
				colour = t.Written
			case bad:
				colour = t.Bad
			}
			sign := signs[c]
			if c == head && sign != bad {
				sign, colour = "▌", t.Accent
			}
			line.WriteString(t.Paint(colour, strings.Repeat(t.Glyph(sign), n)))
			x += n
		}
		out[y] = line.String()
	}
	return out
}

// Legend says what the signs stand for.
func Legend(t *style.Theme) string {
	return t.Paint(t.Written, t.Glyph(good)) + t.Paint(t.Dim, " good  ") + t.Paint(t.Bad, t.Glyph(bad)) +
		t.Paint(t.Dim, " some of it cannot be read yet  ") + t.Paint(t.Faint, t.Glyph(unread)) +
		t.Paint(t.Dim, " not tried yet  ") + t.Paint(t.Accent, t.Glyph("▌")) + t.Paint(t.Dim, " where the drive is")
}

// Upto is a disc that is written from its beginning on.
func Upto(at, of int64) *discread.Blocks {
	b := discread.NewBlocks(max(1, of), 2048)
	if at > 0 {
		b.Set(0, min(at, of), discread.Good, 0)
	}
	return b
}
