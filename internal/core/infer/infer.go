// Package infer finds the template by which texts were made of values: paths from the values of a game, lines of a
// list, names of parts. It is pure. The simplest template that makes all texts counts: a field before a piece of one, a
// piece before letters that happen to be alike, one template before two with a condition.
package infer

import (
	"container/heap"
	"math/bits"
	"slices"
	"strings"
	"unicode/utf8"

	"polytome/internal/core/loader"
)

// A Row is a text, and the values that it may have been made of.
type Row struct {
	Values loader.Values
	Text   string
}

// Options are what a template may be made of.
type Options struct {
	// Fields are those that may stand in it, the likeliest first.
	Fields []loader.Field
	// Whens are conditions that a part of it may depend on, beside those that ask whether a field has a value.
	Whens []string
	// Fold makes texts equal that count as the same, such as those in another letter case; nil for none. It must keep
	// the length of what it is given, in bytes, or give it back as it is.
	Fold func(string) string
	// Escape is how a value is written in the text; nil for as it is.
	Escape func(string) string
	// Whole is set where every field that stands in the template must have a value, as in paths.
	Whole bool
	// Said are fields that stand in it even where they are the same in all rows: a text that has the whole name of a
	// game's file means that file, and the next game's may be called otherwise.
	Said []loader.Field
	// Simple leaves out what few templates need and takes long to look for: sums and numbers that count from another
	// one.
	Simple bool
}

// A Made is a template that was found.
type Made struct {
	Text string // as it is written in a profile
	Cost int    // the simpler, the less
}

// Template finds the simplest template that makes the texts of all rows; ok is false where there is none.
func Template(rows []Row, o Options) (Made, bool) {
	if len(rows) == 0 || slices.ContainsFunc(rows, func(r Row) bool { return len(r.Text) > longest }) {
		return Made{}, false
	}
	if n := len(rows); n > manyRows { // what no template makes of a few, none makes of all: that is seen sooner
		few := []Row{rows[0], rows[n/3], rows[2*n/3], rows[n-1]}
		if _, ok := newSearch(few, o).run(); !ok {
			return Made{}, false
		}
	}
	return newSearch(rows, o).run()
}

// manyRows are so many that some of them are looked at first.
const manyRows = 7

// longest is how many bytes a text has at most.
const longest = 8 << 10

// mostSteps bounds a search: what takes longer is no template that a person would have written.
const mostSteps = 8000

// What the parts of a template cost.
const (
	literalCost = 2 // a character
	ifCost      = 7
	elseCost    = 3
	endCost     = 1
)

// branch is what rows a part of a template is written for.
type branch struct {
	when  string
	holds []bool
	other int // the branch for the other rows; -1 for none
}

type search struct {
	o        Options
	rows     []Row
	texts    []string // folded
	atoms    []atom
	branches []branch // in pairs: where a condition holds, and where not
	all      []bool
	// next has, by row and place in its text, which of the atoms stand there, a bit each; nil where nobody has looked.
	next [][][]uint64
}

func newSearch(rows []Row, o Options) *search {
	s := &search{o: o, rows: rows, all: make([]bool, len(rows))}
	for i := range rows {
		s.texts, s.all[i] = append(s.texts, s.fold(rows[i].Text)), true
	}
	s.atoms = atomsOf(rows, &s.o, s.fold)
	s.next = make([][][]uint64, len(rows))
	for i, text := range s.texts {
		s.next[i] = make([][]uint64, len(text)+1)
	}
	add := func(when string, holds []bool) {
		if !slices.Contains(holds, true) || !slices.Contains(holds, false) ||
			slices.ContainsFunc(s.branches, func(b branch) bool { return slices.Equal(b.holds, holds) }) {
			return
		}
		not := make([]bool, len(holds))
		for i, h := range holds {
			not[i] = !h
		}
		n := len(s.branches)
		s.branches = append(s.branches, branch{when, holds, n + 1}, branch{when, not, -1})
	}
	for _, f := range o.Fields {
		holds := make([]bool, len(rows))
		for i := range rows {
			holds[i] = rows[i].Values[f] != ""
		}
		add(f.String(), holds)
	}
	for _, when := range o.Whens {
		var c loader.Condition
		if c.UnmarshalText([]byte(when)) != nil {
			continue
		}
		holds := make([]bool, len(rows))
		for i := range rows {
			holds[i] = c.Holds(&rows[i].Values)
		}
		add(when, holds)
	}
	return s
}

func (s *search) fold(text string) string {
	if s.o.Fold == nil {
		return text
	}
	if folded := s.o.Fold(text); len(folded) == len(text) {
		return folded
	}
	return text
}

