package archive

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// PPMd, variant I revision 1, as zip has it (APPNOTE 5.9): prediction by partial matching. The model is a tree of contexts, which are what came last, with
// how often each byte came next; it lives in a memory of fixed size, whose layout is a part of the method: when that is full, the model is begun
// anew or thinned out, at the same byte as when it was packed. So references are offsets into that memory, and everything in it has its fixed form:
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
		return nil, fmt.Errorf("%w: there is no such order (%d) or way to begin anew (%d)", errPPMd, order, restore)
	}
	p := &ppmd{r: b, order: order, size: memory, cutsOff: restore == 1}
	return io.NopCloser(p), nil
}

// Read unpacks. The stream has no end of its own that can be told from damage: whoever reads it knows its length.
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

// restart begins the model anew.
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

// The memory: blocks of units, kept by their length.

func (p *ppmd) index(units uint32) int { return p.indexOf[units-1] }

func (p *ppmd) insert(block uint32, index int) {
	p.put32(block, ppmEmpty)
	p.put32(block+4, p.free[index])
	p.put32(block+8, p.unitsOf[index])
	p.free[index] = block
	p.stamps[index]++
}

func (p *ppmd) remove(index int) uint32 {
	block := p.free[index]
	p.free[index] = p.get32(block + 4)
	p.stamps[index]--
	return block
}

// spare gives units back that begin at a block.
func (p *ppmd) spare(block, units uint32) {
	i := p.index(units)
	if p.unitsOf[i] != units {
		i--
		k := p.unitsOf[i]
		p.insert(block+k*ppmUnit, int(units-k-1))
	}
	p.insert(block, i)
}

func (p *ppmd) split(block uint32, from, to int) {
	p.spare(block+p.unitsOf[to]*ppmUnit, p.unitsOf[from]-p.unitsOf[to])
}

// glueBlocks joins free blocks that lie one behind another.
func (p *ppmd) glueBlocks() {
	p.glue = 1 << 13
	p.stamps = [ppmIndexes]uint32{}
	if p.lo != p.hi {
		p.put32(p.lo, 0)
	}
	var all []uint32
	for i := range p.free {
		next := p.free[i]
		p.free[i] = 0
		for next != 0 {
			block := next
			next = p.get32(block + 4)
			n := p.get32(block + 8)
			if n == 0 {
				continue
			}
			all = append(all, block)
			for {
				behind := block + n*ppmUnit
				if p.get32(behind) != ppmEmpty {
					break
				}
				n += p.get32(behind + 8)
				p.put32(behind+8, 0)
			}
			p.put32(block+8, n)
		}
	}
	for _, block := range all {
		n := p.get32(block + 8)
		if n == 0 {
			continue
		}
		for ; n > 128; n -= 128 {
			p.insert(block, ppmIndexes-1)
			block += 128 * ppmUnit
		}
		p.spare(block, n)
	}
}

// rare allocates where there is no simple way to; 0 for no room.
func (p *ppmd) rare(index int) uint32 {
	if p.glue == 0 {
		p.glueBlocks()
		if p.free[index] != 0 {
			return p.remove(index)
		}
	}
	for i := index + 1; i < ppmIndexes; i++ {
		if p.free[i] != 0 {
			block := p.remove(i)
			p.split(block, i, index)
			return block
		}
	}
	p.glue--
	if n := p.unitsOf[index] * ppmUnit; p.units-p.text > n {
		p.units -= n
		return p.units
	}
	return 0
}

func (p *ppmd) alloc(index int) uint32 {
	if p.free[index] != 0 {
		return p.remove(index)
	}
	if n := p.unitsOf[index] * ppmUnit; n <= p.hi-p.lo {
		p.lo += n
		return p.lo - n
	}
	return p.rare(index)
}

func (p *ppmd) move(to, from, units uint32) { copy(p.m[to:to+units*ppmUnit], p.m[from:]) }

