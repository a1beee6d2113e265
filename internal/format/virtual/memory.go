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

// WriteAt writes.
func (m *memory) WriteAt(b []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(b)) > m.size {
		return 0, errBeyond
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	pages(off, int64(len(b)), func(number, from, to, done int64) {
		p := m.page(number)
		if p == nil {
			if !slices.ContainsFunc(b[done:done+to-from], func(x byte) bool { return x != 0 }) {
				return
			}
			p = m.add(number)
		}
		copy(p[from:to], b[done:])
	})
	return len(b), nil
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

// Zero forgets what is kept of a run of bytes.
func (m *memory) Zero(off, n int64) error {
	if off < 0 || off+n > m.size {
		return errBeyond
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for at, end := off, off+n; at < end; {
		chunk := at / chunkBytes
		next := min(end, (chunk+1)*chunkBytes)
		if next-at == chunkBytes {
			delete(m.chunks, chunk)
		}
		for number, p := range m.chunks[chunk] {
			from, to := max(at-number*pageBytes, 0), min(next-number*pageBytes, pageBytes)
			if from == 0 && to == pageBytes {
				delete(m.chunks[chunk], number)
			} else if from < to {
				clear(p[from:to])
			}
		}
		at = next
	}
	return nil
}

// Sync has nothing to do.
func (m *memory) Sync() error { return nil }

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
