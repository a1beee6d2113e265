// Package typeface has the fonts in which drawings are written, and measures texts in them. All of them are part of the
// program, so that a drawing is the same on every computer: two of the Go family (golang.org/x/image/font/gofont) for
// Latin, Greek and Cyrillic letters, and one for all that they lack, above all Japanese; see japanese-LICENSE.txt.
package typeface

import (
	"bytes"
	"compress/gzip"
	_ "embed"
	"fmt"
	"io"
	"strings"
	"sync"
	"sync/atomic"
	"unicode"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"
	"golang.org/x/text/unicode/norm"
)

// Weight is how heavy letters are.
type Weight int

const (
	Regular Weight = iota
	Bold
)

// Em is the length to which widths and outlines of a font are given: that many units are the size of the letters.
const Em = 1000

// A Font is one of the fonts. It may be used by several goroutines.
type Font struct {
	// Name is the one by which a drawing knows the font: letters and digits only.
	Name string

	load func() ([]byte, error)
	once sync.Once
	data []byte
	sfnt *sfnt.Font
	err  error

	// Characters are looked up many times each, so that is done a block of them at a time, and without a lock
	// afterwards.
	blocks [256]atomic.Pointer[block]

	mu  sync.Mutex
	buf sfnt.Buffer
}

// block is 256 characters one behind the other.
type block [256]glyph

// glyph is what is known of a character.
type glyph struct {
	index   sfnt.GlyphIndex // 0 where the font does not have it
	advance int             // in units of Em
}

//go:embed japanese.ttf.gz
var japanese []byte

// The fonts. All that a weight lacks is taken from the last one.
var (
	regular = &Font{Name: "regular", load: func() ([]byte, error) { return goregular.TTF, nil }}
	bold    = &Font{Name: "bold", load: func() ([]byte, error) { return gobold.TTF, nil }}
	rest    = &Font{Name: "rest", load: func() ([]byte, error) {
		r, err := gzip.NewReader(bytes.NewReader(japanese))
		if err != nil {
			return nil, err
		}
		return io.ReadAll(r)
	}}
)

// parsed loads the font on first use. The fonts are part of the program, so one that cannot be read is a mistake in it.
func (f *Font) parsed() *sfnt.Font {
	f.once.Do(func() {
		if f.data, f.err = f.load(); f.err == nil {
			f.sfnt, f.err = sfnt.Parse(f.data)
		}
	})
	if f.err != nil {
		panic(fmt.Sprintf("the font %s of the program: %v", f.Name, f.err))
	}
	return f.sfnt
}

// TTF is the font as a TrueType file. It must not be changed.
func (f *Font) TTF() []byte {
	f.parsed()
	return f.data
}

// glyph looks a character up. Those of more than 16 bits are in none of the fonts.
func (f *Font) glyph(r rune) glyph {
	if r < 0 || r > 0xFFFF {
		return glyph{}
	}
	b := f.blocks[r>>8].Load()
	if b == nil {
		b = f.block(r &^ 0xFF)
		f.blocks[r>>8].Store(b)
	}
	return b[r&0xFF]
}

// block looks up the characters from one on.
func (f *Font) block(from rune) *block {
	font := f.parsed()
	f.mu.Lock()
	defer f.mu.Unlock()
	var b block
	for k := range b {
		if i, err := font.GlyphIndex(&f.buf, from+rune(k)); err == nil && i != 0 {
			if a, err := font.GlyphAdvance(&f.buf, i, fixed.I(Em), noHinting); err == nil {
				b[k] = glyph{i, a.Round()}
			}
		}
	}
	return &b
}

const noHinting = font.HintingNone

// Advance is how far a character goes, in units of [Em].
func (f *Font) Advance(r rune) int { return f.glyph(r).advance }

// An Outline is the shape of a character in units of [Em], with y downwards from the line that letters stand on.
type Outline []sfnt.Segment

// Outline is the shape of a character; empty for a space.
func (f *Font) Outline(r rune) (Outline, error) {
	g := f.glyph(r)
	f.mu.Lock()
	defer f.mu.Unlock()
	segments, err := f.sfnt.LoadGlyph(&f.buf, g.index, fixed.I(Em), nil)
	if err != nil {
		return nil, fmt.Errorf("the shape of %q in %s: %w", r, f.Name, err)
	}
	return append(Outline{}, segments...), nil // the buffer is used again
}

// Missing stands in for a character that no font has: nothing that someone wrote is left out without being seen.
const Missing = '□'

// of is the font that writes a character in a weight, and the character that is written: [Missing] where none has it.
func (w Weight) of(r rune) (*Font, rune) {
	own := regular
	if w == Bold {
		own = bold
	}
	if own.glyph(r).index != 0 {
		return own, r
	}
	if rest.glyph(r).index != 0 {
		return rest, r
	}
	return regular, Missing
}

// A Run is a piece of a text in one font.
type Run struct {
	Font  *Font
	Text  string
	X     float64 // where it begins, from the beginning of the text
	Width float64
}

