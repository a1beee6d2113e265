package packed

import (
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"runtime"
	"sync"

	zst "github.com/klauspost/compress/zstd"

	"polytome/internal/format/crcs"
	"polytome/internal/parallel"
)

// An Image is an opened packed image: the image that was packed, as an [io.ReaderAt]. It is safe for
// several goroutines when its reader is.
type Image struct {
	head    header
	trail   trailer
	entries []entry
	r       io.ReaderAt
	size    int64
	dec     *zst.Decoder
	blocks  sync.Pool

	mu   sync.Mutex
	last int64 // number of the block in held; -1 for none
	held []byte
}

// Open reads the header and the index of the packed image in the size bytes of r. The parts of one that
// is cut are read as one.
func Open(r io.ReaderAt, size int64) (*Image, error) {
	b := make([]byte, headerSize)
	if n, err := r.ReadAt(b, 0); n < headerSize {
		if n >= 8 && string(b[:8]) == headerMagic || err != nil && !errors.Is(err, io.EOF) {
			return nil, errors.Join(err, io.ErrUnexpectedEOF)
		}
		return nil, ErrNotPacked
	}
	im := &Image{r: r, size: size, last: -1}
	var err error
	if im.head, err = parseHeader(b); err != nil {
		return nil, err
	}
	at := size - trailerSize
	if at < headerSize {
		return nil, &FormatError{size, "it ends behind its header"}
	}
	if n, err := r.ReadAt(b[:trailerSize], at); n < trailerSize {
		return nil, errors.Join(err, io.ErrUnexpectedEOF)
	}
	if im.trail, err = parseTrailer(b, at); err != nil {
		return nil, err
	}
	t := &im.trail
	if t.blocks != im.head.blocks() || t.index < headerSize || t.index > at || (at-t.index)/entrySize != t.blocks ||
		(at-t.index)%entrySize != 0 {
		return nil, &FormatError{at, "its end points to another index"}
	}
	if err := im.readIndex(); err != nil {
		return nil, err
	}
	if im.head.flags&flagZstd != 0 {
		im.dec, err = zst.NewReader(nil, zst.WithDecoderConcurrency(runtime.GOMAXPROCS(0)),
			zst.WithDecoderMaxMemory(uint64(largestBlock)*2), zst.WithDecoderMaxWindow(uint64(largestBlock)))
		if err != nil {
			return nil, err
		}
	}
	im.blocks.New = func() any {
		b := make([]byte, 2*im.head.block)
		return &b
	}
	return im, nil
}

// readIndex reads and checks the index (2.3).
func (im *Image) readIndex() error {
	t := &im.trail
	im.entries = make([]entry, 0, t.blocks)
	sum := crc32.NewIEEE()
	b := make([]byte, 1<<16)
	next := int64(headerSize)
	for at := t.index; at < t.index+t.blocks*entrySize; {
		n := min(int64(len(b)), t.index+t.blocks*entrySize-at)
		if k, err := im.r.ReadAt(b[:n], at); int64(k) < n {
			return errors.Join(err, io.ErrUnexpectedEOF)
		}
		_, _ = sum.Write(b[:n])
		for i := int64(0); i < n; i += entrySize {
			e := parseEntry(b[i:])
			length := im.head.blockLength(int64(len(im.entries)))
			wrong := false
			switch e.kind {
			case zeros, unused:
				wrong = e.stored != 0
			case plain:
				wrong = int64(e.stored) != length
			case zstd:
				wrong = int64(e.stored) > length || im.head.flags&flagZstd == 0
			}
			if e.kind >= kinds || wrong || e.stored > 0 && (e.at != next || e.at+int64(e.stored) > t.index) {
				return &FormatError{at + i, fmt.Sprintf("the index has an impossible entry for block %d",
					len(im.entries))}
			}
			if e.stored > 0 {
				next += int64(e.stored)
			}
			im.entries = append(im.entries, e)
		}
		at += n
	}
	if sum.Sum32() != t.indexSum {
		return &FormatError{t.index, "the checksum of the index does not match"}
	}
	return nil
}

// Close lets go of what reading needs; the reader stays open.
func (im *Image) Close() error {
	if im.dec != nil {
		im.dec.Close()
	}
	return nil
}

// Size is the length of the image in bytes, unpacked.
func (im *Image) Size() int64 { return im.head.length }

// Sum is the CRC-32 (IEEE 802.3) of the image as it is given back.
func (im *Image) Sum() uint32 { return im.trail.imageSum }

// Lost is how many bytes lie in blocks that were left out though they held something else than zeros;
// 0 for an image that is given back bit for bit.
func (im *Image) Lost() int64 { return im.trail.lost }

// Stats are what an image is made of.
type Stats struct {
	Block      int64 // bytes in a block
	Blocks     int64
	Zeros      int64 // blocks left out that are zeros
	Unused     int64 // blocks left out that the disc does not use
	Compressed int64 // blocks that are compressed
}