func (p *ppmd) shrink(block, from, to uint32) uint32 {
	i, k := p.index(from), p.index(to)
	if i == k {
		return block
	}
	if p.free[k] != 0 {
		other := p.remove(k)
		p.move(other, block, to)
		p.insert(block, i)
		return other
	}
	p.split(block, i, k)
	return block
}

func (p *ppmd) freeUnit(block uint32) {
	if block != p.units {
		p.insert(block, 0)
	} else {
		p.units += ppmUnit
	}
}

func (p *ppmd) moveUp(block, units uint32) uint32 {
	i := p.index(units)
	if block > p.units+16<<10 || block > p.free[i] {
		return block
	}
	other := p.remove(i)
	p.move(other, block, units)
	if block != p.units {
		p.insert(block, i)
	} else {
		p.units += p.unitsOf[i] * ppmUnit
	}
	return other
}

// expandText gives free blocks at the beginning of the units to the text.
func (p *ppmd) expandText() {
	var count [ppmIndexes]int
	if p.lo != p.hi {
		p.put32(p.lo, 0)
	}
	block := p.units
	for p.get32(block) == ppmEmpty {
		p.put32(block, 0)
		n := p.get32(block + 8)
		count[p.index(n)]++
		block += n * ppmUnit
	}
	p.units = block
	for i := range count {
		prev := uint32(0) // the block whose successor is looked at; 0 for the list itself
		for count[i] != 0 {
			at := p.free[i]
			if prev != 0 {
				at = p.get32(prev + 4)
			}
			if p.get32(at) != 0 {
				prev = at
				continue
			}
			after := p.get32(at + 4)
			if prev != 0 {
				p.put32(prev+4, after)
			} else {
				p.free[i] = after
			}
			p.stamps[i]--
			count[i]--
		}
	}
}

func (p *ppmd) used() uint32 {
	v := uint32(0)
	for i, n := range p.stamps {
		v += n * p.unitsOf[i]
	}
	return p.size - (p.hi - p.lo) - (p.units - p.text) - v*ppmUnit
}

// The model.

func (p *ppmd) refresh(c, units uint32, scale int) {
	more := p.more(c)
	s := p.shrink(p.states(c), units, uint32(more+2)>>1)
	p.setStates(c, s)
	flags := p.flags(c)&(0x10+0x04*byte(scale)) + high(p.symbol(s), 8)
	esc := p.sum(c) - p.freq(s)
	p.setFreq(s, (p.freq(s)+scale)>>scale)
	sum := p.freq(s)
	for range more {
		s += ppmState
		esc -= p.freq(s)
		p.setFreq(s, (p.freq(s)+scale)>>scale)
		sum += p.freq(s)
		flags |= high(p.symbol(s), 8)
	}
	p.setSum(c, sum+(esc+scale)>>scale)
	p.setFlags(c, flags)
}

// single makes a context that has one symbol left keep it itself.
func (p *ppmd) single(c, s uint32) {
	p.setFlags(c, p.flags(c)&0x10+high(p.symbol(s), 8))
	p.copyState(p.one(c), s)
}

// cutOff takes a context, and what follows, out of the model as far as it is deep; 0 for nothing that is left.
func (p *ppmd) cutOff(c uint32, order int) uint32 {
	if p.more(c) == 0 {
		s := p.one(c)
		if p.follows(s) >= p.units {
			next := uint32(0)
			if order < p.order {
				next = p.cutOff(p.follows(s), order+1)
			}
			p.setFollows(s, next)
			if next != 0 || order <= 9 {
				return c
			}
		}
		p.freeUnit(c)
		return 0
	}
	units := uint32(p.more(c)+2) >> 1
	first := p.moveUp(p.states(c), units)
	p.setStates(c, first)
	i := p.more(c)
	for k := i; k >= 0; k-- {
		s := first + uint32(k)*ppmState
		switch {
		case p.follows(s) < p.units:
			p.setFollows(s, 0)
			p.swap(s, first+uint32(i)*ppmState)
			i--
		case order < p.order:
			p.setFollows(s, p.cutOff(p.follows(s), order+1))
		default:
			p.setFollows(s, 0)
		}
	}
	if i == p.more(c) || order == 0 {
		return c
	}
	p.setMore(c, max(i, 0))
	switch {
	case i < 0:
		p.insert(first, p.index(units))
		p.freeUnit(c)
		return 0
	case i == 0:
		p.single(c, first)
		p.insert(first, p.index(units))
		p.setFreq(p.one(c), (p.freq(p.one(c))+11)>>3)
	default:
		p.refresh(c, units, one(p.sum(c) > 16*i))
	}
	return c
}

