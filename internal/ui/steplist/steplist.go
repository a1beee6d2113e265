// Package steplist lists the steps of a plan. Covers and settings files that follow one another are one row until it is
// opened.
package steplist

import (
	"slices"
	"strings"

	"polytome/internal/core/plan"
	"polytome/internal/core/shape"
	"polytome/internal/size"
	"polytome/internal/ui/scroll"
)

// leastFolded is how many such steps are one row.
const leastFolded = 3

// A Row is one step, or several that write small files.
type Row struct {
	From, To int    // indexes of the first step, and of the one behind the last
	What     string // what they write: "13 covers"; "" for a single step
}

// A List is a cursor among the rows of a plan.
type List struct {
	scroll.List
	plan *plan.Plan
	rows []Row
	open map[int]bool // first steps of rows that were opened
}

// Rows are those of a plan. What was opened stays open as long as the plan is the same.
func (l *List) Rows(p *plan.Plan) []Row {
	if p != l.plan {
		l.plan, l.open = p, map[int]bool{}
		l.make()
	}
	return l.rows
}

func (l *List) make() {
	l.rows = l.rows[:0]
	if l.plan == nil {
		l.N = 0
		return
	}
	all := l.plan.Steps
	for i := 0; i < len(all); {
		end := i + 1
		for small(&all[i]) && end < len(all) && small(&all[end]) {
			end++
		}
		if end-i < leastFolded || l.open[i] {
			for k := i; k < end; k++ {
				l.rows = append(l.rows, Row{From: k, To: k + 1})
			}
		} else {
			l.rows = append(l.rows, Row{i, end, words(all[i:end])})
		}
		i = end
	}
	l.N = len(l.rows)
}

// kind is the noun for a step that may be in one row with others; "" for one that is shown by itself.
func kind(s *plan.Step) string {
	if s.Kind != plan.Copy || s.Make == nil || s.Last {
		return ""
	}
	switch s.Make.Shape {
	case shape.Fitted:
		return "cover"
	case shape.Written, shape.Set:
		return "settings file"
	}
	return ""
}

func small(s *plan.Step) bool { return kind(s) != "" }

// words count steps by what they write.
func words(all []plan.Step) string {
	n := map[string]int{}
	for i := range all {
		n[kind(&all[i])]++
	}
	var out []string
	for _, noun := range []string{"cover", "settings file"} {
		if n[noun] > 0 {
			out = append(out, size.Count(n[noun], noun))
		}
	}
	return strings.Join(out, ", ")
}

// Steps are the indexes of the steps under the cursor, from the first to the one behind the last.
func (l *List) Steps() (from, to int) {
	if l.Cursor < 0 || l.Cursor >= len(l.rows) {
		return 0, 0
	}
	return l.rows[l.Cursor].From, l.rows[l.Cursor].To
}

// Go puts the cursor on the row of a step.
func (l *List) Go(step int) {
	if i := slices.IndexFunc(l.rows, func(r Row) bool { return step < r.To }); i >= 0 {
		l.Move(i - l.Cursor)
	}
}

// Turn opens the row under the cursor, or folds the rows that it was; it reports whether there are such.
func (l *List) Turn() bool {
	from, to := l.Steps()
	switch {
	case to-from > 1:
		l.open[from] = true
	case to > from && small(&l.plan.Steps[from]):
		for from > 0 && small(&l.plan.Steps[from-1]) {
			from--
		}
		if !l.open[from] {
			return false
		}
		delete(l.open, from)
	default:
		return false
	}
	l.make()
	l.Go(from)
	return true
}

// Open opens the row in which a step is, and puts the cursor on it.
func (l *List) Open(step int) {
	l.Go(step)
	if from, to := l.Steps(); to-from > 1 {
		l.Turn()
		l.Go(step)
	}
}
