package discburn_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/discburn"
	"polytome/internal/core/discread"
	"polytome/internal/core/loader"
	"polytome/internal/optical"
	sim "polytome/internal/sim/optical"
	"polytome/internal/size"
	"polytome/internal/testkit/judge"
)

// store is what was burnt.
type store struct{ b []byte }

func (s *store) ReadAt(p []byte, off int64) (int, error) {
	clear(p)
	if off < int64(len(s.b)) {
		copy(p, s.b[off:])
	}
	return len(p), nil
}

func (s *store) WriteAt(p []byte, off int64) (int, error) {
	if need := int(off) + len(p); need > len(s.b) {
		s.b = append(s.b, make([]byte, need-len(s.b))...)
	}
	return copy(s.b[off:], p), nil
}

func noise(bytes int) []byte {
	b := make([]byte, bytes)
	_, _ = rand.NewChaCha8([32]byte{7}).Read(b)
	return b
}

// put puts an empty disc into a drive.
func put(t require.TestingT, m *sim.Drive, profile uint16) (*optical.Drive, *sim.Blank, *store) {
	to := &store{}
	disc := sim.NewBlank(profile, to)
	m.Put(disc)
	d := optical.New(optical.Over(m))
	require.NoError(t, d.WaitReady(context.Background()))
	return d, disc.Blank, to
}

// burn burns an image.
func burn(t require.TestingT, d *optical.Drive, image []byte, w discburn.Wanted, o discburn.Options) (*discburn.Result,
	error) {
	tray, err := discburn.Look(context.Background(), d)
	require.NoError(t, err)
	w.Bytes = int64(len(image))
	s, err := tray.Settle(w)
	require.NoError(t, err)
	return tray.Burn(context.Background(), d, bytes.NewReader(image), w.Bytes, s, o)
}

var kinds = map[string]uint16{"CD-R": sim.CDR, "DVD-R": sim.DVDR, "DVD+R": sim.DVDPlusR, "DVD+RW": sim.DVDPlusRW,
	"DVD+R DL": sim.DVDPlusRDL}

// TestAnImageIsBurnt on each kind of disc, by drives of all sorts, and foreign programs find in it what is in the
// image.
func TestAnImageIsBurnt(t *testing.T) {
	dir := t.TempDir()
	tree := filepath.Join(dir, "tree")
	require.NoError(t, os.MkdirAll(tree, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(tree, "DATA.BIN"), noise(3<<20+77), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(tree, "VESPER.INF"), []byte("ID=VSP-20001\n"), 0o600))
	judge.Run(t, "genisoimage", "-quiet", "-o", filepath.Join(dir, "game.iso"), tree)
	image, err := os.ReadFile(filepath.Join(dir, "game.iso"))
	require.NoError(t, err)
	for kind, profile := range kinds {
		for habit, h := range map[string]sim.Habit{"usual": {}, "old": {NoStreaming: true, NoTest: true, NoRead12: true,
			NoProtection: true, NoLock: true, Closing: 2}, "descriptors": {Descriptor: true, Closing: 1,
			NoWrite10: true}} {
			t.Run(kind+", "+habit, func(t *testing.T) {
				m := sim.New()
				h.Writes = m.Writes
				m.Habit = h
				d, _, _ := put(t, m, profile)
				stages := map[discburn.Stage]bool{}
				test := !h.NoTest && (kind == "CD-R" || kind == "DVD-R")
				r, err := burn(t, d, image, discburn.Wanted{Test: test}, discburn.Options{Test: test,
					Progress: func(s discburn.Stage, _, _ int64) { stages[s] = true }})
				require.NoError(t, err)
				assert.True(t, r.Verified)
				assert.False(t, r.Spoilt)
				assert.EqualValues(t, len(image)/2048, r.Written)
				assert.Equal(t, test, stages[discburn.Testing])
				assert.True(t, stages[discburn.Reading] && stages[discburn.Writing] && stages[discburn.Verifying])

				disc, err := discread.Look(t.Context(), d)
				require.NoError(t, err)
				back := filepath.Join(t.TempDir(), "back.iso")
				if kind == "DVD+RW" {
					disc.Blocks = r.Written // the rest of it was never written
				}
				read, err := discread.Into(t.Context(), d, disc, back, discread.Options{Tries: 2})
				require.NoError(t, err)
				assert.Equal(t, r.SHA1, read.SHA1)
				assert.Equal(t, kind == "CD-R", read.RunOut)
				judge.Run(t, "cmp", back, filepath.Join(dir, "game.iso"))
				judge.Run(t, "xorriso", "-indev", back, "-find", "/")
				judge.Run(t, "7z", "t", back)
				assert.Contains(t, judge.Run(t, "isoinfo", "-i", back, "-x", "/VESPER.INF;1"), "VSP-20001")

				tray, err := discburn.Look(t.Context(), d)
				require.NoError(t, err)
				_, err = tray.Settle(discburn.Wanted{Bytes: 2048})
				if kind == "DVD+RW" {
					assert.NoError(t, err)
				} else {
					assert.EqualError(t, err, "something was written to this disc before: put in an empty one")
				}
			})
		}
	}
}

