package discread_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/discread"
	"polytome/internal/format/cuesheet"
	"polytome/internal/format/sectors"
	"polytome/internal/optical"
	sim "polytome/internal/sim/optical"
	"polytome/internal/testkit/judge"
)

// sound is so many sectors of samples, all of them other ones.
func sound(n, seed int) []byte {
	b := make([]byte, n*sectors.Raw)
	for i := range b {
		b[i] = byte(i*7 + i>>9*13 + seed*101)
	}
	return b
}

// mixed is a compact disc with a track of data, two of sound and, in a second session, one of data. What is read of it
// is want.
func mixed(user, more []byte) (disc *sim.Disc, want []byte) {
	first, second := sound(150+200, 1), sound(75+90, 2)
	n := int64(len(user) / sim.Block)
	behind := n + 515 + 11_400 // the first session
	d := &sim.Disc{Profile: sim.CDROM, Tracks: []sim.Track{
		{Session: 1, Mode: 1, End: n, Data: bytes.NewReader(user)},
		{Session: 1, Audio: true, Gap: n, Start: n + 150, End: n + 350, Data: bytes.NewReader(first)},
		{Session: 1, Audio: true, Gap: n + 350, Start: n + 425, End: n + 515, Data: bytes.NewReader(second)},
		{Session: 2, Mode: 2, Gap: behind, Start: behind, End: behind + int64(len(more)/sim.Block),
			Data: bytes.NewReader(more)},
	}}
	for i := range n {
		want = append(want, make([]byte, sectors.Raw)...)
		b := want[len(want)-sectors.Raw:]
		copy(b[16:], user[i*sim.Block:(i+1)*sim.Block])
		_ = sectors.Encode(b, i)
	}
	return d, append(append(want, first...), second...)
}

// read reads what is in a drive into a folder.
func read(t require.TestingT, d *optical.Drive, dir string, o discread.Options) (*discread.Disc, *discread.Result) {
	disc, err := discread.Look(context.Background(), d)
	require.NoError(t, err)
	r, err := discread.Into(context.Background(), d, disc, filepath.Join(dir, "disc"+disc.Extension()), o)
	require.NoError(t, err)
	return disc, r
}

// TestADiscWithDataAndSound is read as it was pressed, whatever the drive is like: its gaps, sessions, and sound that a
// drive gives too early or too late.
func TestADiscWithDataAndSound(t *testing.T) {
	user, more := noise(300), noise(100)
	for name, habit := range map[string]sim.Habit{"usual": {}, "late": {Offset: 667}, "early": {Offset: -30},
		"much": {Offset: 1200}, "no marks": {NoMarks: true, Descriptor: true}, "no sub-channel": {NoQ: true,
			NoRead12: true}} {
		t.Run(name, func(t *testing.T) {
			m, dir := sim.New(), t.TempDir()
			m.Habit = habit
			pressed, want := mixed(user, more)
			m.Put(pressed)
			d := optical.New(optical.Over(m))
			disc, r := read(t, d, dir, discread.Options{Offset: habit.Offset})
			assert.True(t, disc.Whole() && disc.Sound())
			assert.Equal(t, filepath.Join(dir, "disc.cue"), r.Sheet)
			got, err := os.ReadFile(filepath.Join(dir, "disc.bin"))
			require.NoError(t, err)
			require.Len(t, got, (815+100)*sectors.Raw)
			if k := habit.Offset * 4; k > 0 { // what the drive does not reach at the end of the sound is silence
				clear(want[815*sectors.Raw-int(k):])
				clear(got[815*sectors.Raw-int(k) : 815*sectors.Raw])
			} else {
				clear(want[300*sectors.Raw : 300*sectors.Raw-int(k)])
				clear(got[300*sectors.Raw : 300*sectors.Raw-int(k)])
			}
			assert.True(t, bytes.Equal(want, got[:len(want)]))
			last := sectors.New(bytes.NewReader(got[len(want):]), 100*sectors.Raw, sectors.Raw, 24, 0)
			user2, err := io.ReadAll(io.NewSectionReader(last, 0, last.Size()))
			require.NoError(t, err)
			assert.True(t, bytes.Equal(more, user2))

			text, err := os.ReadFile(r.Sheet)
			require.NoError(t, err)
			sheet, err := cuesheet.Parse(string(text))
			require.NoError(t, err)
			gap := 650
			if habit.NoQ {
				gap = -1
			}
			assert.Equal(t, []cuesheet.Track{{Number: 1, Mode: "MODE1/2352", Gap: -1}, {Number: 2, Mode: "AUDIO",
				Start: 450,
				Gap:   300}, {Number: 3, Mode: "AUDIO", Start: 725, Gap: gap},
				{Number: 4, Mode: "MODE2/2352", Start: 815, Gap: -1}}, sheet.Files[0].Tracks)
			assert.Contains(t, string(text), "REM SESSION 02\n  TRACK 04")

			// a foreign program takes it apart
			judge.Run(t, "bchunk", filepath.Join(dir, "disc.bin"), r.Sheet, filepath.Join(dir, "part-"))
			plain, err := os.ReadFile(filepath.Join(dir, "part-01.iso"))
			require.NoError(t, err)
			assert.True(t, bytes.HasPrefix(plain, user))
		})
	}
}

