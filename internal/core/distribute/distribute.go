// Package distribute gives every title a home among several targets. It is pure arithmetic: rooms and times
// in, homes out, and the same input gives the same homes.
//
// What counts, in this order: what is there already stays there; as many titles as possible of the
// highest priority find a home, then of the next one, and so on; and the whole takes as little time as
// possible.
package distribute

import (
	"cmp"
	"slices"
)

// None is the home of a title that no target has space for.
const None = -1

// An Option is a target that takes a title.
type Option struct {
	Target int
	Space  int64   // bytes that it takes there
	Time   float64 // seconds to bring it there
	// Stays is set where the title is already, so that nothing moves.
	Stays bool
}

// An Item is one title.
type Item struct {
	Priority int // the higher, the more it is wanted
	Options  []Option
}

// A Problem is titles and targets.
type Problem struct {
	Free  []int64 // space of each target in bytes
	Items []Item
}

// A Score is how good homes are. Compare with [Score.Better].
type Score struct {
	Placed []int   // titles with a home, by priority, the highest first
	Time   float64 // seconds in all
}

// Better reports whether a score is better than another one of the same problem.
func (s Score) Better(o Score) bool {
	if c := slices.Compare(s.Placed, o.Placed); c != 0 {
		return c > 0
	}
	return s.Time < o.Time-1e-9
}

// Score rates homes: for each item the number of its target, or [None].
func (p *Problem) Score(homes []int) Score {
	levels := p.levels()
	s := Score{Placed: make([]int, len(levels))}
	for i, home := range homes {
		if o := p.option(i, home); o != nil {
			s.Placed[slices.Index(levels, p.Items[i].Priority)]++
			s.Time += o.Time
		}
	}
	return s
}

// Fits reports whether no target is overfilled, and every home is an option.
func (p *Problem) Fits(homes []int) bool {
	free := slices.Clone(p.Free)
	for i, home := range homes {
		if home == None {
			continue
		}
		o := p.option(i, home)
		if o == nil {
			return false
		}
		free[home] -= o.Space
	}
	for i, home := range homes {
		if home != None && free[home] < 0 && p.option(i, home).Space > 0 {
			return false
		}
	}
	return true
}

func (p *Problem) option(i, target int) *Option {
	for k := range p.Items[i].Options {
		if p.Items[i].Options[k].Target == target {
			return &p.Items[i].Options[k]
		}
	}
	return nil
}

// levels are the priorities that there are, the highest first.
func (p *Problem) levels() []int {
	var out []int
	for i := range p.Items {
		if pr := p.Items[i].Priority; len(out) == 0 || !slices.Contains(out, pr) {
			out = append(out, pr)
		}
	}
	slices.SortFunc(out, func(a, b int) int { return b - a })
	return out
}

// Solve gives every item a home. Problems with few items that could go to several targets are solved
// exactly; larger ones by good sense and then by improving.
func (p *Problem) Solve() []int {
	homes := p.Sensible()
	return p.exact(homes)
}

// Sensible is [Problem.Solve] without the exact search.
func (p *Problem) Sensible() []int {
	s := newSolver(p)
	for _, pr := range p.levels() {
		s.level(pr)
	}
	s.hasten()
	s.late()
	return s.homes
}

// late gives homes to those for whom improving has made space.
func (s *solver) late() {
	var out []int
	for i := range s.p.Items {
		if s.homes[i] == None && len(s.p.Items[i].Options) > 0 {
			out = append(out, i)
		}
	}
	slices.SortStableFunc(out, func(a, b int) int {
		return cmp.Or(cmp.Compare(s.p.Items[b].Priority, s.p.Items[a].Priority), cmp.Compare(s.least(a), s.least(b)))
	})
	for _, i := range out {
		s.insert(i)
	}
}

// A solver builds homes step by step.
type solver struct {
	p     *Problem
	homes []int
	free  []int64
	at    [][]int // by target: the items there that can be moved, in the order in which they came
}

