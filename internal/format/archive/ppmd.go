package archive

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// PPMd, variant I revision 1, as zip has it (APPNOTE 5.9): prediction by partial matching. The model is a tree of
// contexts, which are what came last, with how often each byte came next; it lives in a memory of fixed size, whose
// layout is a part of the method: when that is full, the model is begun again or thinned out, at the same byte as when
// it was packed. So references are offsets into that memory, and everything in it has its fixed form:
//
//	context (12 bytes): further symbols, flags, 2 bytes sum of frequencies, 4 bytes its states, 4 bytes the shorter context
//	   with one symbol: further symbols (0), flags, the state itself, 4 bytes the shorter context
//	state (6 bytes):    symbol, frequency, 4 bytes the context that follows, or where it stands in the text
//	free block:         4 bytes mark, 4 bytes the next one, 4 bytes its units
const (
	ppmUnit     = 12
	ppmState    = 6
	ppmIndexes  = 38
	ppmMaxFreq  = 124
	ppmMaxOrder = 16
	ppmScale    = 1 << 14
	ppmPeriod   = 7
	ppmEmpty    = 0xFFFFFFFF
	ppmTop      = 1 << 24
	ppmBottom   = 1 << 15
)

var (
	ppmEscapes  = [16]byte{25, 14, 9, 7, 5, 5, 4, 4, 4, 3, 3, 3, 2, 2, 2, 2}
	ppmBinStart = [8]uint16{0x3CDD, 0x1F3F, 0x59BF, 0x48F3, 0x64A1, 0x5ABC, 0x6632, 0x6051}
	errPPMd     = errors.New("what is packed with PPMd is damaged")
)

// ppmSee estimates how often a context does not know the next symbol.
type ppmSee struct {
	sum          uint16
	shift, count byte
}

type ppmd struct {
	r   io.ByteReader
	err error

	low, code, span uint32 // the range decoder

	m                      []byte
	size, base             uint32
	minContext, maxContext uint32
	found                  uint32 // a state
	orderFall, order       int
	initEsc, prevSuccess   int
	runLength, initRun     int32
	cutsOff                bool
	glue                   uint32
	text, units, lo, hi    uint32
	free, stamps           [ppmIndexes]uint32
	unitsOf                [ppmIndexes]uint32 // of an index
	indexOf                [128]int           // of units, less one
	binIndex, freqIndex    [260]int
	bins                   [25][64]uint16
	sees                   [24][32]ppmSee
	dummy                  ppmSee
	masked                 [256]bool
	begun                  bool
}

// unPPMd unpacks what begins with the parameters, as zip has them.
func unPPMd(r io.Reader) (io.ReadCloser, error) {
	b := bufio.NewReader(r)
	var head [2]byte
	if _, err := io.ReadFull(b, head[:]); err != nil {
		return nil, err
	}
	v := int(binary.LittleEndian.Uint16(head[:]))
	order, memory, restore := v&15+1, uint32(v>>4&255+1)<<20, v>>12
	if order < 2 || restore > 1 {
		return nil, fmt.Errorf("%w: there is no such order (%d) or way to begin again (%d)", errPPMd, order, restore)
	}
	p := &ppmd{r: b, order: order, size: memory, cutsOff: restore == 1}
	return io.NopCloser(p), nil
}

// Read unpacks. The stream has no end of its own that can be distinguished from damage: whoever reads it knows its
// length.
func (p *ppmd) Read(b []byte) (n int, err error) {
	if p.err != nil {
		return 0, p.err
	}
	if !p.begun {
		p.begin()
	}
	for n < len(b) && p.err == nil {
		c := p.next()
		if p.err == nil {
			b[n] = c
			n++
		}
	}
	return n, p.err
}

func (p *ppmd) begin() {
	p.begun = true
	k := 0
	for i := range p.unitsOf {
		step := 4
		if i < 12 {
			step = i>>2 + 1
		}
		for range step {
			p.indexOf[k] = i
			k++
		}
		p.unitsOf[i] = uint32(k)
	}
	for i := range p.binIndex {
		switch {
		case i < 2:
			p.binIndex[i] = 2 * i
		case i < 11:
			p.binIndex[i] = 4
		default:
			p.binIndex[i] = 6
		}
	}
	m, left := 5, 1
	for i := range p.freqIndex {
		if i < 5 {
			p.freqIndex[i] = i
			continue
		}
		p.freqIndex[i] = m
		if left--; left == 0 {
			m++
			left = m - 4
		}
	}
	p.base = 4 - p.size&3
	p.m = make([]byte, p.base+p.size)
	p.restart()
	p.dummy = ppmSee{shift: ppmPeriod, count: 64}
	p.span = 0xFFFFFFFF
	for range 4 {
		p.code = p.code<<8 | p.byte()
	}
}

func (p *ppmd) byte() uint32 {
	c, err := p.r.ReadByte()
	if err != nil && p.err == nil {
		p.err = io.ErrUnexpectedEOF
	}
	return uint32(c)
}