// Stats counts the blocks.
func (im *Image) Stats() Stats {
	s := Stats{Block: im.head.block, Blocks: im.trail.blocks}
	for i := range im.entries {
		switch im.entries[i].kind {
		case zeros:
			s.Zeros++
		case unused:
			s.Unused++
		case zstd:
			s.Compressed++
		}
	}
	return s
}

// Data returns the first run of kept blocks at or after off; what is between is zeros.
func (im *Image) Data(off int64) (start, end int64) {
	n := off / im.head.block
	for n < int64(len(im.entries)) && im.entries[n].stored == 0 {
		n++
	}
	if n >= int64(len(im.entries)) {
		return im.head.length, im.head.length
	}
	start = max(off, n*im.head.block)
	for n < int64(len(im.entries)) && im.entries[n].stored > 0 {
		n++
	}
	return start, min(n*im.head.block, im.head.length)
}

// block unpacks block n into b, which is as long as the block. Damage is a [*BlockError].
func (im *Image) block(n int64, b []byte) error {
	e := &im.entries[n]
	if e.stored == 0 {
		clear(b)
		return nil
	}
	bad := func(what string) error {
		return &BlockError{n, n * im.head.block, int64(len(b)), e.at, int64(e.stored), what}
	}
	into := b
	if e.kind == zstd {
		p := im.blocks.Get().(*[]byte)
		defer im.blocks.Put(p)
		into = (*p)[:e.stored]
	}
	if k, err := im.r.ReadAt(into, e.at); k < len(into) {
		if err == nil || errors.Is(err, io.EOF) {
			err = io.ErrUnexpectedEOF
		}
		return err
	}
	if e.kind == zstd {
		out, err := im.dec.DecodeAll(into, b[:0:len(b)])
		if err != nil {
			return bad("it cannot be unpacked: " + err.Error())
		}
		if len(out) != len(b) {
			return bad("it unpacks to another length")
		}
	}
	if crc32.ChecksumIEEE(b) != e.sum {
		return bad("it does not have its checksum")
	}
	return nil
}

// ReadAt reads the image. Every block that is touched is checked.
func (im *Image) ReadAt(b []byte, off int64) (int, error) {
	if off < 0 {
		return 0, errors.New("packed: negative offset")
	}
	if off >= im.head.length {
		return 0, io.EOF
	}
	short := int64(len(b)) > im.head.length-off
	if short {
		b = b[:im.head.length-off]
	}
	first, last := off/im.head.block, (off+int64(len(b))-1)/im.head.block
	if len(b) == 0 {
		return 0, nil
	}
	failed := last + 1
	var mu sync.Mutex
	var firstErr error
	one := func(n int64) {
		if err := parallel.Safely(func() error { return im.piece(n, b, off) }); err != nil {
			mu.Lock()
			if n < failed {
				failed, firstErr = n, err
			}
			mu.Unlock()
		}
	}
	if last-first < 4 || im.dec == nil {
		for n := first; n <= last && firstErr == nil; n++ {
			one(n)
		}
	} else {
		var wg sync.WaitGroup
		workers := int64(runtime.GOMAXPROCS(0))
		for w := range workers {
			wg.Add(1)
			go func() {
				defer wg.Done()
				for n := first + w; n <= last; n += workers {
					one(n)
				}
			}()
		}
		wg.Wait()
	}
	if firstErr != nil {
		return int(max(0, failed*im.head.block-off)), firstErr
	}
	if short {
		return len(b), io.EOF
	}
	return len(b), nil
}

// piece copies what b wants of block n, where b begins at off.
func (im *Image) piece(n int64, b []byte, off int64) error {
	start, length := n*im.head.block, im.head.blockLength(n)
	if start >= off && start+length <= off+int64(len(b)) {
		return im.block(n, b[start-off:][:length])
	}
	im.mu.Lock()
	defer im.mu.Unlock()
	if im.last != n {
		im.last = -1
		if im.held == nil {
			im.held = make([]byte, im.head.block)
		}
		if err := im.block(n, im.held[:length]); err != nil {
			return err
		}
		im.last = n
	}
	from := max(0, off-start)
	copy(b[max(0, start-off):], im.held[from:length])
	return nil
}

// Check reads and checks every block, and the checksum of the whole. Each damaged block is reported to
// bad, and the rest goes on. Progress is reported in bytes of the image.
func (im *Image) Check(ctx context.Context, progress func(n int64), bad func(*BlockError)) error {
	var whole crcs.Joiner
	b := make([]byte, im.head.block)
	damaged := false
	for n := range im.trail.blocks {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		length := im.head.blockLength(n)
		sum := im.entries[n].sum
		if im.entries[n].stored == 0 {
			sum = whole.Zeros(length)
		} else if err := im.block(n, b[:length]); err != nil {
			var be *BlockError
			if !errors.As(err, &be) {
				return err
			}
			damaged = true
			bad(be)
		}
		whole.Add(sum, length)
		progress(length)
	}
	if !damaged && whole.Sum != im.trail.imageSum {
		return &FormatError{im.size - trailerSize,
			"the blocks are whole, and together do not have the checksum of the image"}
	}
	return nil
}
