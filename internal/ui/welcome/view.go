package welcome

import (
	"fmt"

	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// View draws the screen.
func (m *Model) View(t *style.Theme, w, h int) []string {
	lines := []string{""}
	for _, l := range t.Wrap("Polytome fills the drives of your consoles: it knows how each loader wants its games, shows "+
		"what fits and why, writes it, and checks that the console will list it. Nothing is written before you agree.",
		min(w-4, 110)) {
		lines = append(lines, "  "+t.Paint(t.Text, l))
	}
	lines = append(lines, "", m.answered(t, w))
	ask, typing := m.heading()
	lines = append(lines, "  "+t.Bold(t.Accent, style.Clean(ask))+m.searching(t), "")
	m.top = len(lines)
	tail := m.tail(t, w, typing)
	m.list.Resize(len(m.choices), max(3, h-len(lines)-len(tail)-1))
	from, to := m.list.Window()
	name := 0
	for _, c := range m.choices[from:to] {
		name = max(name, style.Width(c.name)+2)
	}
	name = min(name, w/2)
	for i := from; i < to; i++ {
		c := &m.choices[i]
		if c.apart && i > from {
			lines = append(lines, "")
		}
		lines = append(lines, t.Row(w, i == m.list.Cursor && m.input.Value() == "",
			style.Cell{Text: " " + c.name, Width: name, Bold: i == m.list.Cursor},
			style.Cell{Text: c.say, Width: w - name - 3, FG: t.Dim}))
	}
	lines = append(lines, m.ahead(t, w, h-len(tail)-len(lines))...)
	for len(lines) < h-len(tail) {
		lines = append(lines, "")
	}
	return t.Block(append(lines, tail...), w, h)
}

// ahead shows below the first question what was found for the next one, where there is room for it.
func (m *Model) ahead(t *style.Theme, w, h int) []string {
	if m.at != whereGames || h < 5 {
		return nil
	}
	out := []string{"", "", "  " + t.Paint(t.Dim, "Then: what shall be filled?")}
	if m.d.DrivesSeen == 0 {
		out[2] += t.Paint(t.Dim, "  looking …")
		return out
	}
	all := m.drivesFound()
	if len(all) == 0 {
		_, typing := headings(whatToFill)
		say := "No drive is plugged in; one that you plug in is offered then, " + typing
		out = append(out, "")
		for _, l := range t.Wrap(say, min(w-4, 110)) {
			out = append(out, "  "+t.Paint(t.Dim, l))
		}
		return out[:min(h, len(out))]
	}
	out = append(out, "")
	for _, c := range all[:min(len(all), h-len(out))] {
		out = append(out, t.Row(w, false, style.Cell{Text: " " + c.name, Width: min(26, w/2), FG: t.Dim},
			style.Cell{Text: c.say, Width: w - min(26, w/2) - 3, FG: t.Dim}))
	}
	return out
}

// answered says what was answered before.
func (m *Model) answered(t *style.Theme, w int) string {
	switch m.at {
	case whatToFill:
		return "  " + t.Paint(t.Dim, t.Clip("Games: "+state.Short(m.source), w-4))
	case whichLoader:
		return "  " + t.Paint(t.Dim, t.Clip(fmt.Sprintf("Games: %s    To fill: %s", state.Short(m.source),
			m.targetName()), w-4))
	}
	return ""
}

// searching says that more may be found.
func (m *Model) searching(t *style.Theme) string {
	if m.at == whereGames && !m.looked || m.at == whatToFill && m.d.DrivesSeen == 0 {
		return t.Paint(t.Dim, "  looking …")
	}
	return ""
}

// tail are the lines at the foot: what is typed, what is wrong, where the bench lies, and the keys.
func (m *Model) tail(t *style.Theme, w int, typing string) (out []string) {
	m.input.SetWidth(max(10, w-8))
	out = append(out, "", "  "+t.Paint(t.Dim, t.Clip(typing+":", w-4)), "  "+t.Paint(t.Accent, t.Glyph("▸"))+" "+
		m.input.View(), "")
	if m.problem != "" {
		fg := t.Bad
		if m.typed != nil { // nothing is wrong: it is being looked at
			fg = t.Dim
		}
		for _, l := range t.Wrap(style.Clean(m.problem), w-4) {
			out = append(out, "  "+t.Paint(fg, l))
		}
		out = append(out, "")
	}
	where := "Your choices are kept in " + state.Short(m.d.Bench.File()) + "."
	if m.d.Bench.File() == "" {
		where = "Your choices are not kept."
	}
	keys := "arrows choose · enter OK · tab completes a path · esc back · ctrl+c quits"
	return append(out, "  "+t.Paint(t.Dim, t.Clip(where, w-4)), "  "+t.Paint(t.Dim, t.Clip(keys, w-4)))
}
