package packed

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"runtime"
	"slices"
	"sync"

	zst "github.com/klauspost/compress/zstd"

	"polytome/internal/filecopy"
	"polytome/internal/format/crcs"
	"polytome/internal/parallel"
)

// A Source is an image to be packed. Where it is also a [Holed], its holes are not read.
type Source interface {
	io.ReaderAt
	Size() int64 // in bytes
}

// Holed knows where nothing but zeros are.
type Holed interface {
	// Data returns the first run of data at or after off; what is between is zeros. At the
	// end it returns Size twice.
	Data(off int64) (start, end int64)
}

// Options are how an image is packed.
type Options struct {
	Block    int64 // bytes in a block: a power of two from 4 KiB to 1 MiB; 0 for [DefaultBlock]
	Compress bool  // with Zstandard, where that makes a block smaller
	// Used reports whether the disc's own structures use any byte of a run; nil when no one knows, and
	// everything is used.
	Used func(off, length int64) bool
	// Workers are how many processors pack; 0 for all.
	Workers int
}

// A Report is what packing did.
type Report struct {
	Image  int64  // bytes of the image
	Read   int64  // bytes of it that were taken in
	Packed int64  // bytes of the packed image
	Zeros  int64  // bytes left out, that are zeros
	Unused int64  // bytes left out that the disc does not use
	Lost   int64  // those of them that are in blocks which held something else than zeros
	Sum    uint32 // CRC-32 of the image as it comes back
}

// Exact reports whether the image comes back bit for bit.
func (r *Report) Exact() bool { return r.Lost == 0 }

// A Stream is a packed image while it is made: it is read once, from its beginning to its end.
// The same image and options give the same bytes.
type Stream struct {
	opts   Options
	head   header
	src    Source
	cancel context.CancelFunc
	chunks chan *chunk
	done   sync.WaitGroup

	out    []byte // made and not yet read
	state  int    // what comes next: blocks, index, nothing
	index  bytes.Buffer
	at     int64
	sum    crcs.Joiner
	report Report
	err    error
	last   *chunk // whose bytes are in out
	pool   sync.Pool
	enc    *zst.Encoder
}

// chunkSize is how much is read and packed at a time, in bytes.
const chunkSize = 1 << 20

// chunk is some blocks on their way.
type chunk struct {
	n       int64 // the first block
	length  int64
	hole    bool
	all     bool // every block is kept as it is
	raw     []byte
	packed  []byte
	entries []entry
	lost    int64
	err     error
	ready   chan struct{}
}

// NewStream begins to pack. The stream must be closed.
func NewStream(ctx context.Context, src Source, o Options) (*Stream, error) {
	if o.Block == 0 {
		o.Block = DefaultBlock
	}
	if o.Block < smallestBlock || o.Block > largestBlock || o.Block&(o.Block-1) != 0 {
		return nil, fmt.Errorf("blocks of %d bytes are not possible: they have from %d to %d, and are a power of two",
			o.Block, smallestBlock, largestBlock)
	}
	if o.Workers <= 0 {
		o.Workers = runtime.GOMAXPROCS(0)
	}
	s := &Stream{opts: o, src: src, head: header{block: o.Block, length: src.Size()}, chunks: make(chan *chunk,
		o.Workers+1)}
	if o.Compress {
		s.head.flags |= flagZstd
		var err error
		if s.enc, err = zst.NewWriter(nil, zst.WithEncoderConcurrency(o.Workers),
			zst.WithWindowSize(int(max(o.Block, zst.MinWindowSize))), zst.WithEncoderLevel(zst.SpeedDefault),
			zst.WithEncoderCRC(false)); err != nil {
			return nil, err
		}
	}
	s.pool.New = func() any {
		c := &chunk{raw: make([]byte, chunkSize)}
		if s.opts.Compress {
			c.packed = make([]byte, 0, chunkSize)
		}
		return c
	}
	s.out = s.head.put()
	s.index.Grow(int(s.head.blocks()*entrySize + trailerSize))
	s.at = headerSize
	s.report.Image = s.head.length
	ctx, s.cancel = context.WithCancel(ctx)
	s.done.Add(1)
	go s.read(ctx)
	return s, nil
}

