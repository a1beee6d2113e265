package archive

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

// rare allocates where there is no simple way to; 0 for no space.
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
