package discread

import (
	"context"
	"io"

	"polytome/internal/optical"
)

// ReaderAt reads a disc at any byte of its image. It is for looking at some places of it: the pieces that were read
// last are kept. It is for one goroutine at a time.
func ReaderAt(ctx context.Context, d *optical.Drive, disc *Disc) io.ReaderAt {
	var from Drive = d
	if disc.Whole() {
		from = newWhole(d, disc, 0)
	}
	return &readerAt{ctx: ctx, d: from, size: disc.Size, blocks: disc.Blocks, pieces: map[int64][]byte{}}
}

// keptPieces is how many pieces are kept.
const keptPieces = 32

type readerAt struct {
	ctx    context.Context
	d      Drive
	size   int64
	blocks int64
	pieces map[int64][]byte
	order  []int64
}

func (r *readerAt) ReadAt(b []byte, off int64) (n int, err error) {
	for n < len(b) {
		at := off + int64(n)
		if at >= r.blocks*r.size {
			return n, io.EOF
		}
		p, err := r.piece(at / (atOnce * r.size))
		if err != nil {
			// a part of the piece may be bad, and not the one that is wanted
			if p, err = r.block(at / r.size); err != nil {
				return n, err
			}
			n += copy(b[n:], p[at%r.size:])
			continue
		}
		n += copy(b[n:], p[at%(atOnce*r.size):])
	}
	return n, nil
}

func (r *readerAt) piece(k int64) ([]byte, error) {
	if p, ok := r.pieces[k]; ok {
		return p, nil
	}
	p := make([]byte, min(atOnce, r.blocks-k*atOnce)*r.size)
	if err := r.d.Read(r.ctx, k*atOnce, p, r.size); err != nil {
		return nil, err
	}
	if len(r.order) == keptPieces {
		delete(r.pieces, r.order[0])
		r.order = r.order[1:]
	}
	r.pieces[k], r.order = p, append(r.order, k)
	return p, nil
}

func (r *readerAt) block(k int64) ([]byte, error) {
	p := make([]byte, r.size)
	return p, r.d.Read(r.ctx, k, p, r.size)
}
