package distribute

import (
	"cmp"
	"slices"
)

// Bounds of the exact search.
const (
	exactItems = 18
	exactNodes = 400_000
)

// exact looks at all homes that could be better than those given, where the items with a choice are
// few. It gives the best found when the search grows too large.
func (p *Problem) exact(homes []int) []int {
	var open []int
	free := slices.Clone(p.Free)
	for i := range p.Items {
		if home := homes[i]; home != None && p.option(i, home).Stays {
			free[home] -= p.option(i, home).Space
			continue
		}
		if len(p.Items[i].Options) > 0 {
			open = append(open, i)
		}
	}
	if len(open) > exactItems || len(open) == 0 {
		return homes
	}
	levels := p.levels()
	// the most wanted first, and of those the largest: where they go decides most
	slices.SortStableFunc(open, func(a, b int) int {
		return cmp.Or(cmp.Compare(p.Items[b].Priority, p.Items[a].Priority), cmp.Compare(p.largest(b), p.largest(a)))
	})
	e := &search{p: p, open: open, free: free, levels: levels, best: slices.Clone(homes), homes: slices.Clone(homes),
		nodes: exactNodes}
	e.score = p.partial(homes, open, levels)
	for _, i := range open {
		e.homes[i] = None
	}
	e.placed = make([]int, len(levels))
	e.levelOf = make([]int, len(open))
	e.quickest = make([]float64, len(open)+1)
	for k := len(open) - 1; k >= 0; k-- {
		e.levelOf[k] = slices.Index(levels, p.Items[open[k]].Priority)
		least := p.Items[open[k]].Options[0].Time
		for _, o := range p.Items[open[k]].Options {
			least = min(least, o.Time)
		}
		e.quickest[k] = e.quickest[k+1] + least
	}
	e.walk(0, 0)
	return e.best
}

func (p *Problem) largest(i int) (n int64) {
	for _, o := range p.Items[i].Options {
		n = max(n, o.Space)
	}
	return n
}

// partial is the score of some items alone.
func (p *Problem) partial(homes, items, levels []int) Score {
	s := Score{Placed: make([]int, len(levels))}
	for _, i := range items {
		if o := p.option(i, homes[i]); o != nil {
			s.Placed[slices.Index(levels, p.Items[i].Priority)]++
			s.Time += o.Time
		}
	}
	return s
}

// search is the state of the exact search.
type search struct {
	p        *Problem
	open     []int
	levelOf  []int
	levels   []int
	free     []int64
	homes    []int
	placed   []int
	quickest []float64 // time of all items from each on, at their quickest
	best     []int
	score    Score
	nodes    int
}

// walk tries all homes of the items from number k on.
func (e *search) walk(k int, time float64) {
	if e.nodes--; e.nodes < 0 {
		return
	}
	if k == len(e.open) {
		if s := (Score{e.placed, time}); s.Better(e.score) {
			e.score = Score{slices.Clone(e.placed), time}
			copy(e.best, e.homes)
		}
		return
	}
	if !e.hopeful(k, time) {
		return
	}
	i, level := e.open[k], e.levelOf[k]
	for n := range e.p.Items[i].Options {
		o := &e.p.Items[i].Options[n]
		if o.Space > max(e.free[o.Target], 0) {
			continue
		}
		e.free[o.Target] -= o.Space
		e.homes[i] = o.Target
		e.placed[level]++
		e.walk(k+1, time+o.Time)
		e.placed[level]--
		e.homes[i] = None
		e.free[o.Target] += o.Space
	}
	e.walk(k+1, time)
}

// hopeful reports whether what is left could still make the best so far better: were all of it placed,
// on its quickest connections.
func (e *search) hopeful(k int, time float64) bool {
	could := slices.Clone(e.placed)
	for _, l := range e.levelOf[k:] {
		could[l]++
	}
	switch slices.Compare(could, e.score.Placed) {
	case -1:
		return false
	case 0: // all the rest must be placed
		return time+e.quickest[k] < e.score.Time-1e-9
	}
	return true
}
