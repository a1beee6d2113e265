package draw

import (
	"cmp"
	"fmt"
	"math"
	"strings"
	"time"

	"polytome/internal/core/estimate"
	"polytome/internal/core/journal"
	"polytome/internal/core/run"
	"polytome/internal/draw/scene"
	"polytome/internal/size"
)

// A RunChart is how runs went: the speed of each over its time, what happened on the way, and the totals.
type RunChart struct {
	Lanes []RunLane
}

// A RunLane is the run at one target.
type RunLane struct {
	Target, State string
	Began         time.Time     // the zero value for one that is not reported
	Elapsed       time.Duration // without pauses
	Span          time.Duration // that each speed is of
	Speeds        []int64       // bytes a second
	Moments       []journal.Moment
	More          int // moments that were not kept
	Totals        []string
}

// LaneOf is a run that is written down.
func LaneOf(r *journal.Run) RunLane {
	l := RunLane{Target: r.Target, State: string(r.State), Began: r.Began, Elapsed: r.Course.Elapsed,
		Span: r.Course.Span, Speeds: r.Speeds, Moments: r.Course.Moments, More: r.Course.More}
	l.Totals = []string{fmt.Sprintf("%s of %s done", size.Exact(int64(r.Done)), size.Exact(int64(r.Steps))+" "+plural(
		r.Steps, "step"))}
	if rep := r.Report; rep != nil {
		l.Totals = append(l.Totals, fmt.Sprintf("%s, %s written", size.Exact(int64(rep.Put))+" "+plural(rep.Put,
			"file"), size.Format(rep.Bytes-rep.Resumed)))
		if rep.Resumed > 0 {
			l.Totals = append(l.Totals, size.Format(rep.Resumed)+" were there from an earlier try")
		}
		if n := len(rep.Failed); n > 0 {
			l.Totals = append(l.Totals, fmt.Sprintf("%d failed", n))
		}
		if rep.Skipped > 0 {
			l.Totals = append(l.Totals, fmt.Sprintf("%d skipped", rep.Skipped))
		}
		if rep.Untried > 0 {
			l.Totals = append(l.Totals, fmt.Sprintf("%d not tried", rep.Untried))
		}
		l.Totals = append(l.Totals, rep.Verify.Words())
	} else {
		l.Totals = append(l.Totals, size.Format(r.Written)+" written")
	}
	return l
}

const plotHeight = 128.0

// Draw draws the chart.
func (c RunChart) Draw(o Options) *scene.Drawing {
	s := scene.Begin(o.paper().Across(), "How it ran", o.sub(some(len(c.Lanes), plural(len(c.Lanes), "lane"))), o.Date)
	if len(c.Lanes) == 0 {
		nothing(s, "There was no run yet on this bench.")
		return s.End()
	}
	for i := range c.Lanes {
		c.Lanes[i].draw(s)
	}
	return s.End()
}

func (l *RunLane) draw(s *scene.Sheet) {
	s.Need(plotHeight + 76)
	s.Mark(0, l.Target)
	w := s.WriteIn(heading, s.Left, s.Y+9, s.Wide()*0.6, l.Target)
	say := l.State
	if !l.Began.IsZero() {
		say += " · begun " + l.Began.Format("2 January 2006, 15:04")
	}
	s.WriteIn(quiet, s.Left+w+10, s.Y+9, s.Wide()-w-10, say)
	s.Y += 16
	var sum float64
	peak := int64(0)
	for _, v := range l.Speeds {
		sum += float64(v)
		peak = max(peak, v)
	}
	totals := append([]string{}, l.Totals...)
	if l.Elapsed > 0 {
		totals = append(totals, "took "+duration(l.Elapsed))
	}
	if peak > 0 {
		totals = append(totals, fmt.Sprintf("at best %s/s, on average %s/s", size.Format(peak),
			size.Format(int64(sum/float64(len(l.Speeds))))))
	}
	for _, line := range body.WrapMost(strings.Join(totals, " · "), s.Wide(), 3) {
		s.Write(body, s.Left, s.Y+8, line)
		s.Y += body.Leading()
	}
	s.Y += 14
	l.plot(s, peak)
	l.moments(s)
	s.Y += 14
}

// duration is a time as a person tells it who wants to know exactly.
func duration(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return estimate.Words(d)
}