// read reads the image in order, and hands chunks to the workers and, in the same order, to the
// stream.
func (s *Stream) read(ctx context.Context) {
	defer s.done.Done()
	defer close(s.chunks)
	slots := make(chan struct{}, s.opts.Workers)
	holed, _ := s.src.(Holed)
	dataStart, dataEnd := int64(0), int64(-1)
	step := max(chunkSize, s.opts.Block)
	for off := int64(0); off < s.head.length; off += step {
		if ctx.Err() != nil {
			s.hand(ctx, &chunk{err: ctx.Err(), ready: closed})
			return
		}
		c := s.pool.Get().(*chunk)
		c.n, c.length, c.hole, c.all, c.lost, c.err = off/s.opts.Block, min(step, s.head.length-off), false, false,
			0, nil
		c.entries, c.packed, c.ready = c.entries[:0], c.packed[:0], make(chan struct{})
		if holed != nil && off >= dataEnd {
			dataStart, dataEnd = holed.Data(off)
		}
		if holed != nil && dataStart >= off+c.length {
			c.hole = true
		} else if n, err := s.readAt(c.raw[:c.length], off); int64(n) < c.length {
			if err == nil || errors.Is(err, io.EOF) {
				err = fmt.Errorf("it ends after %d bytes instead of %d: %w", off+int64(n), s.head.length,
					io.ErrUnexpectedEOF)
			}
			c.err = err
			close(c.ready)
			s.hand(ctx, c)
			return
		}
		if holed != nil && dataEnd < off+c.length {
			dataEnd = -1
		}
		if !s.hand(ctx, c) {
			return
		}
		select {
		case slots <- struct{}{}:
		case <-ctx.Done():
			close(c.ready)
			return
		}
		s.done.Add(1)
		go func() {
			defer s.done.Done()
			if err := parallel.Safely(func() error { s.pack(c); return nil }); err != nil {
				c.err = err
			}
			close(c.ready)
			<-slots
		}()
	}
}

// readAt reads the source, which may have been made by strangers.
func (s *Stream) readAt(b []byte, off int64) (n int, err error) {
	err = parallel.Safely(func() (err error) { n, err = s.src.ReadAt(b, off); return err })
	return n, err
}

var closed = func() chan struct{} {
	c := make(chan struct{})
	close(c)
	return c
}()

func (s *Stream) hand(ctx context.Context, c *chunk) bool {
	select {
	case s.chunks <- c:
		return true
	case <-ctx.Done():
		return false
	}
}

var noughts [largestBlock]byte

// pack decides about each block of a chunk.
func (s *Stream) pack(c *chunk) {
	for at := int64(0); at < c.length; at += s.opts.Block {
		n := min(s.opts.Block, c.length-at)
		used := s.opts.Used == nil || s.opts.Used(c.n*s.opts.Block+at, n)
		if c.hole {
			c.entries = append(c.entries, entry{kind: leftOut(used)})
			continue
		}
		b := c.raw[at : at+n]
		zero := bytes.Equal(b, noughts[:n])
		switch {
		case zero || !used:
			if !zero {
				c.lost += n
			}
			c.entries = append(c.entries, entry{kind: leftOut(used)})
			continue
		case s.opts.Compress:
			was := len(c.packed)
			c.packed = s.enc.EncodeAll(b, c.packed)
			if got := len(c.packed) - was; int64(got) < n-n/16 {
				c.entries = append(c.entries, entry{stored: uint32(got), kind: zstd, sum: crc32.ChecksumIEEE(b)})
				continue
			}
			c.packed = append(c.packed[:was], b...)
		}
		c.entries = append(c.entries, entry{stored: uint32(n), kind: plain, sum: crc32.ChecksumIEEE(b)})
	}
	if s.opts.Compress {
		return
	}
	c.all = !slices.ContainsFunc(c.entries, func(e entry) bool { return e.kind != plain })
	// What is kept as it is moves together in the buffer that it was read into.
	c.packed = c.raw[:0]
	for i := range c.entries {
		if e := &c.entries[i]; e.kind == plain {
			at := int64(i) * s.opts.Block
			if int64(len(c.packed)) == at { // it is where it has to
				c.packed = c.raw[:at+int64(e.stored)]
				continue
			}
			c.packed = append(c.packed, c.raw[at:at+int64(e.stored)]...)
		}
	}
}

