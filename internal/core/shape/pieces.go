package shape

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"

	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
)

// A Block is where pieces stand in a file that they are joined to: behind bytes in front, and before bytes behind.
type Block struct {
	Head   []byte  `json:"head,omitempty"`
	Starts []int64 `json:"starts"` // the byte at which each piece begins; what is before it is filled
	Fill   byte    `json:"fill,omitempty"`
	Tail   []byte  `json:"tail,omitempty"`
	Size   int64   `json:"size"` // of all of it, in bytes
}

// block is several files in one, with what stands before, between and behind them.
var block = Kind{
	Name: Joined, Word: "join",
	Rule:     "the pieces of a title go into one file",
	Reported: "joined of the pieces of %s",
	Says:     func(l, form string) string { return l + " needs the pieces of the " + form + " in one file" },
	Open: func(_ context.Context, w SourceOpener, s *Spec) (target.Content, error) {
		b := s.With.Block
		p := &pieces{w: w, of: b, parts: s.With.Parts, open: make([]target.Content, len(s.With.Parts))}
		return window(&full{p, b.Size, p.Close}, s)
	},
}

// JoinedOf is the one file of several pieces; the source is what they are of.
func JoinedOf(source title.File, pieces []title.Part, b *Block) Spec {
	return Spec{Shape: Joined, Source: source, Size: b.Size, With: &With{Parts: pieces, Block: b}}
}

// pieces reads a block. Pieces are opened when they are reached; of those in archives one is open at a time, as one
// archive is.
type pieces struct {
	w     SourceOpener
	of    *Block
	parts []title.Part

	mu   sync.Mutex
	open []target.Content
}

func (p *pieces) Close() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	var all []error
	for i, c := range p.open {
		if c != nil {
			all = append(all, c.Close())
			p.open[i] = nil
		}
	}
	return errors.Join(all...)
}

// piece opens a piece.
func (p *pieces) piece(n int) (target.Content, error) {
	if p.open[n] != nil {
		return p.open[n], nil
	}
	f := &p.parts[n].File
	for i, c := range p.open {
		if c != nil && f.Entry != "" && p.parts[i].File.Entry != "" {
			_ = c.Close() // which was read from
			p.open[i] = nil
		}
	}
	c, err := p.w.Open(f)
	if err != nil {
		return nil, err
	}
	if c.Size() != f.Size {
		_ = c.Close()
		return nil, &SourceError{f.Called(), fmt.Errorf("it has %s now, and had %s when it was looked at",
			size.Format(c.Size()), size.Format(f.Size))}
	}
	p.open[n] = c
	return c, nil
}

// ReadAt reads what stands at an offset.
func (p *pieces) ReadAt(b []byte, off int64) (n int, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for n < len(b) {
		at := off + int64(n)
		if at >= p.of.Size {
			return n, io.EOF
		}
		k, err := p.run(b[n:], at)
		n += k
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

// run reads from an offset on, up to where something else begins.
func (p *pieces) run(b []byte, at int64) (int, error) {
	if at < int64(len(p.of.Head)) {
		return copy(b, p.of.Head[at:]), nil
	}
	tail := p.of.Size - int64(len(p.of.Tail))
	if at >= tail {
		return copy(b, p.of.Tail[at-tail:]), nil
	}
	end := tail
	for i, start := range p.of.Starts {
		length := p.parts[i].File.Size
		switch {
		case at < start:
			end = min(end, start)
		case at < start+length:
			c, err := p.piece(i)
			if err != nil {
				return 0, err
			}
			want := b[:min(int64(len(b)), start+length-at)]
			n, err := c.ReadAt(want, at-start)
			if n == len(want) {
				err = nil
			} else if err == nil || errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			return n, err
		}
	}
	b = b[:min(int64(len(b)), end-at)]
	for i := range b {
		b[i] = p.of.Fill
	}
	return len(b), nil
}