func newSolver(p *Problem) *solver {
	s := &solver{p: p, homes: make([]int, len(p.Items)), free: slices.Clone(p.Free), at: make([][]int, len(p.Free))}
	for i := range p.Items {
		s.homes[i] = None
		for k := range p.Items[i].Options {
			if o := &p.Items[i].Options[k]; o.Stays && s.homes[i] == None {
				s.homes[i] = o.Target
				s.free[o.Target] -= o.Space
			}
		}
	}
	return s
}

// level finds homes for the titles of one priority: first each on its quickest connection, the one that would
// lose most without it first. When that leaves some out, the smallest first, as more of them fit.
func (s *solver) level(priority int) {
	var items []int
	for i := range s.p.Items {
		if s.p.Items[i].Priority == priority && s.homes[i] == None && len(s.p.Items[i].Options) > 0 {
			items = append(items, i)
		}
	}
	before := s.copy()
	byRegret := slices.Clone(items)
	regrets := make(map[int]float64, len(items))
	for _, i := range items {
		regrets[i] = s.regret(i)
	}
	slices.SortStableFunc(byRegret, func(a, b int) int { return cmp.Compare(regrets[b], regrets[a]) })
	if s.fill(byRegret) == 0 {
		return
	}
	quick := s.copy()
	s.become(before)
	bySize := slices.Clone(items)
	slices.SortStableFunc(bySize, func(a, b int) int { return cmp.Compare(s.least(a), s.least(b)) })
	if s.fill(bySize) >= len(items)-quick.placedOf(items) {
		s.become(quick)
	}
}

// fill gives items homes in order, and then frees space for those that found none. It returns how
// many are left.
func (s *solver) fill(items []int) (left int) {
	var out []int
	for _, i := range items {
		if !s.insert(i) {
			out = append(out, i)
		}
	}
	slices.SortStableFunc(out, func(a, b int) int { return cmp.Compare(s.least(a), s.least(b)) })
	tries := maxTries
	for _, i := range out {
		if tries <= 0 || !s.makeSpace(i, &tries) {
			left++
		}
	}
	return left
}

// maxTries bounds how many pairs are looked at to free some space, so that thousands of leftovers do not
// take long.
const maxTries = 2_000_000

func (s *solver) copy() *solver {
	c := &solver{p: s.p, homes: slices.Clone(s.homes), free: slices.Clone(s.free), at: make([][]int, len(s.at))}
	for k := range s.at {
		c.at[k] = slices.Clone(s.at[k])
	}
	return c
}

func (s *solver) become(o *solver) { *s = *o.copy() }

func (s *solver) placedOf(items []int) (n int) {
	for _, i := range items {
		if s.homes[i] != None {
			n++
		}
	}
	return n
}

// least is the space that an item takes where it takes least.
func (s *solver) least(i int) int64 {
	least := s.p.Items[i].Options[0].Space
	for _, o := range s.p.Items[i].Options {
		least = min(least, o.Space)
	}
	return least
}

// regret is how much time an item loses for each byte when it does not get its quickest target.
func (s *solver) regret(i int) float64 {
	opts := s.p.Items[i].Options
	if len(opts) < 2 {
		return 1e18 // it has no other
	}
	a, b := opts[0], opts[1]
	if b.Time < a.Time {
		a, b = b, a
	}
	for _, o := range opts[2:] {
		if o.Time < a.Time {
			a, b = o, a
		} else if o.Time < b.Time {
			b = o
		}
	}
	return (b.Time - a.Time) / float64(max(a.Space, 1))
}

// insert puts an item where it is quickest among the targets with space.
func (s *solver) insert(i int) bool {
	var best *Option
	for k := range s.p.Items[i].Options {
		if o := &s.p.Items[i].Options[k]; o.Space <= max(s.free[o.Target], 0) && (best == nil || o.Time < best.Time) {
			best = o
		}
	}
	if best == nil {
		return false
	}
	s.put(i, best)
	return true
}

