package checkview

import (
	"fmt"
	"image/color"
	"slices"
	"strings"

	"polytome/internal/core/check"
	"polytome/internal/core/loader"
	"polytome/internal/size"
	"polytome/internal/ui/pixels"
	"polytome/internal/ui/style"
)

// perFinding is how many rows a finding takes.
const perFinding = 2

// View draws the stage.
func (m *Model) View(t *style.Theme, w, h int) []string {
	r := m.report()
	if r == nil {
		why := m.notYet()
		return t.Block(append([]string{"", "  " + t.Bold(t.Dim, t.Clip(m.heading(), w-4)), ""},
			t.Wrap("  "+why.Lead+" "+why.Say, w-2)...), w, h)
	}
	left := min(max(36, w*2/5), w/2)
	m.split = left
	right := w - left - 1
	checks := min(len(r.Checklist)+1, max(3, h/3))
	if len(r.Checklist) == 0 {
		checks = 2
	}
	l := m.drawListed(t, r, left, h)
	var f []string
	if m.changes {
		f = m.drawChanges(t, right, h-checks-1)
	} else {
		f = m.drawFindings(t, r, right, h-checks-1)
	}
	m.origin = [panes]int{1, 1, len(f) + 2}
	f = append(f, t.Rule("", right))
	f = t.Block(append(f, m.drawChecklist(t, r, right, checks)...), right, h)
	out := make([]string, h)
	for y := range out {
		out[y] = l[y] + t.Paint(t.Faint, t.Glyph("│")) + f[y]
	}
	return out
}

// heading names the target and its loaders.
func (m *Model) heading() string {
	p, s := m.target(), m.d.Current()
	switch {
	case p == nil:
		return ""
	case s == nil:
		return p.Name
	}
	return p.Name + " for " + s.Shown()
}

// caption heads a pane, and shows where the cursor is.
func (m *Model) caption(t *style.Theme, p pane, text string, w int) string {
	if p == m.pane {
		return t.Bold(t.Accent, t.Glyph("▸")) + " " + t.Bold(t.Accent, t.Clip(text, w-3))
	}
	return "  " + t.Bold(t.Dim, t.Clip(text, w-3))
}

// cardRows is how many rows the picture of a title takes, with its heading.
const cardRows = 13

func (m *Model) drawListed(t *style.Theme, r *check.Report, w, h int) []string {
	name := r.Loader
	if s := m.d.Current(); s != nil {
		name = s.Shown()
	}
	text := fmt.Sprintf("%s: lists %d", name, len(r.Listed)-r.BuiltIn())
	if n := r.BuiltIn(); n > 0 {
		text += fmt.Sprintf(" + %d", n)
	}
	if n := r.Starts(); n < len(r.Listed) {
		text += fmt.Sprintf(", starts %d", n-r.BuiltIn())
	}
	if m.ahead() {
		text = "after the run, " + text
	}
	if style.Width(text) > w-4 { // what matters stays to be seen
		text = strings.Replace(text, name+": ", "", 1)
	}
	out := []string{m.caption(t, listed, text, w)}
	card := m.card(t, r, w, h)
	rows := h - 1 - len(card)
	list := &m.lists[listed]
	list.Resize(len(m.rows), rows)
	from, to := list.Window()
	several := slices.ContainsFunc(r.Listed, func(l check.Listed) bool { return l.Loader != r.Listed[0].Loader })
	for k := from; k < to; k++ {
		if m.rows[k].line < 0 {
			out = append(out, t.Row(w, m.pane == listed && k == list.Cursor, m.headCells(t, m.rows[k], w)...))
			continue
		}
		i := m.rows[k].line
		l := &r.Listed[i]
		number := style.Cell{Text: fmt.Sprint(i + 1), Width: 4, Right: true, FG: t.Dim}
		name := style.Cell{Text: l.Name, Width: w - 7}
		if m.rows[k].sub {
			name.Text = "  " + name.Text
		}
		if l.Favourite {
			name.Text += " " + t.Glyph("♥")
		}
		status := style.Cell{Width: 12, FG: t.Dim}
		switch {
		case !l.Starts:
			name.FG = t.Bad
			status = style.Cell{Text: "won't start", Width: 12, FG: t.Bad}
		case l.BuiltIn:
			name.FG, status.Text = t.Dim, "built in"
		case several:
			status.Text = l.Loader
		case l.Discs > 1:
			status.Text = size.Count(l.Discs, "disc")
		case l.Kind != "":
			status.Text = l.Kind
		case l.ID == "":
			status.Text = m.d.Shown(l.Platform)
		}
		cells := []style.Cell{number, name}
		switch {
		case w >= 52:
			cells[1].Width -= 25
			cells = slices.Insert(append(cells, status), 1, style.Cell{Text: l.ID, Width: 11, FG: t.Dim})
		case w >= 38 || !l.Starts:
			cells[1].Width -= 13
			cells = append(cells, status)
		}
		out = append(out, t.Row(w, m.pane == listed && k == list.Cursor, cells...))
	}
	if len(r.Listed) == 0 {
		say := "Nothing will be listed: see the problems."
		if !m.ahead() && m.canForesee() {
			say = "Nothing is listed yet. v shows what will be after the run."
		}
		if len(r.Findings) == 0 {
			say = "Nothing is on the target yet."
		}
		out = append(out, "", "  "+t.Paint(t.Warn, t.Clip(say, w-3)))
	}
	return append(t.Block(out, w, h-len(card)), card...)
}

