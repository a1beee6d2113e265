// Package style holds the colours, glyphs and text measures that all screens
// share. Words carry the meaning on every screen; what is here only repeats it.
package style

import (
	"image"
	"image/color"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
)

// Frames are drawn a second, at most: a key shows within a thirtieth, and a screen on which nothing happens wakes the
// computer half as often as it would by default.
const Frames = 30

// A Theme is how things look on one terminal.
type Theme struct {
	ASCII bool // no characters beyond ASCII
	Plain bool // no colours: fills are distinguished by texture

	Text, Dim, Faint color.Color // running text, less of it, and lines
	Accent           color.Color // where you are
	Good, Warn, Bad  color.Color
	Cursor           color.Color // behind the row under the cursor
	Bar              color.Color // behind the rail
	Kept, Written    color.Color // fills of the rack
	Planned, Ghost   color.Color
	// Hues are colours that differ clearly from one another, for what is numbered too; none where there are no colours.
	Hues []color.Color
	// Pictures shows pictures as such; nil where the terminal does not take them.
	Pictures Pictures
}

// Pictures shows pictures as such on a terminal.
type Pictures interface {
	// Hang has a picture shown as large as it fits into w x h cells, and returns the lines that hold its place.
	Hang(im image.Image, w, h int) []string
}

// New makes the theme for a dark or light background and the colours that the
// terminal has.
func New(dark, ascii bool, colours colorprofile.Profile) *Theme {
	t := &Theme{ASCII: ascii, Plain: colours <= colorprofile.ASCII}
	switch {
	case t.Plain:
		none := lipgloss.NoColor{}
		t.Text, t.Dim, t.Faint, t.Accent, t.Good, t.Warn, t.Bad = none, none, none, none, none, none, none
		t.Cursor, t.Bar, t.Kept, t.Written, t.Planned, t.Ghost = none, none, none, none, none, none
		return t
	case colours <= colorprofile.ANSI:
		// With 16 colours no one knows what they look like, so backgrounds are
		// left alone and only the common hues are used.
		none := lipgloss.NoColor{}
		t.Text, t.Dim, t.Faint, t.Cursor, t.Bar = none, none, none, none, none
		t.Accent, t.Good, t.Warn, t.Bad = lipgloss.Magenta, lipgloss.Green, lipgloss.Yellow, lipgloss.Red
		t.Kept, t.Written, t.Planned, t.Ghost = lipgloss.BrightBlack, lipgloss.Green, lipgloss.Blue, lipgloss.Magenta
		t.Hues = []color.Color{lipgloss.Blue, lipgloss.Magenta, lipgloss.Cyan, lipgloss.Green}
		return t
	}
	pick := lipgloss.LightDark(dark)
	c := func(light, dark string) color.Color { return pick(lipgloss.Color(light), lipgloss.Color(dark)) }
	return &Theme{
		ASCII: ascii,
		Text:  c("#23303a", "#d8dee2"), Dim: c("#5d6b75", "#93a1ab"), Faint: c("#b9c3c9", "#44525c"),
		Accent: c("#a4510a", "#f2a65a"),
		Good:   c("#1f7a54", "#7cc6a1"), Warn: c("#8a6a00", "#e3c567"), Bad: c("#b3372c", "#e87f6f"),
		Cursor: c("#dfe8ec", "#26343e"), Bar: c("#e8edf0", "#1b262e"),
		Kept: c("#7d8d97", "#6b7d89"), Written: c("#1f7a54", "#5fae88"),
		Planned: c("#2f7f9e", "#4f9fbf"), Ghost: c("#c77a2c", "#f2a65a"),
		Hues: []color.Color{c("#2b6cb0", "#7fb2e5"), c("#7b3fa0", "#c39be0"), c("#00707a", "#6fc9d0"),
			c("#9b2c5e", "#e58fb5"), c("#5f6b1a", "#bcc96f"), c("#1f7a54", "#7cc6a1")},
	}
}

// Contrast has all text be black or white, and what is off or wrong differ by more than its hue.
func (t *Theme) Contrast(dark bool) {
	if t.Plain {
		return
	}
	ink, back := lipgloss.Color("#000000"), lipgloss.Color("#ffffff")
	if dark {
		ink, back = back, ink
	}
	t.Text, t.Dim, t.Faint, t.Accent, t.Good = ink, ink, ink, ink, ink
	t.Cursor, t.Bar = lipgloss.Color("#b0c4de"), back
	t.Warn, t.Bad = lipgloss.Color("#7a4a00"), lipgloss.Color("#a00000")
	if dark {
		t.Cursor, t.Warn, t.Bad = lipgloss.Color("#1f4e79"), lipgloss.Color("#ffd75f"), lipgloss.Color("#ff8f8f")
	}
}

// Safe has colours that also people tell apart who see red and green alike: those of Okabe and Ito.
func (t *Theme) Safe(dark bool) {
	if t.Plain {
		return
	}
	c := func(light, other string) color.Color {
		if dark {
			return lipgloss.Color(other)
		}
		return lipgloss.Color(light)
	}
	t.Good, t.Warn, t.Bad = c("#0072b2", "#56b4e9"), c("#8a6d00", "#f0e442"), c("#b34700", "#e8833a")
	t.Accent = c("#8f3f71", "#cc79a7")
	t.Written, t.Planned, t.Ghost = c("#0072b2", "#56b4e9"), c("#7fa8c4", "#9fc5de"), c("#b34700", "#e8833a")
}

// Style is a style with a foreground colour.
func (t *Theme) Style(fg color.Color) lipgloss.Style { return lipgloss.NewStyle().Foreground(fg) }

// Paint writes text in a colour.
func (t *Theme) Paint(fg color.Color, s string) string { return t.Style(fg).Render(s) }

// Bold writes text in a colour, bold.
func (t *Theme) Bold(fg color.Color, s string) string { return t.Style(fg).Bold(true).Render(s) }

var ascii = map[string]string{
	"─": "-", "│": "|", "┬": "+", "┴": "+", "┼": "+", "┌": "+", "┐": "+", "└": "+", "┘": "+", "├": "+", "┤": "+",
	"▌": ">", "▸": ">", "▪": "*", "▫": "!", "…": "~", "·": ".", "█": "#", "▓": "%", "▒": "=", "░": ":", "•": "*",
	"✓": "x", "×": "X", "→": "->", "▏": "|", "♥": "*", "◆": "@", "–": "-",
	"╭": ",", "╮": ".", "╰": "`", "▐": "[",
}

// Glyph returns a character, or what stands for it in ASCII.
func (t *Theme) Glyph(g string) string {
	if t.ASCII {
		if a, ok := ascii[g]; ok {
			return a
		}
	}
	return g
}

// Eighths fill a cell from below, by eighths of its height.
var Eighths = []string{" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"}

// Block8 is a cell filled from below by so many eighths. A full one is painted as
// background where there are colours: glyphs may leave a gap between rows.
func (t *Theme) Block8(c color.Color, units int) string {
	if units >= 8 {
		return t.Solid(c, 1)
	}
	return t.Paint(c, Eighths[max(0, units)])
}

// Solid is a run of n full cells.
func (t *Theme) Solid(c color.Color, n int) string {
	if t.Plain || t.ASCII {
		return strings.Repeat(t.Glyph("█"), n)
	}
	return lipgloss.NewStyle().Background(c).Render(strings.Repeat(" ", n))
}
