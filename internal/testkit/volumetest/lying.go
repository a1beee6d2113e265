package volumetest

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"polytome/internal/format/volume"
)

// A Lying is a disk as real ones are: what was written is kept back until it is reported to bring it to the medium, and
// when the power goes before that, any of it may be there, in any order, and a sector may be half the old one and half
// the new one.
type Lying struct {
	mu      sync.Mutex // guards what follows
	medium  []byte
	pending []Write
	latest  map[int64][]byte // sectors as they were written last
	// Before is named when everything is about to be brought to the medium, the moment at which most is at stake; nil
	// for no one.
	Before func()
}

// NewLying begins with what is on a disk.
func NewLying(medium []byte) *Lying {
	return &Lying{medium: bytes.Clone(medium), latest: map[int64][]byte{}}
}

// ReadAt reads what was written last, whether it is on the medium or not.
func (l *Lying) ReadAt(b []byte, off int64) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	n, err := (&Disk{B: l.medium}).ReadAt(b, off)
	for s := off / tear; s <= (off+int64(n)-1)/tear && n > 0; s++ {
		if w := l.latest[s]; w != nil {
			from := max(off, s*tear)
			copy(b[from-off:n], w[from-s*tear:])
		}
	}
	return n, err
}

// WriteAt keeps sectors back.
func (l *Lying) WriteAt(b []byte, off int64) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for done := 0; done < len(b); {
		s := (off + int64(done)) / tear
		in := int((off + int64(done)) % tear)
		w := l.latest[s]
		if w == nil {
			w = l.medium[s*tear : (s+1)*tear]
		}
		w = bytes.Clone(w)
		k := copy(w[in:], b[done:])
		l.latest[s] = w
		l.pending = append(l.pending, Write{At: s * tear, New: w})
		done += k
	}
	return len(b), nil
}

// Sync brings everything to the medium.
func (l *Lying) Sync() error {
	if l.Before != nil {
		l.Before()
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, w := range l.pending {
		copy(l.medium[w.At:], w.New)
	}
	l.pending, l.latest = nil, map[int64][]byte{}
	return nil
}

// Cut is what is on the medium when the power goes now: some of what was kept back, in another order; with tears, one
// sector in part.
func (l *Lying) Cut(r *rand.Rand, tears bool) *Disk {
	l.mu.Lock()
	defer l.mu.Unlock()
	d := &Disk{B: bytes.Clone(l.medium)}
	order := r.Perm(len(l.pending))
	if r.Intn(3) > 0 {
		slices.Sort(order) // most disks keep to it, mostly
	}
	for _, k := range order {
		if r.Intn(2) == 0 {
			continue
		}
		w := l.pending[k]
		n := len(w.New)
		if tears && r.Intn(4) == 0 {
			n = r.Intn(n)
		}
		copy(d.B[w.At:], w.New[:n])
	}
	return d
}

// lies does changes on a lying disk and takes the power away at any moment: what a flush promised is there, and a file
// that has its name is whole.
func (f Filesystem) lies(t *testing.T) {
	base := f.disk(t)
	for seed := range int64(24) {
		r := rand.New(rand.NewSource(seed + 900))
		tears := seed%3 == 2
		d := NewLying(base.B)
		v, err := f.Open(d, f.Size)
		require.NoError(t, err)
		w := &world{files: map[string][]byte{".": nil}, seed: seed * 1_000_000}
		for range 12 {
			_, err := w.step(r, v, int(f.Clusters))
			require.NoError(t, err)
		}
		require.NoError(t, v.Flush())
		require.NoError(t, d.Sync())
		promised := maps.Clone(w.files)
		touched := []string{}
		var history [][]byte // all that any file ever held
		remember := func() {
			for _, b := range w.files {
				if b != nil && !slices.ContainsFunc(history, func(h []byte) bool { return bytes.Equal(h, b) }) {
					history = append(history, b)
				}
			}
		}
		remember()
		changed := func(n string) bool {
			return slices.ContainsFunc(touched, func(a string) bool { return n == a || strings.HasPrefix(n, a+"/") })
		}
		for step := range 6 {
			before := maps.Clone(w.files)
			var cuts []*Disk
			d.Before = func() { cuts = append(cuts, d.Cut(r, tears)) }
			about, err := w.step(r, v, int(f.Clusters))
			require.NoError(t, err)
			remember()
			for n := range w.files {
				if _, was := before[n]; !was {
					touched = append(touched, n)
				}
			}
			if about != "" {
				touched = append(touched, about)
			}
			flushed := r.Intn(2) == 0
			if flushed {
				require.NoError(t, v.Flush())
			}
			d.Before = nil
			for _, cut := range append(cuts, d.Cut(r, tears)) {
				f.afterCut(t, fmt.Sprintf("seed %d, step %d, about %q", seed, step, about), cut, promised, history,
					changed, tears)
			}
			if flushed {
				for range 2 { // what goes after the last wait of a flush may come later
					f.afterCut(t, fmt.Sprintf("seed %d, step %d, flushed", seed, step), d.Cut(r, false), w.files,
						history, func(string) bool { return false }, false)
				}
				promised, touched = maps.Clone(w.files), nil
			}
		}
	}
}

// afterCut looks at what is left.
func (f Filesystem) afterCut(t *testing.T, what string, cut *Disk, promised map[string][]byte, history [][]byte,
	changed func(string) bool, tears bool) {
	v, err := f.Open(cut, f.Size)
	require.NoError(t, err, what)
	raw, _ := Contents(v)
	v, err = f.Open(cut, f.Size)
	require.NoError(t, err, what)
	_, left, err := v.Repair(ctx)
	require.NoError(t, err, what)
	require.NoError(t, v.Close(), what)
	v, err = f.Open(cut, f.Size)
	require.NoError(t, err, what)
	got, err := Contents(v)
	require.NoError(t, err, what)
	for n, b := range promised {
		if g, ok := got[n]; !changed(n) && (!ok || !bytes.Equal(g, b)) {
			t.Fatalf("%s: %s was flushed, and is damaged (%d bytes of %d)\nleft: %+v", what, n, len(g), len(b),
				left.Findings)
		}
	}
	if tears {
		return // a file whose own entries are torn may be anything
	}
	for _, read := range []map[string][]byte{raw, got} {
		for n, g := range read {
			if g != nil && !slices.ContainsFunc(history,
				func(h []byte) bool { return bytes.Equal(h, g) || len(g) >= len(h) && isPrefix(g, h) }) &&
				!strings.Contains(n, "behind its end") {
				t.Fatalf("%s: %s has its name, and is not whole: %d bytes", what, n, len(g))
			}
		}
	}
	for _, x := range left.Findings {
		if x.Kind != volume.Count && x.Kind != volume.Unclean && x.Kind != volume.Lost {
			t.Fatalf("%s: %s %s %s", what, x.Kind, x.Path, x.Say)
		}
	}
}
