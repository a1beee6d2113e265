package ui

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand"
	"net"
	"os"
	"path/filepath"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/drives"
	"polytome/internal/format/slab"
	"polytome/internal/medium"
	"polytome/internal/sim"
	"polytome/internal/testkit/volumetest"
)

// diskApp is the program with the Vesper's own disk of the demo shown; vesper reads it as the console does.
func diskApp(t testing.TB) (a *app, dir string, vesper func() map[string]sim.SlabGame) {
	a, dir = drivesApp(t)
	press(a, "left", "enter")
	return a, dir, func() map[string]sim.SlabGame {
		f, err := os.Open(filepath.Join(dir, "vesper-17.img"))
		require.NoError(t, err)
		defer f.Close()
		info, err := f.Stat()
		require.NoError(t, err)
		d, err := sim.ListSlab(f, info.Size())
		require.NoError(t, err)
		all := map[string]sim.SlabGame{}
		for _, g := range d.Games {
			all[g.ID] = g
		}
		return all
	}
}

func TestTheTitlesOfADisk(t *testing.T) {
	a, _, _ := diskApp(t)
	s := text(a)
	for _, want := range []string{"vesper-17.img, FERRY", "6 titles, 1 small file, 524.00 MiB free of 17.19 GiB",
		"VSP-20417   Copper Tide", "timing c", "2 pieces", "slow-reads, whole-sound", "Switches of Copper Tide",
		"steady-picture", "the picture rolls or flickers", "CRC-32C"} {
		assert.Contains(t, s, want)
	}
	press(a, "/")
	typeIn(a, "mistral")
	press(a, "enter")
	assert.Contains(t, text(a), "It lies in 2 pieces.  → W brings it into one.")
	press(a, "m")
	assert.Contains(t, text(a), "1 fragmented title;")
	assert.Contains(t, text(a), "VSP-21344 Mistral Halt. 1.90 GiB, in 2 fragments")
	press(a, "esc")
	assert.Contains(t, text(a), "Switches of Mistral Halt")
	a.Update(tea.WindowSizeMsg{Width: 80, Height: 24})
	assert.NotContains(t, text(a), "Switches of")
	press(a, "tab")
	s = text(a)
	assert.Contains(t, s, "Switches of Mistral Halt")
	assert.Contains(t, s, "try b, then c and d")
	press(a, "esc", "esc")
	assert.Contains(t, text(a), "6 titles for Rowan")
}

func TestSwitchesAreTurnedForOneAndForMany(t *testing.T) {
	a, _, vesper := diskApp(t)
	press(a, "tab", "right")
	assert.Empty(t, vesper()["VSP-20417"].Settings, "nothing is written yet")
	assert.Contains(t, text(a), "W writes it")
	press(a, "W", "enter")
	assert.Equal(t, "timing=b\n", vesper()["VSP-20417"].Settings)
	press(a, "right", "right", "right", "W", "enter")
	assert.Equal(t, "timing=a\n", vesper()["VSP-20417"].Settings, "round and round")
	press(a, "left", "down", "down", "enter", "esc", "W", "enter")
	assert.Equal(t, "steady-picture=on\ntiming=d\n", vesper()["VSP-20417"].Settings)
	assert.Contains(t, text(a), "timing d, steady-picture")
	press(a, "A", "tab")
	assert.Contains(t, text(a), "Switches of 6 marked titles")
	assert.Contains(t, text(a), "differs")
	press(a, "up", "up", "right", "W", "enter")
	for id, g := range vesper() {
		assert.Contains(t, g.Settings, "timing=a\n", id, "what differs begins at the first value")
	}
	assert.Contains(t, vesper()["VSP-21560"].Settings, "whole-sound=on\n", "the others stay")
}