// A state is how far the texts are made, in which branch.
type state struct {
	at     []uint16 // by row
	branch int      // -1 outside of all
	fresh  bool     // nothing is in the branch yet
	cost   int
	left   int // what the rest costs at least, as a rule
	from   *state
	add    string // to the template
}

func (s *state) key() string {
	b := make([]byte, 0, len(s.at)*2+2)
	for _, n := range s.at {
		b = append(b, byte(n), byte(n>>8))
	}
	b = append(b, byte(s.branch+1))
	if s.fresh {
		b = append(b, 1)
	}
	return string(b)
}

func (s *state) template() string {
	var all []string
	for x := s; x != nil; x = x.from {
		all = append(all, x.add)
	}
	slices.Reverse(all)
	return strings.Join(all, "")
}

// run looks through what makes the texts, the simplest first (A*).
func (s *search) run() (Made, bool) {
	queue := &states{{at: make([]uint16, len(s.rows)), branch: -1}}
	best := map[string]int{} // the least that each state costs
	for steps := 0; queue.Len() > 0 && steps < mostSteps; steps++ {
		x := heap.Pop(queue).(*state)
		if x.cost > best[x.key()] {
			continue // there was a simpler way to it
		}
		if x.branch < 0 && s.finished(x) {
			return Made{settle(x.template()), x.cost}, true
		}
		s.expand(x, func(y *state) {
			key := y.key()
			if was, ok := best[key]; !ok || y.cost < was {
				best[key], y.left = y.cost, s.left(y.at)
				heap.Push(queue, y)
			}
		})
	}
	return Made{}, false
}

// settle writes a template as people do: what stands in front of a section and at its end too stands in the section.
func settle(text string) string {
	for {
		done := true
		all := tokens(text)
		for i := 1; i < len(all); i++ {
			body, ok := strings.CutSuffix(all[i], "{end}")
			if !ok || strings.Contains(body, "{else}") || len(all[i-1]) != 1 {
				continue
			}
			head, rest, _ := strings.Cut(body, "}")
			if cut, ok := strings.CutSuffix(rest, all[i-1]); ok && cut != "" && all[i-1] != "/" {
				all[i] = head + "}" + all[i-1] + cut + "{end}" + all[i-1]
				all[i-1], done = "", false
				break
			}
		}
		if text = strings.Join(all, ""); done {
			return text
		}
	}
}

// left guesses what the rest of the texts costs: a field has some letters.
func (s *search) left(at []uint16) int {
	most := 0
	for i := range at {
		most = max(most, len(s.texts[i])-int(at[i]))
	}
	return most * 3 / 4
}

func (s *search) finished(x *state) bool {
	for i, at := range x.at {
		if int(at) != len(s.texts[i]) {
			return false
		}
	}
	return true
}

// expand has whatever may come next behind a state.
func (s *search) expand(x *state, next func(*state)) {
	active := s.all
	if x.branch >= 0 {
		b := &s.branches[x.branch]
		active = b.holds
		if !x.fresh {
			if s.goesOn(x.at) {
				next(&state{at: x.at, branch: -1, cost: x.cost + endCost, from: x, add: "{end}"})
			}
			if b.other >= 0 {
				next(&state{at: x.at, branch: b.other, fresh: true, cost: x.cost + elseCost, from: x, add: "{else}"})
			}
		}
	} else if !s.alike(x.at) { // else the condition may as well stand behind what is the same in all
		for i := 0; i < len(s.branches); i += 2 {
			next(&state{at: x.at, branch: i, fresh: true, cost: x.cost + ifCost, from: x,
				add: "{if " + s.branches[i].when + "}"})
		}
	}
	s.literal(x, active, next)
	for k := range s.standing(x.at, active, 0) {
		a := &s.atoms[k]
		if at, ok := s.take(x.at, active, a.values); ok {
			next(&state{at: at, branch: x.branch, cost: x.cost + a.cost, from: x, add: a.text})
		}
	}
	if !s.o.Simple {
		for _, f := range s.o.Fields {
			s.table(x, f, active, next)
		}
	}
}

// goesOn reports whether something can stand next in all rows, or in some of them by another condition.
func (s *search) goesOn(at []uint16) bool {
	if s.alike(at) || s.finished(&state{at: at}) {
		return true
	}
	for k := range s.standing(at, s.all, 0) {
		if _, ok := s.take(at, s.all, s.atoms[k].values); ok {
			return true
		}
	}
	for i := range s.branches { // those outside of it go on at once
		first := ""
		same := true
		for k, on := range s.branches[i].holds {
			if on || !same {
				continue
			}
			rest := s.texts[k][at[k]:]
			if rest = rest[:min(1, len(rest))]; first == "" {
				first = rest
			}
			same = rest == first
		}
		if same {
			return true
		}
	}
	return false
}

