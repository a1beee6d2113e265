package style

import (
	"image/color"
	"strings"
	"unicode"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
)

// Clip shortens text to w cells, marking the cut.
func (t *Theme) Clip(s string, w int) string {
	if w <= 0 {
		return ""
	}
	return ansi.Truncate(t.plainText(s), w, t.Glyph("…"))
}

// plainText keeps control characters off the screen, and all but ASCII where that
// is asked for.
func (t *Theme) plainText(s string) string {
	s = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && r != '\x1b' { // styles; names are cleaned where they come in
			return ' '
		}
		return r
	}, s)
	if !t.ASCII {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if r <= unicode.MaxASCII {
			b.WriteRune(r)
		} else if a := t.Glyph(string(r)); a != string(r) {
			b.WriteString(a)
		} else {
			b.WriteByte('?')
		}
	}
	return b.String()
}

// Clean takes out of a name what could steer the terminal.
func Clean(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || unicode.Is(unicode.Cf, r) {
			return '?'
		}
		return r
	}, strings.ToValidUTF8(s, "?"))
}

// Pad brings text to exactly w cells, at the left.
func (t *Theme) Pad(s string, w int) string {
	s = t.Clip(s, w)
	return s + strings.Repeat(" ", max(0, w-ansi.StringWidth(s)))
}

// PadLeft brings text to exactly w cells, at the right.
func (t *Theme) PadLeft(s string, w int) string {
	s = t.Clip(s, w)
	return strings.Repeat(" ", max(0, w-ansi.StringWidth(s))) + s
}

// Wrap breaks text into lines of at most w cells.
func (t *Theme) Wrap(s string, w int) []string {
	if w < 1 {
		return nil
	}
	return strings.Split(ansi.Wrap(t.plainText(s), w, ""), "\n")
}

// Width counts the cells of text.
func Width(s string) int { return ansi.StringWidth(s) }

// A Cell is one column of a row.
type Cell struct {
	Text  string // plain; what could steer the terminal is taken out
	Width int
	Right bool        // align right, as numbers are
	FG    color.Color // nil for the theme's text
	Bold  bool
}

// Row writes cells beside one another with a space between, w cells in all. The
// row under the cursor is marked and set off.
func (t *Theme) Row(w int, cursor bool, cells ...Cell) string {
	base := lipgloss.NewStyle()
	mark := " "
	if cursor {
		base = base.Background(t.Cursor)
		mark = t.Glyph("▌")
	}
	var b strings.Builder
	b.WriteString(base.Foreground(t.Accent).Bold(true).Render(mark))
	used := 1
	for _, c := range cells {
		width := min(c.Width, w-used-1)
		if width <= 0 {
			continue
		}
		text := t.Pad(Clean(c.Text), width)
		if c.Right {
			text = t.PadLeft(Clean(c.Text), width)
		}
		fg := c.FG
		if fg == nil {
			fg = t.Text
		}
		b.WriteString(base.Foreground(fg).Bold(c.Bold).Render(text + " "))
		used += width + 1
	}
	// Measured, not counted: marks in odd names may have melted into a space.
	if used = Width(b.String()); used < w {
		b.WriteString(base.Render(strings.Repeat(" ", w-used)))
	}
	return b.String()
}

// Block brings lines to exactly w by h cells.
func (t *Theme) Block(lines []string, w, h int) []string {
	out := make([]string, h)
	for i := range out {
		if i < len(lines) {
			out[i] = ansi.Truncate(lines[i], w, "")
			for n := w - Width(out[i]); n > 0; n = w - Width(out[i]) {
				out[i] += strings.Repeat(" ", n)
			}
		} else {
			out[i] = strings.Repeat(" ", max(0, w))
		}
	}
	return out
}

// Rule is a horizontal line of w cells with a caption in it.
func (t *Theme) Rule(caption string, w int) string {
	line := t.Glyph("─")
	if caption == "" {
		return t.Paint(t.Faint, strings.Repeat(line, max(0, w)))
	}
	caption = t.Clip(caption, max(0, w-4))
	left := t.Paint(t.Faint, line) + " " + t.Bold(t.Dim, caption) + " "
	return left + t.Paint(t.Faint, strings.Repeat(line, max(0, w-Width(left))))
}
