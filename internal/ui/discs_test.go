package ui

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"testing/fstest"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/demo"
	"polytome/internal/format/iso9660"
	"polytome/internal/optical"
	sim "polytome/internal/sim/optical"
	"polytome/internal/ui/state"
)

// game is a disc with a game on it.
func game(t *testing.T, id, name string, scratches ...sim.Scratch) *sim.Disc {
	im, err := iso9660.Lay(fstest.MapFS{
		"VESPER.INF": {Data: []byte("ID=" + id + "\r\nNAME=" + name + "\r\nREGION=N\r\nDISC=1/1\r\nKIND=short\r\n")},
		"DATA.BIN":   {Data: bytes.Repeat([]byte(id+" "), 100_000)}}, iso9660.Options{VolumeID: "GAME"})
	require.NoError(t, err)
	d := sim.DataDisc(sim.DVDROM, im.Reader(), im.Size()/sim.Block)
	d.Scratches = scratches
	return d
}

// burnt is what lands on an empty disc.
type burnt struct{ bytes.Buffer }

func (b *burnt) ReadAt(p []byte, off int64) (int, error) { return copy(p, b.Bytes()[off:]), nil }

func (b *burnt) WriteAt(p []byte, _ int64) (int, error) { return b.Write(p) } // in order

// gated is a drive that waits before it reads, while it is shut.
type gated struct {
	optical.Transport
	shut *atomic.Bool
}

func (g gated) Do(ctx context.Context, c optical.Command) (int, error) {
	for g.shut.Load() && c.CDB[0] == 0xA8 && ctx.Err() == nil {
		<-ctx.Done()
	}
	return g.Transport.Do(ctx, c)
}

// discsApp is the program on the demo with two disc drives: a reader with a disc, and a writer with an empty one.
func discsApp(t *testing.T, disc *sim.Disc) (a *app, w demo.World, reader, writer *sim.Drive, shut *atomic.Bool) {
	reader, writer, shut = sim.New(), sim.New(), &atomic.Bool{}
	reader.Writes, writer.Product = nil, "WRITER 8"
	reader.Put(disc)
	writer.Put(sim.NewBlank(sim.DVDR, &burnt{}))
	a, w = demoApp(t, Options{Discs: state.DiscAccess{
		Devices: func() []string { return []string{"one", "two"} },
		Open: func(at string) (*optical.Drive, error) {
			if at == "one" {
				return optical.New(gated{optical.Over(reader), shut}), nil
			}
			return optical.New(optical.Over(writer)), nil
		}}})
	a.state.System = bare(t)
	return a, w, reader, writer, shut
}

// TestADiscInADriveIsReadIntoTheGames from the first screen, with what lacks from another copy.
func TestADiscInADriveIsReadIntoTheGames(t *testing.T) {
	a, w, reader, _, _ := discsApp(t, game(t, "VSP-31001", "Bramble Lock", sim.Scratch{First: 200, Count: 3}))
	assert.Contains(t, text(a),
		"In GULLWING TRAY 16: VSP-31001 Bramble Lock, which is not among your games. i reads it.")
	press(a, "i")
	assert.True(t, reader.Open(), "the tray opens by itself")
	assert.Contains(t, text(a), "3 blocks could not be read. Read the disc again, or another copy")
	press(a, "4", "end")
	s := text(a)
	assert.Contains(t, s, "blocks lack")
	assert.Contains(t, s, "×")
	assert.Contains(t, s, "3 blocks in 1 place could not be read")
	assert.Contains(t, s, "At blocks 200+3")
	assert.Contains(t, s, "Of these files: DATA.BIN")
	press(a, "1", "/")
	typeIn(a, "bramble")
	press(a, "enter")
	assert.Contains(t, text(a), "is bad: 3 blocks of the disc could not be read, of DATA.BIN.")

	reader.Put(game(t, "VSP-31001", "Bramble Lock", sim.Scratch{First: 50, Count: 90}))
	press(a, "D", "r", "d")
	assert.Contains(t, text(a), "It is not among your games yet.  → enter reads it")
	press(a, "enter")
	assert.Contains(t, text(a), "Done: all of it was read, to Bramble Lock.iso.")
	assert.FileExists(t, filepath.Join(w.Dir, "games", "Bramble Lock.iso"))
	press(a, "esc", "1")
	assert.NotContains(t, text(a), "is bad: 3 blocks")
	assert.Contains(t, text(a), "Bramble Lock")
	for _, size := range [][2]int{{80, 24}, {60, 16}, {40, 10}, {240, 70}} {
		a.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		for _, keys := range [][]string{{"4", "end"}, {"D"}, {"D", "d"}, {"1"}} {
			press(a, "esc")
			press(a, keys...)
			assert.Len(t, strings.Split(text(a), "\n"), size[1], "%v", keys)
		}
	}
}