// restore makes room when there is none: what was begun with the last symbol is undone up to a context, and the model is begun anew or thinned out.
func (p *ppmd) restore(upTo uint32) {
	p.text = p.base
	c := p.maxContext
	for ; c != upTo; c = p.shorter(c) {
		p.setMore(c, p.more(c)-1)
		if p.more(c) == 0 {
			s := p.states(c)
			p.single(c, s)
			p.freeUnit(s)
			p.setFreq(p.one(c), (p.freq(p.one(c))+11)>>3)
		} else {
			p.refresh(c, uint32(p.more(c)+3)>>1, 0)
		}
	}
	for ; c != p.minContext; c = p.shorter(c) {
		if p.more(c) == 0 {
			s := p.one(c)
			p.setFreq(s, p.freq(s)-p.freq(s)>>1)
			continue
		}
		p.setSum(c, p.sum(c)+4)
		if p.sum(c) > 128+4*p.more(c) {
			p.refresh(c, uint32(p.more(c)+2)>>1, 1)
		}
	}
	if !p.cutsOff || p.used() < p.size>>1 {
		p.restart()
		return
	}
	for p.shorter(p.maxContext) != 0 {
		p.maxContext = p.shorter(p.maxContext)
	}
	for {
		p.cutOff(p.maxContext, 0)
		p.expandText()
		if p.used() <= 3*(p.size>>2) {
			break
		}
	}
	p.glue, p.orderFall = 0, p.order
}

// of is the state of a symbol in a context with several.
func (p *ppmd) of(c uint32, symbol byte) uint32 {
	s := p.states(c)
	for p.symbol(s) != symbol {
		s += ppmState
	}
	return s
}

// successors makes the contexts that follow the found symbol; 0 for no room. s is its state in the shorter context, if that is known.
func (p *ppmd) successors(skip bool, s, c uint32) uint32 {
	branch := p.follows(p.found)
	var waiting [ppmMaxOrder + 1]uint32
	n := 0
	if !skip {
		waiting[n] = p.found
		n++
	}
	known := s
	for p.shorter(c) != 0 {
		c = p.shorter(c)
		switch {
		case known != 0:
			s, known = known, 0
		case p.more(c) != 0:
			s = p.of(c, p.symbol(p.found))
			if p.freq(s) < ppmMaxFreq-9 {
				p.setFreq(s, p.freq(s)+1)
				p.setSum(c, p.sum(c)+1)
			}
		default:
			s = p.one(c)
			if p.more(p.shorter(c)) == 0 && p.freq(s) < 24 {
				p.setFreq(s, p.freq(s)+1)
			}
		}
		if next := p.follows(s); next != branch {
			c = next
			if n == 0 {
				return c
			}
			break
		}
		waiting[n] = s
		n++
	}
	symbol := p.m[branch]
	flags := high(p.symbol(p.found), 0x10) + high(symbol, 8)
	freq := 0
	if p.more(c) == 0 {
		freq = p.freq(p.one(c))
	} else {
		cf := p.freq(p.of(c, symbol)) - 1
		s0 := p.sum(c) - p.more(c) - cf
		if 2*cf <= s0 {
			freq = 1 + one(5*cf > s0)
		} else {
			freq = 1 + (cf+2*s0-3)/s0
		}
	}
	for n > 0 {
		var child uint32
		switch {
		case p.hi != p.lo:
			p.hi -= ppmUnit
			child = p.hi
		case p.free[0] != 0:
			child = p.remove(0)
		default:
			if child = p.rare(0); child == 0 {
				return 0
			}
		}
		p.setMore(child, 0)
		p.setFlags(child, flags)
		p.m[child+2], p.m[child+3] = symbol, byte(freq)
		p.setFollows(p.one(child), branch+1)
		p.put32(child+8, c)
		n--
		p.setFollows(waiting[n], child)
		c = child
	}
	return c
}

