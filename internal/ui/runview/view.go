package runview

import (
	"fmt"
	"image/color"
	"strings"
	"time"

	"polytome/internal/core/estimate"
	"polytome/internal/core/journal"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/size"
	"polytome/internal/ui/state"
	"polytome/internal/ui/steplist"
	"polytome/internal/ui/style"
)

// checks says how files are checked before they get their names.
func checks(v run.Verify) string {
	switch v {
	case run.VerifyNone:
		return "Files are not verified"
	case run.VerifySize:
		return "The length of every file is verified"
	case run.VerifyFull:
	}
	return "Every file is read back and compared"
}

// View draws the stage: the targets, the speed of one of them, and its steps or the runs of the past.
func (m *Model) View(t *style.Theme, w, h int) []string {
	out := m.drawLanes(t, w, h)
	l, p := m.lane(), m.plan()
	if m.part == past {
		out = append(out, t.Rule("past runs", w))
		m.tops[past], m.tops[steps] = len(out), h
		return t.Block(append(out, m.drawPast(t, w, h-len(out))...), w, h)
	}
	if j := m.discJob(); j != nil {
		m.tops[steps], m.tops[past] = h, h
		return t.Block(append(out, m.drawDisc(t, j, w, h-len(out))...), w, h)
	}
	if s := m.serving(); s != nil && m.part == lanes && (l == nil || !l.Running()) {
		m.tops[steps], m.tops[past] = h, h
		if rows := min(5, (h-len(out))/4); rows > 1 && s.Bytes > 0 {
			out = append(out, t.Rule("speed at "+m.name(), w))
			out = append(out, chart(t, s.Speeds, w-2, rows)...)
		}
		return t.Block(append(out, m.drawServed(t, s, w, h-len(out))...), w, h)
	}
	if rows := min(5, (h-len(out))/4); l != nil && rows > 1 && len(l.Speeds) > 0 && !l.Plan.Refers {
		out = append(out, t.Rule("speed at "+l.Name, w))
		out = append(out, chart(t, l.Speeds, w-2, rows)...)
	}
	if m.canWrite() {
		out = append(out, m.d.KnownLines(t, w, m.d.Target)...)
	}
	caption := "steps at " + m.name()
	if l != nil {
		caption += fmt.Sprintf(", %d of %d done", count(l, run.StepDone), len(p.Steps))
	}
	out = append(out, t.Rule(caption, w))
	m.tops[steps], m.tops[past] = len(out), h
	if len(p.Steps) == 0 {
		text := "Nothing is planned: select titles in Fit (2)."
		if s := m.d.Current(); s != nil && s.Sheet.Count > 0 {
			text = "Everything you selected is already there."
		}
		return t.Block(append(out, "  "+t.Paint(t.Dim, text)), w, h)
	}
	rows := m.steps.Rows(p)
	m.steps.Resize(len(rows), h-len(out))
	if l != nil && m.follow {
		m.steps.Go(l.Step)
	}
	from, to := m.steps.Window()
	for i := from; i < to; i++ {
		if r := rows[i]; r.What != "" {
			out = append(out, m.several(t, w, i, r, p, l))
		} else {
			out = append(out, m.step(t, w, i, r.From, p.Steps[r.From], l))
		}
	}
	return t.Block(out, w, h)
}

func (m *Model) name() string {
	if m.d.Target < len(m.d.Bench.Targets) {
		return style.Clean(m.d.Bench.Targets[m.d.Target].Name)
	}
	return "no target"
}

func count(l *state.Lane, s run.StepState) (n int) {
	for _, is := range l.States {
		if is == s {
			n++
		}
	}
	return n
}

// drawLanes draws a row for each target: its name, what goes on there, how far it is, how fast, how long yet.
func (m *Model) drawLanes(t *style.Theme, w, h int) []string {
	targets := m.d.Bench.Targets
	out := []string{t.Rule(m.whole(), w)}
	m.tops[lanes] = len(out)
	space := max(1, min(len(targets), h/3))
	from := max(0, min(m.d.Target-space+1, len(targets)-space))
	m.tops[lanes] -= from
	for n := from; n < from+space; n++ {
		out = append(out, m.drawLane(t, w, n))
	}
	m.discTop = 0
	if len(m.d.DiscJobs) > 0 {
		if m.disc >= len(m.d.DiscJobs) {
			m.disc = len(m.d.DiscJobs) - 1
		}
		m.discTop = len(out)
		for n := range m.d.DiscJobs {
			out = append(out, m.discLane(t, w, n))
		}
	}
	return out
}

