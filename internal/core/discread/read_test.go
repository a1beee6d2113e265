package discread_test

import (
	"bytes"
	"context"
	"errors"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/discread"
	"polytome/internal/optical"
	sim "polytome/internal/sim/optical"
	"polytome/internal/testkit/judge"
)

// image is one in memory.
type image []byte

func (b image) WriteAt(p []byte, off int64) (int, error) { return copy(b[off:], p), nil }

// noise is what was pressed on a disc.
func noise(blocks int64) []byte {
	b := make([]byte, blocks*sim.Block)
	r := rand.NewChaCha8([32]byte{1})
	_, _ = r.Read(b)
	return b
}

// put puts a disc into a drive, and waits for it.
func put(t require.TestingT, m *sim.Drive, data []byte, scratches ...sim.Scratch) *optical.Drive {
	disc := sim.DataDisc(sim.DVDROM, bytes.NewReader(data), int64(len(data)/sim.Block))
	disc.Scratches = scratches
	m.Put(disc)
	d := optical.New(optical.Over(m))
	require.NoError(t, d.WaitReady(context.Background()))
	return d
}

func TestADiscIsReadAsFarAsItCanBe(t *testing.T) {
	data := noise(5000)
	m := sim.New()
	d := put(t, m, data, sim.Scratch{First: 1000, Count: 40, Harm: sim.Soft, Tries: 2},
		sim.Scratch{First: 3000, Count: 3}, sim.Scratch{First: 4999, Count: 1})
	b := discread.NewBlocks(5000, sim.Block)
	got := make(image, len(data))
	require.NoError(t, discread.Read(t.Context(), d, got, b, discread.Options{}))
	require.NoError(t, b.Check())
	assert.Equal(t, []discread.Span{{First: 3000, Count: 3, State: discread.Bad, Tries: 8},
		{First: 4999, Count: 1, State: discread.Bad, Tries: 8}}, b.Of(discread.Bad))
	assert.False(t, b.Whole())
	copy(got[3000*sim.Block:], data[3000*sim.Block:3003*sim.Block])
	copy(got[4999*sim.Block:], data[4999*sim.Block:])
	assert.True(t, bytes.Equal(data, got), "everything else is as it was pressed")
	assert.Less(t, m.Reads, 5000/32+3000, "in large pieces where nothing is wrong")

	// another copy of the disc has what this one lacks
	d = put(t, m, data, sim.Scratch{First: 10, Count: 900})
	before := m.Reads
	require.NoError(t, discread.Read(t.Context(), d, got, b, discread.Options{}))
	assert.True(t, b.Whole())
	assert.Less(t, m.Reads-before, 20, "and only that is read")
	assert.True(t, bytes.Equal(data, got))
}

// TestNoWrongBlockPassesAsGood, and none is lost that another try would have given, with any damage, in any number of
// sittings.
func TestNoWrongBlockPassesAsGood(t *testing.T) {
	data := noise(600)
	judge.Times(t, 1000, func(t *rapid.T) {
		blocks := rapid.Int64Range(1, 600).Draw(t, "blocks")
		var hurt []sim.Scratch
		hard := map[int64]bool{}
		for range rapid.IntRange(0, 6).Draw(t, "scratches") {
			x := sim.Scratch{First: rapid.Int64Range(0, blocks-1).Draw(t, "first"),
				Count: rapid.Int64Range(1, 80).Draw(t, "count"),
				Harm:  rapid.SampledFrom([]sim.Harm{sim.Hard, sim.Soft}).Draw(t, "harm"), Tries: 3}
			hurt = append(hurt, x)
			for i := x.First; x.Harm == sim.Hard && i < min(blocks, x.First+x.Count); i++ {
				hard[i] = true
			}
		}
		m := sim.New()
		m.Habit = sim.Habit{Descriptor: rapid.Bool().Draw(t, "descriptor"), NoRead12: rapid.Bool().Draw(t, "ten")}
		d := put(t, m, data[:blocks*sim.Block], hurt...)
		b, got := discread.NewBlocks(blocks, sim.Block), make(image, blocks*sim.Block)
		for range rapid.IntRange(0, 3).Draw(t, "sittings") { // which are stopped halfway
			ctx, cancel := context.WithCancel(context.Background())
			left := rapid.IntRange(1, 40).Draw(t, "reads")
			err := discread.Read(ctx, d, got, b, discread.Options{Progress: func(*discread.Blocks, int64) {
				if left--; left == 0 {
					cancel()
				}
			}})
			if err != nil && !errors.Is(err, context.Canceled) {
				t.Fatal(err)
			}
			cancel()
		}
		if err := discread.Read(context.Background(), d, got, b, discread.Options{}); err != nil {
			t.Fatal(err)
		}
		if err := b.Check(); err != nil {
			t.Fatal(err)
		}
		for _, s := range b.Spans {
			for i := s.First; i < s.End(); i++ {
				same := bytes.Equal(got[i*sim.Block:(i+1)*sim.Block], data[i*sim.Block:(i+1)*sim.Block])
				if good := s.State == discread.Good; good && !same || good == hard[i] {
					t.Fatalf("block %d is %s: as pressed: %t, beyond reading: %t", i, s.State, same, hard[i])
				}
			}
		}
	})
}

// full is an image for which there is no room.
type full struct{}

func (full) WriteAt([]byte, int64) (int, error) { return 0, errors.New("no space left on device") }

func TestAReadingThatCannotGoOn(t *testing.T) {
	data, m := noise(100), sim.New()
	d := put(t, m, data)
	b := discread.NewBlocks(100, sim.Block)
	kept := 0
	keep := discread.Options{Keep: func(*discread.Blocks) error { kept++; return nil }}
	err := discread.Read(t.Context(), d, full{}, b, keep)
	assert.ErrorContains(t, err, "writing the image: no space left on device")
	assert.Equal(t, int64(100), b.In(discread.Unread))
	m.Put(nil)
	err = discread.Read(t.Context(), d, make(image, len(data)), b, keep)
	assert.ErrorContains(t, err, "there is no disc in the drive")
	assert.Equal(t, 2, kept, "how far it is is written down all the same")
	d = put(t, m, data)
	assert.ErrorContains(t, discread.Read(t.Context(), d, make(image, len(data)), b, discread.Options{Keep: func(
		*discread.Blocks) error {
		return errors.New("the folder is gone")
	}}), "the folder is gone")
}

func TestSpansThatDoNotFit(t *testing.T) {
	for _, b := range []discread.Blocks{
		{Size: 2048, Count: 3},
		{Size: 2048, Count: 3, Spans: []discread.Span{{First: 1, Count: 2, State: discread.Good}}},
		{Size: 2048, Count: 3, Spans: []discread.Span{{Count: 2, State: discread.Good}}},
		{Size: 2048, Count: 2, Spans: []discread.Span{{Count: 2, State: "odd"}}},
		{Size: 0, Count: 2, Spans: []discread.Span{{Count: 2, State: discread.Good}}},
		{Size: 1, Count: 2, Spans: []discread.Span{{Count: -2, State: discread.Good}, {First: -2, Count: 4,
			State: discread.Good}}},
	} {
		assert.Error(t, b.Check(), "%+v", b)
	}
}
