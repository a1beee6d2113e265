package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/dock"
	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// TestSticksThatAreAlikeAreFilledWhereverTheyArePluggedIn: a set of three, mounted as the system likes, is filled with
// one choice; no other stick is taken for one of them; the ledger knows which are up to date; the dock fills them, too.
func TestSticksThatAreAlikeAreFilledWhereverTheyArePluggedIn(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	games := filepath.Join(dir, "games")
	coretest.Write(t, games, "Ropewalk.w8", demo.Cartridge("WREN", "Ropewalk"))
	port := func(name string) string { return filepath.Join(dir, "media", name) }
	file := filepath.Join(dir, "season.toml")
	season := bench.New(file)
	season.Sources = []bench.Source{{Path: games}}
	season.Targets = []bench.Target{{Name: "Hall 1", At: port("HALL"), Loader: "oxbow", Everything: true,
		WhenConnected: bench.Fill}}
	require.NoError(t, season.Save())
	one, two, three := judge.NewStick(t, 40, "OXBOW", "11110001"), judge.NewStick(t, 40, "OXBOW", "11110002"),
		judge.NewStick(t, 40, "OXBOW", "11110003")
	stranger := judge.NewStick(t, 40, "OXBOW", "99990009")

	one.Plug(port("HALL"))
	ok(t, "plan", "--bench", file)
	two.Plug(port("HALL1"))
	said := ok(t, "sets", "add", "--bench", file, "--target", "Hall 1", port("HALL1"))
	assert.Contains(t, said, "Hall 2 is like Hall 1")
	for _, again := range []string{port("HALL"), port("HALL1")} {
		code, _, errs := polytome(t, "sets", "add", "--bench", file, "--target", "Hall 1", again)
		assert.Equal(t, 1, code)
		assert.Contains(t, errs, "already")
	}
	code, _, errs := polytome(t, "sets", "add", "--bench", file, "--target", "Hall 1", games)
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "is not a volume that is plugged in")
	one.Pull()
	three.Plug(port("HALL")) // in the port of the first
	assert.Contains(
		t,
		ok(t, "sets", "add", "--bench", file, "--target", "Hall 1", port("HALL")),
		"Hall 3 is like Hall 1",
	)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(text), "stick = '11110001'")
	assert.Contains(t, string(text), "name = 'Hall 3'\nat = '"+port("HALL")+"'\nlike = 'Hall 1'\nstick = '11110003'\n")

	out := ok(t, "fill", "--bench", file, "--target", "Hall 2", "--alike") // whichever is plugged in
	for _, at := range []string{port("HALL"), port("HALL1")} {
		assert.FileExists(t, filepath.Join(at, "oxbow/play/wren8/Ropewalk.w8"), out)
	}
	members := func() (all []member) {
		code, out, errs := polytome(t, "sets", "--bench", file, "--json")
		assert.Contains(t, []int{0, 3}, code, errs)
		require.NoError(t, json.Unmarshal([]byte(out), &all))
		return all
	}
	stands := func(all []member) (words []string) {
		for _, m := range all {
			words = append(words, m.Target+" "+m.State)
		}
		return words
	}
	assert.Equal(t, []string{"Hall 1 behind", "Hall 2 up to date", "Hall 3 up to date"}, stands(members()))

	two.Pull()
	three.Pull()
	stranger.Plug(port("HALL"))
	code, _, errs = polytome(t, "fill", "--bench", file, "--target", "Hall 3")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "its stick (11110003) is not plugged in")
	assert.NoDirExists(t, filepath.Join(port("HALL"), "oxbow"))
	stranger.Pull()

	coretest.Write(t, games, "Tide Mill.w8", demo.Cartridge("WREN", "Tide Mill"))
	all := members() // none of them is connected
	assert.Equal(t, []string{"Hall 1 behind", "Hall 2 behind", "Hall 3 behind"}, stands(all))
	assert.Equal(t, [][]string{{"Ropewalk", "Tide Mill"}, {"Tide Mill"}, {"Tide Mill"}},
		[][]string{all[0].Missing, all[1].Missing, all[2].Missing})

	d := startDock(t, "--bench", file, "--no-eject")
	d.until("Hall 1", dock.Waiting)
	stranger.Plug(port("HALL2"))
	three.Plug(port("HALL7"))
	assert.Contains(t, d.until("Hall 3", dock.Done), "1 file written")
	one.Plug(port("HALL"))
	assert.Contains(t, d.until("Hall 1", dock.Done), "2 files written")
	d.stop()
	assert.FileExists(t, filepath.Join(port("HALL7"), "oxbow/play/wren8/Tide Mill.w8"))
	assert.NoDirExists(t, filepath.Join(port("HALL2"), "oxbow"))
	assert.Contains(t, ok(t, "ledger", "show", "Hall 3"), "last at "+port("HALL7")+",")
	said, _ = func() (string, string) {
		code, out, errs := polytome(t, "sets", "--bench", file)
		assert.Equal(t, 3, code)
		return out, errs
	}()
	assert.Contains(t, said, "Hall 1 and those like it: 2 of 3 up to date")
	assert.Contains(t, said, "Hall 2: behind; 1 title missing, such as Tide Mill")
}

