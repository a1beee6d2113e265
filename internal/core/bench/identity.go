package bench

import "sync/atomic"

// An ID is the identity of a target for as long as the program lives: it stays when other targets come and go, when the
// target is set up otherwise, and through undo. 0 is that of no target. It is not saved.
type ID int64

var lastID atomic.Int64

// ID is the identity of the target, 0 before [Bench.Identify] gave it one.
func (p *Target) ID() ID { return p.id }

// Identify gives each target that has none, or that was copied from another one, an identity of its own.
func (b *Bench) Identify() {
	taken := map[ID]bool{}
	for i := range b.Targets {
		p := &b.Targets[i]
		if p.id == 0 || taken[p.id] {
			p.id = ID(lastID.Add(1))
		}
		taken[p.id] = true
	}
}

// Find is the number of the target with an identity; ok is false when it is not on the bench.
func (b *Bench) Find(id ID) (n int, ok bool) {
	for i := range b.Targets {
		if id != 0 && b.Targets[i].id == id {
			return i, true
		}
	}
	return 0, false
}

// recognise hands the identities of earlier targets on to those that are the same: of that name, at that address.
func (b *Bench) recognise(before []Target) {
	for i := range b.Targets {
		for k := range before {
			if before[k].Name == b.Targets[i].Name && before[k].At == b.Targets[i].At {
				b.Targets[i].id = before[k].id
				break
			}
		}
	}
}
