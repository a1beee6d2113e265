package lha

import (
	"bufio"
	"errors"
	"io"
)

// The codes of all methods: a byte, or a match of at least threshold bytes in what came
// before.
const threshold = 3

// coder gives the codes of a member one after another: below 256 a byte, else 256 plus the
// length of a match less the threshold. distance is asked for after a match, and is 0 for
// the byte just before.
type coder interface {
	code() (int, error)
	distance() (int, error)
}

// window unpacks codes. What lies before the beginning is spaces.
type window struct {
	c         coder
	left      int64 // bytes still to come
	ring      []byte
	at        int // where the next byte goes
	from, run int // of a match that goes on
}

func newWindow(size int64, length int, c coder) *window {
	w := &window{c: c, left: size, ring: make([]byte, length)}
	for i := range w.ring {
		w.ring[i] = ' '
	}
	return w
}

func (w *window) Read(b []byte) (n int, err error) {
	mask := len(w.ring) - 1
	for n < len(b) && w.left > 0 {
		if w.run == 0 {
			c, err := w.c.code()
			if err != nil {
				return n, damage(err)
			}
			if c < 256 {
				w.ring[w.at] = byte(c)
				w.at = (w.at + 1) & mask
				b[n] = byte(c)
				n++
				w.left--
				continue
			}
			d, err := w.c.distance()
			if err != nil {
				return n, damage(err)
			}
			if d >= len(w.ring) {
				return n, damage(errors.New("a match reaches back too far"))
			}
			w.run, w.from = c-256+threshold, (w.at-d-1)&mask
		}
		for w.run > 0 && n < len(b) && w.left > 0 {
			c := w.ring[w.from]
			w.ring[w.at] = c
			w.from, w.at = (w.from+1)&mask, (w.at+1)&mask
			b[n] = c
			n++
			w.run--
			w.left--
		}
	}
	if w.left == 0 && n == 0 {
		return 0, io.EOF
	}
	return n, nil
}

// damage tells unpackable data from a source that cannot be read.
func damage(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return &FormatError{What: "the packed data end too early"}
	}
	var own badCode
	if errors.As(err, &own) || errors.As(err, new(*FormatError)) {
		return &FormatError{What: err.Error()}
	}
	return err
}

// badCode is what cannot be unpacked.
type badCode string

func (e badCode) Error() string { return string(e) }

// bits reads bits, the highest of a byte first. Past the end it gives zeros, as many as a
// code table looks ahead, and then an error.
type bits struct {
	r    *bufio.Reader
	buf  uint32
	n    uint // in buf
	over int  // bits past the end
	err  error
}

func newBits(r io.Reader) bits { return bits{r: bufio.NewReaderSize(r, 32<<10)} }

// peek returns the next k bits, at most 16.
func (s *bits) peek(k uint) uint32 {
	for s.n < k {
		c, err := s.r.ReadByte()
		if err != nil {
			if err != io.EOF {
				s.err = err
			}
			s.over += 8
		}
		s.buf = s.buf<<8 | uint32(c)
		s.n += 8
	}
	return s.buf >> (s.n - k) & (1<<k - 1)
}

func (s *bits) skip(k uint) error {
	s.peek(k)
	s.n -= k
	if s.err != nil {
		return s.err
	}
	if s.over > int(s.n)+1 { // bits that were not there have been used
		return io.ErrUnexpectedEOF
	}
	return nil
}

func (s *bits) get(k uint) (int, error) {
	v := s.peek(k)
	return int(v), s.skip(k)
}

// maxBits is the longest Huffman code.
const maxBits = 16

// table finds symbols by their codes, whose lengths tell them (canonical Huffman codes).
type table struct {
	only   int // the one symbol, whose code has no bits; -1 for none
	symbol []uint16
	count  [maxBits + 1]int // of codes by length
	quick  [1 << quickBits]uint16
}

// quickBits is the length of codes that are found in one step.
const quickBits = 9

// set makes the table for the code lengths of all symbols.
func (t *table) set(lengths []uint8) error {
	t.only = -1
	clear(t.count[:])
	for _, l := range lengths {
		t.count[l]++
	}
	t.count[0] = 0
	space := 1
	var first [maxBits + 2]int
	for l := 1; l <= maxBits; l++ {
		space = space*2 - t.count[l]
		if space < 0 {
			return badCode("a code table has too many codes")
		}
		first[l+1] = first[l] + t.count[l]
	}
	if space != 0 {
		return badCode("a code table has too few codes")
	}
	t.symbol = append(t.symbol[:0], make([]uint16, first[maxBits+1])...)
	at := first
	for s, l := range lengths {
		if l > 0 {
			t.symbol[at[l]] = uint16(s)
			at[l]++
		}
	}
	clear(t.quick[:])
	code := 0
	for l := 1; l <= quickBits; l++ {
		for k := range t.count[l] {
			low := code << (quickBits - l)
			for i := range 1 << (quickBits - l) {
				t.quick[low+i] = t.symbol[first[l]+k]<<4 | uint16(l)
			}
			code++
		}
		code <<= 1
	}
	return nil
}

