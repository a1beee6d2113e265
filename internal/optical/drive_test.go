package optical_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/optical"
	sim "polytome/internal/sim/optical"
)

// disc is one of so many blocks, each with its number in it.
func disc(blocks int, scratches ...sim.Scratch) *sim.Disc {
	var b bytes.Buffer
	for i := range blocks {
		block := bytes.Repeat([]byte{byte(i * 7)}, sim.Block)
		copy(block, fmt.Sprintf("block %d", i))
		b.Write(block)
	}
	d := sim.DataDisc(sim.DVDROM, bytes.NewReader(b.Bytes()), int64(blocks))
	d.Scratches = scratches
	return d
}

func TestADriveAnswers(t *testing.T) {
	ctx := t.Context()
	for name, habit := range map[string]sim.Habit{"usual": {}, "descriptors": {Descriptor: true},
		"READ(10) only": {NoRead12: true}, "slow to start": {Spinning: 2}} {
		t.Run(name, func(t *testing.T) {
			machine := sim.New()
			habit.Writes = []uint16{}
			machine.Habit = habit
			d := optical.New(optical.Over(machine))
			m, err := d.Model(ctx)
			require.NoError(t, err)
			assert.Equal(t, optical.Model{Vendor: "GULLWING", Product: "TRAY 16", Revision: "1.02"}, m)
			var s *optical.Sense
			require.ErrorAs(t, d.WaitReady(ctx), &s, "it is not waited for a disc that nobody puts in")
			assert.True(t, s.NoDisc())
			assert.EqualError(t, s, "there is no disc in the drive")

			machine.Put(disc(40))
			require.NoError(t, d.WaitReady(ctx))
			now, all, err := d.Medium(ctx)
			require.NoError(t, err)
			assert.Equal(t, "DVD-ROM", now.String())
			assert.Len(t, all, 2)
			assert.False(t, now.CD() || now.Writable())
			c, err := d.Capacity(ctx)
			require.NoError(t, err)
			assert.Equal(t, optical.Capacity{Blocks: 40, Size: 2048}, c)
			tracks, err := d.Tracks(ctx)
			require.NoError(t, err)
			assert.Equal(t, []optical.Track{{Number: 1, Session: 1, End: 40, Data: true}}, tracks)
			info, err := d.DiscInfo(ctx)
			require.NoError(t, err)
			assert.Equal(t, optical.DiscInfo{Status: optical.Finished, Sessions: 1, LastTracks: 1}, info)
			require.NoError(t, d.SetSpeed(ctx, 5_540_000))
			rate, most, err := d.Speeds(ctx)
			require.NoError(t, err)
			assert.Equal(t, []int64{5_540_000, 22_160_000}, []int64{rate, most})

			b := make([]byte, 3*2048)
			require.NoError(t, d.Read(ctx, 17, b, 2048))
			for i := range 3 {
				assert.Equal(t, fmt.Sprintf("block %d", 17+i), string(b[i*2048:i*2048+8]))
			}
			err = d.Read(ctx, 39, b, 2048)
			assert.EqualError(t, err, "that lies behind the end of the disc")

			require.NoError(t, d.Lock(ctx, true))
			assert.EqualError(t, d.Eject(ctx), "the tray is locked by another program")
			require.NoError(t, d.Lock(ctx, false))
			require.NoError(t, d.Eject(ctx))
			assert.True(t, machine.Open())
			assert.EqualError(t, d.Ready(ctx), "the tray is open")
			require.NoError(t, d.Load(ctx))
			require.NoError(t, d.WaitReady(ctx))
		})
	}
}

func TestASpotThatCannotBeRead(t *testing.T) {
	ctx := t.Context()
	for _, descriptor := range []bool{false, true} {
		machine := sim.New()
		machine.Descriptor = descriptor
		machine.Put(disc(64, sim.Scratch{First: 20, Count: 2},
			sim.Scratch{First: 40, Count: 1, Harm: sim.Soft, Tries: 3}))
		d := optical.New(optical.Over(machine))
		require.NoError(t, d.WaitReady(ctx))
		b := make([]byte, 16*2048)
		err := d.Read(ctx, 12, b, 2048)
		var s *optical.Sense
		require.ErrorAs(t, err, &s)
		assert.True(t, s.Unread())
		assert.EqualError(t, s, "the drive cannot read that spot (block 20)")
		assert.Error(t, d.Read(ctx, 40, b[:2048], 2048), "at full speed it fails")
		require.NoError(t, d.SetSpeed(ctx, 1_385_000))
		assert.NoError(t, d.Read(ctx, 40, b[:2048], 2048), "slowly it is read")
		assert.Equal(t, "block 40", string(b[:8]))
	}
}

func TestWaitingForADiscEnds(t *testing.T) {
	machine := sim.New()
	machine.Put(disc(4))
	machine.Spinning = 1 << 30
	machine.Put(disc(4))
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	d := optical.New(optical.Over(machine))
	assert.ErrorIs(t, d.WaitReady(ctx), context.DeadlineExceeded)
}

// nothing answers with too little.
type nothing struct{ n int }

func (x nothing) Command(_, in, _ []byte) (int, []byte) { return min(x.n, len(in)), nil }

func TestADriveThatSaysTooLittle(t *testing.T) {
	for n := range 40 {
		d, ctx := optical.New(optical.Over(nothing{n})), t.Context()
		_, err := d.Model(ctx)
		assert.EqualError(t, err, "it is no disc drive")
		_, err = d.Tracks(ctx)
		assert.Error(t, err)
		if n < 8 {
			_, _, err = d.Medium(ctx)
			assert.Error(t, err)
			_, err = d.Capacity(ctx)
			assert.Error(t, err)
			_, err = d.DiscInfo(ctx)
			assert.Error(t, err)
		}
		_, _, err = d.Speeds(ctx)
		assert.Error(t, err)
		assert.ErrorContains(t, d.Read(ctx, 0, make([]byte, 2048), 2048), "bytes of 2048")
	}
}