func (p *ppmd) get16(at uint32) uint32    { return uint32(binary.LittleEndian.Uint16(p.m[at:])) }
func (p *ppmd) put16(at uint32, v int)    { binary.LittleEndian.PutUint16(p.m[at:], uint16(v)) }
func (p *ppmd) get32(at uint32) uint32    { return binary.LittleEndian.Uint32(p.m[at:]) }
func (p *ppmd) put32(at, v uint32)        { binary.LittleEndian.PutUint32(p.m[at:], v) }
func (p *ppmd) symbol(s uint32) byte      { return p.m[s] }
func (p *ppmd) freq(s uint32) int         { return int(p.m[s+1]) }
func (p *ppmd) setFreq(s uint32, v int)   { p.m[s+1] = byte(v) }
func (p *ppmd) follows(s uint32) uint32   { return p.get32(s + 2) }
func (p *ppmd) setFollows(s, c uint32)    { p.put32(s+2, c) }
func (p *ppmd) more(c uint32) int         { return int(p.m[c]) }
func (p *ppmd) setMore(c uint32, v int)   { p.m[c] = byte(v) }
func (p *ppmd) flags(c uint32) byte       { return p.m[c+1] }
func (p *ppmd) setFlags(c uint32, v byte) { p.m[c+1] = v }
func (p *ppmd) sum(c uint32) int          { return int(p.get16(c + 2)) }
func (p *ppmd) setSum(c uint32, v int)    { p.put16(c+2, v) }
func (p *ppmd) states(c uint32) uint32    { return p.get32(c + 4) }
func (p *ppmd) setStates(c, s uint32)     { p.put32(c+4, s) }
func (p *ppmd) shorter(c uint32) uint32   { return p.get32(c + 8) }
func (p *ppmd) one(c uint32) uint32       { return c + 2 }
func (p *ppmd) copyState(to, from uint32) { copy(p.m[to:to+ppmState], p.m[from:from+ppmState]) }

func (p *ppmd) swap(a, b uint32) {
	var t [ppmState]byte
	copy(t[:], p.m[a:])
	p.copyState(a, b)
	copy(p.m[b:], t[:])
}

// high is the flag of a symbol from 0x40 on.
func high(symbol, flag byte) byte {
	if symbol >= 0x40 {
		return flag
	}
	return 0
}

func one(b bool) int {
	if b {
		return 1
	}
	return 0
}

// restart begins the model again.
func (p *ppmd) restart() {
	p.free, p.stamps = [ppmIndexes]uint32{}, [ppmIndexes]uint32{}
	p.text = p.base
	p.hi = p.text + p.size
	p.units = p.hi - p.size/8/ppmUnit*7*ppmUnit
	p.lo, p.glue = p.units, 0
	p.orderFall = p.order
	p.initRun = -int32(min(p.order, 12)) - 1
	p.runLength, p.prevSuccess = p.initRun, 0
	p.hi -= ppmUnit
	c := p.hi
	p.minContext, p.maxContext = c, c
	p.put32(c+8, 0)
	p.setMore(c, 255)
	p.setFlags(c, 0)
	p.setSum(c, 257)
	p.found = p.lo
	p.lo += 128 * ppmUnit
	p.setStates(c, p.found)
	for i := range uint32(256) {
		s := p.found + i*ppmState
		p.m[s], p.m[s+1] = byte(i), 1
		p.setFollows(s, 0)
	}
	i := 0
	for m := range p.bins {
		for p.freqIndex[i] == m {
			i++
		}
		for k := range 64 {
			p.bins[m][k] = ppmScale - ppmBinStart[k&7]/uint16(i+1)
		}
	}
	i = 0
	for m := range p.sees {
		for p.freqIndex[i+3] == m+3 {
			i++
		}
		for k := range p.sees[m] {
			p.sees[m][k] = ppmSee{uint16(2*i+5) << (ppmPeriod - 4), ppmPeriod - 4, 7}
		}
	}
}

// The range decoder, and the symbols.

func (p *ppmd) threshold(total uint32) uint32 {
	p.span /= total
	return p.code / p.span
}

func (p *ppmd) decode(start, size uint32) {
	start *= p.span
	p.low += start
	p.code -= start
	p.span *= size
	for {
		if p.low^(p.low+p.span) >= ppmTop {
			if p.span >= ppmBottom {
				return
			}
			p.span = -p.low & (ppmBottom - 1)
		}
		p.code = p.code<<8 | p.byte()
		p.span <<= 8
		p.low <<= 8
	}
}

func (p *ppmd) damaged() byte {
	if p.err == nil {
		p.err = errPPMd
	}
	return 0
}

// follow goes to the context behind the found symbol.
func (p *ppmd) follow() {
	if c := p.follows(p.found); p.orderFall == 0 && c >= p.units {
		p.minContext, p.maxContext = c, c
		return
	}
	p.update()
	p.minContext = p.maxContext
}

// add counts a symbol in its context.
func (p *ppmd) add() {
	p.setSum(p.minContext, p.sum(p.minContext)+4)
	p.setFreq(p.found, p.freq(p.found)+4)
}

