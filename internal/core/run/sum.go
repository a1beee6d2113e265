package run

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"

	"github.com/zeebo/xxh3"

	"polytome/internal/filecopy"
	"polytome/internal/parallel"
	"polytome/internal/sparse"
	"polytome/internal/target"
)

// blockSize is the unit of reading, hashing and writing, in bytes.
const blockSize = 512 << 10

// A Sum is a fingerprint of content: XXH3-128 over the XXH3-128 hashes of its
// blocks of 512 KiB. It guards against what media and cables do to bytes, not
// against someone who forges them. Blocks of zeros have a hash known beforehand,
// so holes cost nothing, and blocks can be hashed side by side.
type Sum [16]byte

// String is the sum in hexadecimal.
func (s Sum) String() string { return hex.EncodeToString(s[:]) }

// sums are the hashes of a file's blocks: 16 bytes for each 512 KiB.
type sums []xxh3.Uint128

// Sum is the fingerprint of the whole.
func (s sums) Sum() Sum {
	all := xxh3.New()
	for _, h := range s {
		word := h.Bytes()
		_, _ = all.Write(word[:])
	}
	return all.Sum128().Bytes()
}

var zeroBlock [blockSize]byte
var zeroHash = sync.OnceValue(func() xxh3.Uint128 { return xxh3.Hash128(zeroBlock[:]) })

// block is up to blockSize bytes on their way; data is nil for zeros.
type block struct {
	off, n int64
	data   []byte
	hash   chan hashed
}

// hashed is the hash of a block, or why there is none.
type hashed struct {
	sum xxh3.Uint128
	err error
}

// sum waits for the hash of the block. It may be asked for several times.
func (b *block) sum() (xxh3.Uint128, error) {
	if b.hash == nil {
		return zeroHash(), nil
	}
	h := <-b.hash
	b.hash <- h
	return h.sum, h.err
}

// blocksAhead is how many blocks of one file may be in memory at once.
const blocksAhead = 16

// eachBlock reads content in order, hashing ahead of use, and hands every block to
// use. It returns the hashes of those that were used.
func eachBlock(ctx context.Context, c target.Content, t turn, use func(block) error) (sums, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	blocks := make(chan block, blocksAhead-2)
	out := make(sums, 0, c.Size()/blockSize+1)
	var readErr error
	read := func() {
		defer close(blocks)
		readErr = parallel.Safely(func() error { return readBlocks(ctx, c, t, blocks) })
	}
	if c.Size() <= blockSize { // one block, which needs no one to wait for
		read()
	} else {
		go read()
	}
	for b := range blocks {
		err := use(b)
		var h xxh3.Uint128
		if err == nil {
			h, err = b.sum()
		}
		if err != nil {
			cancel()
			for range blocks { // let the reader end before its source is closed
			}
			return out, err
		}
		out = append(out, h)
		if b.data != nil {
			whole := b.data[:blockSize]
			pool.Put(&whole)
		}
	}
	return out, readErr
}

// pool has blocks that are used again, also by the next file: of many small ones, making them would take longer than
// copying.
var pool = sync.Pool{New: func() any {
	b := make([]byte, blockSize)
	return &b
}}

