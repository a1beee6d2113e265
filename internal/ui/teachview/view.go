package teachview

import (
	"fmt"
	"image/color"
	"path"
	"strings"

	"polytome/internal/core/learn"
	"polytome/internal/size"
	"polytome/internal/ui/style"
)

// line is one line of the right side.
type line struct {
	text string
	fg   func(t *style.Theme) color.Color
	bold bool
}

// twoSides is the width from which both sides are shown.
const twoSides = 100

// View draws the panel.
func (m *Model) View(t *style.Theme, w, h int) []string {
	box := m.box(t, w)
	body := h - len(box)
	m.paneTop = 1
	var out []string
	switch {
	case m.hex != nil:
		m.split = 0
		out = m.hexSide(t, w, body)
	case w < twoSides:
		m.split = 0
		if m.onSaid {
			out = m.saidSide(t, w, body)
		} else {
			out = m.treeSide(t, w, body)
		}
	default:
		left := w * 9 / 20
		m.split = left + 1
		l, r := m.treeSide(t, left, body), m.saidSide(t, w-left-1, body)
		for y := range body {
			out = append(out, l[y]+t.Paint(t.Faint, t.Glyph("│"))+r[y])
		}
	}
	return append(out, box...)
}

// heading is the first line of a side.
func heading(t *style.Theme, text string, active bool, w int) string {
	fg := t.Dim
	if active {
		fg = t.Accent
	}
	return " " + t.Bold(fg, t.Clip(style.Clean(text), w-2))
}

// hue is the colour of a rule: it repeats the number.
func (m *Model) hue(t *style.Theme, rule string) color.Color {
	if n := m.ruleNumber[rule]; n > 0 && len(t.Hues) > 0 {
		return t.Hues[(n-1)%len(t.Hues)]
	}
	return nil
}

// what is what a file is, in words: with the number of its rule.
func (m *Model) what(why learn.Reason) string {
	if n := m.ruleNumber[why.Rule]; n > 0 {
		return fmt.Sprintf("%d  %s", n, why.Part)
	}
	return string(why.Part)
}

func (m *Model) treeSide(t *style.Theme, w, h int) []string {
	title := "what lies on " + m.from.Name
	out := []string{heading(t, title, !m.onSaid, w)}
	if len(m.rows) == 0 {
		say := m.problem
		if m.busy != "" {
			say = m.busy + " " + t.Glyph("…")
		}
		for _, l := range t.Wrap(style.Clean(say), w-3) {
			out = append(out, "  "+t.Paint(t.Dim, l))
		}
		return t.Block(out, w, h)
	}
	m.tree.Resize(len(m.rows), h-1)
	from, to := m.tree.Window()
	word := 24
	if w < 60 {
		word = 16
	}
	for i := from; i < to; i++ {
		r := m.rows[i]
		if r.heading != "" {
			out = append(out, " "+t.Rule(r.heading, w-2))
			continue
		}
		name := r.path
		if r.depth > 0 || r.folder {
			name = strings.Repeat("  ", r.depth) + path.Base(r.path)
		}
		if r.folder {
			name += "/"
		}
		c := style.Cell{Text: name, Width: w - word - 4, Bold: r.folder && r.why.Part == ""}
		what := style.Cell{Text: m.what(r.why), Width: word}
		switch {
		case r.why.Part == leftOut:
			c.FG, what.FG = t.Faint, t.Faint
		case r.why.Part != "":
			c.FG, what.FG = m.hue(t, r.why.Rule), m.hue(t, r.why.Rule)
		case !r.folder:
			c.FG, what.FG, what.Text = t.Warn, t.Warn, "not explained"
		}
		out = append(out, t.Row(w, !m.onSaid && i == m.tree.Cursor, c, what))
	}
	return t.Block(out, w, h)
}

func (m *Model) saidSide(t *style.Theme, w, h int) []string {
	title := map[side]string{rules: "its rules, as they were found", ownGames: "your games by these rules",
		profile: "the profile that W writes"}[m.shown]
	if m.width != w {
		m.width = w
		m.lines = m.sentences(t, w-4)
	}
	out := []string{heading(t, title, m.onSaid, w)}
	m.said.Resize(len(m.lines), h-1)
	from, to := m.said.Window()
	for i := from; i < to; i++ {
		l := m.lines[i]
		mark := " "
		if i == m.said.Cursor && m.onSaid {
			mark = t.Paint(t.Accent, t.Glyph("▌"))
		}
		fg := t.Text
		if l.fg != nil {
			fg = l.fg(t)
		}
		text := t.Paint(fg, l.text)
		if l.bold {
			text = t.Bold(fg, l.text)
		}
		out = append(out, mark+" "+text)
	}
	return t.Block(out, w, h)
}

func dim(t *style.Theme) color.Color  { return t.Dim }
func warn(t *style.Theme) color.Color { return t.Warn }
func good(t *style.Theme) color.Color { return t.Good }

