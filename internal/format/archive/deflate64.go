package archive

import (
	"bufio"
	"errors"
	"io"
)

// Deflate64 (APPNOTE 4.4.5, method 9) is Deflate (RFC 1951) with a window of 64 KiB, two more distances, and a longest
// copy of 65,538 bytes.

const window64 = 64 << 10

// Base values and extra bits of lengths 257 to 285, and of distances.
var (
	lengthBase, lengthBits = basesOf([]int{0, 0, 0, 0, 0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2, 2, 3, 3, 3, 3, 4, 4, 4, 4, 5, 5,
		5, 5, 16}, 3)
	distBase, distBits = basesOf([]int{0, 0, 0, 0, 1, 1, 2, 2, 3, 3, 4, 4, 5, 5, 6, 6, 7, 7, 8, 8, 9, 9, 10, 10, 11,
		11, 12, 12, 13, 13, 14, 14}, 1)
	codeOrder = [19]int{16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15}
)

// basesOf adds the bases up; the last length begins at 3 again, as it has all 16 bits.
func basesOf(bits []int, first int) (base, extra []int) {
	at := first
	for _, n := range bits {
		if n == 16 {
			at = 3
		}
		base = append(base, at)
		at += 1 << n
	}
	return base, bits
}

var errDeflate64 = errors.New("what is packed with Deflate64 is damaged")

// huffman is a canonical code: how many codes there are of each length, and the symbols in their order.
type huffman struct {
	count  [16]int
	symbol []int
}

func newHuffman(lengths []int) *huffman {
	h := &huffman{symbol: make([]int, len(lengths))}
	for _, n := range lengths {
		h.count[n]++
	}
	h.count[0] = 0
	var offs [16]int
	for n := 1; n < 15; n++ {
		offs[n+1] = offs[n] + h.count[n]
	}
	for s, n := range lengths {
		if n > 0 {
			h.symbol[offs[n]] = s
			offs[n]++
		}
	}
	return h
}

// inflate64 unpacks Deflate64.
type inflate64 struct {
	r    *bufio.Reader
	bits uint32
	n    int
	err  error

	win  [window64]byte
	at   int // where the next byte goes
	read int // up to where was handed out
	full bool
	last bool
	// of the block under way
	stored    int // bytes that are left of a stored block
	lit, dist *huffman
	copyLeft  int
	copyFrom  int
}

func newInflate64(r io.Reader) io.Reader { return &inflate64{r: bufio.NewReader(r)} }

// take takes bits, the lowest first.
func (d *inflate64) take(n int) int {
	for d.n < n {
		b, err := d.r.ReadByte()
		if err != nil {
			if d.err == nil {
				d.err = io.ErrUnexpectedEOF
			}
			return 0
		}
		d.bits |= uint32(b) << d.n
		d.n += 8
	}
	v := int(d.bits & (1<<n - 1))
	d.bits >>= n
	d.n -= n
	return v
}

// code takes a symbol.
func (d *inflate64) code(h *huffman) int {
	code, first, index := 0, 0, 0
	for n := 1; n < 16; n++ {
		code |= d.take(1)
		if d.err != nil {
			return 0
		}
		if k := code - h.count[n] - first; k < 0 {
			return h.symbol[index+code-first]
		}
		index += h.count[n]
		first = (first + h.count[n]) << 1
		code <<= 1
	}
	d.err = errDeflate64
	return 0
}

// block begins the next block.
func (d *inflate64) block() {
	d.last = d.take(1) == 1
	switch d.take(2) {
	case 0:
		d.bits, d.n = 0, 0
		n, not := d.take(16), d.take(16)
		if d.err == nil && n != not^0xFFFF {
			d.err = errDeflate64
		}
		d.stored = n
	case 1:
		lengths := make([]int, 288)
		for i := range lengths {
			switch {
			case i < 144, i >= 280:
				lengths[i] = 8
			case i < 256:
				lengths[i] = 9
			default:
				lengths[i] = 7
			}
		}
		five := make([]int, 32)
		for i := range five {
			five[i] = 5
		}
		d.lit, d.dist = newHuffman(lengths), newHuffman(five)
	case 2:
		d.tables()
	default:
		if d.err == nil {
			d.err = errDeflate64
		}
	}
}

// tables reads the codes of a block.
func (d *inflate64) tables() {
	lits, dists, codes := d.take(5)+257, d.take(5)+1, d.take(4)+4
	lengths := make([]int, 19)
	for i := range codes {
		lengths[codeOrder[i]] = d.take(3)
	}
	if d.err != nil || lits > 286 {
		d.fail()
		return
	}
	h := newHuffman(lengths)
	all := make([]int, 0, lits+dists)
	for len(all) < lits+dists && d.err == nil {
		s, n, v := d.code(h), 1, 0
		switch {
		case s < 16:
			v = s
		case s == 16 && len(all) > 0:
			v, n = all[len(all)-1], 3+d.take(2)
		case s == 17:
			n = 3 + d.take(3)
		case s == 18:
			n = 11 + d.take(7)
		default:
			d.fail()
			return
		}
		for range n {
			all = append(all, v)
		}
	}
	if d.err != nil || len(all) > lits+dists || all[256] == 0 {
		d.fail()
		return
	}
	d.lit, d.dist = newHuffman(all[:lits]), newHuffman(all[lits:])
}

func (d *inflate64) fail() {
	if d.err == nil {
		d.err = errDeflate64
	}
}

func (d *inflate64) put(b byte) {
	d.win[d.at] = b
	if d.at++; d.at == window64 {
		d.at, d.full = 0, true
	}
}

// fill unpacks until something can be handed out, or the end.
func (d *inflate64) fill() {
	space := window64 / 2 // that is handed out before it is written over
	for space > 0 && d.err == nil {
		switch {
		case d.copyLeft > 0:
			d.put(d.win[d.copyFrom])
			d.copyFrom = (d.copyFrom + 1) % window64
			d.copyLeft--
			space--
		case d.stored > 0:
			d.put(byte(d.take(8)))
			d.stored--
			space--
		case d.lit == nil:
			if d.last {
				d.err = io.EOF
				return
			}
			d.block()
		default:
			s := d.code(d.lit)
			switch {
			case d.err != nil:
			case s < 256:
				d.put(byte(s))
				space--
			case s == 256:
				d.lit = nil
			case s-257 >= len(lengthBase):
				d.fail()
			default:
				length := lengthBase[s-257] + d.take(lengthBits[s-257])
				k := d.code(d.dist)
				if d.err != nil || k >= len(distBase) {
					d.fail()
					return
				}
				dist := distBase[k] + d.take(distBits[k])
				if dist > window64 || !d.full && dist > d.at {
					d.fail()
					return
				}
				d.copyLeft, d.copyFrom = length, (d.at-dist+window64)%window64
			}
		}
	}
}

func (d *inflate64) Read(b []byte) (n int, err error) {
	if len(b) == 0 {
		return 0, nil
	}
	if d.read == d.at {
		if d.err != nil {
			return 0, d.err
		}
		d.fill()
	}
	for n < len(b) && d.read != d.at {
		end := d.at
		if end < d.read {
			end = window64
		}
		k := copy(b[n:], d.win[d.read:end])
		n += k
		d.read = (d.read + k) % window64
	}
	if n == 0 {
		if d.err == nil {
			return 0, io.ErrNoProgress
		}
		return 0, d.err
	}
	return n, nil
}