// readBlocks reads in turns with the other lanes.
func readBlocks(ctx context.Context, c target.Content, t turn, out chan<- block) error {
	size := c.Size()
	dataStart, dataEnd := int64(0), int64(0) // the run of data found last
	mine, inTurn := false, int64(0)
	give := func() {
		if mine {
			t.give()
		}
		mine, inTurn = false, 0
	}
	defer give()
	for off := int64(0); off < size; {
		n := min(blockSize, size-off)
		if off >= dataEnd {
			dataStart, dataEnd = c.Data(off)
		}
		b := block{off: off, n: n}
		if dataStart < off+n { // some of the block is data
			if !mine && t != nil && !inMemory(c, off) {
				if err := t.take(ctx); err != nil {
					return err
				}
				mine = true
			}
			b.data = (*pool.Get().(*[]byte))[:n]
			if k, err := c.ReadAt(b.data, off); int64(k) < n {
				if ended(c) && errors.Is(err, io.EOF) { // it is shorter than it might have been
					size, n = off+int64(k), int64(k)
					b.n, b.data = n, b.data[:k]
					if n == 0 {
						return ctx.Err()
					}
				} else {
					if err == nil || errors.Is(err, io.EOF) {
						err = fmt.Errorf("it ends after %d bytes instead of %d: %w", off+int64(k), size,
							io.ErrUnexpectedEOF)
					}
					return err
				}
			}
			if !sparse.Known && isZero(b.data) {
				b.data = nil
			}
			if dataEnd < off+n {
				dataEnd = 0 // more data may begin inside the block: look again after it
			}
		}
		if b.data != nil || n < blockSize {
			b.hash = make(chan hashed, 1)
			hash := func(data []byte) {
				var h hashed
				h.err = parallel.Safely(func() error { h.sum = xxh3.Hash128(data); return nil })
				b.hash <- h
			}
			if n < blockSize {
				hash(b.bytes()) // handing it over would take longer
			} else {
				go hash(b.bytes())
			}
		}
		if inTurn += n; inTurn >= turnBytes {
			give()
		}
		select {
		case out <- b:
		default:
			give() // whoever writes is behind, and another lane may read meanwhile
			select {
			case out <- b:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		off += n
	}
	return ctx.Err()
}

// inMemory reports whether the bytes of a content can be had without reading.
func inMemory(c target.Content, off int64) bool {
	l, ok := c.(*lot)
	return ok && l.c.has(off)
}

// ended reports whether content of which only the most was known has come to its end.
func ended(c target.Content) bool {
	a, ok := c.(interface{ AtMost() bool })
	return ok && !a.AtMost()
}

// bytes are the block's bytes, also of zeros.
func (b *block) bytes() []byte {
	if b.data != nil {
		return b.data
	}
	return zeroBlock[:b.n]
}

// behind is the block without its first k bytes.
func (b block) behind(k int64) block {
	b.off, b.n = b.off+k, b.n-k
	if b.data != nil {
		b.data = b.data[k:]
	}
	return b
}

func isZero(b []byte) bool {
	return string(b) == string(zeroBlock[:len(b)])
}

// SumOf fingerprints content.
func SumOf(ctx context.Context, c target.Content, progress func(n int64)) (Sum, error) {
	s, err := eachBlock(ctx, c, nil, func(b block) error {
		progress(b.n)
		return nil
	})
	return s.Sum(), err
}

func writeBlock(b block, w target.Writer) error {
	if b.data == nil {
		return w.Skip(b.n)
	}
	_, err := w.Write(b.data)
	return err
}

// cloner writes blocks by having the system copy them out of the source's file, where both are on one filesystem that
// lets files share what they have in common: that takes neither time nor space.
type cloner struct {
	from filecopy.Sectioned
	to   filecopy.Taker
}

// clones returns nil where the bytes have to be written.
func clones(c target.Content, w target.Writer) *cloner {
	from, ok := c.(filecopy.Sectioned)
	to, takes := w.(filecopy.Taker)
	if s, shares := w.(interface{ Shares(f *os.File) bool }); ok && takes && shares && c.Size() > 0 {
		if f, _, _, ok := from.Section(0); ok && s.Shares(f) {
			return &cloner{from, to}
		}
	}
	return nil
}

// write reports whether it wrote the block.
func (c *cloner) write(b block) (bool, error) {
	if c == nil || c.to == nil || b.data == nil {
		return false, nil
	}
	f, at, n, ok := c.from.Section(b.off)
	if !ok || n < b.n {
		return false, nil
	}
	_, err := c.to.CopyFrom(f, at, b.n)
	if errors.Is(err, errors.ErrUnsupported) {
		c.to = nil
		return false, nil
	}
	return true, err
}
