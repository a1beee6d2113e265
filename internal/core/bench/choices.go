package bench

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"polytome/internal/core/estimate"
	"polytome/internal/core/run"
	"polytome/internal/core/title"
	"polytome/internal/target/served"
)

// MaxPriority is how much a title can be wanted at most, and with a minus at least.
const MaxPriority = 9

// favouriteRank is how much more a favourite is wanted than any other title.
const favouriteRank = 2*MaxPriority + 1

// Rank is how much a title is wanted: favourites before all others, then by priority.
func (b *Bench) Rank(key string) int8 {
	r := b.Priorities[key]
	if b.Favourites.Has(key) {
		r += favouriteRank
	}
	return int8(r)
}

// Ranks are the ranks of titles; nil when all are alike.
func (b *Bench) Ranks(titles []title.Title) []int8 {
	if len(b.Favourites) == 0 && len(b.Priorities) == 0 {
		return nil
	}
	out := make([]int8, len(titles))
	for i := range titles {
		out[i] = b.Rank(titles[i].Key)
	}
	return out
}

// Favour makes titles favourites, or favourites no more.
func (b *Bench) Favour(yes bool, keys ...string) { b.Favourites = b.Favourites.with(yes, keys) }

// Favours reports whether a title is a favourite.
func (b *Bench) Favours(key string) bool { return b.Favourites.Has(key) }

// Prioritise changes how much a title is wanted. It returns the new priority.
func (b *Bench) Prioritise(key string, by int) int {
	n := min(max(b.Priorities[key]+by, -MaxPriority), MaxPriority)
	b.Priorities = maps.Clone(b.Priorities) // earlier choices share it
	if b.Priorities == nil {
		b.Priorities = map[string]int{}
	}
	b.Priorities[key] = n
	if n == 0 {
		delete(b.Priorities, key)
	}
	if len(b.Priorities) == 0 {
		b.Priorities = nil
	}
	return n
}

// SetOrder keeps the order in which a stage lists titles; "" for the usual one.
func (b *Bench) SetOrder(stage, order string) {
	b.Orders = maps.Clone(b.Orders) // copies share it
	if b.Orders == nil {
		b.Orders = map[string]string{}
	}
	b.Orders[stage] = order
	if order == "" {
		delete(b.Orders, stage)
	}
	if len(b.Orders) == 0 {
		b.Orders = nil
	}
}

// Mark marks paths on the target to leave, or takes the marks off.
func (p *Target) Mark(leave bool, paths ...string) { p.Removing = marked(p.Removing, leave, paths) }

// Allow marks paths on the target that may be written over, or takes the marks off.
func (p *Target) Allow(replace bool, paths ...string) { p.Replace = marked(p.Replace, replace, paths) }

// marked returns a changed copy, sorted.
func marked(all []string, in bool, paths []string) []string { return Keys(all).with(in, paths) }

// SetUpLike reports whether two targets differ in nothing but which titles are wanted there, and in what was learnt and
// ticked off.
func (p *Target) SetUpLike(o *Target) bool {
	bare := func(p Target) Target {
		p.id, p.Everything, p.Without, p.Titles, p.CopyAgain, p.Ticked, p.Speed = 0, false, nil, nil, nil, nil, nil
		return p
	}
	return reflect.DeepEqual(bare(*p), bare(*o))
}

// WantLike reports whether the same titles are wanted at two targets.
func (p *Target) WantLike(o *Target) bool {
	return p.Everything == o.Everything && slices.Equal(p.Without, o.Without) && slices.Equal(p.Titles, o.Titles)
}

// Wants reports whether a title is chosen for the target.
func (p *Target) Wants(key string) bool {
	if p.Everything {
		return !p.Without.Has(key)
	}
	return p.Titles.Has(key)
}

// Want puts titles on the target's list, or takes them off.
func (p *Target) Want(wanted bool, keys ...string) {
	if p.Everything {
		p.Without = p.Without.with(!wanted, keys)
	} else {
		p.Titles = p.Titles.with(wanted, keys)
	}
}

// Has reports whether a key is one of them.
func (k Keys) Has(key string) bool {
	_, ok := slices.BinarySearch(k, key)
	return ok
}

// BringBack says that titles which were deleted on the target shall be there again, or takes that back.
func (p *Target) BringBack(yes bool, keys ...string) { p.CopyAgain = p.CopyAgain.with(yes, keys) }

// with returns a changed copy, so that what was shared before stays as it was.
func (k Keys) with(in bool, keys []string) Keys {
	if len(keys) == 1 { // by far the most common case
		at, has := slices.BinarySearch(k, keys[0])
		switch {
		case in && !has:
			return slices.Insert(slices.Clone(k), at, keys[0])
		case !in && has:
			return slices.Delete(slices.Clone(k), at, at+1)
		}
		return k
	}
	if in {
		all := append(slices.Clone(k), keys...)
		slices.Sort(all)
		return slices.Compact(all)
	}
	out := Keys(slices.Sorted(slices.Values(keys)))
	return slices.DeleteFunc(slices.Clone(k), out.Has)
}