func leftOut(used bool) kind {
	if used {
		return zeros
	}
	return unused
}

// Read reads on.
func (s *Stream) Read(b []byte) (int, error) {
	for len(s.out) == 0 {
		if s.err != nil {
			return 0, s.err
		}
		s.next()
	}
	n := copy(b, s.out)
	s.out = s.out[n:]
	s.report.Packed += int64(n)
	return n, nil
}

// WriteTo writes all that is left to read.
func (s *Stream) WriteTo(w io.Writer) (total int64, err error) {
	for {
		if n, err := s.straight(w); n > 0 || err != nil {
			s.out = s.out[n:]
			s.report.Packed += n
			total += n
			if err != nil {
				return total, err
			}
			continue
		}
		if len(s.out) > 0 {
			n, err := w.Write(s.out)
			s.out = s.out[n:]
			s.report.Packed += int64(n)
			total += int64(n)
			if err != nil {
				return total, err
			}
			continue
		}
		if errors.Is(s.err, io.EOF) {
			return total, nil
		}
		if s.err != nil {
			return total, s.err
		}
		s.next()
	}
}

// straight has the writer take a chunk that is kept whole straight out of the image's file, where both can do that.
func (s *Stream) straight(w io.Writer) (int64, error) {
	c := s.last
	if c == nil || !c.all || int64(len(s.out)) != c.length {
		return 0, nil
	}
	t, takes := w.(filecopy.Taker)
	src, lies := s.src.(filecopy.Sectioned)
	if !takes || !lies {
		return 0, nil
	}
	f, at, n, ok := src.Section(c.n * s.opts.Block)
	if !ok || n < c.length {
		return 0, nil
	}
	n, err := t.CopyFrom(f, at, c.length)
	if errors.Is(err, errors.ErrUnsupported) {
		err = nil
	}
	return n, err
}

// next makes what comes next.
func (s *Stream) next() {
	if s.last != nil {
		s.pool.Put(s.last)
		s.last = nil
	}
	c, more := <-s.chunks
	if !more {
		if s.state > 0 || s.index.Len()/entrySize != int(s.head.blocks()) {
			s.err = io.EOF
			if s.state == 0 {
				s.err = context.Canceled
			}
			return
		}
		s.state = 1
		t := trailer{index: s.at, blocks: s.head.blocks(), indexSum: crc32.ChecksumIEEE(s.index.Bytes()),
			imageSum: s.sum.Sum, lost: s.report.Lost}
		s.report.Sum = s.sum.Sum
		s.out = append(s.index.Bytes(), t.put()...)
		return
	}
	<-c.ready
	if c.err != nil {
		s.err = c.err
		return
	}
	var row [entrySize]byte
	for i := range c.entries {
		e := &c.entries[i]
		n := s.head.blockLength(c.n + int64(i))
		sum := e.sum
		switch e.kind {
		case zeros:
			s.report.Zeros += n
			sum = s.sum.Zeros(n)
		case unused:
			s.report.Unused += n
			sum = s.sum.Zeros(n)
		default:
			e.at = s.at
			s.at += int64(e.stored)
		}
		s.sum.Add(sum, n)
		e.put(row[:])
		s.index.Write(row[:])
	}
	s.report.Lost += c.lost
	s.report.Read += c.length
	if !c.hole {
		s.out = c.packed
	}
	s.last = c
}

// Report is what was done; it is whole when everything was read.
func (s *Stream) Report() Report { return s.report }

// Close ends packing. What was not read is lost.
func (s *Stream) Close() error {
	s.cancel()
	go func() { // the reader may wait to hand a chunk on
		for range s.chunks {
		}
	}()
	s.done.Wait()
	if s.enc != nil {
		return s.enc.Close()
	}
	return nil
}

// Pack writes the packed image of src.
func Pack(ctx context.Context, w io.Writer, src Source, o Options) (Report, error) {
	s, err := NewStream(ctx, src, o)
	if err != nil {
		return Report{}, err
	}
	defer s.Close()
	_, err = s.WriteTo(w)
	return s.Report(), err
}

// Done reports whether everything was read. It may have to wait for what comes next.
func (s *Stream) Done() bool {
	for len(s.out) == 0 && s.err == nil {
		s.next()
	}
	return len(s.out) == 0 && errors.Is(s.err, io.EOF)
}