func TestTitlesGoInAndOut(t *testing.T) {
	a, dir, vesper := diskApp(t)
	press(a, "/")
	typeIn(a, "mosswick")
	press(a, "enter", "o")
	out := t.TempDir()
	press(a, "ctrl+u")
	typeIn(a, out)
	press(a, "enter")
	assert.Contains(t, text(a), "1 title was written to "+out+", and compared.")
	taken := filepath.Join(out, "VSP-21377 - Mosswick.iso")
	game := filepath.Join(filepath.Dir(dir), "games", "vesper", "Mosswick.iso")
	assertSame(t, game, taken)
	press(a, "delete")
	typeIn(a, "no")
	press(a, "enter")
	assert.Contains(t, vesper(), "VSP-21377")
	assert.Contains(t, text(a), "Nothing was removed.")
	press(a, "delete")
	typeIn(a, "yes")
	press(a, "enter")
	assert.NotContains(t, vesper(), "VSP-21377")
	press(a, "a")
	typeIn(a, taken)
	press(a, "enter")
	assert.Contains(t, text(a), "Mosswick is on the disk, and was read back.")
	assert.Contains(t, vesper(), "VSP-21377")
	press(a, "a")
	typeIn(a, filepath.Join(out, "none.iso"))
	press(a, "enter")
	assert.Contains(t, text(a), "none.iso")
	press(a, "/")
	typeIn(a, "mosswick")
	press(a, "enter", "e", "ctrl+u")
	typeIn(a, "Moss & Wick")
	press(a, "enter")
	assert.Equal(t, "Moss & Wick", vesper()["VSP-21377"].Name)

	// straight from another target
	press(a, "delete")
	typeIn(a, "yes")
	press(a, "enter", "a")
	typeIn(a, "North stick: SHORT/VSP-21377 - Mosswick.iso")
	press(a, "enter")
	assert.Contains(t, text(a), "Mosswick came from North stick, and was read back.")
	assert.Equal(t, "Mosswick", vesper()["VSP-21377"].Name)
}

func TestADiskIsCompactedCheckedRepairedAndCopied(t *testing.T) {
	a, dir := drivesApp(t)
	// a small disk on which one title lies in two pieces
	file := filepath.Join(dir, "zz-small.img")
	require.NoError(t, drives.MakeImage(file, 14*slab.Slab))
	f, err := os.OpenFile(file, os.O_RDWR, 0)
	require.NoError(t, err)
	m, err := medium.Of(f)
	require.NoError(t, err)
	d, err := slab.Format(m, 14*slab.Slab, slab.Options{Label: "SMALL"})
	require.NoError(t, err)
	for i, n := range []int{2, 2, 2, 2, 4} {
		if i == 4 {
			require.NoError(t, errors.Join(d.Remove("VSP-00000"), d.Remove("VSP-00002")))
		}
		_, err = d.Add(t.Context(), slab.New{ID: fmt.Sprintf("VSP-0000%d", i), Name: fmt.Sprint("Title ", i),
			Kind: "full"},
			int64(n)*slab.Slab-5000, rand.New(rand.NewSource(int64(i))), false, nil)
		require.NoError(t, err)
	}
	require.NoError(t, m.Close())
	pump(a, a.state.FindDrives())
	press(a, "left", "enter")
	assert.Contains(t, text(a), "zz-small.img, SMALL")
	assert.Contains(t, text(a), "2 pieces")

	press(a, "c")
	assert.Contains(t, text(a), "Nothing is wrong.")
	press(a, "esc", "V")
	assert.Contains(t, text(a), "Nothing is wrong.")
	assert.NotContains(t, text(a), "reads every byte")
	press(a, "esc", "W")
	assert.Contains(t, text(a), "Bring every title and the free space into one piece?")
	press(a, "enter")
	assert.Contains(t, text(a), "moved.")
	assert.NotContains(t, text(a), "2 pieces")
	press(a, "W", "enter")
	assert.Contains(t, text(a), "in one piece already")
	press(a, "K")
	typeIn(a, "quay-28.img")
	press(a, "enter")
	assert.Contains(t, text(a), "Type quay-28.img to continue")
	typeIn(a, "oxbow")
	press(a, "enter")
	assert.Contains(t, text(a), "That is not the drive's name.")
	press(a, "K")
	larger := filepath.Join(t.TempDir(), "larger.img")
	typeIn(a, larger+" 128MiB")
	press(a, "enter")
	assert.Contains(t, text(a), "larger.img is a copy of the disk")
	assert.Contains(t, text(a), "▸D Drives 7")
	press(a, "K")
	typeIn(a, filepath.Join(filepath.Dir(larger), "tiny.img")+" 12MiB")
	press(a, "enter")
	_, err = os.Stat(filepath.Join(filepath.Dir(larger), "tiny.img"))
	assert.True(t, errors.Is(err, fs.ErrNotExist), "what could not be made whole is not left there")

	// both tables are lost
	f, err = os.OpenFile(file, os.O_RDWR, 0)
	require.NoError(t, err)
	for _, at := range []int64{slab.Slab, 2 * slab.Slab} {
		_, err = f.WriteAt(make([]byte, 600), at)
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	press(a, "c")
	s := text(a)
	assert.Contains(t, s, "Repairing would")
	assert.Contains(t, s, "keep VSP-00001 Title 1")
	press(a, "W", "enter")
	assert.Contains(t, text(a), "Repaired.")
	press(a, "esc", "esc", "enter")
	assert.Contains(t, text(a), "3 titles, 0 small files")
}

// assertSame compares two files.
func assertSame(t testing.TB, a, b string) {
	t.Helper()
	x, err := os.ReadFile(a)
	require.NoError(t, err)
	y, err := os.ReadFile(b)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(x, y), "%s and %s differ", a, b)
}

