package loadersview

import (
	"bytes"
	"fmt"
	"os"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/size"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// ruleLine is one line of the side with the rules.
type ruleLine struct {
	text    string
	heading bool
	bad     bool // a line of a file with a mistake
	dim     bool
}

// twoSides is the width from which both sides are shown.
const twoSides = 100

// View draws the panel.
func (m *Model) View(t *style.Theme, w, h int) []string {
	out := []string{m.bar(t, w), ""}
	m.paneTop = len(out) + 1
	body := h - len(out)
	if w < twoSides {
		m.split = 0
		if m.onTree {
			return append(out, m.treeSide(t, w, body)...)
		}
		return append(out, m.ruleSide(t, w, body)...)
	}
	left := w * 11 / 20
	m.split = left + 1
	l, r := m.ruleSide(t, left, body), m.treeSide(t, w-left-1, body)
	for y := range body {
		out = append(out, l[y]+t.Paint(t.Faint, t.Glyph("│"))+r[y])
	}
	return out
}

// bar lists the loaders, as many as have space around the one that is shown.
func (m *Model) bar(t *style.Theme, w int) string {
	all := m.list()
	from, used := m.at, 0
	width := func(i int) int { return style.Width(all[i].name()) + 5 }
	for used = 10; from > 0 && used+width(from-1)+width(m.at) < w/2; from-- {
		used += width(from - 1)
	}
	line := " "
	if from > 0 {
		line += t.Paint(t.Dim, t.Glyph("…")) + " "
	}
	for i := from; i < len(all); i++ {
		name := style.Clean(all[i].name())
		if style.Width(line)+width(i) > w-2 {
			line += t.Paint(t.Dim, t.Glyph("…"))
			break
		}
		switch {
		case i == m.at:
			line += t.Bold(t.Accent, t.Glyph("▸")+name)
		case all[i].broken != nil:
			line += t.Paint(t.Bad, " "+name)
		default:
			line += t.Paint(t.Dim, " "+name)
		}
		if all[i].broken != nil {
			line += t.Paint(t.Bad, "!")
		} else if all[i].profile.Own {
			line += t.Paint(t.Good, "*")
		}
		line += "   "
	}
	if hint := "left, right: the other loaders"; len(all) > 1 && style.Width(line)+len(hint)+2 < w {
		line += strings.Repeat(" ", w-style.Width(line)-len(hint)-2) + t.Paint(t.Faint, hint)
	}
	return t.Block([]string{line}, w, 1)[0]
}

// heading is the first line of a side.
func (m *Model) heading(t *style.Theme, text string, active bool, w int) string {
	fg := t.Dim
	if active {
		fg = t.Accent
	}
	return t.Block([]string{" " + t.Bold(fg, t.Clip(text, w-2))}, w, 1)[0]
}

func (m *Model) ruleSide(t *style.Theme, w, h int) []string {
	e := m.current()
	title := "no loader"
	switch {
	case e.broken != nil:
		title = e.broken.File
	case e.profile != nil:
		title = fmt.Sprintf("%s for the %s: its rules", e.profile.Shown, e.profile.Console)
		if e.profile.Console == "" {
			title = e.profile.Shown + ": its rules"
		}
	}
	if m.rows != w {
		m.rows = w
		m.ruleRow = m.breakRules(t, w-4)
	}
	out := []string{m.heading(t, title, !m.onTree, w)}
	m.rules.Resize(len(m.ruleRow), h-1)
	from, to := m.rules.Window()
	for i := from; i < to; i++ {
		r := m.ruleRow[i]
		mark := " "
		if i == m.rules.Cursor && !m.onTree {
			mark = t.Paint(t.Accent, t.Glyph("▌"))
		}
		text := t.Paint(t.Text, r.text)
		switch {
		case r.heading:
			text = t.Bold(t.Text, r.text)
		case r.bad:
			text = t.Bold(t.Bad, r.text)
		case r.dim:
			text = t.Paint(t.Dim, r.text)
		}
		out = append(out, mark+" "+text)
	}
	return t.Block(out, w, h)
}

// breakRules breaks the sentences for w cells.
func (m *Model) breakRules(t *style.Theme, w int) []ruleLine {
	e := m.current()
	var out []ruleLine
	if e.broken != nil {
		return m.mistakeLines(t, w)
	}
	if e.profile == nil {
		return nil
	}
	for i, s := range e.profile.Explain() {
		if i > 0 {
			out = append(out, ruleLine{})
		}
		out = append(out, ruleLine{text: style.Clean(s.Title), heading: true})
		for _, l := range s.Lines {
			l, under := strings.CutPrefix(l, loader.Under)
			for k, part := range t.Wrap(style.Clean(l), w-2) {
				indent := "  "
				if k == 0 && !under {
					indent = t.Glyph("·") + " "
				}
				out = append(out, ruleLine{text: indent + part, dim: under})
			}
		}
	}
	return out
}

// mistakeLines shows each mistake of a file at its line, with the lines around it.
func (m *Model) mistakeLines(t *style.Theme, w int) []ruleLine {
	e := m.current()
	data, _ := os.ReadFile(e.broken.File)
	lines := strings.Split(string(bytes.ToValidUTF8(data, []byte("?"))), "\n")
	var out []ruleLine
	for _, x := range mistakes(e.broken.Err) {
		if len(out) > 0 {
			out = append(out, ruleLine{})
		}
		for n := max(1, x.Line-2); x.Line > 0 && n <= min(len(lines), x.Line+2); n++ {
			mark := "  "
			if n == x.Line {
				mark = t.Glyph("▸") + " "
			}
			out = append(out, ruleLine{text: t.Clip(fmt.Sprintf("%s%4d  %s", mark, n,
				style.Clean(strings.ReplaceAll(lines[n-1], "\t", "  "))), w), bad: n == x.Line, dim: n != x.Line})
		}
		say := state.Sentence(x.Say)
		if x.Meant != "" {
			say = strings.TrimSuffix(say, ".") + fmt.Sprintf(": did you mean %q?", x.Meant)
		}
		for _, part := range t.Wrap(style.Clean(say), w-2) {
			out = append(out, ruleLine{text: "  " + part})
		}
	}
	return out
}

func (m *Model) treeSide(t *style.Theme, w, h int) []string {
	e := m.current()
	title := "the tree as it was before the mistake"
	switch {
	case e.profile != nil:
		title = "your titles on the " + wayShown(m.way(e.profile))
	case m.made.profile == nil || m.made.profile.Name != e.name():
		return t.Block([]string{m.heading(t, "no tree: the file has a mistake", m.onTree, w)}, w, h)
	}
	out := []string{m.heading(t, title, m.onTree, w)}
	foot := ""
	switch {
	case e.profile != nil && !m.ready():
		out = append(out, " "+t.Paint(t.Dim, "laying your titles out "+t.Glyph("…")))
		return t.Block(out, w, h)
	case len(m.d.Scan.Titles) == 0:
		out = append(out, " "+t.Paint(t.Dim, "there are no titles yet"))
	}
	foreign := 0
	for _, l := range m.left {
		if l.why.Foreign {
			foreign++
		}
	}
	if foreign > 0 {
		foot = fmt.Sprintf("%s does not use %d of %s.", m.made.profile.Shown, foreign, size.Count(len(m.d.Scan.Titles),
			"title"))
	}
	if n := len(m.left) - foreign; n > 0 {
		foot += fmt.Sprintf(" %s no path here: %s.", has(n), m.reason())
	}
	rows := h - 1
	var feet []string
	if foot != "" {
		feet = t.Wrap(style.Clean(foot), w-2)
		feet = feet[:min(len(feet), 3)]
		rows -= len(feet)
	}
	m.tree.Resize(len(m.lines), rows)
	from, to := m.tree.Window()
	for i := from; i < to; i++ {
		l := m.lines[i]
		name := strings.Repeat("  ", l.Depth()) + style.Clean(l.Name())
		if l.Folder {
			name += "/"
		}
		c := style.Cell{Text: name, Width: w - 16, Bold: l.Folder}
		note := style.Cell{Text: size.Column(l.Size), Width: 12, Right: true, FG: t.Dim}
		switch {
		case l.Shape != shape.Whole:
			c.FG, note.Text, note.FG = t.Dim, shape.Of(l.Shape).Word, t.Warn
			switch l.Shape {
			case shape.Written:
				note.FG = t.Dim
			case shape.Fitted:
				note.Text, note.FG = "if available", t.Dim
			}
		case l.Folder:
			note.Text = ""
		}
		out = append(out, t.Row(w, m.onTree && i == m.tree.Cursor, c, note))
	}
	for len(out) < h-len(feet) {
		out = append(out, "")
	}
	for _, f := range feet {
		out = append(out, " "+t.Paint(t.Warn, f))
	}
	return t.Block(out, w, h)
}

// has counts titles that have something.
func has(n int) string {
	if n == 1 {
		return "1 has"
	}
	return fmt.Sprintf("%d have", n)
}

// reason tells the most frequent reason why titles that the loader knows have no path.
func (m *Model) reason() string {
	count := map[string]int{}
	best := ""
	for _, l := range m.left {
		if l.why.Foreign {
			continue
		}
		count[l.why.Say]++
		if n := count[l.why.Say]; n > count[best] || n == count[best] && l.why.Say < best {
			best = l.why.Say
		}
	}
	return best
}