// plot draws the speed over the time.
func (l *RunLane) plot(s *scene.Sheet, peak int64) {
	const axis = 64.0
	x, y, w, h := s.Left+axis, s.Y, s.Wide()-axis-10, plotHeight
	whole := max(l.Elapsed, l.Span*time.Duration(len(l.Speeds)))
	if peak == 0 || whole <= 0 {
		s.Rect(x, y, w, 30, 0.6, scene.Rule, nil)
		s.WriteCentre(quiet, x+w/2, y+18, w-20,
			"no speed was recorded for this run: it wrote nothing, or ended at once")
		s.Y += 40
		return
	}
	top, unit := roundUp(float64(peak))
	for k := 0.0; k <= top+unit/2; k += unit {
		at := y + h - h*k/top
		ink := scene.Faint
		if k == 0 {
			ink = scene.Black
		}
		s.Across(x, at, w, 0.5, ink)
		s.WriteRight(smaller, x-5, at+2.3, axis-6, size.Format(int64(k))+"/s")
	}
	s.Line(0.6, scene.Black, nil, scene.Point{X: x, Y: y}, scene.Point{X: x, Y: y + h})
	for _, t := range timeTicks(whole) {
		at := x + w*float64(t)/float64(whole)
		s.Line(0.5, scene.Black, nil, scene.Point{X: at, Y: y + h}, scene.Point{X: at, Y: y + h + 3})
		s.WriteCentre(smaller, at, y+h+10, 50, clock(t))
	}
	outline := []scene.Point{{X: x, Y: y + h}}
	area := func(i int) float64 { return min(x+w, x+w*float64(l.Span)*float64(i)/float64(whole)) }
	for i, v := range l.Speeds {
		high := y + h - h*float64(v)/top
		outline = append(outline, scene.Point{X: area(i), Y: high}, scene.Point{X: area(i + 1), Y: high})
	}
	outline = append(outline, scene.Point{X: area(len(l.Speeds)), Y: y + h})
	s.Polygon(scene.Pale, outline...)
	s.Line(0.9, scene.Black, nil, outline...)
	free := -1e9 // where the last number ended
	for i, m := range l.Moments {
		at := x + w*float64(m.At)/float64(whole)
		at = max(x, min(x+w, at))
		s.Line(0.6, scene.Dark, []float64{2, 1.5}, scene.Point{X: at, Y: y - 2}, scene.Point{X: at, Y: y + h})
		text := fmt.Sprint(i + 1)
		if wide := smaller.Width(text); at-wide/2 > free+2 && i < reportedMoments {
			s.WriteCentre(smaller, at, y-4, 30, text)
			free = at + wide/2
		}
	}
	s.Y += h + 20
}

// roundUp is a round number above a speed, and the step between the lines below it.
func roundUp(v float64) (top, unit float64) {
	unit = 1
	for scale := 1.0; ; scale *= 2 {
		if unit = scale; v/unit <= 5 {
			break
		}
	}
	return unit * math.Ceil(v/unit), unit
}

// timeTicks are round times on an axis, six to twelve of them.
func timeTicks(whole time.Duration) (out []time.Duration) {
	step := 10 * time.Millisecond
	for _, s := range []time.Duration{20 * time.Millisecond, 50 * time.Millisecond, 100 * time.Millisecond,
		200 * time.Millisecond, 500 * time.Millisecond, time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second,
		30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 30 * time.Minute, time.Hour,
		2 * time.Hour, 6 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour, 30 * 24 * time.Hour,
		365 * 24 * time.Hour} {
		step = s
		if whole/step <= 11 {
			break
		}
	}
	for t := time.Duration(0); t <= whole && len(out) < 200; t += step {
		out = append(out, t)
	}
	return out
}

// clock is a time on an axis.
func clock(t time.Duration) string {
	switch {
	case t < time.Second && t > 0:
		return fmt.Sprintf("%d ms", t.Milliseconds())
	case t < time.Minute:
		return strings.TrimSuffix(fmt.Sprintf("%.1f", t.Seconds()), ".0") + " s"
	case t < time.Hour:
		return fmt.Sprintf("%d:%02d", int(t.Minutes()), int(t.Seconds())%60)
	}
	return fmt.Sprintf("%d:%02d h", int(t.Hours()), int(t.Minutes())%60)
}

// reportedMoments is how many moments are reported.
const reportedMoments = 60

var momentWords = map[run.EventKind]string{run.Resuming: "resumed", run.Rewriting: "written again",
	run.Failed: "failed", run.Skipped: "skipped", run.PutOff: "put off",
	run.Waiting: "the target is not connected", run.Back: "it is back", run.Paused: "paused", run.Resumed: "pause ended"}

// moments reports what happened on the way.
func (l *RunLane) moments(s *scene.Sheet) {
	if len(l.Moments) == 0 {
		s.Need(14)
		s.Write(quiet, s.Left, s.Y+8, "Nothing unusual happened.")
		s.Y += 14
		return
	}
	t := newTable(s, column{name: "", width: 20, right: true}, column{name: "at", width: 50, right: true},
		column{name: "what", width: 100}, column{name: "file", path: true}, column{name: "why"})
	for i, m := range l.Moments[:min(len(l.Moments), reportedMoments)] {
		word := cmp.Or(momentWords[m.Kind], string(m.Kind))
		lines := small.WrapMost(m.Say, t.columns[4].width, 3)
		t.row(small, fmt.Sprint(i+1), clock(m.At.Round(100*time.Millisecond)), word, m.Path, lines[0])
		for _, l := range lines[1:] {
			t.row(small, "", "", "", "", l)
		}
	}
	t.end()
	if more := l.More + len(l.Moments) - min(len(l.Moments), reportedMoments); more > 0 {
		s.Need(14)
		s.Write(quiet, s.Left, s.Y+4, fmt.Sprintf("and %d more", more))
		s.Y += 12
	}
}
