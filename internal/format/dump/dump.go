// Package dump reads the copies that dumpers make of cartridges as the console has them: without a copier's header in
// front, and with the bytes in their right order.
package dump

import (
	"io"
	"slices"
)

// Orders are those in which bytes may stand.
var Orders = []string{"swapped-2", "swapped-4", "interleaved"}

// A Layout is how a dump holds a game; the zero value is a plain one.
type Layout struct {
	Skip int64 `json:"skip,omitempty"` // bytes of a header in front of the game
	// Order is "" where the bytes stand in their order; swapped-2 and swapped-4 where those of every two or four stand
	// the other way round; interleaved where, in every block, the first half has every second byte, from the second one
	// on, and the second half the others.
	Order string `json:"order,omitempty"`
	Block int64  `json:"block,omitempty"` // bytes of a block that is interleaved; even
}

// Size is how many bytes the game in a dump of a length has.
func (l Layout) Size(dump int64) int64 { return max(0, dump-l.Skip) }

// A Reader reads the game in a dump. It may be used by several goroutines where what it reads from may.
type Reader struct {
	r    io.ReaderAt
	size int64
	l    Layout
}

// New reads from a dump of so many bytes. What does not fill a last group or block stands as it is.
func New(r io.ReaderAt, dump int64, l Layout) *Reader { return &Reader{r, l.Size(dump), l} }

// Size is how many bytes the game has.
func (r *Reader) Size() int64 { return r.size }

// group is how many bytes change their places among themselves.
func (r *Reader) group() int64 {
	switch r.l.Order {
	case "swapped-2":
		return 2
	case "swapped-4":
		return 4
	case "interleaved":
		return max(2, r.l.Block&^1)
	}
	return 1
}

// most is how many bytes are read at once.
const most = 1 << 20

// ReadAt reads bytes of the game.
func (r *Reader) ReadAt(b []byte, off int64) (n int, err error) {
	if off >= r.size {
		return 0, io.EOF
	}
	whole := len(b)
	b = b[:min(int64(whole), r.size-off)]
	group := r.group()
	if group == 1 {
		n, err = r.r.ReadAt(b, r.l.Skip+off)
	} else {
		for n < len(b) && err == nil {
			first := (off + int64(n)) / group * group
			last := min((off+int64(len(b))+group-1)/group*group, first+max(group, most/group*group), r.size)
			buf := make([]byte, last-first)
			var k int
			if k, err = r.r.ReadAt(buf, r.l.Skip+first); k < len(buf) {
				if err == nil || err == io.EOF {
					err = io.ErrUnexpectedEOF
				}
				return n, err
			}
			err = nil
			r.straighten(buf, group)
			n += copy(b[n:], buf[off+int64(n)-first:])
		}
	}
	if n == len(b) {
		err = nil
		if n < whole {
			err = io.EOF
		}
	}
	return n, err
}

// straighten puts whole groups right.
func (r *Reader) straighten(b []byte, group int64) {
	for ; int64(len(b)) >= group; b = b[group:] {
		g := b[:group]
		if r.l.Order != "interleaved" {
			slices.Reverse(g)
			continue
		}
		out := make([]byte, group)
		for i := range group / 2 {
			out[2*i+1], out[2*i] = g[i], g[group/2+i]
		}
		copy(g, out)
	}
}