// sentences are what the right side says, broken for w cells.
func (m *Model) sentences(t *style.Theme, w int) (out []line) {
	say := func(text, indent string, fg func(*style.Theme) color.Color, bold bool) {
		for _, part := range t.Wrap(style.Clean(text), w-len(indent)) {
			out = append(out, line{indent + part, fg, bold})
		}
	}
	switch {
	case m.draft == nil:
		if m.busy != "" {
			say(m.busy+" "+t.Glyph("…"), "", dim, false)
		} else {
			say(m.problem, "", warn, false)
		}
		return out
	case m.shown == profile:
		text := m.draft.TOML()
		if m.beyond != nil {
			if more := m.beyond.Additions(); more != "" {
				say("To add to the profile of "+m.beyond.Shown+" (+ does it):", "", good, true)
				for l := range strings.Lines(more) {
					out = append(out, line{t.Clip(style.Clean(strings.TrimRight(l, "\n")), w), nil,
						strings.HasPrefix(l, "[")})
				}
				out = append(out, line{})
				say("A whole profile, written again:", "", good, true)
			}
		}
		for l := range strings.Lines(text[max(0, strings.Index(text, "\nformat = ")+1):]) { // behind what the rules say
			var fg func(*style.Theme) color.Color
			if strings.HasPrefix(l, "#") {
				fg = dim
			}
			out = append(out, line{t.Clip(style.Clean(strings.TrimRight(l, "\n")), w), fg, strings.HasPrefix(l, "[")})
		}
		return out
	case m.shown == ownGames:
		return m.gameLines(t, w)
	}
	if m.problem != "" {
		say(m.problem, "", warn, true)
		out = append(out, line{})
	}
	findings := func(all []learn.Finding) {
		for _, f := range all {
			fg := map[learn.Confidence]func(
				*style.Theme) color.Color{learn.Certain: good, learn.Guess: warn}[f.Confidence]
			text := string(f.Confidence) + ": " + f.Say
			if n := m.ruleNumber[f.Rule]; n > 0 {
				text = fmt.Sprintf("%d  %s", n, text)
				if hue := m.hue(t, f.Rule); hue != nil {
					fg = func(*style.Theme) color.Color { return hue }
				}
			}
			say(text, "", fg, false)
			say(f.Evidence, "  ", dim, false)
		}
	}
	if b := m.beyond; b != nil {
		say("what the profile of "+b.Shown+" does not account for", "", nil, true)
		findings(b.Findings)
		if b.Additions() != "" {
			say("+ adds these rules to its profile.", "", good, false)
		}
		out = append(out, line{}, line{"all of it, learnt again", nil, true})
	}
	findings(m.draft.Findings)
	if len(m.draft.Against) > 0 {
		out = append(out, line{}, line{"what speaks against it", warn, true})
		for _, a := range m.draft.Against {
			say(a, "", warn, false)
		}
	}
	return out
}

// gameLines show where the user's own titles would go.
func (m *Model) gameLines(t *style.Theme, w int) (out []line) {
	switch {
	case m.busy != "" && !m.laid:
		return []line{{m.busy + " " + t.Glyph("…"), dim, false}}
	case len(m.games) == 0:
		for _, part := range t.Wrap("None of your games is of a platform that this console plays.", w) {
			out = append(out, line{part, dim, false})
		}
		return out
	}
	out = append(out, line{size.Count(len(m.games), "title"), dim, false})
	for _, g := range m.games {
		fg := good
		if g.refused {
			fg = warn
		}
		out = append(out, line{t.Clip(style.Clean(g.name), w), nil, false}, line{t.Clip("  "+style.Clean(g.path), w),
			fg, false})
	}
	return out
}

// boxLines is how many lines a question has at most.
const boxLines = 4

// box is the question that is shown, with its proposal.
func (m *Model) box(t *style.Theme, w int) []string {
	q := m.question()
	if m.hex != nil {
		return []string{t.Rule("point at a value", w),
			" " + t.Paint(t.Dim, t.Clip("The text under the cursor counts; space marks another beginning. i: it is "+
				"the ID, m: the name.", w-2))}
	}
	if q == nil {
		switch {
		case m.busy != "":
			return []string{t.Rule("one moment", w), " " + t.Paint(t.Dim, m.busy+" "+t.Glyph("…"))}
		case m.draft != nil && len(m.draft.Rules) > 0:
			return []string{t.Rule("nothing is open", w), " " + t.Paint(t.Good, "W writes the profile.")}
		}
		return nil
	}
	caption := fmt.Sprintf("question %d of %d", m.asked+1, len(m.questions()))
	if m.busy != "" {
		caption += ", " + m.busy + " " + t.Glyph("…")
	}
	out := []string{t.Rule(caption, w)}
	text := t.Wrap(style.Clean(strings.ToUpper(q.Say[:1])+q.Say[1:]), w-3)
	for _, l := range text[:min(len(text), boxLines-1)] {
		out = append(out, " "+t.Paint(t.Text, l))
	}
	usual := q.Usual
	if usual == "" {
		if usual = "nothing"; len(q.Choices) > 0 {
			usual = q.Choices[0]
		}
	}
	keys := fmt.Sprintf("y: %s   enter: another answer", style.Clean(usual))
	if len(m.questions()) > 1 {
		keys += "   right: the next question"
	}
	return append(out, " "+t.Bold(t.Accent, t.Clip(keys, w-2)))
}
