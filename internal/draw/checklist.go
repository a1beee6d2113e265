package draw

import (
	"fmt"

	"polytome/internal/core/connections"
	"polytome/internal/draw/scene"
	"polytome/internal/draw/typeface"
	"polytome/internal/size"
)

// A Checklist is what to do at the consoles, to be ticked off with a pencil.
type Checklist struct {
	Targets []Steps
}

// Steps are the lines of one target.
type Steps struct {
	Target string
	Detail string // its loader and connection
	Lines  []string
	Ticked func(line string) bool // nil for none
	// Cable is what to set for a direct cable; nil without one.
	Cable *connections.Sheet
}

// Draw draws the checklist.
func (c Checklist) Draw(o Options) *scene.Drawing {
	lines := 0
	for _, p := range c.Targets {
		lines += len(p.Lines)
	}
	s := scene.Begin(o.paper(), "At the console", o.sub(counted(some(len(c.Targets), plural(len(c.Targets), "target")),
		some(lines, plural(lines, "step")))), o.Date)
	if len(c.Targets) == 0 {
		nothing(s, "The bench has no target yet, so there is nothing to do at a console.")
	}
	for _, p := range c.Targets {
		p.draw(s)
	}
	return s.End()
}

var (
	step       = scene.Pen{Size: 11.5, Ink: scene.Black}
	stepNumber = scene.Pen{Size: 11.5, Weight: typeface.Bold, Ink: scene.Black}
)

func (p *Steps) draw(s *scene.Sheet) {
	section(s, p.Target, 60)
	s.WriteIn(quiet, s.Left, s.Y+6, s.Wide(), p.Detail)
	s.Y += 18
	if len(p.Lines) == 0 {
		paragraph(s, body, 0, "Nothing to do at the console for this target.")
		s.Y += 8
	}
	ticks(s, p.Lines, p.Ticked)
	if p.Cable != nil {
		for _, part := range []struct {
			name  string
			lines []string
		}{{"Direct cable: on the computer", p.Cable.Computer}, {"Direct cable: on the console", p.Cable.Console},
			{"Then", p.Cable.Then}, {"Afterwards, set back", p.Cable.Back}} {
			if len(part.lines) == 0 {
				continue
			}
			s.Need(50)
			s.Write(strong, s.Left, s.Y+9, part.name)
			s.Y += 18
			ticks(s, part.lines, nil)
		}
	}
	s.Need(34)
	s.Write(quiet, s.Left, s.Y+14, "done on")
	s.Across(s.Left+44, s.Y+16, 120, 0.5, scene.Rule)
	s.Write(quiet, s.Left+180, s.Y+14, "by")
	s.Across(s.Left+198, s.Y+16, 150, 0.5, scene.Rule)
	s.Y += 38
}

// ticks writes numbered lines with boxes.
func ticks(s *scene.Sheet, lines []string, ticked func(string) bool) {
	const indent = 50.0
	for i, l := range lines {
		wrapped := step.Wrap(l, s.Wide()-indent)
		s.Need(min(float64(len(wrapped))*step.Leading()+8, s.Bottom-s.Top-40))
		box(s.Page, s.Left, s.Y+1, 13, ticked != nil && ticked(l))
		s.WriteRight(stepNumber, s.Left+40, s.Y+11.5, 24, fmt.Sprintf("%d.", i+1))
		for _, line := range wrapped {
			s.Need(step.Leading())
			s.Write(step, s.Left+indent, s.Y+11.5, line)
			s.Y += step.Leading()
		}
		s.Y += 8
	}
}

func plural(n int, noun string) string {
	if n == 1 {
		return noun
	}
	return noun + "s"
}

// titles is a number of titles in words.
func titles(n int) string { return size.Exact(int64(n)) + " " + plural(n, "title") }