// pictured reports whether the loaders of the target show covers.
func (m *Model) pictured() bool {
	s := m.d.Current()
	return s != nil && slices.ContainsFunc(s.Profiles, func(p *loader.Profile) bool {
		return slices.ContainsFunc(p.Companions, func(c loader.Companion) bool { return c.Is == "cover" })
	})
}

// card is the title under the cursor as the console shows it: its cover, and its name.
func (m *Model) card(t *style.Theme, r *check.Report, w, h int) []string {
	l := m.line()
	if l == nil || h < 2*cardRows {
		return nil
	}
	const across = 22
	var pic []string
	im, known := m.covers[cover{r, l.Cover}]
	switch {
	case l.Cover == "" && !m.pictured():
	case l.Cover == "":
		pic = pixels.Card(t, []string{"no cover", "is here"}, across, cardRows-2)
	case im != nil:
		pic = pixels.Draw(t, im, across, cardRows-1)
	case known:
		pic = pixels.Card(t, []string{"a cover", "that cannot", "be shown"}, across, cardRows-2)
	case m.ahead():
		pic = pixels.Card(t, []string{"its cover", "comes with", "the run"}, across, cardRows-2)
	default:
		pic = pixels.Card(t, []string{"reading", "the cover"}, across, cardRows-2)
	}
	wide := 0
	for _, line := range pic {
		wide = max(wide, style.Width(line))
	}
	if wide > 0 {
		wide += 2
	}
	space := w - wide - 4
	var text []string
	add := func(c color.Color, s string, bold bool) {
		for _, line := range t.Wrap(style.Clean(s), max(8, space)) {
			if bold {
				text = append(text, t.Bold(c, line))
			} else {
				text = append(text, t.Paint(c, line))
			}
		}
	}
	add(t.Text, l.Name, true)
	if l.ID != "" {
		add(t.Dim, l.ID, false)
	}
	kind := m.d.Shown(l.Platform)
	if l.Kind != "" {
		kind += ", " + l.Kind
	}
	add(t.Dim, kind, false)
	if !l.BuiltIn {
		add(t.Dim, size.Format(l.Size), false)
	}
	if l.Discs > 1 {
		add(t.Dim, size.Count(l.Discs, "disc"), false)
	}
	switch {
	case !l.Starts:
		add(t.Bad, "does not start", false)
	case about(r, l):
		add(t.Warn, "starts; see the problems", false)
	default:
		add(t.Good, "starts", false)
	}
	out := []string{t.Rule("as the console shows it", w)}
	for y := range cardRows - 1 {
		line := "  "
		if y < len(pic) {
			line += pic[y] + strings.Repeat(" ", wide-style.Width(pic[y]))
		} else {
			line += strings.Repeat(" ", wide)
		}
		if y < len(text) {
			line += text[y]
		}
		out = append(out, line)
	}
	return t.Block(out, w, cardRows)
}