// TestATitleIsBurnt as its console takes it, and what would spoil the disc is said before.
func TestATitleIsBurnt(t *testing.T) {
	a, w, reader, writer, _ := discsApp(t, game(t, "VSP-31001", "Bramble Lock"))
	press(a, "i", "D", "d", "down")
	s := text(a)
	assert.Contains(t, s, "can be burnt")
	assert.Contains(t, s, "an empty DVD-R with room for 4.38 GiB.  → W burns a title on it")
	assert.Regexp(t, `Vesper +reads DVD-R and CD-R, best at 6x: the disc in this drive fits`, s)
	assert.Regexp(t, `Corvane \(LARK\) +reads DVD\+R, best at 4x: this drive writes DVD\+R`, s)
	press(a, "W")
	typeIn(a, "no such game")
	press(a, "enter")
	assert.Contains(t, text(a), "There is no title no such game in your folders.")
	press(a, "W")
	typeIn(a, "bramble")
	press(a, "enter")
	assert.Contains(t, text(a), "Burn Bramble Lock to the DVD-R in GULLWING WRITER 8?")
	assert.Contains(t, text(a), " at 6x, about ")
	press(a, "esc")
	assert.NotNil(t, writer.Disc().Blank, "nothing was written")
	press(a, "W")
	typeIn(a, "VSP-31001")
	press(a, "enter")
	assert.Contains(t, text(a), "t test first")
	press(a, "t")
	assert.Contains(t, text(a), "Done: VSP-31001 Bramble Lock, all of it read back and the same. The tray is open.")
	assert.True(t, writer.Open())
	want, err := os.ReadFile(filepath.Join(w.Dir, "games", "Bramble Lock.iso"))
	require.NoError(t, err)
	got := make([]byte, len(want))
	_, _ = writer.Disc().Tracks[0].Data.ReadAt(got, 0)
	assert.True(t, bytes.Equal(want, got))

	writer.Put(sim.NewBlank(sim.DVDPlusR, &burnt{}))
	press(a, "r", "W")
	typeIn(a, "bramble")
	press(a, "enter")
	assert.Contains(t, text(a),
		"Nothing was written: the console does not read DVD+R: put in an empty disc of the kind DVD-R or CD-R.")
	blank := sim.NewBlank(sim.DVDR, &burnt{})
	blank.Blank.Turns = []int64{20}
	writer.Put(blank)
	press(a, "r", "W")
	typeIn(a, "bramble")
	press(a, "enter", "enter")
	assert.Contains(t, text(a), "1 block of the disc cannot be read back as written. Burn it again on another disc")
	press(a, "4", "end")
	assert.Contains(t, text(a), "bad disc")
	reader.Put(nil)
	press(a, "D", "r", "d", "up")
	assert.Contains(t, text(a), "there is no disc in the drive.  → put a disc in")
}