// TestADiskInTheConsole is changed over the network, title by title, and becomes a target.
func TestADiskInTheConsole(t *testing.T) {
	m := volumetest.NewFile(t, 16*slab.Slab)
	d, err := slab.Format(m, 16*slab.Slab, slab.Options{Label: "VESPER"})
	require.NoError(t, err)
	for i := range 3 {
		_, err = d.Add(t.Context(), slab.New{ID: fmt.Sprintf("VSP-0000%d", i), Name: fmt.Sprint("Title ", i),
			Kind: "full"},
			100_000, rand.New(rand.NewSource(int64(i))), false, nil)
		require.NoError(t, err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- (&sim.Workshop{Disk: m}).Serve(ctx, l) }()
	t.Cleanup(func() { cancel(); require.NoError(t, <-ended) })
	at := "nbd://" + l.Addr().String() + "/" + sim.VesperExport

	a, _ := drivesApp(t)
	press(a, "a")
	typeIn(a, at)
	press(a, "enter")
	assert.Contains(t, text(a), "VESPER, slab disk")
	assert.Contains(t, text(a), "the network, removable")
	press(a, "enter", "e", "ctrl+u")
	typeIn(a, "Another Name")
	press(a, "enter", "tab", "right", "W", "enter", "esc", "down", "delete")
	typeIn(a, "yes")
	press(a, "enter", "down")
	out := t.TempDir()
	press(a, "o", "ctrl+u")
	typeIn(a, out)
	press(a, "enter")
	assert.Contains(t, text(a), "1 title was written to "+out)
	on, err := sim.ListSlab(m, m.Size())
	require.NoError(t, err)
	require.Len(t, on.Games, 2)
	assert.Equal(t, "Another Name", on.Games[0].Name)
	assert.Equal(t, "timing=b\n", on.Games[0].Settings)
	assert.Equal(t, "Title 2", on.Games[1].Name)
	press(a, "esc", "p", "ctrl+u")
	typeIn(a, "rowan")
	press(a, "enter", "2", "end")
	assert.Contains(t, text(a), "VESPER")
	assert.Contains(t, text(a), "slab 52.00 M")

	// one that is away is shown with the reason, and the others stay
	press(a, "D", "a")
	typeIn(a, "nbd://127.0.0.1:1/disk")
	press(a, "enter")
	assert.Contains(t, text(a), "not reached")
	assert.Contains(t, text(a), "127.0.0.1")
	press(a, "left")
	assert.Contains(t, text(a), "VESPER, slab disk")
}