// Remember keeps names that keep titles distinct. It reports whether any of them is
// new.
func (p *Target) Remember(names map[string]string) bool {
	fresh := false
	for key, name := range names {
		if p.Names[key] == name {
			continue
		}
		if !fresh {
			p.Names = maps.Clone(p.Names) // earlier choices share it
			if p.Names == nil {
				p.Names = map[string]string{}
			}
		}
		p.Names[key], fresh = name, true
	}
	return fresh
}

// Learn takes in how fast a run at the target was, beside what was known of it and of the adapter that it is behind. It
// reports whether there was something to learn.
func (p *Target) Learn(known *estimate.Learnt, adapter string, r *run.Report) bool {
	if served.Is(p.At) { // nothing is copied
		return false
	}
	var l estimate.Learnt
	if known != nil {
		l = *known // others share it
	}
	if !l.Learn(r) {
		return false
	}
	l.Adapter = adapter
	p.Speed = &l
	return true
}

// Learnt is what is known of how fast target number n takes files behind an adapter, "" for none: what was learnt
// there, or of another target behind that adapter.
func (b *Bench) Learnt(n int, adapter string) *estimate.Learnt {
	own := b.Targets[n].Speed
	if adapter == "" || own != nil && own.Adapter == adapter {
		return own
	}
	for i := range b.Targets {
		if l := b.Targets[i].Speed; l != nil && l.Adapter == adapter {
			return l
		}
	}
	if own != nil && own.Adapter == "" {
		return own
	}
	return nil
}

// Choices are which titles are wanted at each target, and what was set by hand for titles: what
// undo goes back to.
type Choices struct {
	sources    []Source
	targets    []Target
	edits      []title.Edit
	passwords  []string
	lists      []string
	covers     Covers
	favourites Keys
	priorities map[string]int
}

// Choices copies the present ones.
func (b *Bench) Choices() Choices {
	return Choices{slices.Clone(b.Sources), slices.Clone(b.Targets), slices.Clone(b.Edits),
		slices.Clone(b.Passwords), slices.Clone(b.Lists),
		b.Covers, b.Favourites, b.Priorities}
}

// Restore goes back to earlier choices. It reports whether what was set by hand is another now.
func (b *Bench) Restore(c Choices) (edited bool) {
	edited = !slices.Equal(b.Sources, c.sources) || !reflect.DeepEqual(b.Edits, c.edits) ||
		!slices.Equal(b.Passwords, c.passwords) || !slices.Equal(b.Lists,
		c.lists) || !reflect.DeepEqual(b.Covers, c.covers)
	learnt := map[string]*estimate.Learnt{}
	for i := range b.Targets {
		learnt[b.Targets[i].Name] = b.Targets[i].Speed
	}
	b.Sources = slices.Clone(c.sources)
	b.Targets, b.Edits, b.Passwords, b.Lists = slices.Clone(c.targets), slices.Clone(c.edits),
		slices.Clone(c.passwords), slices.Clone(c.lists)
	b.Favourites, b.Priorities, b.Covers = c.favourites, c.priorities, c.covers
	for i := range b.Targets { // what a run has taught is no choice
		if l := learnt[b.Targets[i].Name]; l != nil {
			b.Targets[i].Speed = l
		}
	}
	return edited
}

// Wants reports whether a title is wanted at target number n. A target that carries the covers of another one wants
// those of its titles.
func (b *Bench) Wants(n int, key string) bool {
	if of, ok := b.Carried(n); ok {
		n = of
	}
	return b.Targets[n].Wants(key)
}

// Wanted reports, by index, whether a title is wanted at target number p.
func (b *Bench) Wanted(p int, titles []title.Title) func(i int) bool {
	return func(i int) bool { return b.Wants(p, titles[i].Key) }
}

// Clone copies the bench, so that one goroutine can work on it while another
// changes the choices.
func (b *Bench) Clone() *Bench {
	c := *b
	c.Sources, c.Targets = slices.Clone(b.Sources), slices.Clone(b.Targets)
	c.Edits, c.Passwords, c.Lists = slices.Clone(b.Edits), slices.Clone(b.Passwords), slices.Clone(b.Lists)
	return &c
}

// FreeName is a name like another one that no target has.
func (b *Bench) FreeName(like string) string {
	for n := 2; ; n++ {
		name := fmt.Sprintf("%s %d", like, n)
		if !slices.ContainsFunc(b.Targets, func(p Target) bool { return strings.EqualFold(p.Name, name) }) {
			return name
		}
	}
}