// reduce finds the context that follows a symbol which nothing follows yet; 0 for no room.
func (p *ppmd) reduce(s, c uint32) uint32 {
	began, branch := c, p.text
	p.setFollows(p.found, branch)
	p.orderFall++
	known := s
	for {
		if known != 0 {
			c = p.shorter(c)
			s, known = known, 0
		} else {
			if p.shorter(c) == 0 {
				return c
			}
			c = p.shorter(c)
			if p.more(c) != 0 {
				s = p.of(c, p.symbol(p.found))
				if p.freq(s) < ppmMaxFreq-9 {
					p.setFreq(s, p.freq(s)+2)
					p.setSum(c, p.sum(c)+2)
				}
			} else if s = p.one(c); p.freq(s) < 32 {
				p.setFreq(s, p.freq(s)+1)
			}
		}
		if p.follows(s) != 0 {
			break
		}
		p.setFollows(s, branch)
		p.orderFall++
	}
	if p.follows(s) <= branch {
		found := p.found
		p.found = s
		p.setFollows(s, p.successors(false, 0, c))
		p.found = found
	}
	if p.orderFall == 1 && began == p.maxContext {
		p.setFollows(p.found, p.follows(s))
		p.text--
	}
	return p.follows(s)
}

// update brings the found symbol into the model.
func (p *ppmd) update() {
	symbol, freq, next := p.symbol(p.found), p.freq(p.found), p.follows(p.found)
	s := uint32(0)
	if freq < ppmMaxFreq/4 && p.shorter(p.minContext) != 0 {
		c := p.shorter(p.minContext)
		if p.more(c) == 0 {
			if s = p.one(c); p.freq(s) < 32 {
				p.setFreq(s, p.freq(s)+1)
			}
		} else {
			s = p.of(c, symbol)
			if s != p.states(c) && p.freq(s) >= p.freq(s-ppmState) {
				p.swap(s, s-ppmState)
				s -= ppmState
			}
			if p.freq(s) < ppmMaxFreq-9 {
				p.setFreq(s, p.freq(s)+2)
				p.setSum(c, p.sum(c)+2)
			}
		}
	}
	c := p.maxContext
	if p.orderFall == 0 && next != 0 {
		made := p.successors(true, s, p.minContext)
		p.setFollows(p.found, made)
		if made == 0 {
			p.restore(c)
		} else {
			p.maxContext = made
		}
		return
	}
	p.m[p.text] = symbol
	p.text++
	successor := p.text
	if p.text >= p.units {
		p.restore(c)
		return
	}
	switch {
	case next == 0:
		next = p.reduce(s, p.minContext)
	case next < p.units:
		next = p.successors(false, s, p.minContext)
	}
	if next == 0 {
		p.restore(c)
		return
	}
	if p.orderFall--; p.orderFall == 0 {
		successor = next
		if p.maxContext != p.minContext {
			p.text--
		}
	}
	ns := p.more(p.minContext)
	s0 := p.sum(p.minContext) - ns - freq
	for ; c != p.minContext; c = p.shorter(c) {
		more := p.more(c)
		if more != 0 {
			if more&1 != 0 {
				units := uint32(more+1) >> 1
				if i := p.index(units); i != p.index(units+1) {
					block := p.alloc(i + 1)
					if block == 0 {
						p.restore(c)
						return
					}
					p.move(block, p.states(c), units)
					p.insert(p.states(c), i)
					p.setStates(c, block)
				}
			}
			p.setSum(c, p.sum(c)+one(3*more+1 < ns))
		} else {
			block := p.alloc(0)
			if block == 0 {
				p.restore(c)
				return
			}
			p.copyState(block, p.one(c))
			p.setStates(c, block)
			if f := p.freq(block); f < ppmMaxFreq/4-1 {
				p.setFreq(block, f<<1)
			} else {
				p.setFreq(block, ppmMaxFreq-4)
			}
			p.setSum(c, p.freq(block)+p.initEsc+one(ns > 2))
		}
		cf, sf := uint32(2*freq*(p.sum(c)+6)), uint32(s0+p.sum(c))
		if cf < 6*sf {
			cf = uint32(1 + one(cf > sf) + one(cf >= 4*sf))
			p.setSum(c, p.sum(c)+4)
		} else {
			cf = uint32(4 + one(cf > 9*sf) + one(cf > 12*sf) + one(cf > 15*sf))
			p.setSum(c, p.sum(c)+int(cf))
		}
		at := p.states(c) + uint32(more+1)*ppmState
		p.setFollows(at, successor)
		p.m[at], p.m[at+1] = symbol, byte(cf)
		p.setFlags(c, p.flags(c)|high(symbol, 8))
		p.setMore(c, more+1)
	}
	p.maxContext, p.minContext = next, next
}

