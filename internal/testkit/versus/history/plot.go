package main

import (
	"fmt"
	"math"
	"os"
	"slices"
	"strings"
	"time"

	"polytome/internal/draw/scene"
	"polytome/internal/draw/svg"
	"polytome/internal/draw/typeface"
	"polytome/internal/size"
	"polytome/internal/testkit/versus"
)

// The pens and measures of the plot, in points.
var (
	pen    = scene.Pen{Size: 9, Ink: scene.Black}
	strong = scene.Pen{Size: 9, Weight: typeface.Bold, Ink: scene.Black}
)

const (
	plotWide, plotHigh = 620.0, 230.0 // of one benchmark
	axisLeft           = 60.0
	labels             = 150.0
)

// each is what a title costs.
func each(seconds float64) string { return fmt.Sprintf("%.1f µs", seconds*1e6) }

// plot draws how the cost of a title grows with the number of titles, one diagram for each benchmark that measured it.
func plot(name string, records []versus.Record, date time.Time) error {
	records = slices.DeleteFunc(slices.Clone(records), func(r versus.Record) bool { return len(r.Titles) == 0 })
	if len(records) == 0 {
		return fmt.Errorf("no benchmark has measured how cost grows")
	}
	paper := scene.Paper{Name: "plot", Width: plotWide + 80, Height: 120 + plotHigh*float64(len(records))}
	s := scene.Begin(paper, "What a title costs", "For each title and target, by how many titles there are", date)
	for i := range records {
		draw(s, &records[i])
	}
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	err = svg.Write(f, s.End())
	if closed := f.Close(); err == nil {
		err = closed
	}
	return err
}

// draw draws the diagram of one benchmark: numbers of titles by their logarithm, and one line for each kind of work.
func draw(s *scene.Sheet, r *versus.Record) {
	s.Write(strong, s.Left, s.Y+9, strings.TrimPrefix(r.Name, "Benchmark"))
	x, y, w, h := s.Left+axisLeft, s.Y+22, s.Wide()-axisLeft-labels, plotHigh-60
	top := 0.0
	for _, seconds := range r.Seconds {
		top = max(top, slices.Max(seconds)*1e6)
	}
	unit := math.Pow(10, math.Floor(math.Log10(top)))
	if top/unit < 3 {
		unit /= 2
	}
	top = math.Ceil(top/unit) * unit
	for v := 0.0; v <= top+unit/2; v += unit {
		at := y + h - h*v/top
		s.Across(x, at, w, 0.5, scene.Faint)
		s.WriteRight(pen, x-6, at+3, axisLeft-6, fmt.Sprintf("%g µs", v))
	}
	first, last := float64(r.Titles[0]), float64(r.Titles[len(r.Titles)-1])
	across := func(n int) float64 { return x + w*math.Log(float64(n)/first)/math.Log(last/first) }
	for _, n := range r.Titles {
		s.Line(0.5, scene.Pale, nil, scene.Point{X: across(n), Y: y}, scene.Point{X: across(n), Y: y + h})
		s.WriteCentre(pen, across(n), y+h+12, 80, size.Exact(int64(n)))
	}
	s.Line(0.8, scene.Black, nil, scene.Point{X: x, Y: y}, scene.Point{X: x, Y: y + h}, scene.Point{X: x + w, Y: y + h})
	dashes := [][]float64{nil, {5, 3}, {1.5, 2}, {8, 2, 2, 2}}
	whats := peers(r)
	slices.SortFunc(whats, func(a, b string) int { // from the top down, as their lines end
		return int(math.Copysign(1, r.Seconds[b][len(r.Titles)-1]-r.Seconds[a][len(r.Titles)-1]))
	})
	free := y - 4
	for i, what := range whats {
		var line []scene.Point
		for k, n := range r.Titles {
			line = append(line, scene.Point{X: across(n), Y: y + h - h*r.Seconds[what][k]*1e6/top})
		}
		s.Line(1.4, scene.Black, dashes[i%len(dashes)], line...)
		for _, p := range line {
			s.Fill(p.X-1.8, p.Y-1.8, 3.6, 3.6, scene.Black)
		}
		free = max(free+pen.Leading(), line[len(line)-1].Y+3)
		s.WriteIn(pen, x+w+8, free, labels-8, what+", "+each(r.Seconds[what][len(r.Titles)-1]))
	}
	s.Y += plotHigh
}