// TestSectorsOfTheSimulatedDrive are as another piece of code makes them by the same standard.
func TestSectorsOfTheSimulatedDrive(t *testing.T) {
	m := sim.New()
	user := noise(20)
	m.Put(sim.DataDisc(sim.CDROM, bytes.NewReader(user), 20))
	d := optical.New(optical.Over(m))
	require.NoError(t, d.WaitReady(t.Context()))
	raw, want := make([]byte, 20*sectors.Raw), make([]byte, sectors.Raw)
	_, err := d.ReadRaw(t.Context(), 0, raw, make([]bool, 20))
	require.NoError(t, err)
	for i := range int64(20) {
		copy(want[16:], user[i*sim.Block:(i+1)*sim.Block])
		require.NoError(t, sectors.Encode(want, i))
		require.Equal(t, want, raw[i*sectors.Raw:(i+1)*sectors.Raw])
		assert.True(t, sectors.Intact(want, i))
		assert.False(t, sectors.Intact(want, i+1), "it is another one")
	}
}

// TestASheetInTheTray is a disc for the simulated drive, which is read back as it was.
func TestASheetInTheTray(t *testing.T) {
	m, dir, again := sim.New(), t.TempDir(), t.TempDir()
	pressed, _ := mixed(noise(300), noise(100))
	m.Put(pressed)
	_, r := read(t, optical.New(optical.Over(m)), dir, discread.Options{})
	m, done, err := sim.FromAddress(sim.Scheme + r.Sheet)
	require.NoError(t, err)
	defer done()
	_, second := read(t, optical.New(optical.Over(m)), again, discread.Options{Twice: true})
	assert.Equal(t, r.SHA1, second.SHA1)
	judge.Run(t, "cmp", filepath.Join(dir, "disc.bin"), filepath.Join(again, "disc.bin"))
	judge.Run(t, "cmp", r.Sheet, second.Sheet)
}

// TestFilesThatAreHit are named, of plain and of whole sectors.
func TestFilesThatAreHit(t *testing.T) {
	dir := t.TempDir()
	tree := filepath.Join(dir, "tree")
	require.NoError(t, os.MkdirAll(filepath.Join(tree, "DEEP"), 0o755))
	for i, name := range []string{"A.BIN", "DEEP/B.BIN", "C.BIN"} {
		require.NoError(t, os.WriteFile(filepath.Join(tree, name), bytes.Repeat([]byte{byte(i + 1)}, 100*sim.Block),
			0o600))
	}
	image := filepath.Join(dir, "image.iso")
	judge.Run(t, "genisoimage", "-quiet", "-o", image, tree)
	at := map[string]int64{}
	for _, line := range strings.Split(judge.Run(t, "isoinfo", "-l", "-i", image), "\n") {
		if f := strings.Fields(line); len(f) > 8 && strings.HasSuffix(f[len(f)-1], ".BIN;1") {
			var n int64
			_, err := fmt.Sscanf(strings.Join(f, " "), "---------- %d", &n)
			require.NoError(t, err)
			i := strings.Index(line, "[")
			_, err = fmt.Sscanf(strings.TrimSpace(line[i+1:]), "%d", &n)
			require.NoError(t, err)
			at[f[len(f)-1]] = n
		}
	}
	require.Len(t, at, 3)
	data, err := os.ReadFile(image)
	require.NoError(t, err)
	for _, profile := range []uint16{sim.DVDROM, sim.CDROM} {
		m := sim.New()
		disc := sim.DataDisc(profile, bytes.NewReader(data), int64(len(data)/sim.Block))
		if profile == sim.CDROM { // with sound behind it
			disc.Tracks = append(disc.Tracks, sim.Track{Session: 1, Audio: true, Gap: disc.Tracks[0].End,
				Start: disc.Tracks[0].End, End: disc.Tracks[0].End + 10, Data: bytes.NewReader(sound(10, 1))})
		}
		disc.Scratches = []sim.Scratch{{First: at["B.BIN;1"] + 99, Count: 1}, {First: at["C.BIN;1"] + 5, Count: 2}}
		m.Put(disc)
		_, r := read(t, optical.New(optical.Over(m)), t.TempDir(), discread.Options{Tries: 2})
		assert.Equal(t, []string{"C.BIN", "DEEP/B.BIN"}, r.Hit)
	}
}