// get reads one symbol.
func (t *table) get(s *bits) (int, error) {
	if t.only >= 0 {
		return t.only, nil
	}
	if q := t.quick[s.peek(quickBits)]; q != 0 {
		return int(q >> 4), s.skip(uint(q & 15))
	}
	ahead := int(s.peek(maxBits))
	code, first, index := 0, 0, 0
	for l := 1; l <= maxBits; l++ {
		code |= ahead >> (maxBits - l) & 1
		if k := code - first; k < t.count[l] {
			return int(t.symbol[index+k]), s.skip(uint(l))
		}
		index += t.count[l]
		first = (first + t.count[l]) << 1
		code <<= 1
	}
	return 0, badCode("there is a code that no table has")
}

// Numbers of the block methods.
const (
	literals    = 510 // bytes, and matches of 3 to 256
	literalBits = 9
	helpers     = 19 // codes that tell lengths of codes
	helperBits  = 5
)

// blocks reads the codes of -lh5-, -lh6- and -lh7-: blocks of up to 65535 codes, with their
// tables in front.
type blocks struct {
	s            bits
	distances    int // symbols
	distanceBits uint
	left         int // codes in this block
	code_, far   table
	helper       table
}

func newBlocks(r io.Reader, distances int, distanceBits uint) *blocks {
	return &blocks{s: newBits(r), distances: distances, distanceBits: distanceBits}
}

func (b *blocks) code() (int, error) {
	if b.left == 0 {
		if err := b.begin(); err != nil {
			return 0, err
		}
	}
	b.left--
	return b.code_.get(&b.s)
}

func (b *blocks) distance() (int, error) {
	d, err := b.far.get(&b.s)
	if err != nil || d <= 1 {
		return d, err
	}
	low, err := b.s.get(uint(d - 1))
	return 1<<(d-1) + low, err
}

// begin reads the tables of a block.
func (b *blocks) begin() (err error) {
	if b.left, err = b.s.get(16); err != nil {
		return err
	}
	if b.left == 0 {
		return badCode("a block is empty")
	}
	if err = b.short(&b.helper, helpers, helperBits, 3); err != nil {
		return err
	}
	if err = b.long(); err != nil {
		return err
	}
	return b.short(&b.far, b.distances, b.distanceBits, -1)
}

// short reads a table of few codes: lengths in three bits, or more in ones. After the entry
// before gap, two bits report how many are left out.
func (b *blocks) short(t *table, symbols int, width uint, gap int) error {
	n, err := b.s.get(width)
	if err != nil {
		return err
	}
	if n == 0 {
		t.only, err = b.s.get(width)
		if err == nil && t.only >= symbols {
			err = badCode("a code table has a symbol too many")
		}
		return err
	}
	var lengths [32]uint8
	for i := 0; i < n; {
		if i >= symbols {
			return badCode("a code table is too long")
		}
		l, err := b.s.get(3)
		if err != nil {
			return err
		}
		for more := 1; l >= 7 && more == 1; {
			if more, err = b.s.get(1); err != nil {
				return err
			}
			if l += more; l > maxBits {
				return badCode("a code is too long")
			}
		}
		lengths[i] = uint8(l)
		if i++; i == gap {
			skip, err := b.s.get(2)
			if err != nil {
				return err
			}
			i += skip
		}
	}
	return t.set(lengths[:symbols])
}

// long reads the table of bytes and lengths, whose own lengths are coded by the helper
// table.
func (b *blocks) long() error {
	n, err := b.s.get(literalBits)
	if err != nil {
		return err
	}
	if n == 0 {
		b.code_.only, err = b.s.get(literalBits)
		if err == nil && b.code_.only >= literals {
			err = badCode("a code table has a symbol too many")
		}
		return err
	}
	var lengths [literals]uint8
	for i := 0; i < n; {
		c, err := b.helper.get(&b.s)
		if err != nil {
			return err
		}
		zeros := 0
		switch c {
		case 0:
			zeros = 1
		case 1:
			zeros, err = b.s.get(4)
			zeros += 3
		case 2:
			zeros, err = b.s.get(9)
			zeros += 20
		default:
			if i >= literals {
				return badCode("a code table is too long")
			}
			lengths[i] = uint8(c - 2)
			i++
		}
		if err != nil {
			return err
		}
		if i += zeros; i > literals {
			return badCode("a code table is too long")
		}
	}
	return b.code_.set(lengths[:])
}