// Clean is a text as it is written: letters and their accents are one character where there is one (Unicode Standard
// Annex 15, NFC), any white space is a space, and what no font has, control characters included, is [Missing].
func Clean(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsSpace(r) {
			return ' '
		}
		if r == '\u200b' || r == '\ufeff' || unicode.Is(unicode.Variation_Selector, r) || r == '\u200d' {
			return -1 // they have no shape of their own
		}
		if unicode.IsControl(r) { // fonts have shapes for some of them
			return Missing
		}
		_, r = Regular.of(r)
		return r
	}, norm.NFC.String(s))
}

// Runs is how a text is written at a size in points, and its width. The text is to be clean.
func (w Weight) Runs(s string, size float64) (runs []Run, width float64) {
	var font *Font
	from, units, total := 0, 0, 0
	end := func(to int) {
		if to > from {
			runs = append(runs, Run{font, s[from:to], float64(total) * size / Em, float64(units) * size / Em})
		}
		from, total, units = to, total+units, 0
	}
	for i, r := range s {
		f, _ := w.of(r)
		if f != font {
			end(i)
			font = f
		}
		units += f.Advance(r)
	}
	end(len(s))
	return runs, float64(total) * size / Em
}

// Width is the width of a text at a size in points. The text is to be clean.
func (w Weight) Width(s string, size float64) float64 {
	units := 0
	for _, r := range s {
		f, _ := w.of(r)
		units += f.Advance(r)
	}
	return float64(units) * size / Em
}

// Clip is a text that is no wider than width: its end gives way to an ellipsis. A width that does not even hold that
// leaves nothing.
func (w Weight) Clip(s string, size, width float64) string {
	if w.Width(s, size) <= width {
		return s
	}
	space := width - w.Width("…", size)
	if space < 0 {
		return ""
	}
	used := 0.0
	for i, r := range s {
		f, _ := w.of(r)
		if used += float64(f.Advance(r)) * size / Em; used > space {
			return strings.TrimRight(s[:i], " ") + "…"
		}
	}
	return s
}

// ClipMiddle is Clip for names that end in what distinguishes them: the middle gives way.
func (w Weight) ClipMiddle(s string, size, width float64) string {
	if w.Width(s, size) <= width {
		return s
	}
	all := []rune(s)
	tail := min(len(all), 12)
	for tail > 0 && w.Width("…"+string(all[len(all)-tail:]), size) > width/2 {
		tail--
	}
	if tail == 0 {
		return w.Clip(s, size, width)
	}
	end := string(all[len(all)-tail:])
	head := w.Clip(string(all[:len(all)-tail])+"…", size, width-w.Width(end, size))
	if !strings.HasSuffix(head, "…") {
		return w.Clip(s, size, width)
	}
	return head + end
}

// Wrap breaks a text into lines no wider than width: at spaces, between characters of scripts that are written without
// them, and within a word that is wider than a line.
func (w Weight) Wrap(s string, size, width float64) []string {
	var lines []string
	line, used := "", 0.0
	push := func() {
		lines = append(lines, strings.TrimRight(line, " "))
		line, used = "", 0
	}
	for _, piece := range pieces(s) {
		n := w.Width(strings.TrimRight(piece, " "), size)
		if line != "" && used+n > width {
			push()
		}
		for n > width {
			cut := w.fitting(piece, size, width)
			if cut == 0 {
				_, cut = firstRune(piece) // a line holds one character at least
			}
			if cut >= len(piece) {
				break
			}
			lines = append(lines, piece[:cut])
			piece = piece[cut:]
			n = w.Width(strings.TrimRight(piece, " "), size)
		}
		line += piece
		used += w.Width(piece, size)
	}
	if strings.TrimSpace(line) != "" || len(lines) == 0 {
		push()
	}
	return lines
}

func firstRune(s string) (rune, int) {
	for i, r := range s {
		if i > 0 {
			return r, i
		}
	}
	return 0, len(s)
}

// fitting is how many bytes of a text have space in a width.
func (w Weight) fitting(s string, size, width float64) int {
	used := 0.0
	for i, r := range s {
		f, _ := w.of(r)
		if used += float64(f.Advance(r)) * size / Em; used > width {
			return i
		}
	}
	return len(s)
}

// pieces are the parts of a text between which a line may end; each has the spaces behind it.
func pieces(s string) (out []string) {
	from := 0
	var before rune
	for i, r := range s {
		if i > from && r != ' ' && (before == ' ' || (breaksBeside(before) || breaksBeside(r)) && !closes(r)) {
			out = append(out, s[from:i])
			from = i
		}
		before = r
	}
	if from < len(s) {
		out = append(out, s[from:])
	}
	return out
}

// breaksBeside reports whether a line may end beside a character: those of scripts without spaces.
func breaksBeside(r rune) bool {
	return unicode.In(r, unicode.Han, unicode.Hiragana, unicode.Katakana)
}

// closes reports whether a character must not begin a line.
func closes(r rune) bool {
	return unicode.In(r, unicode.Pe, unicode.Pf) || strings.ContainsRune("、。，．・：；？！ーァィゥェォッャュョぁぃぅぇぉっゃゅょ,.;:!?…", r)
}
