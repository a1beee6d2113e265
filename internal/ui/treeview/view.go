package treeview

import (
	"fmt"
	"image/color"
	"path"
	"strings"

	"polytome/internal/core/plan"
	"polytome/internal/core/survey"
	"polytome/internal/size"
	"polytome/internal/ui/state"
	"polytome/internal/ui/style"
)

// View draws the stage.
func (m *Model) View(t *style.Theme, w, h int) []string {
	if m.asList {
		return m.stepList(t, w, h)
	}
	pathWidth := w - 1 - 12 - 11 - 2
	out := []string{t.Row(w, false, style.Cell{Text: m.heading(pathWidth), Width: pathWidth, FG: t.Dim},
		style.Cell{Text: "size", Width: 11, Right: true, FG: t.Dim}, style.Cell{Text: "", Width: 10})}
	out = append(out, m.d.KnownLines(t, w, m.d.Target)...)
	m.top = len(out)
	m.list.Resize(len(m.shown), h-len(out))
	from, to := m.list.Window()
	for k := from; k < to; k++ {
		l := &m.lines[m.shown[k]]
		depth := strings.Count(l.Path, "/")
		name := strings.Repeat("   ", depth) + style.Clean(path.Base(l.Path))
		bytes := size.Column(l.Size)
		if l.Folder {
			name, bytes = name+"/", ""
			if m.folded[l.Path] && m.filter == "" {
				name += " " + t.Glyph("…")
			}
		}
		c := style.Cell{Text: name, Width: pathWidth, Bold: l.Folder}
		if l.State == survey.Kept {
			c.FG = t.Dim
		}
		out = append(out, t.Row(w, k == m.list.Cursor, c, style.Cell{Text: bytes, Width: 11, Right: true, FG: c.FG},
			m.stateOf(t, l)))
	}
	return t.Block(out, w, h)
}

// stateOf is what becomes of a line, or that something is known to be wrong with it then.
func (m *Model) stateOf(t *style.Theme, l *survey.Line) style.Cell {
	if l.State != survey.Removing && m.d.KnownAt(m.d.Target, l.Path) != nil {
		return style.Cell{Text: "!" + string(l.State), Width: 10, FG: t.Bad}
	}
	return style.Cell{Text: string(l.State), Width: 10, FG: colourOf(t, l.State)}
}

func colourOf(t *style.Theme, s survey.State) color.Color {
	switch s {
	case survey.Kept:
		return t.Dim
	case survey.New, survey.Written:
		return t.Good
	case survey.Renamed:
		return t.Accent
	case survey.Removing, survey.InTheWay, survey.Contested:
		return t.Bad
	}
	return t.Warn
}

// heading counts what becomes of the files.
func (m *Model) heading(w int) string {
	s := m.d.Current()
	switch {
	case s == nil:
		return "the target has not been read yet"
	case m.made.of != s:
		return style.Clean(s.Config.Name) + ": one moment"
	}
	text := fmt.Sprintf("%s: %s", style.Clean(s.Config.Name), size.Count(m.counts[survey.New]+m.counts[survey.Written],
		"new file"))
	for _, x := range []survey.State{survey.Renamed, survey.Replaced, survey.Removing, survey.InTheWay,
		survey.Contested} {
		if n := m.counts[x]; n > 0 {
			text += fmt.Sprintf(", %d %s", n, x)
		}
	}
	if m.counts[survey.Removing] == 0 {
		text += ", none removed"
	}
	if more := fmt.Sprintf(", %d kept", m.counts[survey.Kept]); style.Width(text+more) <= w {
		text += more
	}
	if s.Away != nil {
		text += " (not connected; as of " + s.Taken.Local().Format("15:04") + ")"
	}
	return text
}

