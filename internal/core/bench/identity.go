package bench

import "sync/atomic"

// An ID is the identity of a place for as long as the program lives: it stays when other places come and go, when the place is set
// up otherwise, and through undo. 0 is that of no place. It is not saved.
type ID int64

var lastID atomic.Int64

// ID is the identity of the place, 0 before [Bench.Identify] gave it one.
func (p *Place) ID() ID { return p.id }

// Identify gives each place that has none, or that was copied from another one, an identity of its own.
func (b *Bench) Identify() {
	taken := map[ID]bool{}
	for i := range b.Places {
		p := &b.Places[i]
		if p.id == 0 || taken[p.id] {
			p.id = ID(lastID.Add(1))
		}
		taken[p.id] = true
	}
}

// Find is the number of the place with an identity; ok is false when it is not on the bench.
func (b *Bench) Find(id ID) (n int, ok bool) {
	for i := range b.Places {
		if id != 0 && b.Places[i].id == id {
			return i, true
		}
	}
	return 0, false
}

// recognise hands the identities of earlier places on to those that are the same: of that name, at that address.
func (b *Bench) recognise(before []Place) {
	for i := range b.Places {
		for k := range before {
			if before[k].Name == b.Places[i].Name && before[k].At == b.Places[i].At {
				b.Places[i].id = before[k].id
				break
			}
		}
	}
}
