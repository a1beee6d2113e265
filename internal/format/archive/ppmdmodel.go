package archive

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

// restore frees space when there is none: what was begun with the last symbol is undone up to a context, and the model
// is begun again or thinned out.
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

// successors makes the contexts that follow the found symbol; 0 for no space. s is its state in the shorter context, if
// that is known.
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

// reduce finds the context that follows a symbol which nothing follows yet; 0 for no space.
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