// alike reports whether the same character comes next in all rows.
func (s *search) alike(at []uint16) bool {
	for i := range at {
		if int(at[i]) == len(s.texts[i]) || int(at[0]) == len(s.texts[0]) || s.texts[i][at[i]] != s.texts[0][at[0]] {
			return false
		}
	}
	return true
}

// take moves on behind the values that stand next in all rows; ok is false where they do not, or are nothing in all.
func (s *search) take(at []uint16, active []bool, values []string) ([]uint16, bool) {
	some := false
	for i, on := range active {
		if !on {
			continue
		}
		if s.o.Whole && values[i] == "" || !strings.HasPrefix(s.texts[i][at[i]:], values[i]) {
			return nil, false
		}
		some = some || values[i] != ""
	}
	if !some {
		return nil, false
	}
	out := slices.Clone(at)
	for i, on := range active {
		if on {
			out[i] += uint16(len(values[i]))
		}
	}
	return out, true
}

// literal takes the next characters, where they are the same in all rows: all of them, or up to where a field may
// begin.
func (s *search) literal(x *state, active []bool, next func(*state)) {
	first := -1
	common := ""
	for i, on := range active {
		if !on {
			continue
		}
		rest := s.texts[i][x.at[i]:]
		if first < 0 {
			first, common = i, rest
		}
		n := 0
		for n < min(len(common), len(rest)) && common[n] == rest[n] {
			n++
		}
		common = common[:n]
	}
	if first < 0 {
		return
	}
	written := s.rows[first].Text[x.at[first]:] // as it stands there, not folded
	for n := range len(common) {
		if n++; n < len(common) && !utf8.RuneStart(common[n]) || n == len(common) &&
			!whole(s.texts[first][int(x.at[first])+n:]) {
			continue
		}
		if n < len(common) && isWord(common[n-1]) && isWord(common[n]) && !s.begins(x.at, active, n) {
			continue // in the middle of a word, where nothing begins
		}
		at := slices.Clone(x.at)
		for i, on := range active {
			if on {
				at[i] += uint16(n)
			}
		}
		next(&state{at: at, branch: x.branch, cost: x.cost + literalCost*n, from: x, add: Literal(written[:n])})
	}
}

func isWord(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c >= 0x80
}

// whole reports whether no character is cut in two in front of a text.
func whole(rest string) bool { return rest == "" || utf8.RuneStart(rest[0]) }

// begins reports whether a field may begin so many bytes further on.
func (s *search) begins(at []uint16, active []bool, n int) bool {
	for range s.standing(at, active, n) {
		return true
	}
	return false
}

// standing are the atoms whose values stand so many bytes further on in all rows, or are nothing there.
func (s *search) standing(at []uint16, active []bool, n int) func(func(int) bool) {
	return func(yield func(int) bool) {
		var all []uint64
		for i, on := range active {
			if !on {
				continue
			}
			here := s.bits(i, int(at[i])+n)
			if all == nil {
				all = slices.Clone(here)
				continue
			}
			some := false
			for k := range all {
				all[k] &= here[k]
				some = some || all[k] != 0
			}
			if !some {
				return
			}
		}
		for word, left := range all {
			for left != 0 {
				k := bits.TrailingZeros64(left)
				if left &= left - 1; !yield(word*64 + k) {
					return
				}
			}
		}
	}
}

// bits are the atoms that stand at a place of a row's text.
func (s *search) bits(row, at int) []uint64 {
	if s.next[row][at] == nil {
		out := make([]uint64, (len(s.atoms)+63)/64)
		rest := s.texts[row][at:]
		for k := range s.atoms {
			if strings.HasPrefix(rest, s.atoms[k].values[row]) {
				out[k/64] |= 1 << (k % 64)
			}
		}
		s.next[row][at] = out
	}
	return s.next[row][at]
}

// Literal is a text that stands in a template as it is.
func Literal(s string) string { return literal.Replace(s) }

var literal = strings.NewReplacer("{", "{{", "}", "}}")

// states are what is still to be looked at, as container/heap has it.
type states []*state

func (q states) Len() int           { return len(q) }
func (q states) Less(i, j int) bool { return q[i].cost+q[i].left < q[j].cost+q[j].left }
func (q states) Swap(i, j int)      { q[i], q[j] = q[j], q[i] }

func (q *states) Push(x any) { *q = append(*q, x.(*state)) }

func (q *states) Pop() any {
	last := len(*q) - 1
	x := (*q)[last]
	*q = (*q)[:last]
	return x
}