// next decodes one byte.
func (p *ppmd) next() byte {
	c := p.minContext
	p.masked = [256]bool{}
	if p.more(c) != 0 {
		if c, ok := p.fromSeveral(c); ok || p.err != nil {
			return c
		}
	} else {
		s := p.one(c)
		prob := &p.bins[p.freqIndex[p.freq(s)-1]][p.binIndex[p.more(p.shorter(c))]+p.prevSuccess+int(p.flags(c))+int(
			p.runLength>>26)&0x20]
		p.span >>= 14
		mean := func() uint16 { return (*prob + 1<<(ppmPeriod-2)) >> ppmPeriod }
		if p.code/p.span < uint32(*prob) {
			p.decode(0, uint32(*prob))
			*prob += 1<<ppmPeriod - mean()
			p.found = s
			symbol := p.symbol(s)
			if p.freq(s) < 196 {
				p.setFreq(s, p.freq(s)+1)
			}
			p.prevSuccess = 1
			p.runLength++
			p.follow()
			return symbol
		}
		p.decode(uint32(*prob), ppmScale-uint32(*prob))
		*prob -= mean()
		p.initEsc = int(ppmEscapes[*prob>>10])
		p.masked[p.symbol(s)] = true
		p.prevSuccess = 0
	}
	for p.err == nil {
		if c, ok := p.fromShorter(); ok {
			return c
		}
	}
	return 0
}

// fromSeveral decodes a symbol in a context with several; ok is false when it is not one of them.
func (p *ppmd) fromSeveral(c uint32) (symbol byte, ok bool) {
	s := p.states(c)
	count, sum := p.threshold(uint32(p.sum(c))), uint32(p.freq(s))
	if count < sum {
		p.decode(0, sum)
		p.found, symbol = s, p.symbol(s)
		p.prevSuccess = one(2*p.freq(s) >= p.sum(c))
		p.runLength += int32(p.prevSuccess)
		p.add()
		if p.freq(s) > ppmMaxFreq {
			p.rescale()
		}
		p.follow()
		return symbol, true
	}
	p.prevSuccess = 0
	for range p.more(c) {
		s += ppmState
		f := uint32(p.freq(s))
		if sum += f; sum <= count {
			continue
		}
		p.decode(sum-f, f)
		p.found, symbol = s, p.symbol(s)
		p.add()
		if p.freq(s) > p.freq(s-ppmState) {
			p.swap(s, s-ppmState)
			p.found = s - ppmState
			if p.freq(p.found) > ppmMaxFreq {
				p.rescale()
			}
		}
		p.follow()
		return symbol, true
	}
	if count >= uint32(p.sum(c)) {
		return p.damaged(), false
	}
	p.decode(sum, uint32(p.sum(c))-sum)
	for range p.more(c) + 1 {
		p.masked[p.symbol(s)] = true
		s -= ppmState
	}
	return 0, false
}

// fromShorter decodes a symbol in the next shorter context that knows more.
func (p *ppmd) fromShorter() (symbol byte, ok bool) {
	known := p.more(p.minContext)
	for {
		p.orderFall++
		if p.shorter(p.minContext) == 0 {
			return p.damaged(), false
		}
		if p.minContext = p.shorter(p.minContext); p.more(p.minContext) != known {
			break
		}
	}
	c := p.minContext
	var open []uint32
	var space [256]uint32
	open = space[:0]
	sum := uint32(0)
	for i := range uint32(p.more(c) + 1) {
		if s := p.states(c) + i*ppmState; !p.masked[p.symbol(s)] {
			sum += uint32(p.freq(s))
			open = append(open, s)
		}
	}
	see, esc := &p.dummy, uint32(1)
	if more := p.more(c); more != 255 {
		see = &p.sees[p.freqIndex[more+2]-3][one(p.sum(c) > 11*(more+1))+2*one(2*more < p.more(p.shorter(c))+known)+int(
			p.flags(c))]
		r := see.sum >> see.shift
		see.sum -= r
		esc = max(uint32(r), 1)
	}
	total := sum + esc
	count := p.threshold(total)
	if count < sum {
		at := uint32(0)
		for _, s := range open {
			f := uint32(p.freq(s))
			if at += f; at <= count {
				continue
			}
			p.decode(at-f, f)
			if see.shift < ppmPeriod {
				if see.count--; see.count == 0 {
					see.sum <<= 1
					see.count = 3 << see.shift
					see.shift++
				}
			}
			p.found, symbol = s, p.symbol(s)
			p.add()
			if p.freq(s) > ppmMaxFreq {
				p.rescale()
			}
			p.runLength = p.initRun
			p.update()
			p.minContext = p.maxContext
			return symbol, true
		}
	}
	if count >= total {
		return p.damaged(), false
	}
	p.decode(sum, total-sum)
	see.sum += uint16(total)
	for _, s := range open {
		p.masked[p.symbol(s)] = true
	}
	return 0, false
}