// whole says how far all runs are together.
func (m *Model) whole() string {
	var done, of int64
	var longest time.Duration
	running := 0
	for _, target := range m.d.Targets {
		l := target.Lane
		if l == nil || !l.Running() {
			continue
		}
		running++
		done, of = done+l.Total, of+l.Bytes()
		if left, ok := l.Left(); ok {
			longest = max(longest, left)
		}
	}
	switch {
	case running == 0:
		return "targets"
	case longest == 0:
		return size.Count(running, "run") + " in progress"
	}
	return fmt.Sprintf("%s in progress, %s of %s, about %s left", size.Count(running, "run"), size.Format(done),
		size.Format(of), estimate.Words(longest))
}

func (m *Model) drawLane(t *style.Theme, w, n int) string {
	p, l := &m.d.Bench.Targets[n], m.d.Targets[n].Lane
	status, colour := m.stateOf(t, n)
	wide := w >= 100
	if !wide {
		status, _, _ = strings.Cut(status, ",")
	}
	nameWidth, stateWidth := 15, 12
	if wide {
		nameWidth, stateWidth = 17, 20
	}
	cells := []style.Cell{{Text: p.Name, Width: nameWidth, Bold: n == m.d.Target && m.disc < 0}, {Text: status,
		Width: stateWidth,
		FG:    colour}}
	cursor := n == m.d.Target && m.part == lanes && m.disc < 0
	rest := w - 1 - nameWidth - stateWidth - 3
	if s := m.d.Targets[n].Serving; s != nil && (l == nil || !l.Running()) {
		return t.Row(w, cursor, append(cells, style.Cell{Text: servedSay(s), Width: rest, FG: t.Dim})...)
	}
	if l == nil {
		say := ""
		if s := m.d.Targets[n].Survey; s != nil {
			if pl := m.d.Plan(n); pl != nil && !pl.Empty() {
				say = pl.Say() + "; " + m.d.PlanTime(n, pl).String()
			}
		}
		return t.Row(w, cursor, append(cells, style.Cell{Text: say, Width: rest, FG: t.Dim})...)
	}
	figures := 13 + 1 + 13
	cells = append(cells, style.Cell{Text: fmt.Sprintf("%d %%", int(100*l.Share())), Width: 5, Right: true})
	barWidth := rest - 6 - figures - 2
	if wide {
		barWidth -= 10
	}
	if barWidth >= 6 {
		cells = append(cells, style.Cell{Text: plainBar(t, l.Share(), barWidth), Width: barWidth, FG: t.Written})
	}
	speed, left := "", ""
	if sec := l.Elapsed.Seconds(); sec > 0.2 && l.New() > 0 && !l.Plan.Refers {
		speed = size.Format(int64(float64(l.New())/sec)) + "/s"
	}
	if !l.Running() {
		left = "in " + estimate.Words(max(time.Second, l.Elapsed))
	} else if d, ok := l.Left(); ok {
		left = estimate.Words(d) + " left"
	}
	cells = append(cells, style.Cell{Text: speed, Width: 13, Right: true, FG: t.Dim}, style.Cell{Text: left, Width: 13,
		Right: true})
	if wide {
		failed := ""
		if n := l.Fails; n > 0 {
			failed = fmt.Sprintf("%d failed", n)
		}
		cells = append(cells, style.Cell{Text: failed, Width: 9, FG: t.Bad})
	}
	return t.Row(w, cursor, cells...)
}

// plainBar is a bar as text: the part that is done, in eighths, and the rest.
func plainBar(t *style.Theme, share float64, w int) string {
	eighths := int(share * float64(w*8))
	full := eighths / 8
	if t.ASCII {
		return strings.Repeat("#", full) + strings.Repeat(".", w-full)
	}
	s := strings.Repeat("█", full)
	if part := eighths % 8; part > 0 && full < w {
		s += string([]rune(" ▏▎▍▌▋▊▉")[part])
		full++
	}
	return s + strings.Repeat("░", w-full)
}