// stepList draws the steps in their order.
func (m *Model) stepList(t *style.Theme, w, h int) []string {
	s, p := m.d.Current(), m.d.Plan(m.d.Target)
	if s == nil || p == nil {
		return t.Block([]string{"", "  " + t.Paint(t.Dim, "The plan is being made.")}, w, h)
	}
	head := t.Bold(t.Text, " "+style.Clean(s.Config.Name)+": ") + t.Paint(t.Text, p.Say()) + t.Paint(t.Dim,
		"; "+m.d.PlanTime(m.d.Target, p).String())
	const what, bytes, time = 11, 11, 14
	pathWidth := max(10, w-1-5-what-bytes-time-5)
	out := []string{head, t.Row(w, false, style.Cell{Text: "", Width: 4}, style.Cell{Text: "step", Width: what,
		FG: t.Dim}, style.Cell{Text: "path", Width: pathWidth, FG: t.Dim},
		style.Cell{Text: "size", Width: bytes, Right: true, FG: t.Dim}, style.Cell{Text: "time", Width: time,
			FG: t.Dim})}
	for _, n := range p.Notes {
		out = append(out, " "+t.Paint(t.Warn, t.Clip(n, w-2)))
	}
	out = append(out, m.d.KnownLines(t, w, m.d.Target)...)
	m.top = len(out)
	rows := m.steps.Rows(p)
	m.steps.Resize(len(rows), h-len(out))
	from, to := m.steps.Window()
	speed := s.Speed()
	for i := from; i < to; i++ {
		if r := rows[i]; r.What != "" {
			var bytes int64
			for _, x := range p.Steps[r.From:r.To] {
				bytes += x.Size
			}
			number := style.Cell{Text: fmt.Sprint(r.From + 1), Width: 4, Right: true, FG: t.Dim}
			out = append(out, t.Row(w, i == m.steps.Cursor, number, style.Cell{Text: "small", Width: what},
				style.Cell{Text: r.What + " " + t.Glyph("…"), Width: pathWidth},
				style.Cell{Text: size.Column(bytes), Width: 11, Right: true, FG: t.Dim},
				style.Cell{Text: speed.Of(r.To-r.From, bytes).String(), Width: time, FG: t.Dim}))
			continue
		}
		x := &p.Steps[rows[i].From]
		amount, took := "", ""
		if x.Size > 0 {
			amount = size.Column(x.Size)
		}
		if x.Writes() || x.Kind == plan.Backup {
			took = speed.Of(1, x.Size).String()
		}
		shown := x.Path
		if x.Kind == plan.Move {
			shown = x.From + " " + t.Glyph("→") + " " + x.Path
		}
		fg := t.Text
		if x.Kind == plan.Remove || x.Kind == plan.Replace {
			fg = t.Warn
		}
		number := style.Cell{Text: fmt.Sprint(rows[i].From + 1), Width: 4, Right: true, FG: t.Dim}
		out = append(out, t.Row(w, i == m.steps.Cursor, number, style.Cell{Text: x.Words(), Width: what, FG: fg},
			style.Cell{Text: shown, Width: pathWidth}, style.Cell{Text: amount, Width: bytes, Right: true, FG: t.Dim},
			style.Cell{Text: took, Width: time, FG: t.Dim}))
	}
	if len(p.Steps) == 0 {
		out = append(out, "", "  "+t.Paint(t.Dim, "Nothing to do: "+p.Idle()+"."))
	}
	return t.Block(out, w, h)
}

func (m *Model) stepWhy() state.Why {
	p := m.d.Plan(m.d.Target)
	if p == nil || len(p.Steps) == 0 {
		return state.Why{Lead: "Nothing", Say: "has to be done."}
	}
	rows := m.steps.Rows(p)
	from, to := m.steps.Steps()
	if to == 0 {
		from, to = 0, 1
	}
	if to-from > 1 {
		return state.Why{Lead: fmt.Sprintf("Steps %d to %d:", from+1, to), Say: rows[m.steps.Cursor].What + ".",
			Ways: []string{"enter shows them one by one"}}
	}
	s := &p.Steps[from]
	w := state.Why{Lead: fmt.Sprintf("Step %d, %s:", from+1, s.Words()), Say: s.Path + "."}
	if s.Kind == plan.Move {
		w.Say = s.From + " becomes " + s.Path + "."
	}
	if s.Label != "" {
		w.Say += " It is for " + s.Label + "."
	}
	if s.Why != "" {
		w.Say += " " + strings.ToUpper(s.Why[:1]) + s.Why[1:]
		if s.Make != nil && s.Make.Emit() != "" {
			w.Say += "; " + s.Make.Emit()
		}
		w.Say += "."
	}
	if len(s.Needs) > 0 {
		w.Say += fmt.Sprintf(" It is done only after step %d.", s.Needs[len(s.Needs)-1]+1)
	}
	if s.Last {
		w.Say += " It runs only if every step before it succeeded."
	}
	return w
}
