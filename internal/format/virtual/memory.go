package virtual

import (
	"errors"
	"io"
	"maps"
	"slices"
	"sync"
)

const (
	pageBytes  = 4096              // that are kept at once
	chunkBytes = 16384 * pageBytes // that are looked for at once
)

type page [pageBytes]byte

// memory is a device of which only what is not zero is kept.
type memory struct {
	mu     sync.RWMutex // guards what follows
	size   int64
	chunks map[int64]map[int64]*page // by their numbers, and in them by the numbers of pages
}

func newMemory(size int64) *memory { return &memory{size: size, chunks: map[int64]map[int64]*page{}} }

var errBeyond = errors.New("beyond the end of the volume")

// pages calls a function for the part of each page that n bytes at an offset cover.
func pages(off, n int64, do func(number, from, to, done int64)) {
	for done := int64(0); done < n; {
		at := off + done
		from := at % pageBytes
		to := min(pageBytes, from+n-done)
		do(at/pageBytes, from, to, done)
		done += to - from
	}
}

func (m *memory) page(number int64) *page { return m.chunks[number*pageBytes/chunkBytes][number] }

// ReadAt reads what is kept, and zeros.
func (m *memory) ReadAt(b []byte, off int64) (int, error) {
	if off < 0 || off >= m.size {
		return 0, io.EOF
	}
	n := min(int64(len(b)), m.size-off)
	m.mu.RLock()
	defer m.mu.RUnlock()
	pages(off, n, func(number, from, to, done int64) {
		if p := m.page(number); p != nil {
			copy(b[done:], p[from:to])
		} else {
			clear(b[done : done+to-from])
		}
	})
	if n < int64(len(b)) {
		return int(n), io.EOF
	}
	return int(n), nil
}

func (m *memory) add(number int64) *page {
	chunk := number * pageBytes / chunkBytes
	if m.chunks[chunk] == nil {
		m.chunks[chunk] = map[int64]*page{}
	}
	p := &page{}
	m.chunks[chunk][number] = p
	return p
}

// within are the numbers of the pages that are kept of a run of bytes.
func (m *memory) within(off, n int64) (out []int64) {
	first, last := off/pageBytes, (off+n-1)/pageBytes
	for chunk := off / chunkBytes; chunk <= (off+n-1)/chunkBytes; chunk++ {
		for number := range m.chunks[chunk] {
			if first <= number && number <= last {
				out = append(out, number)
			}
		}
	}
	return out
}

// draft is a device that nobody sees what is written to before it is published, all of it at once.
type draft struct {
	of    *memory
	pages map[int64]*page // that were written to
}

// ReadAt reads what was written, and else what is there.
func (d *draft) ReadAt(b []byte, off int64) (int, error) {
	n, err := d.of.ReadAt(b, off)
	pages(off, int64(n), func(number, from, to, done int64) {
		if p := d.pages[number]; p != nil {
			copy(b[done:], p[from:to])
		}
	})
	return n, err
}

// page is a page that is about to be written to.
func (d *draft) page(number int64) *page {
	p := d.pages[number]
	if p == nil {
		p = &page{}
		if was := d.of.page(number); was != nil {
			*p = *was
		}
		d.pages[number] = p
	}
	return p
}

// WriteAt writes.
func (d *draft) WriteAt(b []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(b)) > d.of.size {
		return 0, errBeyond
	}
	pages(off, int64(len(b)), func(number, from, to, done int64) {
		if d.pages[number] == nil && d.of.page(number) == nil && zeros(b[done:done+to-from]) {
			return
		}
		copy(d.page(number)[from:to], b[done:])
	})
	return len(b), nil
}

func zeros(b []byte) bool { return !slices.ContainsFunc(b, func(x byte) bool { return x != 0 }) }

// Zero makes a run of bytes zeros.
func (d *draft) Zero(off, n int64) error {
	if off < 0 || off+n > d.of.size {
		return errBeyond
	}
	all := d.of.within(off, n)
	for number := range d.pages {
		all = append(all, number)
	}
	for _, number := range all {
		if from, to := max(off-number*pageBytes, 0), min(off+n-number*pageBytes, pageBytes); from < to {
			clear(d.page(number)[from:to])
		}
	}
	return nil
}

// Sync has nothing to do.
func (d *draft) Sync() error { return nil }

// publish has everybody see what was written.
func (d *draft) publish() {
	d.of.mu.Lock()
	defer d.of.mu.Unlock()
	for number, p := range d.pages {
		if zeros(p[:]) {
			delete(d.of.chunks[number*pageBytes/chunkBytes], number)
		} else {
			*d.of.add(number) = *p
		}
	}
	clear(d.pages)
}

// next is where the first page begins that is kept at an offset or behind it; the size where there is none.
func (m *memory) next(off int64) int64 {
	m.mu.RLock()
	defer m.mu.RUnlock()
	first := off / pageBytes
	for _, chunk := range slices.Sorted(maps.Keys(m.chunks)) {
		if (chunk+1)*chunkBytes <= off {
			continue
		}
		found := int64(-1)
		for number := range m.chunks[chunk] {
			if number >= first && (found < 0 || number < found) {
				found = number
			}
		}
		if found >= 0 {
			return max(off, found*pageBytes)
		}
	}
	return m.size
}

// run is where the pages end that are kept one behind the other from an offset on.
func (m *memory) run(off int64) int64 {
	m.mu.RLock()
	defer m.mu.RUnlock()
	number := off / pageBytes
	for m.page(number) != nil {
		number++
	}
	return min(m.size, max(off, number*pageBytes))
}