// stateOf says in a few words what goes on at a target.
func (m *Model) stateOf(t *style.Theme, n int) (string, color.Color) {
	l := m.d.Targets[n].Lane
	if s := m.d.Targets[n].Serving; s != nil && (l == nil || !l.Running()) {
		switch {
		case len(s.Failing) > 0:
			return servedWord(s), t.Bad
		case len(s.Clients) > 0:
			return servedWord(s), t.Good
		}
		return servedWord(s), t.Accent
	}
	if l == nil {
		s := m.d.Targets[n].Survey
		switch {
		case s == nil && m.d.Targets[n].Trouble != nil, s != nil && s.Away != nil:
			return "not connected", t.Warn
		case s == nil:
			return "being read", t.Dim
		}
		pl := m.d.Plan(n)
		switch {
		case pl == nil:
			return "being planned", t.Dim
		case pl.Empty():
			return "nothing to do", t.Dim
		}
		return "ready", t.Accent
	}
	switch {
	case l.Running() && l.Paused:
		return "paused", t.Warn
	case l.Running() && l.Waiting != "":
		return "lost, waiting", t.Warn
	case l.Running() && len(l.States) > 0 && l.States[l.Step] == run.StepChecking:
		return "reading back", t.Accent
	case l.Running() && l.Plan.Refers:
		return "being laid out", t.Accent
	case l.Running():
		return "writing", t.Accent
	case l.Report.Stopped:
		return "stopped", t.Warn
	case !l.Report.All():
		return "not all", t.Bad
	case l.Plan.Refers:
		return "done, laid out", t.Good
	case l.Verify == run.VerifyFull:
		return "done, read back", t.Good
	case l.Verify == run.VerifySize:
		return "done, sizes compared", t.Good
	}
	return "done", t.Good
}

// chart draws the newest samples of the speed, to the scale of the highest.
func chart(t *style.Theme, speeds []float64, w, h int) []string {
	labelWidth := 14
	space := max(1, w-labelWidth)
	if len(speeds) > space {
		speeds = speeds[len(speeds)-space:]
	}
	highest := 1.0
	for _, s := range speeds {
		highest = max(highest, s)
	}
	out := make([]string, h)
	for y := range out {
		label := ""
		switch y {
		case 0:
			label = size.Format(int64(highest)) + "/s"
		case h - 1:
			label = "0"
		}
		var b strings.Builder
		for _, s := range speeds {
			units := int(s/highest*float64(h*8)+0.5) - (h-1-y)*8
			units = max(0, min(8, units))
			switch {
			case t.ASCII && units >= 4:
				b.WriteString("#")
			case t.ASCII:
				b.WriteString(" ")
			default:
				b.WriteString(t.Block8(t.Planned, units))
			}
		}
		out[y] = " " + t.Paint(t.Dim, t.PadLeft(label, labelWidth-1)) + " " + b.String()
	}
	return out
}

// several is a row of small files of one kind: how many of them are written, and whether some failed.
func (m *Model) several(t *style.Theme, w, row int, r steplist.Row, p *plan.Plan, l *state.Lane) string {
	done, failed, bytes := 0, 0, int64(0)
	for i := r.From; i < r.To; i++ {
		bytes += p.Steps[i].Size
		if l == nil {
			continue
		}
		switch s := l.States[i]; {
		case s == run.StepDone:
			done++
		case s == run.StepFailed || s == run.StepDependent:
			failed++
		}
	}
	status, colour := "waiting", t.Dim
	switch n := r.To - r.From; {
	case failed > 0:
		status, colour = fmt.Sprintf("%d FAILED", failed), t.Bad
	case done == n:
		status, colour = "done", t.Good
	case l != nil && !l.Running():
		status, colour = "not tried", t.Warn
	case done > 0 || l != nil && l.Step >= r.From && l.Step < r.To:
		status, colour = fmt.Sprintf("%d of %d", done, n), t.Accent
	}
	cursor := row == m.steps.Cursor && m.part == steps
	what := r.What + " " + t.Glyph("…")
	if w < 90 {
		return t.Row(w, cursor, style.Cell{Text: status, Width: 9, FG: colour}, style.Cell{Text: what,
			Width: max(10, w-1-10-12-12-3) + 12},
			style.Cell{Text: size.Column(bytes), Width: 11, Right: true, FG: t.Dim})
	}
	return t.Row(w, cursor, style.Cell{Text: status, Width: 9, FG: colour}, style.Cell{Text: "small", Width: 11,
		FG: t.Dim}, style.Cell{Text: what, Width: max(10, w-1-10-12-12-3)},
		style.Cell{Text: size.Column(bytes), Width: 11, Right: true, FG: t.Dim})
}