// TestWhatWouldSpoilADisc is refused, with what to do, and the disc stays as it is.
func TestWhatWouldSpoilADisc(t *testing.T) {
	vesper := []loader.DiscRule{{Media: []string{"DVD-R", "CD-R"}, Best: 6, Highest: 16, Layers: 1}}
	corvane := []loader.DiscRule{{Media: []string{"DVD+R"}, Drive: "LARK", Best: 4, Highest: 8},
		{Media: []string{"DVD+R", "DVD-R"}, Drive: "WREN", Highest: 16}}
	oneLayer := []loader.DiscRule{{Media: []string{"DVD+R DL"}, Layers: 1}}
	slowOnly := []loader.DiscRule{{Media: []string{"DVD-R"}, Highest: 1}}
	for _, x := range []struct {
		kind   uint16
		habit  sim.Habit
		w      discburn.Wanted
		say    string
		speed  string
		warned string
	}{
		{kind: sim.DVDR, w: discburn.Wanted{Rules: vesper}, speed: "6x"},
		{kind: sim.DVDR, w: discburn.Wanted{Rules: vesper, Speed: 8}, speed: "8x"},
		{kind: sim.DVDR, w: discburn.Wanted{}, speed: "8x"},
		{kind: sim.DVDR, w: discburn.Wanted{Speed: 5},
			say: "cannot be written at 5x in this drive, only at 2x, 4x, 6x, 8x"},
		{kind: sim.DVDR, w: discburn.Wanted{Rules: vesper, Speed: 18}, say: "that were written at 16x at most"},
		{kind: sim.DVDR, w: discburn.Wanted{Rules: slowOnly}, say: "at 1x at most: take one of another make"},
		{kind: sim.CDR, w: discburn.Wanted{Rules: vesper}, speed: "8x", warned: "best is 6x, but 8x is the lowest"},
		{kind: sim.DVDPlusR, w: discburn.Wanted{Rules: vesper},
			say: "the console does not read DVD+R: put in an empty disc of the kind DVD-R or CD-R"},
		{kind: sim.DVDPlusRDL, w: discburn.Wanted{Rules: oneLayer}, say: "does not read DVD+R DL"},
		{kind: sim.DVDPlusRDL, w: discburn.Wanted{Rules: vesper}, say: "does not read DVD+R DL"},
		{kind: sim.DVDR, w: discburn.Wanted{Rules: corvane}, speed: "8x",
			warned: "a console with the drive LARK does not read DVD-R"},
		{kind: sim.DVDR, w: discburn.Wanted{Rules: corvane, Drive: "lark"}, say: "does not read DVD-R"},
		{kind: sim.DVDPlusR, w: discburn.Wanted{Rules: corvane, Drive: "LARK"}, speed: "4x"},
		{kind: sim.DVDR, w: discburn.Wanted{Rules: corvane, Drive: "OWL"}, say: "its drives are LARK and WREN"},
		{kind: sim.DVDR, habit: sim.Habit{Writes: []uint16{sim.CDR}}, say: "this drive does not write DVD-R"},
		{kind: sim.DVDPlusR, w: discburn.Wanted{Test: true}, say: "cannot try DVD+R with the laser off"},
		{kind: sim.CDR, w: discburn.Wanted{Bytes: 800 << 20},
			say: "it needs 800.00 MiB, and this CD-R has room for 702.82 MiB"},
		{kind: sim.CDR, w: discburn.Wanted{Bytes: -1}, say: "there is nothing to write"},
		{kind: sim.DVDR, habit: sim.Habit{NoProtection: true}, speed: "8x", warned: "this drive cannot pause"},
		{kind: sim.DVDR, habit: sim.Habit{NoStreaming: true}, w: discburn.Wanted{Rules: vesper}, speed: "6x"},
	} {
		m := sim.New()
		if x.habit.Writes == nil {
			x.habit.Writes = m.Writes
		}
		m.Habit = x.habit
		d, blank, _ := put(t, m, x.kind)
		tray, err := discburn.Look(t.Context(), d)
		require.NoError(t, err)
		if x.w.Bytes == 0 {
			x.w.Bytes = 1 << 20
		}
		s, err := tray.Settle(x.w)
		if x.say != "" {
			assert.ErrorContains(t, err, x.say)
		} else if assert.NoError(t, err) {
			assert.Equal(t, x.speed, s.Speed.String(), "%+v", x.w)
		}
		if x.warned == "" {
			assert.Empty(t, s.Warn)
		} else if assert.Len(t, s.Warn, 1) {
			assert.Contains(t, s.Warn[0], x.warned)
		}
		assert.Zero(t, blank.Written)
	}
	m := sim.New()
	m.Put(sim.DataDisc(sim.DVDROM, bytes.NewReader(noise(4096)), 2))
	tray, err := discburn.Look(t.Context(), optical.New(optical.Over(m)))
	require.NoError(t, err)
	_, err = tray.Settle(discburn.Wanted{Bytes: 2048, Rules: vesper})
	assert.EqualError(t, err, "a DVD-ROM cannot be written to: put in an empty disc of the kind DVD-R or CD-R")
	m.Put(nil)
	_, err = discburn.Look(t.Context(), optical.New(optical.Over(m)))
	assert.EqualError(t, err, "there is no disc in the drive")
}