func TestWhatIsNoDrive(t *testing.T) {
	_, err := optical.OpenDevice(filepath.Join(t.TempDir(), "sr0"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	x, err := optical.OpenDevice(os.DevNull)
	require.NoError(t, err)
	defer x.Close()
	_, err = optical.New(x).Model(t.Context())
	assert.ErrorContains(t, err, os.DevNull)
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = optical.New(x).Model(gone)
	assert.ErrorIs(t, err, context.Canceled)
}

func TestSenseInSentences(t *testing.T) {
	for say, b := range map[string][]byte{
		"the drive is still looking at the disc":           {0x70, 0, 2, 0, 0, 0, 0, 10, 0, 0, 0, 0, 4, 1, 0, 0, 0, 0},
		"the drive is not ready":                           {0x72, 2, 4, 9, 0, 0, 0, 0},
		"the disc is full":                                 {0x72, 5, 0x63, 0, 0, 0, 0, 0},
		"another disc was put in":                          {0x72, 6, 0x28, 0, 0, 0, 0, 0},
		"the drive itself has failed":                      {0x72, 4, 0x44, 0, 0, 0, 0, 0},
		"the drive answers with sense E/1D/00":             {0x72, 14, 0x1D, 0, 0, 0, 0, 0},
		"the drive cannot read that spot (block 16909060)": {0xF1, 0, 3, 1, 2, 3, 4, 10, 0, 0, 0, 0, 0x11, 0},
	} {
		s, ok := optical.ParseSense(b)
		require.True(t, ok)
		assert.EqualError(t, s, say)
	}
	for _, b := range [][]byte{nil, {0x70}, {0, 0, 0, 0, 0, 0, 0, 0}, bytes.Repeat([]byte{0x7F}, 18)} {
		_, ok := optical.ParseSense(b)
		assert.False(t, ok)
	}
}

func FuzzSense(f *testing.F) {
	f.Add([]byte{0x72, 3, 0x11, 0, 0, 0, 0, 12, 0, 10, 0x80, 0, 0, 0, 0, 0, 0, 0, 1, 2})
	f.Add([]byte{0xF0, 0, 3, 1, 2, 3, 4, 10, 0, 0, 0, 0, 0x11, 0, 0, 0, 0, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		if s, ok := optical.ParseSense(b); ok && s.Error() == "" {
			t.Fatal("it says nothing")
		}
		err := optical.New(optical.Over(senses(b))).Ready(t.Context())
		var s *optical.Sense
		if errors.As(err, &s) && s.Key == optical.Recovered {
			t.Fatal("what was done counts as failed")
		}
	})
}

// senses answers with sense data.
type senses []byte

func (s senses) Command(_, _, _ []byte) (int, []byte) { return 0, s }

// FuzzTracks: tables of contents that are broken are errors, and never a panic.
func FuzzTracks(f *testing.F) {
	f.Add([]byte{0, 18, 1, 1, 0, 0x14, 1, 0, 0, 0, 0, 0, 0, 0x14, 0xAA, 0, 0, 0, 0, 40})
	f.Add([]byte{0, 46, 1, 1, 1, 0x14, 0, 0xA0, 0, 0, 0, 0, 1, 0, 0, 1, 0x14, 0, 0xA2, 0, 0, 0, 0, 4, 1, 2, 1, 0x14,
		0, 1,
		0, 0, 0, 0, 0, 2, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		tracks, err := optical.New(optical.Over(table(b))).Tracks(t.Context())
		if err != nil {
			return
		}
		for i, x := range tracks {
			if x.Number < 1 || x.Number > 99 || x.End < x.Start || i > 0 && x.Start < tracks[i-1].End {
				t.Fatalf("%+v", tracks)
			}
		}
		if len(tracks) == 0 {
			t.Fatal("no tracks, and no error")
		}
	})
}

// table answers every question with a table of contents.
type table []byte

func (x table) Command(_, in, _ []byte) (int, []byte) { return copy(in, x), nil }

// TestADriveInAnotherProcess answers over its socket as it would here.
func TestADriveInAnotherProcess(t *testing.T) {
	m := sim.New()
	m.Put(disc(40, sim.Scratch{First: 7, Count: 1}))
	at := filepath.Join(t.TempDir(), "drive")
	l, err := net.Listen("unix", at)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	over, heard := make(chan error, 1), make(chan byte, 100)
	go func() { over <- m.Serve(ctx, l, func(cdb []byte) { heard <- cdb[0] }) }()
	to, err := sim.Dial(at)
	require.NoError(t, err)
	d := optical.New(to)
	require.NoError(t, d.WaitReady(t.Context()))
	b := make([]byte, 2*2048)
	require.NoError(t, d.Read(t.Context(), 5, b, 2048))
	assert.Equal(t, "block 6", string(b[2048:2055]))
	assert.EqualError(t, d.Read(t.Context(), 7, b, 2048), "the drive cannot read that spot (block 7)")
	assert.Equal(t, byte(0), <-heard)
	cancel()
	require.NoError(t, <-over)
	assert.Error(t, d.Ready(t.Context()), "it is gone")
	require.NoError(t, d.Close())
	_, err = sim.Dial(at)
	assert.Error(t, err)
}