func (m *Model) step(t *style.Theme, w, row, i int, s plan.Step, l *state.Lane) string {
	status, colour := "waiting", t.Dim
	if l != nil {
		switch l.States[i] {
		case run.StepActive:
			status, colour = fmt.Sprintf("%d %%", percent(l.Written, s.Size)), t.Accent
			if i != l.Step {
				status = "writing"
			}
		case run.StepChecking:
			status, colour = "checking", t.Accent
		case run.StepDone:
			status, colour = "done", t.Good
		case run.StepFailed, run.StepDependent:
			status, colour = "FAILED", t.Bad
		case run.StepSkipped:
			status, colour = "skipped", t.Warn
		case run.StepWaiting:
			if !l.Running() {
				status, colour = "not tried", t.Warn
			} else if at := queue(l, i); at >= 0 && l.Moved {
				status = fmt.Sprintf("no. %d", at+1)
			}
		}
	}
	what := s.Words()
	bytes := ""
	if s.Size > 0 {
		bytes = size.Column(s.Size)
	}
	cursor := row == m.steps.Cursor && m.part == steps
	pathWidth := max(10, w-1-10-12-12-3)
	if w < 90 { // no column for what is nearly always the same word
		path := s.Path
		if s.Kind != plan.Copy {
			path = what + " " + path
		}
		if s.Kind == plan.Move {
			path = what + " " + s.From + " " + t.Glyph("→") + " " + s.Path
		}
		return t.Row(w, cursor, style.Cell{Text: status, Width: 9, FG: colour},
			style.Cell{Text: path, Width: pathWidth + 12}, style.Cell{Text: bytes, Width: 11, Right: true, FG: t.Dim})
	}
	return t.Row(w, cursor, style.Cell{Text: status, Width: 9, FG: colour}, style.Cell{Text: what, Width: 11,
		FG: t.Dim},
		style.Cell{Text: whereTo(t, &s), Width: pathWidth}, style.Cell{Text: bytes, Width: 11, Right: true, FG: t.Dim})
}

// whereTo is the path of a step, and where it moves from.
func whereTo(t *style.Theme, s *plan.Step) string {
	if s.Kind == plan.Move {
		return s.From + " " + t.Glyph("→") + " " + s.Path
	}
	return s.Path
}

// drawPast draws the runs of the past, the newest first.
func (m *Model) drawPast(t *style.Theme, w, h int) []string {
	if len(m.d.History) == 0 {
		return []string{"  " + t.Paint(t.Dim, "There were no runs yet.")}
	}
	m.past.Resize(len(m.d.History), h)
	from, to := m.past.Window()
	var out []string
	for i := from; i < to; i++ {
		r := &m.d.History[i]
		colour := t.Good
		switch {
		case r.Open():
			colour = t.Warn
		case r.State == journal.Resuming, r.State == journal.Followed:
			colour = t.Dim
		}
		when := r.Began.Local().Format("2006-01-02 15:04")
		cells := []style.Cell{{Text: fmt.Sprint(r.ID), Width: 4, Right: true, FG: t.Dim}, {Text: when, Width: 16,
			FG: t.Dim}, {Text: r.Target, Width: 15}, {Text: string(r.State), Width: 10, FG: colour}}
		out = append(out, t.Row(w, i == m.past.Cursor, append(cells, style.Cell{Text: state.Ago(r),
			Width: max(10, w-1-5-17-16-11)})...))
	}
	return out
}