func (m *Model) drawFindings(t *style.Theme, r *check.Report, w, h int) []string {
	text := "nothing to fix"
	if n := len(r.Findings); n > 0 {
		text = size.Count(n, "finding")
	}
	if p := m.target(); p != nil {
		text = p.Name + ": " + text
	}
	if n := m.marked(); n > 0 {
		text += fmt.Sprintf(", %d marked to be fixed", n)
	}
	if m.filter != "" {
		text += fmt.Sprintf(", %d shown", len(m.found))
	}
	if c := r.Changes; c != nil && !c.Empty() {
		text += fmt.Sprintf(" %s c: %s", t.Glyph("·"), c.Words())
	}
	text += map[check.Depth]string{check.Names: " " + t.Glyph("·") + " names and sizes only, F reads all",
		check.Whole: " " + t.Glyph("·") + " every byte was read"}[r.Depth]
	out := []string{m.caption(t, findings, text, w)}
	list := &m.lists[findings]
	list.Resize(len(m.found), max(1, (h-1)/perFinding))
	from, to := list.Window()
	p := m.target()
	for k := from; k < to; k++ {
		f := &r.Findings[m.found[k]]
		colour, word := grade(t, f.Grade)
		at := f.Path
		if at == "" {
			at = "the target"
		}
		status := style.Cell{Text: "by hand", Width: 9, FG: t.Dim}
		switch {
		case len(f.Fixes) > 0 && p != nil && p.Fixing(f.Fixes...):
			status = style.Cell{Text: "marked", Width: 9, FG: t.Good, Bold: true}
		case len(f.Fixes) > 0:
			status = style.Cell{Text: "m fixes", Width: 9, FG: t.Good}
		}
		cells := []style.Cell{{Text: word, Width: 7, FG: colour, Bold: true}, {Text: at, Width: w - 21}, status}
		if w < 46 {
			cells = []style.Cell{{Text: word, Width: 7, FG: colour, Bold: true}, {Text: at, Width: w - 11}}
		}
		out = append(out, t.Row(w, m.pane == findings && k == list.Cursor, cells...),
			strings.Repeat(" ", 9)+t.Paint(t.Dim, t.Clip(style.Clean(f.Say), w-11)))
	}
	if len(r.Findings) == 0 {
		out = append(out, "  "+t.Paint(t.Good, t.Clip("Everything here is as the loader needs it.", w-3)))
	}
	notes := []string{}
	if n := len(r.Others); n > 0 {
		notes = append(notes, fmt.Sprintf("Files no loader knows, left alone: %s.", some(r.Others)))
	}
	for _, u := range r.Unchecked {
		notes = append(notes, "Not checked: "+u+".")
	}
	if len(out) < h-1 {
		out = append(out, "")
		for _, u := range notes {
			for _, l := range t.Wrap(style.Clean(u), w-4) {
				out = append(out, "  "+t.Paint(t.Dim, l))
			}
		}
	}
	return t.Block(out, w, h)
}

func some(all []string) string {
	const most = 3
	if len(all) <= most {
		return strings.Join(all, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(all[:most], ", "), len(all)-most)
}

// drawChanges shows what differs from the last check.
func (m *Model) drawChanges(t *style.Theme, w, h int) []string {
	p := m.checked()
	out := []string{m.caption(t, findings, "since the check of "+p.Before.Taken.Local().Format("2 Jan 15:04"), w)}
	var lines []string
	part := func(c color.Color, title string, all []string) {
		if len(all) == 0 {
			return
		}
		lines = append(lines, "", "  "+t.Bold(c, fmt.Sprintf("%s (%d)", title, len(all))))
		for _, x := range all {
			lines = append(lines, "    "+t.Clip(style.Clean(x), w-6))
		}
	}
	say := func(all []check.Finding) (out []string) {
		for _, f := range all {
			at := f.Path
			if at == "" {
				at = "the target"
			}
			out = append(out, at+": "+f.Say)
		}
		return out
	}
	part(t.Good, "now listed and starting", p.Changes.Came)
	part(t.Good, "fixed", say(p.Changes.Fixed))
	part(t.Bad, "no longer listed or starting", p.Changes.Went)
	part(t.Warn, "new problems", say(p.Changes.New))
	if len(lines) == 0 {
		lines = append(lines, "", "  "+t.Paint(t.Dim, "Nothing changed."))
	}
	list := &m.lists[findings]
	list.Resize(len(lines), h-1)
	from, to := list.Window()
	return t.Block(append(out, lines[from:to]...), w, h)
}

func grade(t *style.Theme, g check.Grade) (color.Color, string) {
	switch g {
	case check.Stops:
		return t.Bad, "STOPS"
	case check.Fault:
		return t.Bad, "fault"
	}
	return t.Warn, "remark"
}

func (m *Model) drawChecklist(t *style.Theme, r *check.Report, w, h int) []string {
	done := 0
	for _, c := range r.Checklist {
		if m.ticked(c) {
			done++
		}
	}
	text := "then, at the console"
	if s := m.d.Current(); s != nil && s.Profile.Console != "" {
		text = "then, at the " + s.Profile.Console
	}
	if done > 0 {
		text += fmt.Sprintf(": %d of %d done", done, len(r.Checklist))
	}
	out := []string{m.caption(t, checklist, text, w)}
	list := &m.lists[checklist]
	list.Resize(len(r.Checklist), h-1)
	from, to := list.Window()
	for i := from; i < to; i++ {
		box, fg := "[ ]", t.Text
		if m.ticked(r.Checklist[i]) {
			box, fg = "["+t.Glyph("✓")+"]", t.Dim
		}
		out = append(out, t.Row(w, m.pane == checklist && i == list.Cursor, style.Cell{Text: box, Width: 3, FG: fg},
			style.Cell{Text: r.Checklist[i], Width: w - 7, FG: fg}))
	}
	if len(r.Checklist) == 0 {
		out = append(out, "  "+t.Paint(t.Dim, "Nothing to do at the console."))
	}
	return t.Block(out, w, h)
}
