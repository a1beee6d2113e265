package volume

import (
	"errors"
	"fmt"
	"io"
	"slices"
)

// Pages is a table on a device, of which pieces are kept in memory. Changes stay there until they are written, into
// every copy of the table.
type Pages struct {
	Dev    Device
	At     []int64 // the bytes where the copies begin that are written
	From   int64   // that of the one that is read
	Length int64   // bytes
	Sector int64   // bytes that are written at least
	Name   string  // for errors

	pages map[int64]*page
}

// page is a piece of a table.
type page struct {
	data     []byte
	from, to int // bytes that changed; none where to is 0
}

// PageSize is the length of a piece in bytes, a multiple of every sector.
const PageSize = 64 << 10

// pagesKept is how many unchanged pieces stay in memory.
const pagesKept = 512

func (p *Pages) page(no int64) (*page, error) {
	if g := p.pages[no]; g != nil {
		return g, nil
	}
	n := min(PageSize, p.Length-no*PageSize)
	if n <= 0 || no < 0 {
		return nil, fmt.Errorf("%s ends before that", p.Name)
	}
	if p.pages == nil {
		p.pages = map[int64]*page{}
	}
	if len(p.pages) > pagesKept {
		for k, g := range p.pages {
			if g.to == 0 {
				delete(p.pages, k)
			}
		}
	}
	g := &page{data: make([]byte, n)}
	if _, err := p.Dev.ReadAt(g.data, p.From+no*PageSize); err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("reading %s: %w", p.Name, err)
	}
	p.pages[no] = g
	return g, nil
}

// Get returns n bytes, which must not lie across a multiple of [PageSize]. They are only to be read.
func (p *Pages) Get(off int64, n int) ([]byte, error) {
	g, err := p.page(off / PageSize)
	if err != nil {
		return nil, err
	}
	at := int(off % PageSize)
	if at+n > len(g.data) {
		return nil, fmt.Errorf("%s ends before that", p.Name)
	}
	return g.data[at : at+n], nil
}

// Change is Get for bytes that are changed.
func (p *Pages) Change(off int64, n int) ([]byte, error) {
	b, err := p.Get(off, n)
	if err != nil {
		return nil, err
	}
	g := p.pages[off/PageSize]
	at, sector := int(off%PageSize), int(p.Sector)
	from, to := at/sector*sector, min((at+n+sector-1)/sector*sector, len(g.data))
	if g.to == 0 {
		g.from, g.to = from, to
	} else {
		g.from, g.to = min(g.from, from), max(g.to, to)
	}
	return b, nil
}

// Write writes what was changed, one copy after the other.
func (p *Pages) Write() error {
	var list []int64
	for no, g := range p.pages {
		if g.to > 0 {
			list = append(list, no)
		}
	}
	slices.Sort(list)
	for _, at := range p.At {
		for _, no := range list {
			g := p.pages[no]
			if _, err := p.Dev.WriteAt(g.data[g.from:g.to], at+no*PageSize+int64(g.from)); err != nil {
				return fmt.Errorf("writing %s: %w", p.Name, err)
			}
		}
	}
	for _, no := range list {
		p.pages[no].from, p.pages[no].to = 0, 0
	}
	return nil
}

// Stream reads the table in order, fragmented; where the device knows that it is nothing but zeros, zeros is named
// instead.
func (p *Pages) Stream(data func(off int64, b []byte) error, zeros func(off, n int64) error) error {
	h, sparse := p.Dev.(interface {
		Data(off int64) (start, end int64)
	})
	buf := make([]byte, 1<<20)
	for off := int64(0); off < p.Length; {
		if sparse {
			start, _ := h.Data(p.From + off)
			if skip := min(start-p.From, p.Length) / 64 * 64; skip > off {
				if err := zeros(off, skip-off); err != nil {
					return err
				}
				off = skip
				continue
			}
		}
		b := buf[:min(int64(len(buf)), p.Length-off)]
		if _, err := p.Dev.ReadAt(b, p.From+off); err != nil && !errors.Is(err, io.EOF) {
			return fmt.Errorf("reading %s: %w", p.Name, err)
		}
		if err := data(off, b); err != nil {
			return err
		}
		off += int64(len(b))
	}
	return nil
}