// broken is an image that cannot be read from a byte on.
type broken struct{ at int64 }

func (b broken) ReadAt(p []byte, off int64) (int, error) {
	if off+int64(len(p)) > b.at {
		return 0, errors.New("the share is gone")
	}
	return len(p), nil
}

// TestWhatGoesWrongWhileADiscIsBurnt is said, with what has become of the disc.
func TestWhatGoesWrongWhileADiscIsBurnt(t *testing.T) {
	image := noise(4 << 20)
	n := int64(len(image) / 2048)
	m := sim.New()
	d, blank, _ := put(t, m, sim.DVDR)
	tray, err := discburn.Look(t.Context(), d)
	require.NoError(t, err)
	s, err := tray.Settle(discburn.Wanted{Bytes: int64(len(image))})
	require.NoError(t, err)
	r, err := tray.Burn(t.Context(), d, broken{3 << 20}, int64(len(image)), s, discburn.Options{})
	assert.EqualError(t, err,
		"the image cannot be read, and nothing was written: byte 3145728 of the image: the share is gone")
	assert.False(t, r.Spoilt)
	assert.Zero(t, blank.Written)

	r, err = burn(t, d, image, discburn.Wanted{Test: true}, discburn.Options{Test: true, Only: true})
	require.NoError(t, err)
	assert.Zero(t, r.Written+blank.Written, "the laser was off")

	blank.Bad = []int64{700}
	r, err = burn(t, d, image, discburn.Wanted{Test: true}, discburn.Options{Test: true})
	assert.ErrorContains(t, err,
		"the test failed, and nothing was written: the drive could not write there (block 700)")
	assert.False(t, r.Spoilt)
	r, err = burn(t, d, image, discburn.Wanted{}, discburn.Options{})
	assert.ErrorContains(t, err, "writing: the drive could not write there (block 700)")
	assert.True(t, r.Spoilt)

	d, blank, _ = put(t, m, sim.DVDR)
	blank.NoPower = true
	r, err = burn(t, d, image, discburn.Wanted{}, discburn.Options{})
	assert.EqualError(t, err, "writing: the laser could not be adjusted to this disc: try one of another make")
	assert.False(t, r.Spoilt, "nothing was written")

	d, blank, _ = put(t, m, sim.DVDPlusR)
	blank.Turns = []int64{3, 900}
	r, err = burn(t, d, image, discburn.Wanted{}, discburn.Options{})
	require.NoError(t, err)
	assert.Equal(t, []int64{3, 900}, r.Differ)
	assert.True(t, r.Spoilt && !r.Verified)
	d, blank, _ = put(t, m, sim.DVDPlusR)
	blank.Turns = []int64{3}
	r, err = burn(t, d, image, discburn.Wanted{}, discburn.Options{NoVerify: true})
	require.NoError(t, err)
	assert.False(t, r.Verified || r.Spoilt, "nobody has looked")

	d, _, _ = put(t, m, sim.DVDPlusR)
	m.Disc().Scratches = []sim.Scratch{{First: 100, Count: 2}, {First: 500, Count: 30, Harm: sim.Soft, Tries: 9}}
	r, err = burn(t, d, image, discburn.Wanted{}, discburn.Options{})
	require.NoError(t, err)
	assert.Equal(t, []int64{100, 101}, r.Unread)
	assert.Greater(t, r.Slowly, int64(30))
	assert.True(t, r.Spoilt)

	// stopped, and pulled out, in the middle
	for _, how := range []func(cancel func(), m *sim.Drive){func(cancel func(), _ *sim.Drive) { cancel() },
		func(_ func(), m *sim.Drive) { m.Pull() }} {
		d, _, _ = put(t, m, sim.DVDR)
		ctx, cancel := context.WithCancel(t.Context())
		r, err = tray.Burn(ctx, d, bytes.NewReader(image), int64(len(image)), s, discburn.Options{
			Progress: func(s discburn.Stage, at, of int64) {
				if s == discburn.Writing && at > n/2 {
					how(cancel, m)
				}
			}})
		cancel()
		assert.Error(t, err)
		assert.True(t, r.Spoilt)
		assert.Less(t, r.Written, n)
	}
}

