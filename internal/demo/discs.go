package demo

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"sync"
	"testing/fstest"
	"time"

	"polytome/internal/format/iso9660"
	"polytome/internal/optical"
	sim "polytome/internal/sim/optical"
)

// A DiscShelf is two simulated disc drives: one that reads a shelf of five discs, one after the other, and another copy
// of the scratched one at the end; and one with an empty disc in it.
type DiscShelf struct {
	reader, writer *sim.Drive
	shelf          []*sim.Disc
}

// Addresses of the two drives.
const (
	discReader = "demo:reader"
	discWriter = "demo:writer"
)

// discHaste has the discs of the demo, which are small, be read in some ten seconds.
const discHaste = 0.09

// discsOnShelf are the discs on the shelf: the last two are scratched, and one with sound.
var discsOnShelf = []struct {
	id, name, disc string
	mebibytes      int
}{{"VSP-30411", "Lantern Weir", "1/1", 18}, {"VSP-30512", "Saltmarsh Post", "1/2", 14},
	{"VSP-30513", "Saltmarsh Post", "2/2", 14}, {"VSP-30618", "Quayside Ledger", "1/1", 16}}

// NewDiscShelf makes the drives and their discs.
func NewDiscShelf() (*DiscShelf, error) {
	s := &DiscShelf{reader: sim.New(), writer: sim.New()}
	for i, x := range discsOnShelf {
		tree := fstest.MapFS{"VESPER.INF": {Data: fmt.Appendf(nil,
			"ID=%s\r\nNAME=%s\r\nREGION=N\r\nDISC=%s\r\nKIND=short\r\n",
			x.id, x.name, x.disc)}}
		for n := range 4 {
			tree[fmt.Sprintf("PART%d.BIN", n+1)] = &fstest.MapFile{Data: discBytes(x.mebibytes<<18, uint64(i*10+n))}
		}
		im, err := iso9660.Lay(tree, iso9660.Options{VolumeID: "VESPER_DISC"})
		if err != nil {
			return nil, err
		}
		s.shelf = append(s.shelf, sim.DataDisc(sim.DVDROM, im.Reader(), im.Size()/sim.Block))
	}
	last := s.shelf[len(s.shelf)-1]
	last.Scratches = []sim.Scratch{{First: 900, Count: 60, Harm: sim.Soft, Tries: 3}, {First: 3100, Count: 9},
		{First: 5200, Count: 220, Harm: sim.Soft, Tries: 2}, {First: 6400, Count: 3}}
	im, err := iso9660.Lay(fstest.MapFS{"MAIN.BIN": {Data: discBytes(6<<20, 90)}},
		iso9660.Options{VolumeID: "LAP_00731"})
	if err != nil {
		return nil, err
	}
	end := im.Size() / sim.Block
	s.shelf = append(s.shelf, &sim.Disc{Profile: sim.CDROM, Tracks: []sim.Track{
		{Session: 1, Mode: 1, End: end, Data: im.Reader()},
		{Session: 1, Audio: true, Gap: end, Start: end + 150, End: end + 1650, Data: hum{}},
		{Session: 1, Audio: true, Gap: end + 1650, Start: end + 1725, End: end + 2925, Data: hum{}}}})
	s.shelf = append(s.shelf, &sim.Disc{Profile: last.Profile, Tracks: last.Tracks, Scratches: []sim.Scratch{
		{First: 2000, Count: 40}}})
	s.reader.Haste, s.writer.Haste = discHaste, discHaste
	s.writer.Product = "WRITER 8"
	s.reader.Writes = nil
	s.next()
	s.writer.Put(sim.NewBlank(sim.DVDR, &memoryStore{}))
	return s, nil
}

// next puts the next disc of the shelf into the reader, until there is none left.
func (s *DiscShelf) next() {
	if len(s.shelf) > 0 {
		s.reader.Put(s.shelf[0])
		s.shelf = s.shelf[1:]
	}
}

// Tend changes the disc when the tray of the reader is open, as a person would, until the context ends.
func (s *DiscShelf) Tend(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(3 * time.Second):
		}
		if s.reader.Open() {
			s.next()
		}
	}
}

// Devices are the addresses of the drives.
func (s *DiscShelf) Devices() []string { return []string{discReader, discWriter} }

// Open opens a drive.
func (s *DiscShelf) Open(at string) (*optical.Drive, error) {
	switch at {
	case discReader:
		return optical.New(optical.Over(s.reader)), nil
	case discWriter:
		return optical.New(optical.Over(s.writer)), nil
	}
	return nil, os.ErrNotExist
}

// discBytes is so many bytes that no two files share.
func discBytes(n int, seed uint64) []byte {
	b := make([]byte, n)
	_, _ = rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8), 30}).Read(b)
	return b
}

// hum is the sound of the demo's disc.
type hum struct{}

func (hum) ReadAt(b []byte, off int64) (int, error) {
	for i := range b {
		b[i] = byte((off + int64(i)) * 37 >> 6)
	}
	return len(b), nil
}

// memoryStore keeps what is burnt for as long as the demo runs.
type memoryStore struct {
	mu sync.Mutex
	b  []byte
}

func (m *memoryStore) ReadAt(p []byte, off int64) (int, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	clear(p)
	if off < int64(len(m.b)) {
		copy(p, m.b[off:])
	}
	return len(p), nil
}

func (m *memoryStore) WriteAt(p []byte, off int64) (int, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if need := int(off) + len(p); need > len(m.b) {
		m.b = append(m.b, make([]byte, need-len(m.b))...)
	}
	return copy(m.b[off:], p), nil
}
