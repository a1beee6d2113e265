package ui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/fix"
)

// atPocket shows the check of the Hall pocket, which someone filled by hand.
func atPocket(t *testing.T) (*app, string) {
	a, w := demoApp(t, Options{CacheFile: filepath.Join(t.TempDir(), "seen.sqlite")})
	a.state.Bench.Targets = []bench.Target{{Name: "Hall pocket", At: w.Pocket(), Loader: "bellows",
		Also: []string{"mica"}, Via: "usb", As: "fat32", Capacity: 28 << 30}}
	a.state.Bench.Identify()
	a.state.Targets[0].ID = a.state.Bench.Targets[0].ID()
	pump(a, a.state.Survey())
	press(a, "5")
	return a, w.Pocket()
}

func TestATargetFilledByHandIsFixedWithKeys(t *testing.T) {
	a, dir := atPocket(t)
	s := flat(a)
	assert.Contains(t, s, "Bellows and Mica: lists 5, starts 1")
	assert.Contains(t, s, "Hall pocket: 9 findings")
	assert.Contains(t, s, "won't start")
	assert.Contains(t, s, "m fixes")
	assert.Contains(t, s, "by hand")
	assert.Contains(t, s, "then, at the Pipit Mini")
	assert.Contains(t, s, "bellows/start.bin missing: the add-on itself", "the first finding is explained")
	assert.Contains(t, s, "m: the next run will rename it to bellows/start.bin")

	press(a, "m")
	assert.Contains(t, flat(a), "1 change marked: 3 shows them in the tree, and the next run (4) makes them.")
	assert.Contains(t, flat(a), "9 findings, 1 marked to be fixed")
	assert.Equal(t, fix.Rename, a.state.Bench.Targets[0].Fixes[0].Do)
	press(a, "u")
	assert.Empty(t, a.state.Bench.Targets[0].Fixes, "u undoes")
	press(a, "5", "M")
	assert.Contains(t, flat(a), "2 changes marked", "both parts of the kits")
	press(a, "/")
	typeIn(a, "half")
	press(a, "enter")
	assert.Contains(t, flat(a), "3 shown")
	press(a, "M")
	assert.Contains(t, flat(a), "4 marked to be fixed")
	press(a, "esc", "3")
	assert.Contains(t, flat(a), "Punt Race.bin", "the tree shows what will be")
	press(a, "4", "W", "enter")
	assert.FileExists(t, filepath.Join(dir, "bellows", "start.bin"))
	assert.FileExists(t, filepath.Join(dir, "Titles", "Punt Race", "Punt Race.bin"))
	assert.FileExists(t, filepath.Join(dir, "Titles", "Tollhouse Tales", "Tollhouse Tales.m3u"))
	assert.Empty(t, a.state.Bench.Targets[0].Fixes, "what is done is no mark any more")
	press(a, "5")
	s = flat(a)
	assert.Contains(t, s, "lists 5, starts 3")
	assert.Contains(t, s, "c: 4 fixed, 2 more listed")
	press(a, "c")
	s = flat(a)
	assert.Contains(t, s, "since the check of")
	assert.Contains(t, s, "now listed and starting (2)")
	assert.Contains(t, s, "fixed (4)")
	press(a, "c")
	assert.Contains(t, flat(a), "5 findings")
}

func TestWhatCannotBeFixedIsSaid(t *testing.T) {
	a, _ := atPocket(t)
	press(a, "/")
	typeIn(a, "Ebb")
	press(a, "enter", "m")
	assert.Contains(t, flat(a), "This cannot be fixed from here")
	press(a, "tab", "tab")
	assert.Contains(t, flat(a), "Bellows and Mica: lists 5", "the list")
	press(a, "enter")
	assert.Contains(t, flat(a), "Ebb Choir.bin", "enter goes to what is wrong with the line")
}

func TestTheChecklistIsTickedAndWritten(t *testing.T) {
	a, _ := atPocket(t)
	press(a, "tab", "space")
	assert.Contains(t, flat(a), "[✓] Plug the stick into the Pipit Mini")
	assert.Contains(t, flat(a), "1 of 3 done")
	assert.Len(t, a.state.Bench.Targets[0].Ticked, 1)
	file := filepath.Join(t.TempDir(), "list.txt")
	press(a, "e")
	answer(a, file)
	assert.Contains(t, flat(a), "The checklist is in "+file)
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(b), "[x] 1. Plug the stick into the Pipit Mini before you switch it on.\n[ ] 2. ")
	press(a, "e")
	answer(a, file)
	assert.Contains(t, flat(a), "exists", "nothing is written over")
}

func TestCoversAreShownAsTheConsoleShowsThem(t *testing.T) {
	a, _ := demoApp(t, Options{})
	p := &a.state.Bench.Targets[0]
	// few, as all of them are read at the end
	p.Everything, p.Titles = false, bench.Keys{"VSP-20417", "VSP-21602", "VSP-21640"}
	pump(a, a.state.Survey())
	press(a, "4", "W", "enter", "5", "tab", "tab")
	for range 20 {
		if strings.Contains(flat(a), "Copper Tide will be listed") {
			break
		}
		press(a, "down")
	}
	s := text(a)
	assert.Contains(t, s, "as the console shows it")
	assert.Contains(t, s, "▀▀▀", "the cover is drawn")
	for range 4 {
		press(a, "down")
	}
	assert.Contains(t, text(a), "no cover")
	press(a, "F")
	assert.Contains(t, flat(a), "every byte was read")
}

func TestCheckInSmallWindowsAndWithoutColours(t *testing.T) {
	a, _ := atPocket(t)
	for _, size := range [][2]int{{80, 24}, {60, 16}, {240, 70}} {
		a.w, a.h = size[0], size[1]
		for range 3 {
			press(a, "tab")
			for _, l := range strings.Split(text(a), "\n") {
				assert.LessOrEqual(t, len([]rune(l)), size[0])
			}
		}
		assert.Contains(t, text(a), "fault")
	}
}
