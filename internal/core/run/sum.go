package run

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/zeebo/xxh3"

	"polytome/internal/place"
	"polytome/internal/sparse"
)

// blockSize is the unit of reading, hashing and writing, in bytes.
const blockSize = 512 << 10

// A Sum is a fingerprint of content: XXH3-128 over the XXH3-128 hashes of its
// blocks of 512 KiB. It guards against what media and cables do to bytes, not
// against somebody who forges them. Blocks of zeros have a hash known beforehand,
// so holes cost nothing, and blocks can be hashed side by side.
type Sum [16]byte

// String is the sum in hexadecimal.
func (s Sum) String() string { return hex.EncodeToString(s[:]) }

var zeroBlock = make([]byte, blockSize)
var zeroHash = xxh3.Hash128(zeroBlock)

// block is up to blockSize bytes on their way; data is nil for zeros.
type block struct {
	data []byte
	n    int64
	hash chan xxh3.Uint128
}

// blocksAhead is how many blocks may be in memory at once.
const blocksAhead = 6

// eachBlock reads content in order, hashing ahead of use, and hands every block to
// use. It returns the sum.
func eachBlock(ctx context.Context, c place.Content, use func(block) error) (Sum, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	blocks := make(chan block, blocksAhead-2)
	var readErr error
	go func() {
		defer close(blocks)
		readErr = readBlocks(ctx, c, blocks)
	}()
	all := xxh3.New()
	for b := range blocks {
		if err := use(b); err != nil {
			cancel()
			for range blocks { // let the reader end before its source is closed
			}
			return Sum{}, err
		}
		h := zeroHash
		if b.hash != nil {
			h = <-b.hash
		}
		word := h.Bytes()
		_, _ = all.Write(word[:])
		if b.data != nil {
			whole := b.data[:blockSize]
			pool.Put(&whole)
		}
	}
	if readErr != nil {
		return Sum{}, readErr
	}
	return all.Sum128().Bytes(), nil
}

// pool has blocks that are used again, also by the next file: of many small ones, making them would take longer than copying.
var pool = sync.Pool{New: func() any {
	b := make([]byte, blockSize)
	return &b
}}

func readBlocks(ctx context.Context, c place.Content, out chan<- block) error {
	size := c.Size()
	dataStart, dataEnd := int64(0), int64(0) // the run of data found last
	for off := int64(0); off < size; {
		n := min(blockSize, size-off)
		if off >= dataEnd {
			dataStart, dataEnd = c.Data(off)
		}
		b := block{n: n}
		if dataStart < off+n { // some of the block is data
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
						err = fmt.Errorf("it ends after %d bytes instead of %d: %w", off+int64(k), size, io.ErrUnexpectedEOF)
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
			b.hash = make(chan xxh3.Uint128, 1)
			go func(data []byte) { b.hash <- xxh3.Hash128(data) }(orZeros(b))
		}
		select {
		case out <- b:
		case <-ctx.Done():
			return ctx.Err()
		}
		off += n
	}
	return ctx.Err()
}

// ended reports whether content of which only the most was known has come to its end.
func ended(c place.Content) bool {
	a, ok := c.(interface{ AtMost() bool })
	return ok && !a.AtMost()
}

func orZeros(b block) []byte {
	if b.data != nil {
		return b.data
	}
	return zeroBlock[:b.n]
}

func isZero(b []byte) bool {
	return string(b) == string(zeroBlock[:len(b)])
}

// SumOf fingerprints content.
func SumOf(ctx context.Context, c place.Content, progress func(n int64)) (Sum, error) {
	return eachBlock(ctx, c, func(b block) error {
		progress(b.n)
		return nil
	})
}

// copyTo writes content to w, and returns the sum of what was read.
func copyTo(ctx context.Context, c place.Content, w place.Writer, progress func(n int64)) (Sum, error) {
	return eachBlock(ctx, c, func(b block) error {
		if b.data == nil {
			if err := w.Skip(b.n); err != nil {
				return err
			}
		} else if _, err := w.Write(b.data); err != nil {
			return err
		}
		progress(b.n)
		return nil
	})
}