func (s *solver) put(i int, o *Option) {
	s.homes[i] = o.Target
	s.free[o.Target] -= o.Space
	s.at[o.Target] = append(s.at[o.Target], i)
}

func (s *solver) take(i int) {
	home := s.homes[i]
	s.free[home] += s.p.option(i, home).Space
	s.at[home] = slices.DeleteFunc(s.at[home], func(j int) bool { return j == i })
	s.homes[i] = None
}

// makeSpace moves one or two other items to other targets so that item i finds space.
func (s *solver) makeSpace(i int, tries *int) bool {
	if s.insert(i) {
		return true
	}
	for k := range s.p.Items[i].Options {
		o := &s.p.Items[i].Options[k]
		missing := o.Space - s.free[o.Target]
		for _, j := range s.at[o.Target] {
			if *tries--; *tries <= 0 {
				return false
			}
			gain := s.p.option(j, o.Target).Space
			if gain < missing {
				continue
			}
			if s.shift(j, o.Target, tries) {
				s.put(i, o)
				return true
			}
		}
	}
	return false
}

// shift moves an item to another target, where a third one may have to move on for it.
func (s *solver) shift(j, from int, tries *int) bool {
	for k := range s.p.Items[j].Options {
		q := &s.p.Items[j].Options[k]
		if q.Target != from && q.Space <= s.free[q.Target] {
			s.take(j)
			s.put(j, q)
			return true
		}
	}
	for k := range s.p.Items[j].Options {
		q := &s.p.Items[j].Options[k]
		if q.Target == from {
			continue
		}
		missing := q.Space - s.free[q.Target]
		for _, third := range s.at[q.Target] {
			if *tries--; *tries <= 0 {
				return false
			}
			if s.p.option(third, q.Target).Space < missing {
				continue
			}
			for r := range s.p.Items[third].Options {
				t := &s.p.Items[third].Options[r]
				if t.Target != q.Target && t.Target != from && t.Space <= s.free[t.Target] {
					s.take(third)
					s.put(third, t)
					s.take(j)
					s.put(j, q)
					return true
				}
			}
		}
	}
	return false
}

// Bounds of improving times: beyond them, what is gained is not worth the wait.
const (
	maxRounds = 6
	maxPairs  = 3_000_000
)

// hasten moves items to quicker targets, and swaps pairs, as long as that saves time.
func (s *solver) hasten() {
	pairs := maxPairs
	for range maxRounds {
		saved := false
		for i := range s.p.Items {
			home := s.homes[i]
			if home == None || s.stays(i) {
				continue
			}
			now := s.p.option(i, home)
			for k := range s.p.Items[i].Options {
				o := &s.p.Items[i].Options[k]
				if o.Time >= now.Time {
					continue
				}
				if o.Space <= s.free[o.Target] {
					s.take(i)
					s.put(i, o)
					now, saved = o, true
					continue
				}
				if s.swap(i, now, o, &pairs) {
					now, saved = s.p.option(i, s.homes[i]), true
				}
			}
		}
		if !saved || pairs <= 0 {
			return
		}
	}
}

func (s *solver) stays(i int) bool {
	o := s.p.option(i, s.homes[i])
	return o != nil && o.Stays
}

// swap exchanges an item with the one at a quicker target with which most is saved.
func (s *solver) swap(i int, now, to *Option, pairs *int) bool {
	best, gain := -1, 1e-9
	for _, j := range s.at[to.Target] {
		if *pairs--; *pairs <= 0 {
			break
		}
		other := s.p.option(j, to.Target)
		back := s.p.option(j, now.Target)
		if back == nil || to.Space > s.free[to.Target]+other.Space || back.Space > s.free[now.Target]+now.Space {
			continue
		}
		if g := now.Time + other.Time - to.Time - back.Time; g > gain {
			best, gain = j, g
		}
	}
	if best < 0 {
		return false
	}
	back := s.p.option(best, now.Target)
	s.take(i)
	s.take(best)
	s.put(i, to)
	s.put(best, back)
	return true
}