// TestADiscWaits: a reading that is paused goes on where it ended; quitting and ejecting ask.
func TestADiscWaits(t *testing.T) {
	a, w, reader, _, shut := discsApp(t, game(t, "VSP-31002", "Slate Harbour"))
	reader.Haste = 0
	l := newLoop(a)
	send := func(k string) {
		msg := tea.KeyPressMsg{Text: k, Code: []rune(k)[0]}
		_, cmd := a.Update(msg)
		l.run(cmd)
	}
	shut.Store(true)
	send("i")
	l.until(t, func() bool { return len(a.state.DiscJobs) == 1 && a.state.DiscJobs[0].Running() })
	send("4")
	press(a, "end")
	assert.Contains(t, text(a), "p pauses, s stops; what was read stays")
	press(a, "q")
	assert.Contains(t, text(a), "A disc is being read. What was read stays, and it goes on another time.")
	press(a, "x")
	a.state.EjectDisc("one")
	assert.Contains(t, a.state.Notice, "The drive is busy")
	a.state.ReadDisc("one", false)
	assert.Contains(t, a.state.Notice, "The drive is busy")
	send("p")
	a.state.ReadDisc("one", false)
	assert.Contains(t, a.state.Notice, "The drive is busy", "its file is still open")
	assert.Len(t, a.state.DiscJobs, 1)
	a.state.Notice = "Paused: what was read stays, also when you quit."
	l.until(t, func() bool {
		return a.state.DiscJobs[0].Ended() && strings.Contains(text(a), "Paused: what was read stays")
	})
	assert.NoFileExists(t, filepath.Join(w.Dir, "games", "Slate Harbour.iso"))
	shut.Store(false)
	send("p")
	l.until(t, func() bool { return strings.Contains(text(a), "Done: all of it was read, to Slate Harbour.iso.") })
	assert.FileExists(t, filepath.Join(w.Dir, "games", "Slate Harbour.iso"))
}

// TestAShelfOnTheScreen: one disc after the other, until it is ended.
func TestAShelfOnTheScreen(t *testing.T) {
	a, w, reader, _, _ := discsApp(t, game(t, "VSP-31003", "Gorse Ferry"))
	l := newLoop(a)
	send := func(k string) {
		_, cmd := a.Update(tea.KeyPressMsg{Text: k, Code: []rune(k)[0]})
		l.run(cmd)
	}
	press(a, "D", "d")
	send("n")
	l.until(t, func() bool { return strings.Contains(text(a), "put the next disc in; it is read by itself.") })
	reader.Put(game(t, "VSP-31004", "Gorse Ferry Two", sim.Scratch{First: 100, Count: 1}))
	l.until(t, func() bool { return a.state.DiscJobs[0].Lacking == 1 && a.state.DiscJobs[0].Waits })
	reader.Put(game(t, "VSP-31003", "Gorse Ferry"))
	l.until(t, func() bool { return reader.Open() })
	reader.Put(game(t, "VSP-31004", "Gorse Ferry Two"))
	l.until(t, func() bool { return a.state.DiscJobs[0].Discs == 2 })
	send("4")
	press(a, "end")
	send("s")
	l.until(t, func() bool { return !a.state.DiscJobs[0].Running() })
	for _, name := range []string{"Gorse Ferry.iso", "Gorse Ferry Two.iso"} {
		assert.FileExists(t, filepath.Join(w.Dir, "games", name))
	}
	assert.Contains(t, text(a), "2 discs read whole")
}

// TestADriveThatCannotBeOpened is shown with the reason.
func TestADriveThatCannotBeOpened(t *testing.T) {
	a, _ := demoApp(t, Options{Discs: state.DiscAccess{Devices: func() []string { return []string{"/dev/sr9"} },
		Open: func(string) (*optical.Drive, error) { return nil, os.ErrPermission }}})
	a.state.System = bare(t)
	press(a, "D", "d")
	assert.Contains(t, text(a), "not readable")
	assert.Contains(t, text(a), "permission denied.  → r looks again")
	press(a, "enter", "W", "n")
	assert.Empty(t, a.state.DiscJobs)
}
