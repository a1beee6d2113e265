// Package discread reads discs into images: every block is tried until it is read or given up, and it is written down
// how each was read, so that a reading can go on another day, at another drive, or with another copy of the disc.
package discread

import (
	"fmt"
	"slices"
	"sort"

	"polytome/internal/size"
)

// State is how a block was read.
type State string

const (
	Unread State = "unread" // not tried yet
	Good   State = "good"
	Bad    State = "bad" // tried, and not read
)

// A Span is blocks one behind the other that were read alike.
type Span struct {
	First int64 `toml:"first"`
	Count int64 `toml:"count"`
	State State `toml:"state"`
	// Tries is how often the worst of them was tried that is bad.
	Tries int `toml:"tries,omitempty"`
}

// End is the block behind the span.
func (s Span) End() int64 { return s.First + s.Count }

// Blocks is how each block of a disc was read: spans one behind the other, from the first block to the last.
type Blocks struct {
	Size  int64  `toml:"block-size"` // bytes
	Count int64  `toml:"blocks"`
	Spans []Span `toml:"span"`
}

// NewBlocks is a disc of which nothing was read.
func NewBlocks(count, size int64) *Blocks {
	return &Blocks{size, count, []Span{{First: 0, Count: count, State: Unread}}}
}

// Check reports what is wrong with spans that were read from a file.
func (b *Blocks) Check() error {
	next := int64(0)
	for _, s := range b.Spans {
		if s.First != next || s.Count <= 0 || !slices.Contains([]State{Unread, Good, Bad}, s.State) {
			return fmt.Errorf("the span at block %d does not fit what is before it", s.First)
		}
		next = s.End()
	}
	if next != b.Count || b.Size <= 0 {
		return fmt.Errorf("it has spans for %s, but the disc has %s", size.Count(int(next), "block"),
			size.Count(int(b.Count), "block"))
	}
	return nil
}

// Set says how blocks were read. What was good stays so.
func (b *Blocks) Set(first, count int64, state State, tries int) {
	b.set(first, count, state, tries, Good)
}

// Doubt has blocks be bad that were good.
func (b *Blocks) Doubt(first, count int64) { b.set(first, count, Bad, 0, "") }

// set says how blocks were read, other than those in a state that is kept. Only the spans that it is about are looked
// at.
func (b *Blocks) set(first, count int64, state State, tries int, kept State) {
	end := first + count
	at := func(n int64) int { // the span that ends behind block n
		return sort.Search(len(b.Spans), func(i int) bool { return b.Spans[i].End() > n })
	}
	from, to := max(0, at(first)-1), min(len(b.Spans), at(end-1)+2) // with a neighbour on either side
	var out []Span
	add := func(s Span) {
		if n := len(out); s.Count > 0 && n > 0 && out[n-1].State == s.State && out[n-1].Tries == s.Tries {
			out[n-1].Count += s.Count
		} else if s.Count > 0 {
			out = append(out, s)
		}
	}
	for _, s := range b.Spans[from:to] {
		low, high := max(s.First, first), min(s.End(), end)
		if s.State == kept || low >= high {
			add(s)
			continue
		}
		add(Span{s.First, low - s.First, s.State, s.Tries})
		add(Span{low, high - low, state, tries})
		add(Span{high, s.End() - high, s.State, s.Tries})
	}
	b.Spans = slices.Replace(b.Spans, from, to, out...)
}

// Clone is a copy that stays as it is.
func (b *Blocks) Clone() *Blocks { return &Blocks{b.Size, b.Count, slices.Clone(b.Spans)} }

// In counts the blocks in a state.
func (b *Blocks) In(state State) (n int64) {
	for _, s := range b.Spans {
		if s.State == state {
			n += s.Count
		}
	}
	return n
}

// Of are the spans in a state, in their order.
func (b *Blocks) Of(state State) (out []Span) {
	for _, s := range b.Spans {
		if s.State == state {
			out = append(out, s)
		}
	}
	return out
}

// Whole reports whether every block was read.
func (b *Blocks) Whole() bool { return b.In(Good) == b.Count }

// nth is block number n, counted from 0, of those in a state.
func (b *Blocks) nth(state State, n int64) int64 {
	for _, s := range b.Of(state) {
		if n < s.Count {
			return s.First + n
		}
		n -= s.Count
	}
	return b.Count - 1
}