// halting is an image of which one piece comes only when something has happened.
type halting struct {
	io.ReaderAt
	at    int64
	until chan struct{}
	read  func(off int64)
}

func (h *halting) ReadAt(p []byte, off int64) (int, error) {
	if off == h.at {
		<-h.until
	}
	n, err := h.ReaderAt.ReadAt(p, off)
	if h.read != nil {
		h.read(off)
	}
	return n, err
}

// writes is a drive of which somebody hears what it is to write.
type writes struct {
	optical.Transport
	hear func(block int64)
}

func (w *writes) Do(ctx context.Context, c optical.Command) (int, error) {
	if c.CDB[0] == 0x2A {
		w.hear(int64(c.CDB[2])<<24 | int64(c.CDB[3])<<16 | int64(c.CDB[4])<<8 | int64(c.CDB[5]))
	}
	return w.Transport.Do(ctx, c)
}

// TestTheImageIsReadAhead: the laser goes on when enough is there, a source that halts does not keep the drive from
// what was read before, and a drive that is busy does not keep the source from being read on.
func TestTheImageIsReadAhead(t *testing.T) {
	image := noise(80 << 20)
	m := sim.New()
	m.Put(sim.NewBlank(sim.DVDR, &store{}))
	passes := 0
	var mu sync.Mutex
	lastRead := int64(0)
	far, all := make(chan struct{}), make(chan struct{}) // it was read far ahead; all was written that was read
	source := &halting{ReaderAt: bytes.NewReader(image), at: -1, until: all}
	source.read = func(off int64) {
		mu.Lock()
		defer mu.Unlock()
		if off == 0 {
			passes++
		}
		if lastRead = off; passes == 2 && off == 50<<20 {
			close(far)
		}
	}
	w := &writes{Transport: optical.Over(m)}
	w.hear = func(block int64) {
		mu.Lock()
		first := lastRead
		mu.Unlock()
		switch block {
		case 0:
			assert.GreaterOrEqual(t, first, int64(15<<20), "the laser goes on late")
			<-far // the drive takes its time
		case 70<<20/2048 - 32:
			close(all)
		}
	}
	d := optical.New(w)
	tray, err := discburn.Look(t.Context(), d)
	for errors.As(err, new(*optical.Sense)) {
		tray, err = discburn.Look(t.Context(), d)
	}
	require.NoError(t, err)
	s, err := tray.Settle(discburn.Wanted{Bytes: int64(len(image))})
	require.NoError(t, err)
	r, err := tray.Burn(t.Context(), d, source, int64(len(image)), s, discburn.Options{NoVerify: true,
		Progress: func(s discburn.Stage, at, of int64) {
			if s == discburn.Reading && at == of {
				source.at = 70 << 20 // from the second time on
			}
		}})
	require.NoError(t, err)
	assert.EqualValues(t, len(image)/2048, r.Written)
}