// rescale halves the frequencies of a context.
func (p *ppmd) rescale() {
	c := p.minContext
	first, s := p.states(c), p.found
	for ; s != first; s -= ppmState {
		p.swap(s, s-ppmState)
	}
	esc := p.sum(c) - p.freq(s)
	adder := one(p.orderFall != 0)
	p.setFreq(s, (p.freq(s)+4+adder)>>1)
	sum := p.freq(s)
	more := p.more(c)
	for range more {
		s += ppmState
		esc -= p.freq(s)
		p.setFreq(s, (p.freq(s)+adder)>>1)
		sum += p.freq(s)
		for at := s; at != first && p.freq(at) > p.freq(at-ppmState); at -= ppmState {
			p.swap(at, at-ppmState)
		}
	}
	if p.freq(s) == 0 {
		gone := 0
		for p.freq(s) == 0 {
			gone++
			s -= ppmState
		}
		esc += gone
		p.setMore(c, more-gone)
		units := uint32(more+2) >> 1
		if more == gone {
			symbol, next := p.symbol(first), p.follows(first)
			freq := min((2*p.freq(first)+esc-1)/esc, ppmMaxFreq/3)
			p.insert(first, p.index(units))
			p.setFlags(c, p.flags(c)&0x10+high(symbol, 8))
			p.found = p.one(c)
			p.m[p.found], p.m[p.found+1] = symbol, byte(freq)
			p.setFollows(p.found, next)
			return
		}
		if now := uint32(more-gone+2) >> 1; now != units {
			p.setStates(c, p.shrink(first, units, now))
		}
		flags := p.flags(c) &^ 8
		for i := range uint32(more - gone + 1) {
			flags |= high(p.symbol(p.states(c)+i*ppmState), 8)
		}
		p.setFlags(c, flags)
	}
	p.setSum(c, sum+esc-esc>>1)
	p.setFlags(c, p.flags(c)|4)
	p.found = p.states(c)
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
		prob := &p.bins[p.freqIndex[p.freq(s)-1]][p.binIndex[p.more(p.shorter(c))]+p.prevSuccess+int(p.flags(c))+int(p.runLength>>26)&0x20]
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

// fromSeveral decodes a symbol in a context with several; ok is false when it is none of them.
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
	var room [256]uint32
	open = room[:0]
	sum := uint32(0)
	for i := range uint32(p.more(c) + 1) {
		if s := p.states(c) + i*ppmState; !p.masked[p.symbol(s)] {
			sum += uint32(p.freq(s))
			open = append(open, s)
		}
	}
	see, esc := &p.dummy, uint32(1)
	if more := p.more(c); more != 255 {
		see = &p.sees[p.freqIndex[more+2]-3][one(p.sum(c) > 11*(more+1))+2*one(2*more < p.more(p.shorter(c))+known)+int(p.flags(c))]
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
