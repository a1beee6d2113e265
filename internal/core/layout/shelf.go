package layout

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sync"
	"weak"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/parallel"
)

// A Shelf knows the trees that were laid and are in use, so that targets at which all titles have the same places, such
// as alike sticks, have these in common. It keeps none of them alive. It is safe for several goroutines, and a nil one
// lays every tree by itself.
type Shelf struct {
	mu   sync.Mutex
	laid map[basis]*spot
}

// basis is all that the places of titles follow from.
type basis struct {
	titles     weak.Pointer[title.Title] // the first of them
	n          int
	p          *loader.Profile
	set        *loader.Set
	attachment *loader.Attachment
	filesystem string
	volume     string
	capacity   int64
	held       string
}

// spot is where a tree is kept. Whoever lays it has it locked, and others who want it wait.
type spot struct {
	sync.Mutex
	tree weak.Pointer[Tree]
}

// Lay is [Lay], but for the work that is done already. Who changes placements of the tree makes them its own first; see
// [Tree.Own].
func (s *Shelf) Lay(titles []title.Title, p *loader.Profile, destination Destination) *Tree {
	if s == nil || len(titles) == 0 || !shared(p, &destination) {
		return Lay(titles, p, destination)
	}
	at := s.spot(basisOf(titles, p, &destination))
	at.Lock()
	defer at.Unlock()
	common := at.tree.Value()
	if common == nil {
		alone := destination
		alone.File, alone.Favourites = nil, nil // of one target, and nothing asks for them here
		common = Lay(titles, p, alone)
		common.dressed = sync.OnceValue(func() [][]Beside { return common.besides(true) })
		common.bare = sync.OnceValue(func() [][]Beside { return common.besides(false) })
		at.tree = weak.Make(common)
	}
	t, l := *common, *common.l
	l.destination = destination
	t.l, t.common = &l, common
	return &t
}

// Own gives the tree placements that no other one has. Their items are still shared.
func (t *Tree) Own() { t.Placements, t.common = slices.Clone(t.Placements), nil }

// spot finds the place of a tree. Those of trees that nobody has any longer go.
func (s *Shelf) spot(of basis) *spot {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.laid == nil {
		s.laid = map[basis]*spot{}
	}
	maps.DeleteFunc(s.laid, func(k basis, at *spot) bool {
		if k == of || !at.TryLock() {
			return false
		}
		defer at.Unlock()
		return at.tree != weak.Pointer[Tree]{} && at.tree.Value() == nil
	})
	at := s.laid[of]
	if at == nil {
		at = &spot{}
		s.laid[of] = at
	}
	return at
}

// shared reports whether the places of titles follow from a [basis] alone: not from what else is on a target, nor from
// how its list is arranged.
func shared(p *loader.Profile, d *Destination) bool {
	return len(d.Slots) == 0 && !p.Arranges().Favourites && !slices.ContainsFunc(p.Companions,
		func(c loader.Companion) bool { return c.Decides() && c.IsCopy() })
}

func basisOf(titles []title.Title, p *loader.Profile, d *Destination) basis {
	filesystem, err := json.Marshal(d.Filesystem)
	if err != nil {
		panic(err) // it has plain fields only
	}
	of := basis{weak.Make(&titles[0]), len(titles), p, d.Set, d.Attachment, string(filesystem), d.Volume, 0, ""}
	if asksCapacity(p) {
		of.capacity = d.Capacity
	}
	for _, key := range slices.Sorted(maps.Keys(d.Held)) {
		of.held += fmt.Sprintf("%q %q ", key, d.Held[key])
	}
	return of
}

// asksCapacity reports whether it may make a difference for what titles consist of how large the volume is.
func asksCapacity(p *loader.Profile) bool {
	asks := func(c loader.Condition) bool { return c.Asks(loader.FieldCapacity) }
	return slices.ContainsFunc(p.Accepts, func(a loader.Accept) bool { return asks(a.When) }) ||
		slices.ContainsFunc(p.Refusals, func(r loader.Refusal) bool { return asks(r.When) }) ||
		slices.ContainsFunc(p.Companions, func(c loader.Companion) bool { return asks(c.When) })
}

// Besides is what [Tree.Beside] is for each title. It is not to be changed, as it may be shared.
func (t *Tree) Besides(covers bool) [][]Beside {
	if t.common == nil || slices.ContainsFunc(t.l.p.Companions, func(c loader.Companion) bool { return c.IsCopy() }) {
		return t.besides(covers)
	}
	if covers {
		return t.common.dressed()
	}
	return t.common.bare()
}

func (t *Tree) besides(covers bool) [][]Beside {
	out := make([][]Beside, len(t.titles))
	parallel.Each(len(out), func(i int) { out[i] = t.Beside(i, covers) })
	return out
}