// TestADriveIsPreparedAsOneMoreOfASet, takes part in it, and when it is prepared again, what was on it is forgotten.
func TestADriveIsPreparedAsOneMoreOfASet(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	coretest.Write(t, dir, "games/Ropewalk.w8", demo.Cartridge("WREN", "Ropewalk"))
	file, one, two := filepath.Join(dir, "season.toml"), filepath.Join(dir, "one.img"), filepath.Join(dir, "two.img")
	ok(t, "drives", "prepare", one, "--size", "64MiB", "--loader", "oxbow")
	coretest.Write(
		t,
		dir,
		"season.toml",
		[]byte("format = 1\n[[source]]\npath = 'games'\n[[target]]\nname = 'Hall 1'\n"+
			"at = 'drive:one.img'\nloader = 'oxbow'\neverything = true\n"),
	)
	out := ok(t, "drives", "prepare", two, "--size", "64MiB", "--bench", file, "--alike", "Hall 1")
	assert.Contains(t, out, "Hall 2 is like Hall 1: drive:"+two)
	ok(t, "fill", "--bench", file, "--target", "Hall 1", "--alike")
	said := ok(t, "sets", "--bench", file)
	assert.Contains(t, said, "Hall 1 and those like it: 2 of 2 up to date")
	assert.Contains(t, ok(t, "where", "ropewalk"), "Hall 2")

	ok(t, "drives", "prepare", two, "--loader", "oxbow", "--erase", "two.img", "--bench", file, "--alike", "Hall 1")
	assert.NotContains(t, ok(t, "where", "ropewalk"), "Hall 2", "it was formatted")
	code, said, _ := polytome(t, "sets", "--bench", file)
	assert.Equal(t, 3, code)
	assert.Contains(t, said, "Hall 1 and those like it: 1 of 2 up to date")
	assert.Contains(t, said, "Hall 2: behind; 1 title missing, such as Ropewalk")
	for _, wrong := range [][]string{{"--alike", "Hall 1"}, {"--bench", file}, {"--bench", file, "--alike", "Hall 7"}} {
		code, _, errs := polytome(t, append([]string{"drives", "prepare", two, "--dry-run"}, wrong...)...)
		assert.Equal(t, 2, code, errs)
	}
}

// TestARunIsResumedOnItsStick when that is mounted elsewhere by then, and not on the one in its place.
func TestARunIsResumedOnItsStick(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	port := func(name string) string { return filepath.Join(dir, "media", name) }
	coretest.Write(t, dir, "games/Long Haul.w8", append(demo.Cartridge("WREN", "Long Haul"), make([]byte, 12<<20)...))
	file := filepath.Join(dir, "season.toml")
	coretest.Write(t, dir, "season.toml", []byte("format = 1\n[[source]]\npath = 'games'\n[[target]]\n"+
		"name = 'Hall 1'\nat = '"+port("HALL")+"'\nstick = '11110001'\nloader = 'oxbow'\neverything = true\n"+
		"rate = '2MiB'\n"))
	stick, other := judge.NewStick(t, 64, "OXBOW", "11110001"), judge.NewStick(t, 64, "OXBOW", "11110002")
	stick.Plug(port("HALL"))
	cmd := exec.Command(binary, "fill", "--bench", file)
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		begun, _ := filepath.Glob(filepath.Join(port("HALL"), "oxbow/play/wren8/*.begun"))
		return len(begun) > 0
	}, time.Minute, 10*time.Millisecond)
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	stick.Pull()
	other.Plug(port("HALL"))
	code, out, errs := polytome(t, "runs", "resume")
	assert.NotZero(t, code)
	assert.Contains(t, out+errs, "its stick (11110001) is not plugged in")
	stick.Plug(port("HALL5"))
	ok(t, "runs", "resume")
	assert.FileExists(t, filepath.Join(port("HALL5"), "oxbow/play/wren8/Long Haul.w8"))
	assert.NoDirExists(t, filepath.Join(port("HALL"), "oxbow"))
}

// TestSavesOfAStickAreKeptOnce, wherever it is mounted.
func TestSavesOfAStickAreKeptOnce(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	port := func(name string) string { return filepath.Join(dir, "media", name) }
	coretest.Write(t, dir, "games/Ropewalk.w8", demo.Cartridge("WREN", "Ropewalk"))
	file := filepath.Join(dir, "season.toml")
	coretest.Write(t, dir, "season.toml", []byte("format = 1\n[[source]]\npath = 'games'\n[[target]]\n"+
		"name = 'Hall 1'\nat = '"+port("HALL")+"'\nstick = '11110001'\nloader = 'oxbow'\neverything = true\n"))
	stick := judge.NewStick(t, 40, "OXBOW", "11110001")
	stick.Plug(port("HALL"))
	coretest.Write(t, port("HALL"), "oxbow/play/wren8/Ropewalk.w8", demo.Cartridge("WREN", "Ropewalk"))
	coretest.Write(t, port("HALL"), "oxbow/play/wren8/Ropewalk.hold", make([]byte, 8192))
	ok(t, "saves", "keep", "--bench", file)
	stick.Pull()
	stick.Plug(port("HALL4"))
	out := ok(t, "saves", "list", "--bench", file)
	assert.Contains(t, out, "Ropewalk.hold")
	assert.Contains(t, out, " kept ")
	assert.NotContains(t, out, "not kept")
}
