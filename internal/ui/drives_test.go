package ui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/drives"
	"polytome/internal/testkit/judge"
)

// bare is a computer without devices: only image files are drives.
func bare(t testing.TB) drives.System {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "sys/block"), 0o755))
	return drives.System{Sys: filepath.Join(dir, "sys"), Proc: filepath.Join(dir, "proc"), Dev: filepath.Join(dir,
		"dev"), Udev: filepath.Join(dir, "udev")}
}

// drivesApp is the program on the demo, with its drives shown.
func drivesApp(t testing.TB) (*app, string) {
	a, w := demoApp(t, Options{})
	a.state.System = bare(t)
	press(a, "D")
	return a, filepath.Join(w.Dir, "drives")
}

// typeIn writes into a question.
func typeIn(a *app, s string) { a.Update(tea.PasteMsg{Content: s}) }

func TestDrivesAreShown(t *testing.T) {
	a, _ := drivesApp(t)
	s := text(a)
	for _, want := range []string{"▸D Drives 5", "north-58.img", "58.00 GiB", "6 titles for Rowan, 19.71 GiB",
		"It may be filled and prepared", "unformatted", "an image file"} {
		assert.Contains(t, s, want)
	}
	press(a, "right")
	s = text(a)
	assert.Contains(t, s, "OXBOW (exFAT, 116.00 GiB) was not ejected cleanly")
	assert.NotContains(t, s, "It is built into")
	s = strings.Split(text(a), "OXBOW, exFAT")[1]
	assert.Contains(t, s, "titles for Oxbow")
	press(a, "right", "right")
	assert.Contains(t, text(a), "It is blank: there is no readable volume on it.  → W prepares it for a loader.")
	press(a, "enter")
	assert.Contains(t, text(a), "There is no volume on it: W prepares it.")
	press(a, "right", "right")
	assert.Contains(t, text(a), "NORTH (FAT32", "round and round")
	press(a, "esc")
	assert.Contains(t, text(a), "▸1 Games")
}

func TestDrivesAsRows(t *testing.T) {
	a, _ := drivesApp(t)
	a.Update(tea.WindowSizeMsg{Width: 80, Height: 24})
	assert.Contains(t, text(a), "north-58.img")
	press(a, "down")
	assert.Contains(t, text(a), "OXBOW, exFAT")
	press(a, "/")
	typeIn(a, "holiday")
	press(a, "enter")
	assert.Contains(t, text(a), "3 files, 7.01 MiB")
	a.Update(tea.MouseClickMsg{X: 5, Y: 2, Button: tea.MouseLeft})
	assert.Contains(t, text(a), "NORTH, FAT32")
}

func TestTheBlockMapNamesWhatIsUnderTheCursor(t *testing.T) {
	a, dir := drivesApp(t)
	press(a, "enter")
	s := text(a)
	assert.Contains(t, s, "2 fragmented files")
	press(a, "n")
	s = text(a)
	assert.Contains(t, s, "FULL/VSP-21533 - Gannet Patrol.iso. 3.05 GiB, in 3 fragments")
	for _, want := range []string{"Gannet Patrol  3.05 GiB, fragment 1 of 3", "╭───┬──╮", // pulled out, and joined
		"5.88 GiB    1.02 GiB", "fragment 2 of 3", "6.89 GiB  300.00 MiB", "10 GiB", "Vesper",
		"4 small files and folders"} {
		assert.Contains(t, s, want)
	}
	press(a, "right", "right")
	assert.Contains(t, text(a), "Gannet Patrol  3.05 GiB, fragment 3 of 3")
	press(a, "n")
	assert.Contains(t, text(a), "reel-5.mov  3.89 GiB, fragment 1 of 2")
	press(a, "down", "down", "down")
	assert.Contains(t, text(a), "contiguous, starting at 17.91 GiB")
	press(a, "/")
	typeIn(a, "underbough")
	press(a, "enter")
	assert.Contains(t, text(a), "FULL/VSP-21560 - Underbough.iso. 2.69 GiB")
	a.Update(tea.MouseClickMsg{X: 120, Y: 7, Button: tea.MouseLeft})
	assert.Contains(t, text(a), "Free. 38.27 GiB free in all")
	assert.Contains(t, text(a), "free  37.39 GiB", "what is free is measured, too")
	a.Update(tea.MouseClickMsg{X: 60, Y: 14, Button: tea.MouseLeft})
	assert.Contains(t, text(a), "Mistral Halt  1.90 GiB, contiguous")
	press(a, "n", "W")
	assert.Contains(t, flat(a), "Rewrite FULL/")
	assert.Contains(t, flat(a), "A all 2 files")
	press(a, "enter")
	assert.Contains(t, text(a), "1 file is defragmented.")
	press(a, "W", "enter")
	assert.Contains(t, text(a), "every file is contiguous;")
	press(a, "W")
	assert.Contains(t, text(a), "Every file is contiguous already.")
	press(a, "esc")
	assert.Contains(t, text(a), "▸D Drives 5")
	loop := strings.TrimSpace(judge.Root(t, "losetup", "-f", "--show", "-o", "4194304",
		filepath.Join(dir, "north-58.img")))
	defer judge.Root(t, "losetup", "-d", loop)
	judge.Root(t, "fsck.fat", "-n", loop)
}

func TestAVolumeIsCheckedAndFixed(t *testing.T) {
	a, _ := drivesApp(t)
	press(a, "right", "c")
	s := text(a)
	assert.Contains(t, s, "Problems found, and what repairing would do:")
	assert.Contains(t, s, "The mark is cleared")
	assert.Contains(t, s, "Nothing has been changed")
	press(a, "W")
	assert.Contains(t, text(a), "Repair ")
	press(a, "enter")
	assert.Contains(t, text(a), "The volume is OK")
	press(a, "esc")
	assert.NotContains(t, text(a), "not ejected cleanly")
}

