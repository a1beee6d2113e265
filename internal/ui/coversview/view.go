package coversview

import (
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"strings"

	"polytome/internal/core/cover"
	"polytome/internal/core/title"
	"polytome/internal/format/picture"
	"polytome/internal/size"
	"polytome/internal/ui/pixels"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// The box of one picture of the sheet, in cells, about; two lines are written below it. Rows are made higher or lower
// so that they fill the window.
const boxWide, boxHigh = 17, 11

// Why explains the picture under the cursor.
func (m *Model) Why() state.Why {
	e, ok := m.entry()
	switch {
	case len(m.d.Scan.Titles) == 0:
		return state.Why{Lead: "No titles", Say: "were found yet."}
	case !ok && m.lacks && m.filter == "":
		return state.Why{Lead: "Nothing", Say: "has all its pictures. m shows all titles again."}
	case !ok:
		return state.Why{Lead: "Nothing", Say: "match the filter. esc shows all titles again."}
	}
	t := &m.d.Scan.Titles[e.title]
	w := state.Why{Lead: fmt.Sprintf("%s, %s:", t.Label(), m.of)}
	if c := m.side; c != nil {
		if c.crop != nil {
			x := *c.crop
			w.Say = fmt.Sprintf("Cut off: %d %% left, %d %% top, %d %% right, %d %% bottom.", x[0]/10, x[1]/10, x[2]/10,
				x[3]/10)
			w.Ways = []string{"arrows cut an edge, HJKL restore it, enter keeps the crop"}
			return w
		}
		if c.at < len(c.candidates) {
			p := &c.candidates[c.at]
			w.Say = state.Sentence(p.From+": "+style.Clean(p.File.Called())) + m.pixelsOf(&p.File)
			if p.Bad != "" {
				w.Say += " It cannot be used: " + p.Bad + "."
			}
			if p.Proposal {
				w.Ways = append(w.Ways, "its name is only similar: enter uses it")
			}
			return w
		}
		w.Say, w.Ways = "no picture was found.", []string{"p chooses a file"}
		return w
	}
	switch e.status {
	case cover.Found:
		w.Say = "found " + e.from + "."
		if e.say != "" {
			w.Say = state.Sentence(e.say)
		} else {
			w.Say += m.pixelsOf(&e.file) + m.goesTo(e)
		}
	case cover.Proposed:
		w.Say, w.Ways = "a picture has a similar name: "+style.Clean(e.file.Called())+".",
			[]string{"y uses it", "Y accepts all proposals", "enter looks at it"}
	case cover.Refused:
		w.Say, w.Ways = fmt.Sprintf("there is one %s, but it cannot be used: %s.", e.from, e.say),
			[]string{"F asks the server again", "enter, then p chooses another", "n goes without"}
	default:
		w.Say, w.Ways = "none was found.", []string{"f asks the bench's servers", "a adds one of your folders",
			"n goes without"}
		if e.say != "" {
			w.Say = "none was found: " + e.say + "."
		}
		if len(m.d.Bench.Covers.Servers) == 0 {
			w.Ways[0] = "S adds a picture server"
		}
	}
	return w
}

// pixelsOf reports how large a picture is.
func (m *Model) pixelsOf(f *title.File) string {
	s, known := m.d.Picture(f)
	switch {
	case known && s.Say != "":
		return " It cannot be used: " + s.Say + "."
	case known:
		return fmt.Sprintf(" %d x %d pixels, %s.", s.Width, s.Height, size.Format(f.Size))
	}
	return ""
}

// goesTo reports where a picture goes on the targets.
func (m *Model) goesTo(e entry) string {
	var at []string
	for _, target := range m.d.Targets {
		s := target.Survey
		if s == nil || e.title >= len(s.Titles) || s.Titles[e.title].Key != m.d.Scan.Titles[e.title].Key ||
			!s.Sheet.Chosen[e.title] {
			continue
		}
		if lacks := s.Sheet.CoverLacks(e.title); lacks != "" {
			at = append(at, s.Config.Name+" ("+lacks+")")
			continue
		}
		for _, p := range s.Sheet.CoverPaths(e.title, m.of, e.disc) {
			at = append(at, s.Config.Name+" as "+p)
		}
	}
	if len(at) == 0 {
		return " No target uses it."
	}
	return " It goes to " + strings.Join(at, ", ") + "."
}

// View draws the panel.
func (m *Model) View(t *style.Theme, w, h int) []string {
	m.make()
	out := m.head(t, w)
	if m.side != nil {
		return append(out, m.compared(t, w, h-len(out))...)
	}
	return append(out, m.sheet(t, w, h-len(out), len(out))...)
}

// head reports what is shown and how much is there.
func (m *Model) head(t *style.Theme, w int) []string {
	text := " " + t.Bold(t.Accent, strings.ToUpper(m.of)) + "  "
	for _, p := range []struct {
		status string
		c      color.Color
	}{{cover.Refused, t.Bad}, {cover.Proposed, t.Ghost}, {cover.Missing, t.Warn}, {cover.Found, t.Good}} {
		if n := m.counts[p.status]; n > 0 {
			text += t.Paint(p.c, fmt.Sprintf("%d %s", n, p.status)) + "  "
		}
	}
	if f := m.d.Fetching; f != nil {
		bar := 20
		done := 0
		if f.Total > 0 {
			done = f.Done * bar / f.Total
		}
		text += t.Solid(t.Planned, done) + t.Paint(t.Faint, strings.Repeat(t.Glyph("·"), bar-done)) + t.Paint(t.Text,
			fmt.Sprintf(" fetching: %d of %d, %d new; f stops. %s", f.Done, f.Total, f.Fetched, style.Clean(f.Now)))
	} else if s := m.d.Current(); s != nil {
		c := s.Sheet.Covers()
		if s.Config.NoCovers {
			text += t.Paint(t.Dim, style.Clean(s.Config.Name)+" gets no covers (c in Fit)")
		} else if say := c.Say(); say != "" {
			text += t.Paint(t.Dim, style.Clean(s.Config.Name)+": "+say)
		}
	}
	return []string{t.Clip(text, w), t.Rule("", w)}
}

// sheet draws the contact sheet: only the pictures that are seen.
func (m *Model) sheet(t *style.Theme, w, h, top int) []string {
	g := grid{top: top, visible: max(1, (h+boxHigh/2)/(boxHigh+2))}
	if h >= 14 {
		g.visible = max(2, g.visible)
	}
	g.high = max(4, h/g.visible)
	g.wide = max(12, (g.high-2)*boxWide/boxHigh+2)
	g.across = max(1, w/g.wide)
	g.wide = w / g.across
	m.grid = g
	if len(m.all) == 0 {
		return t.Block([]string{"", "  " + t.Paint(t.Dim, "There is nothing to show.")}, w, h)
	}
	m.scroll()
	from, to := m.rows.Window()
	var out []string
	for row := from; row < to; row++ {
		lines := make([]string, g.high)
		for k := range g.across {
			i := row*g.across + k
			if i >= len(m.all) {
				break
			}
			cell := m.cell(t, &m.all[i], g.wide-2, g.high, i == m.at)
			for y := range lines {
				mark := "  "
				if i == m.at {
					mark = t.Bold(t.Accent, t.Glyph("▌")) + " "
				}
				lines[y] += mark + cell[y]
			}
		}
		out = append(out, lines...)
	}
	return t.Block(out, w, h)
}

// cell draws one picture of the sheet, with its title and its state.
func (m *Model) cell(t *style.Theme, e *entry, w, h int, cursor bool) []string {
	tt := &m.d.Scan.Titles[e.title]
	high := h - 2
	var pic []string
	switch s, known := m.d.Picture(&e.file); {
	case e.say == "none, by choice":
		pic = pixels.Card(t, []string{"none", "by choice"}, w, high)
	case e.status == cover.Refused && e.say != "":
		why, _, _ := strings.Cut(e.say, ";")
		pic = pixels.Card(t, t.Wrap(style.Clean(why), min(w, 18)-2), w, high)
	case e.file.Path == "":
		pic = pixels.Card(t, t.Wrap(e.status, w-2), w, high)
	case !known:
		pic = pixels.Card(t, []string{"looking"}, w, high)
	case s.Picture == nil:
		pic = pixels.Card(t, t.Wrap("cannot be shown", w-2), w, high)
	default:
		pic = m.cache.Draw(t, state.PictureKey(&e.file), s.Picture, image.Pt(s.Width, s.Height), w, high)
	}
	out := make([]string, 0, h)
	above := (high - len(pic) + 1) / 2
	for y := range high {
		line := ""
		if y >= above && y-above < len(pic) {
			line = pic[y-above]
		}
		left := max(0, (w-style.Width(line))/2)
		line = strings.Repeat(" ", left) + line
		out = append(out, line+strings.Repeat(" ", max(0, w-style.Width(line))))
	}
	label := style.Clean(tt.Label())
	if m.of == "disc" && tt.Of > 1 {
		label = fmt.Sprintf("%d: %s", tt.Discs[e.disc].Number, label)
	}
	name := t.Paint(t.Text, t.Pad(label, w))
	if cursor {
		name = t.Bold(t.Accent, t.Pad(label, w))
	}
	c, word := t.Dim, e.from
	switch e.status {
	case cover.Missing:
		c, word = t.Warn, "missing"
	case cover.Refused:
		c, word = t.Bad, "refused"
	case cover.Proposed:
		c, word = t.Ghost, "proposed"
	}
	word = strings.TrimPrefix(strings.TrimPrefix(word, "in your pictures, "), "from ")
	return append(out, name, t.Paint(c, t.Pad(style.Clean(word), w)))
}

// compared draws the pictures of one title beside one another.
func (m *Model) compared(t *style.Theme, w, h int) []string {
	c := m.side
	tt := &m.d.Scan.Titles[c.entry.title]
	caption := fmt.Sprintf("%s: %s", style.Clean(tt.Label()), size.Count(len(c.candidates), "picture"))
	out := []string{t.Rule(caption, w)}
	if len(c.candidates) == 0 {
		return t.Block(append(out, "",
			"  "+t.Paint(t.Dim, t.Clip("No picture was found. p chooses a file; in the contact sheet (esc), f asks "+
				"the servers.", w-4))), w, h)
	}
	if c.crop != nil {
		m.grid = grid{across: 1, wide: w}
		return t.Block(append(out, m.cropped(t, w, h-1)...), w, h)
	}
	shown := max(1, min(len(c.candidates), w/38, 3))
	wide := w / shown
	m.grid = grid{across: shown, wide: wide}
	lines := make([]string, h-1)
	first := c.first(shown)
	for k := range shown {
		block := m.candidate(t, first+k, wide-1, h-1)
		for y := range lines {
			lines[y] += block[y] + " "
		}
	}
	return t.Block(append(out, lines...), w, h)
}

// candidate draws one picture in large, with what is known of it below.
func (m *Model) candidate(t *style.Theme, i, w, h int) []string {
	c := m.side
	p := &c.candidates[i]
	const words = 4
	pic := m.largePicture(t, p, w-2, h-words-1, p.Crop)
	mark, name := "  ", t.Dim
	if i == c.at {
		mark, name = t.Bold(t.Accent, t.Glyph("▸")+" "), t.Accent
	}
	taken := ""
	if best := m.d.Scan.Titles[c.entry.title].Picture(m.of, c.entry.disc); best != nil &&
		best.File.Called() == p.File.Called() {
		taken = "chosen"
	}
	out := make([]string, 0, h)
	for y := range h - words {
		line := ""
		if y < len(pic) {
			line = "  " + pic[y]
		}
		out = append(out, line+strings.Repeat(" ", max(0, w-style.Width(line))))
	}
	put := func(c color.Color, s string) {
		out = append(out, t.Pad("  "+t.Paint(c, t.Clip(style.Clean(s), w-3)), w))
	}
	head := mark + t.Bold(name, t.Clip(p.From, w-3))
	out = append(out, t.Pad(head, w))
	put(t.Dim, base(p.File.Called()))
	s, known := m.d.Picture(&p.File)
	switch {
	case p.Bad != "":
		put(t.Bad, p.Bad)
	case known && s.Say != "":
		put(t.Bad, s.Say)
	case known:
		put(t.Dim, fmt.Sprintf("%d x %d, %s", s.Width, s.Height, size.Format(p.File.Size)))
	default:
		put(t.Dim, size.Format(p.File.Size))
	}
	switch {
	case taken != "":
		put(t.Good, taken)
	case p.Proposal:
		put(t.Ghost, "a proposal: its name is similar")
	default:
		put(t.Dim, "")
	}
	return out
}

// base is the last part of a path.
func base(p string) string { return p[strings.LastIndexAny(p, `/\`)+1:] }

// largePicture draws a picture as large as it fits.
func (m *Model) largePicture(t *style.Theme, p *cover.Candidate, w, h int, crop [4]int) []string {
	key := state.PictureKey(&p.File)
	l, has := m.larges[key]
	switch {
	case p.Bad != "" || has && l.err != nil:
		return pixels.Card(t, []string{"cannot", "be shown"}, w, h)
	case !has:
		return pixels.Card(t, []string{"reading"}, w, h)
	}
	of := l.picture.Bounds().Size()
	if s, known := m.d.Picture(&p.File); known {
		of = image.Pt(s.Width, s.Height)
	}
	return m.cache.Draw(t, fmt.Sprint(key, crop), cropOf(l.picture, crop), of, w, h)
}

// cropped draws the picture under the cursor with what is cut off it darkened, and what is left of it beside.
func (m *Model) cropped(t *style.Theme, w, h int) []string {
	c := m.side
	p := &c.candidates[c.at]
	l, has := m.larges[state.PictureKey(&p.File)]
	if !has || l.picture == nil {
		return pixels.Card(t, []string{"reading"}, w, h)
	}
	half := w/2 - 2
	of, key := l.picture.Bounds().Size(), fmt.Sprint(state.PictureKey(&p.File), *c.crop)
	whole := m.cache.Draw(t, "whole "+key, darkened(l.picture, *c.crop), of, half, h-2)
	left := m.cache.Draw(t, key, cropOf(l.picture, *c.crop), of, half, h-2)
	out := []string{t.Pad("  "+t.Paint(t.Dim, "the whole picture"), w/2) + t.Paint(t.Accent, "what stays")}
	for y := range h - 2 {
		a, b := "", ""
		if y < len(whole) {
			a = whole[y]
		}
		if y < len(left) {
			b = left[y]
		}
		a = "  " + a
		out = append(out, a+strings.Repeat(" ", max(0, w/2-style.Width(a)))+b)
	}
	return out
}

func cropOf(m image.Image, crop [4]int) image.Image {
	r := picture.Crop(crop).Of(m.Bounds())
	if s, ok := m.(interface {
		SubImage(image.Rectangle) image.Image
	}); ok && r != m.Bounds() {
		return s.SubImage(r)
	}
	return m
}

// darkened is a picture in which what is cut off is dark.
func darkened(m image.Image, crop [4]int) image.Image {
	out := image.NewRGBA(m.Bounds())
	draw.Draw(out, out.Rect, m, m.Bounds().Min, draw.Src)
	draw.Draw(out, out.Rect, image.NewUniform(color.RGBA{0, 0, 0, 190}), image.Point{}, draw.Over)
	r := picture.Crop(crop).Of(m.Bounds())
	draw.Draw(out, r, m, r.Min, draw.Src)
	return out
}