// TestTheLastBlocksOfABurntDisc are none where they cannot be read.
func TestTheLastBlocksOfABurntDisc(t *testing.T) {
	m, data := sim.New(), noise(50)
	disc := sim.DataDisc(sim.CDR, bytes.NewReader(data), 52)
	disc.Scratches = []sim.Scratch{{First: 50, Count: 2}}
	m.Put(disc)
	_, r := read(t, optical.New(optical.Over(m)), t.TempDir(), discread.Options{Tries: 1})
	assert.True(t, r.RunOut)
	got, err := os.ReadFile(r.File)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(data, got))
	disc.Scratches[0].Count = 1 // the last one can be read: both are blocks of the disc
	m.Put(disc)
	_, r = read(t, optical.New(optical.Over(m)), t.TempDir(), discread.Options{Tries: 1})
	assert.False(t, r.RunOut || r.Blocks.Whole())
	disc.Scratches[0] = sim.Scratch{First: 49, Count: 2}
	m.Put(disc)
	_, r = read(t, optical.New(optical.Over(m)), t.TempDir(), discread.Options{Tries: 1})
	assert.False(t, r.RunOut || r.Blocks.Whole(), "one that is needed lacks")
}

// TestReadTwice: what is another time something else is not taken for good.
func TestReadTwice(t *testing.T) {
	m, dir, data := sim.New(), t.TempDir(), noise(400)
	// the drive gives wrong bytes without a word, after the first reading
	d := optical.New(&turning{Transport: optical.Over(m), from: 3 + 400/32 + 8, block: 77})
	m.Put(sim.DataDisc(sim.DVDROM, bytes.NewReader(data), 400))
	_, r := read(t, d, dir, discread.Options{Twice: true})
	assert.EqualValues(t, 1, r.Differed)
	assert.Equal(t, []discread.Span{{First: 77, Count: 1, State: discread.Bad}}, r.Blocks.Of(discread.Bad))
	assert.NoFileExists(t, filepath.Join(dir, "disc.iso"))
	_, r = read(t, optical.New(optical.Over(m)), dir, discread.Options{Twice: true})
	assert.True(t, r.Blocks.Whole())
	got, err := os.ReadFile(r.File)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(data, got))
}

// turning is a drive that turns a bit of a block after some commands.
type turning struct {
	optical.Transport
	from, block int
}

func (x *turning) Do(ctx context.Context, c optical.Command) (int, error) {
	n, err := x.Transport.Do(ctx, c)
	if x.from--; x.from < 0 && c.CDB[0] == 0xA8 {
		if at := (x.block - int(c.CDB[4])<<8 - int(c.CDB[5])) * sim.Block; at >= 0 && at < n {
			c.In[at] ^= 1
		}
	}
	return n, err
}

// TestNoWrongSectorPassesAsGood: whole sectors of any disc with any damage, in any number of sittings.
func TestNoWrongSectorPassesAsGood(t *testing.T) {
	user, more := noise(60), noise(20)
	judge.Times(t, 100, func(t *rapid.T) {
		pressed, want := mixed(user, more)
		m := sim.New()
		hard := map[int64]bool{}
		for range rapid.IntRange(0, 6).Draw(t, "scratches") {
			x := sim.Scratch{First: rapid.Int64Range(0, 574).Draw(t, "first"), Count: rapid.Int64Range(1, 30).Draw(t,
				"count"),
				Harm: rapid.SampledFrom([]sim.Harm{sim.Hard, sim.Soft, sim.Wrong}).Draw(t, "harm"), Tries: 3}
			pressed.Scratches = append(pressed.Scratches, x)
			for i := x.First; x.Harm == sim.Hard && i < x.First+x.Count; i++ {
				hard[i] = true
			}
		}
		m.Habit = sim.Habit{NoMarks: rapid.Bool().Draw(t, "no marks"), Descriptor: rapid.Bool().Draw(t, "descriptor")}
		m.Put(pressed)
		d := optical.New(optical.Over(m))
		dir, err := os.MkdirTemp("", "")
		require.NoError(t, err)
		defer os.RemoveAll(dir)
		_, r := read(t, d, dir, discread.Options{})
		got, err := os.ReadFile(r.File)
		require.NoError(t, err)
		for _, s := range r.Blocks.Spans {
			for i := s.First; i < min(575, s.End()); i++ {
				same := bytes.Equal(got[i*sectors.Raw:(i+1)*sectors.Raw], want[i*sectors.Raw:(i+1)*sectors.Raw])
				if good := s.State == discread.Good; good && !same || good == hard[i] {
					t.Fatalf("sector %d is %s: as pressed: %t, beyond reading: %t", i, s.State, same, hard[i])
				}
			}
		}
	})
}