// TestAComputerThatDozes: a drive that can pauses, and another one spoils the disc.
func TestAComputerThatDozes(t *testing.T) {
	image := noise(20 << 20)
	for _, can := range []bool{true, false} {
		m, to := sim.New(), &store{}
		now := time.Unix(0, 0)
		m.Habit = sim.Habit{Writes: m.Writes, Buffer: 1 << 20, NoProtection: !can}
		m.Haste, m.Now = 1, func() time.Time { now = now.Add(6 * time.Millisecond); return now } // later each time
		m.Put(sim.NewBlank(sim.DVDR, to))
		w := &writes{Transport: optical.Over(m), hear: func(block int64) {
			if block == 200*32 {
				now = now.Add(10 * time.Second)
			}
		}}
		d := optical.New(w)
		require.NoError(t, d.WaitReady(t.Context()))
		tray, err := discburn.Look(t.Context(), d)
		require.NoError(t, err)
		s, err := tray.Settle(discburn.Wanted{Bytes: int64(len(image))})
		require.NoError(t, err)
		r, err := tray.Burn(t.Context(), d, bytes.NewReader(image), int64(len(image)), s,
			discburn.Options{NoVerify: true})
		assert.Equal(t, 1, m.Stops)
		assert.Equal(t, !can, r.Spoilt)
		if can {
			require.NoError(t, err)
			assert.True(t, bytes.Equal(image, to.b))
		} else {
			assert.EqualError(t, err,
				"writing: the data came too slowly, and the drive could not pause (block 6400)")
		}
	}
}

// TestNoBadDiscPassesAsGood, whatever is wrong with drive, disc and image: a disc that was verified reads as its image,
// and one that cannot be used is said to be spoilt.
func TestNoBadDiscPassesAsGood(t *testing.T) {
	all := noise(200 * 2048)
	judge.Times(t, 1000, func(t *rapid.T) {
		m := sim.New()
		m.Habit = sim.Habit{Descriptor: rapid.Bool().Draw(t, "descriptor"), NoRead12: rapid.Bool().Draw(t, "ten"),
			NoTest: rapid.Bool().Draw(t, "no test"), NoStreaming: rapid.Bool().Draw(t, "no streaming"),
			NoLock: rapid.Bool().Draw(t, "no lock"), Writes: m.Writes}
		kind := rapid.SampledFrom([]uint16{sim.CDR, sim.DVDR, sim.DVDPlusR, sim.DVDPlusRW}).Draw(t, "kind")
		image := all[:rapid.IntRange(1, len(all)).Draw(t, "bytes")]
		blocks := int64(len(image)+2047) / 2048
		d, blank, to := put(t, m, kind)
		block := rapid.Int64Range(0, blocks-1)
		blank.Turns = rapid.SliceOfN(block, 0, 2).Draw(t, "turns")
		if rapid.IntRange(0, 3).Draw(t, "write fails") == 0 {
			blank.Bad = []int64{block.Draw(t, "at")}
		}
		for range rapid.IntRange(0, 2).Draw(t, "scratches") {
			m.Disc().Scratches = append(m.Disc().Scratches, sim.Scratch{First: block.Draw(t, "first"), Count: 3,
				Harm: rapid.SampledFrom([]sim.Harm{sim.Hard, sim.Soft}).Draw(t, "harm"), Tries: 2})
		}
		r, err := burn(t, d, image, discburn.Wanted{}, discburn.Options{})
		if err != nil {
			if len(blank.Bad) == 0 || kind != sim.DVDPlusRW && !r.Spoilt && r.Written > 0 {
				t.Fatalf("%v, spoilt: %t", err, r.Spoilt)
			}
			return
		}
		good := true
		for at := int64(0); at < blocks; at++ {
			b := make([]byte, 2048)
			want := make([]byte, 2048)
			copy(want, image[at*2048:])
			_ = d.SetSpeed(context.Background(), 1_385_000)
			good = good && d.Read(context.Background(), at, b, 2048) == nil && bytes.Equal(b, want)
		}
		if r.Verified != good {
			t.Fatalf("verified: %t, as the image: %t, differ %v, unread %v, %d bytes burnt", r.Verified, good, r.Differ,
				r.Unread, len(to.b))
		}
	})
}

func TestSpeeds(t *testing.T) {
	for _, x := range []struct {
		m    optical.Medium
		rate int64
		want string
	}{{0x09, 8_467_000, "48x"}, {0x09, 1_411_000, "8x"}, {0x11, 11_080_000, "8x"}, {0x1B, 3_324_000, "2.5x"},
		{0x41, 8_991_000, "2x"}} {
		tray := discburn.Tray{Medium: x.m}
		assert.Equal(t, x.want, tray.Times(x.rate).String())
	}
	assert.Equal(t, "4.38 GiB", size.Format(2_298_496*2048))
}