func TestPreparingWantsTheName(t *testing.T) {
	a, dir := drivesApp(t)
	press(a, "left", "left", "W") // the bare one
	assert.Contains(t, text(a), "Prepare quay-28.img for which loader")
	typeIn(a, "nobody")
	press(a, "enter")
	assert.Contains(t, text(a), "nobody")
	assert.NotContains(t, text(a), "Steps")
	press(a, "W")
	typeIn(a, "bellows")
	press(a, "enter")
	s := text(a)
	for _, want := range []string{"now", "then", "PIPIT FAT32 (new)", "the label PIPIT: Bellows needs that label",
		"Nothing has been written yet", "the Bellows add-on"} {
		assert.Contains(t, s, want)
	}
	press(a, "enter")
	typeIn(a, "y")
	press(a, "enter")
	assert.Contains(t, text(a), "That is not the drive's name. Nothing was changed.")
	press(a, "enter")
	typeIn(a, "quay-28.img")
	press(a, "enter")
	assert.Contains(t, text(a), "Check: no problems. The drive is ready.")
	press(a, "esc")
	assert.Contains(t, text(a), "PIPIT, FAT32")
	out := judge.Run(t, "sfdisk", "-d", filepath.Join(dir, "quay-28.img"))
	assert.Contains(t, out, "type=c")

	// with the loader's own files, in an edition
	kit := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(kit, "bellows-west.bin"), []byte("w"), 0o600))
	press(a, "W")
	typeIn(a, "bellows")
	press(a, "enter")
	assert.Contains(t, text(a), "which is empty")
	press(a, "f")
	typeIn(a, "west "+kit)
	press(a, "enter")
	assert.Contains(t, text(a), "copy 1 file of the Bellows add-on")
	press(a, "esc")
	assert.Contains(t, text(a), "▸D Drives")
}

func TestPreparingKeepsTheChoices(t *testing.T) {
	a, _ := drivesApp(t)
	press(a, "p")
	assert.Contains(t, text(a), "Fill it for which loader? rowan")
	press(a, "enter")
	assert.Contains(t, text(a), "NORTH is now a target")
	require.Len(t, a.state.Bench.Targets, 2)
	assert.Equal(t, "drive:drives/north-58.img", a.state.Bench.Targets[1].At)
	b, err := bench.Load(a.state.Bench.File())
	require.NoError(t, err)
	assert.Len(t, b.Targets, 2, "and it is saved")
	a.state.Bench.Targets[1].Titles = bench.Keys{"VSP-20417", "VSP-21002"}
	pump(a, a.state.Survey())
	goes, _ := a.state.Chosen(1)
	assert.Equal(t, 2, goes)
	press(a, "D", "W", "enter")
	require.Contains(t, text(a), "titles for Rowan")
	press(a, "enter")
	typeIn(a, "north-58.img")
	press(a, "enter")
	require.Contains(t, text(a), "north-58.img is ready")
	assert.Contains(t, text(a), "the titles selected for it are kept")
	goes, _ = a.state.Chosen(1)
	assert.Equal(t, 2, goes, "the choices are as they were")
	require.NotNil(t, a.state.Targets[1].Survey)
	assert.Len(t, a.state.Targets[1].Survey.There, 2, "only the folders are there")
	press(a, "esc", "p")
	assert.Contains(t, text(a), "is already a target on it")
	press(a, "u")
	assert.Len(t, a.state.Bench.Targets, 1)
}

func TestWhatMayNotBeTouched(t *testing.T) {
	a, dir := drivesApp(t)
	require.NoError(t, os.MkdirAll(filepath.Join(a.state.System.Proc, "self"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(a.state.System.Proc, "self/mountinfo"),
		[]byte("1 0 0:50 / /media/north rw - fuse.x "+filepath.Join(dir, "north-58.img")+" rw\n"), 0o600))
	pump(a, a.state.FindDrives())
	s := text(a)
	assert.Contains(t, s, "Polytome does not write to it")
	assert.Contains(t, s, "is mounted at /media/north")
	assert.Contains(t, s, "e ejects it")
	press(a, "W")
	assert.Contains(t, text(a), "It cannot be prepared")
	press(a, "enter")
	assert.Contains(t, text(a), "fragmented files")
	press(a, "n", "W")
	assert.Contains(t, text(a), "Nothing is written to it")
	press(a, "esc", "right", "e")
	assert.Contains(t, text(a), "is a file with everything written")
}

func TestImagesAreShownAndMade(t *testing.T) {
	a, dir := drivesApp(t)
	press(a, "a")
	typeIn(a, "drives/none.img")
	press(a, "enter")
	assert.Contains(t, text(a), "There is no image file")
	press(a, "a")
	typeIn(a, "new.img 4GiB")
	press(a, "enter")
	assert.Contains(t, text(a), "▸D Drives 6")
	assert.Contains(t, text(a), "4.00 GiB")
	info, err := os.Stat(filepath.Join(filepath.Dir(dir), "new.img"))
	require.NoError(t, err)
	assert.EqualValues(t, 4<<30, info.Size())
	press(a, "a")
	typeIn(a, "new.img 5GiB")
	press(a, "enter")
	assert.Contains(t, text(a), "file exists")
	require.NoError(t, os.Remove(filepath.Join(filepath.Dir(dir), "new.img")))
	pump(a, a.state.FindDrives())
	assert.Contains(t, text(a), "▸D Drives 5", "one that is gone is no longer shown")
}
