// Package discread reads discs into images: every block is tried until it is read or given up, and it is written down
// how each was read, so that a reading can go on another day, at another drive, or with another copy of the disc.
package discread

import (
	"fmt"
	"slices"

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
	end := first + count
	out := make([]Span, 0, len(b.Spans)+2)
	add := func(s Span) {
		if s.Count <= 0 {
			return
		}
		if n := len(out); n > 0 && out[n-1].State == s.State && out[n-1].Tries == s.Tries {
			out[n-1].Count += s.Count
			return
		}
		out = append(out, s)
	}
	for _, s := range b.Spans {
		from, to := max(s.First, first), min(s.End(), end)
		if s.State == Good || from >= to {
			add(s)
			continue
		}
		add(Span{s.First, from - s.First, s.State, s.Tries})
		add(Span{from, to - from, state, tries})
		add(Span{to, s.End() - to, s.State, s.Tries})
	}
	b.Spans = out
}

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
