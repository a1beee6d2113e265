package bench

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"polytome/internal/target/folder"
)

// Targets that are like another one are a set, such as the sticks of a drawer: what is chosen and set up for one of
// them holds for all. Each has an address of its own, what is known of it, and what was said of the files on it.

// own are the fields that each target of a set has for itself.
var own = []string{"id", "Name", "At", "Like", "Stick", "As", "Capacity", "Cluster", "Volume", "Carries", "Removing",
	"Replace", "CopyAgain", "Fixes", "Ticked", "Cable", "Speed"}

// First is the number of the target whose choices target number n has: its own where it is like no other one.
func (b *Bench) First(n int) int {
	like := b.Targets[n].Like
	if like == "" {
		return n
	}
	i := slices.IndexFunc(b.Targets, func(p Target) bool { return p.Name == like })
	if i < 0 {
		return n
	}
	return i
}

// Alike are the numbers of the targets of a set, target number n among them; it alone where it is in none.
func (b *Bench) Alike(n int) (all []int) {
	first := b.First(n)
	for i := range b.Targets {
		if i == n || b.First(i) == first {
			all = append(all, i)
		}
	}
	return all
}

// Spread has what is chosen and set up for target number n hold for its whole set.
func (b *Bench) Spread(n int) {
	for _, i := range b.Alike(n) {
		if i != n {
			b.Targets[i] = b.Targets[i].as(b.Targets[n])
		}
	}
}

// as is the target with the choices of another one.
func (p Target) as(o Target) Target {
	from, to := reflect.ValueOf(&p).Elem(), reflect.ValueOf(&o).Elem()
	for _, name := range own {
		if name != "id" {
			to.FieldByName(name).Set(from.FieldByName(name))
		}
	}
	o.id = p.id
	return o
}

// spreadAll has all sets be as their first targets. What else stands in the others has no effect, which is noted.
func (b *Bench) spreadAll(fail, note func(at, format string, args ...any)) {
	for i := range b.Targets {
		p, at := &b.Targets[i], fmt.Sprintf("target.%d", i)
		if p.Like == "" {
			continue
		}
		first := b.First(i)
		if first == i || b.Targets[first].Like != "" {
			fail(at+".like", "%s", b.noLike(p))
			continue
		}
		bare := p.as(Target{})
		if !reflect.DeepEqual(bare, *p) {
			note(at, "%s is like %s: what else is set up or selected for it has no effect", p.Name, p.Like)
		}
	}
	for i := range b.Targets {
		if b.Targets[i].Like == "" {
			b.Spread(i)
		}
	}
}

// noLike says why a target cannot be like the one that it names.
func (b *Bench) noLike(p *Target) string {
	i := slices.IndexFunc(b.Targets, func(o Target) bool { return o.Name == p.Like })
	switch {
	case i < 0:
		return fmt.Sprintf("there is no target %q that %s could be like", p.Like, p.Name)
	case p.Name == p.Like:
		return p.Name + " cannot be like itself"
	}
	return fmt.Sprintf("%s is like %s itself: name that one", p.Like, b.Targets[i].Like)
}

// written is the bench as it is saved: of a set, choices stand in the first target alone.
func (b *Bench) written() *Bench {
	c := b.Clone()
	for i := range c.Targets {
		if p := &c.Targets[i]; p.Like != "" {
			c.Targets[i] = p.as(Target{})
		}
	}
	return c
}

// Unlike has target number n be in no set any longer; its choices stay as they are. The first of a set hands that role
// on to the next one.
func (b *Bench) Unlike(n int) {
	p := &b.Targets[n]
	if p.Like != "" {
		p.Like = ""
		return
	}
	first := ""
	for i := range b.Targets {
		switch o := &b.Targets[i]; {
		case o.Like != p.Name || i == n:
		case first == "":
			first, o.Like = o.Name, ""
		default:
			o.Like = first
		}
	}
}

// AddLike adds a target that is like target number n, and returns its number. It has that one's name with a number.
func (b *Bench) AddLike(n int, at, stick string) int {
	first := b.First(n)
	p := Target{
		Name:  b.FreeName(withoutNumber(b.Targets[first].Name)),
		At:    at,
		Like:  b.Targets[first].Name,
		Stick: stick,
	}
	if stick == "" { // what nobody can read off it
		p.As, p.Capacity, p.Cluster = b.Targets[first].As, b.Targets[first].Capacity, b.Targets[first].Cluster
	}
	b.Targets = append(b.Targets, p.as(b.Targets[first]))
	return len(b.Targets) - 1
}

// withoutNumber takes the number off the end of a name.
func withoutNumber(name string) string {
	if base := strings.TrimSpace(strings.TrimRight(name, "0123456789")); base != "" {
		return base
	}
	return name
}

// Address is where target number n is: a stick that is known, wherever it is plugged in now.
func (b *Bench) Address(n int) string {
	p := &b.Targets[n]
	if p.Stick != "" {
		if at, ok := folder.Plugged(p.Stick, b.Resolve(p.At)); ok {
			return at
		}
	}
	return b.Resolve(p.At)
}
