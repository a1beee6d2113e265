package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// TestSavesAreKeptAndPutBack from a folder, a bench, and another stick, with what was there kept first.
func TestSavesAreKeptAndPutBack(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	vault := filepath.Join(dir, "vault")
	run := func(args ...string) string {
		return ok(t, append([]string{"saves"}, append(args, "--vault", vault)...)...)
	}
	card := strings.Repeat("a", 6<<20)
	coretest.Write(t, dir, "stick/ROWAN/cards/VSP-20417.crd", []byte(card))
	coretest.Write(t, dir, "stick/ROWAN/cards/shared-1.crd", []byte(strings.Repeat("b", 6<<20)))
	coretest.Write(t, dir, "stick/oxbow/play/finch/Reed Runner.hold", []byte("reed"))
	coretest.Write(t, dir, "other/readme.txt", nil)
	coretest.Write(t, dir, "season.toml",
		[]byte("format = 1\nname = 'season'\n[[target]]\nname = 'Stick'\nat = 'stick'\n"+
			"loader = 'rowan'\nas = 'fat32'\ncapacity = '1GiB'\n[[target]]\nname = 'Gone'\n"+
			"at = 'nowhere'\nloader = 'rowan'\n"))
	stick, other := filepath.Join(dir, "stick"), filepath.Join(dir, "other")

	assert.Contains(t, run("list"), "No saves are kept yet.")
	out := run("list", stick)
	assert.Contains(t, out, "VSP-20417")
	assert.Contains(t, out, "not kept")
	assert.Contains(t, out, "shared")
	assert.Contains(t, out, "Reed Runner.hold")
	assert.Contains(t, run("keep", stick), "3 saves, 3 of them new or changed, kept in "+vault)
	assert.Contains(t, run("keep", stick), "3 saves, 0 of them new or changed")
	assert.Contains(t, run("list", stick), "kept ")
	status, out, errs := polytome(t, "saves", "list", "--bench", filepath.Join(dir, "season.toml"), "--vault", vault)
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, out, "Stick", "the other target is read all the same")
	assert.NotContains(t, out, "Reed Runner", "that is no save of this loader")
	assert.Contains(t, errs, "Gone: ")

	coretest.Write(t, dir, "stick/ROWAN/cards/VSP-20417.crd", []byte(strings.Repeat("c", 6<<20)))
	assert.Contains(t, run("list", stick), "changed since")
	out = run("restore", "1", stick)
	assert.Contains(t, out, "1 file of number 1 written.\nWhat was there is kept as number 4.")
	got, err := os.ReadFile(filepath.Join(stick, "ROWAN/cards/VSP-20417.crd"))
	require.NoError(t, err)
	assert.True(t, card == string(got))
	out = run("copy", "vsp-20417", stick, other)
	assert.Contains(t, out, "1 file of number ")
	judge.Run(t, "cmp", filepath.Join(stick, "ROWAN/cards/VSP-20417.crd"), filepath.Join(other,
		"ROWAN/cards/VSP-20417.crd"))
	run("restore", "2", other, "--as", "ROWAN/cards/shared-7.crd")
	judge.Run(t, "cmp", filepath.Join(stick, "ROWAN/cards/shared-1.crd"), filepath.Join(other,
		"ROWAN/cards/shared-7.crd"))
	run("export", "3", "-o", other)
	judge.Run(t, "cmp", filepath.Join(stick, "oxbow/play/finch/Reed Runner.hold"), filepath.Join(other,
		"Reed Runner.hold"))
	var all []map[string]any
	require.NoError(t, json.Unmarshal([]byte(run("list", "--json")), &all))
	assert.GreaterOrEqual(t, len(all), 4)

	for say, args := range map[string][]string{
		"no save number 77 was kept":       {"restore", "77", stick},
		`"x" is no number of a kept save`:  {"restore", "x", stick},
		"name a target, or a bench":        {"keep"},
		"there is no save of nobody":       {"copy", "nobody", stick, other},
		"say into which folder":            {"export", "1"},
		"say to which target of the bench": {"restore", "1", "--bench", filepath.Join(dir, "season.toml")},
	} {
		status, _, errs := polytome(t, append([]string{"saves"}, append(args, "--vault", vault)...)...)
		assert.NotEqual(t, statusDone, status)
		assert.Contains(t, errs, say)
	}
}

// TestSavesSurvivePreparing: they are kept before the drive is made new, and can be put back on it.
func TestSavesSurvivePreparing(t *testing.T) {
	ownFolders(t)
	t.Setenv("XDG_DATA_HOME", t.TempDir())
	dir := t.TempDir()
	image := filepath.Join(dir, "stick.img")
	ok(t, "drives", "prepare", image, "--size", "300MiB", "--loader", "rowan")
	card := filepath.Join(dir, "card")
	require.NoError(t, os.WriteFile(card, []byte(strings.Repeat("z", 6<<20)), 0o600))
	at := image + "@@4M"
	judge.Run(t, "mmd", "-i", at, "::ROWAN")
	judge.Run(t, "mmd", "-i", at, "::ROWAN/cards")
	judge.Run(t, "mcopy", "-i", at, card, "::ROWAN/cards/VSP-20417.crd")
	out := ok(t, "drives", "prepare", image, "--loader", "rowan", "--erase", "stick.img")
	assert.Contains(t, out, "Kept first: ROWAN/cards/VSP-20417.crd")
	assert.Contains(t, out, "1. keep 1 save in "+os.Getenv("XDG_DATA_HOME"))
	assert.Contains(t, ok(t, "saves", "list", image), "No saves were found.")
	assert.Contains(t, ok(t, "saves", "restore", "1", image), "1 file of number 1 written.")
	judge.Run(t, "mcopy", "-i", at, "::ROWAN/cards/VSP-20417.crd", filepath.Join(dir, "back"))
	judge.Run(t, "cmp", card, filepath.Join(dir, "back"))
	judge.Run(t, "fsck.fat", "-n", "--", imagePart(t, image, dir))

	// where they cannot be kept, nothing is written
	t.Setenv("XDG_DATA_HOME", filepath.Join(card, "no-folder"))
	before := judge.Run(t, "sha1sum", image)
	status, _, errs := polytome(t, "drives", "prepare", image, "--loader", "rowan", "--erase", "stick.img")
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, errs, "nothing was written, as the saves on it could not be kept")
	assert.Equal(t, before, judge.Run(t, "sha1sum", image))
}

// imagePart is the partition of an image as a file of its own.
func imagePart(t *testing.T, image, dir string) string {
	t.Helper()
	part := filepath.Join(dir, "part.img")
	judge.Run(t, "dd", "if="+image, "of="+part, "bs=1M", "skip=4", "status=none")
	return part
}

// TestSavesAreKeptBeforeARunRemoves something, and nothing goes where they cannot be kept.
func TestSavesAreKeptBeforeARunRemoves(t *testing.T) {
	ownFolders(t)
	t.Setenv("XDG_DATA_HOME", t.TempDir())
	dir := t.TempDir()
	coretest.Write(t, dir, "games/a.iso", coretest.Image(t, coretest.Inf("VSP-20001", "Mosswick", "1/1", "full")))
	coretest.Write(t, dir, "games/b.iso", coretest.Image(t, coretest.Inf("VSP-20002", "Another", "1/1", "full")))
	coretest.Write(t, dir, "stick/ROWAN/rowan.cfg", []byte("look=stick\n"))
	coretest.Write(t, dir, "stick/ROWAN/rowan.run", []byte("x"))
	bench := func(titles string) string {
		coretest.Write(t, dir, "season.toml",
			[]byte("format = 1\nname = 'season'\n[[source]]\npath = 'games'\n[[target]]\n"+
				"name = 'Stick'\nat = 'stick'\nas = 'fat32'\ncapacity = '1GiB'\nloader = 'rowan'\ndelete-others = true\n"+
				"everything = false\ntitles = ["+titles+"]\n"))
		return filepath.Join(dir, "season.toml")
	}
	ok(t, "fill", "--bench", bench("'VSP-20001', 'VSP-20002'"))
	card := filepath.Join(dir, "stick", "ROWAN", "cards", "VSP-20001.crd")
	coretest.Write(t, dir, "stick/ROWAN/cards/VSP-20001.crd", []byte(strings.Repeat("s", 6<<20)))
	game := filepath.Join(dir, "stick", "FULL", "VSP-20001 - Mosswick.iso")

	t.Setenv("XDG_DATA_HOME", filepath.Join(game, "no-folder")) // where nothing can be kept
	status, out, errs := polytome(t, "fill", "--bench", bench("'VSP-20002'"), "--remove")
	assert.NotEqual(t, statusDone, status)
	assert.Contains(t, out+errs, "the saves on it cannot be kept")
	assert.FileExists(t, game, "nothing was removed")

	t.Setenv("XDG_DATA_HOME", t.TempDir())
	out = ok(t, "fill", "--bench", bench("'VSP-20002'"), "--remove")
	assert.Contains(t, out, "1 save on it is kept first, in "+os.Getenv("XDG_DATA_HOME"))
	assert.NoFileExists(t, game)
	assert.FileExists(t, card, "what belongs to the player stays")
	assert.Contains(t, ok(t, "saves", "list"), "VSP-20001")
	require.NoError(t, os.Remove(card))
	ok(t, "saves", "restore", "1", filepath.Join(dir, "stick"))
	got, err := os.ReadFile(card)
	require.NoError(t, err)
	assert.True(t, strings.Repeat("s", 6<<20) == string(got))
}

func TestATitleIsLinkedWithACard(t *testing.T) {
	ownFolders(t)
	vault := filepath.Join(t.TempDir(), "elsewhere")
	ok(t, "config", "saves", vault)
	games, stick := t.TempDir(), t.TempDir()
	coretest.Write(t, games, "a.iso", coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "1/1", "full")))
	coretest.Write(t, games, "b.iso", coretest.Image(t, coretest.Inf("VSP-21002", "Saffron Circuit", "1/1", "short")))
	coretest.Write(t, stick, "ROWAN/rowan.cfg", []byte("look=stick\nfaces=yes\n"))
	coretest.Write(t, stick, "ROWAN/rowan.run", []byte("run"))
	file := filepath.Join(t.TempDir(), "b.toml")
	b := bench.New(file)
	b.Sources = []bench.Source{{Path: games}}
	b.Targets = []bench.Target{{Name: "Stick", At: stick, Loader: "rowan", As: "fat32", Everything: true}}
	require.NoError(t, b.Save())
	ok(t, "fill", "--bench", file)
	link := func(args ...string) (string, int) {
		code, out, errs := polytome(t, append([]string{"saves", "link", "--bench", file, "--target", "Stick"},
			args...)...)
		return out + errs, code
	}
	out, code := link("VSP-21002", "shared-2", "--json")
	assert.Zero(t, code)
	say := "Saffron Circuit uses the card shared-2, which the loader makes at the next start: nothing was reached yet."
	assert.JSONEq(t, `{"target": "Stick", "title": "VSP-21002", "card": "shared-2", "say": "`+say+`"}`, out)
	b.Targets[0].Rules = map[string]string{"save.2.made-by": ""} // where nobody makes one
	require.NoError(t, b.Save())
	out, code = link("VSP-20417", "shared-1")
	assert.NotZero(t, code)
	assert.Contains(t, out,
		"there is no card ROWAN/cards/shared-1.crd, and Copper Tide has none of its own yet to begin it "+
			"with: play it once")
	card := append([]byte("Copper Tide: far"), make([]byte, 6<<20-16)...)
	coretest.Write(t, stick, "ROWAN/cards/VSP-20417.crd", card)
	out, code = link("copper tide", "shared-1")
	require.Zero(t, code, out)
	assert.Contains(t, out, "Copper Tide uses the card shared-1, which was made")
	out, code = link("VSP-21002", "shared-1")
	require.Zero(t, code, out)
	assert.Equal(t, "Saffron Circuit uses the card shared-1.\n", out)
	for _, id := range []string{"VSP-20417", "VSP-21002"} {
		text, err := os.ReadFile(filepath.Join(stick, "TUNE", id+".tune"))
		require.NoError(t, err)
		assert.Equal(t, "timing=a\ntray=shut\ncard=shared-1\n", string(text))
	}
	made, err := os.ReadFile(filepath.Join(stick, "ROWAN/cards/shared-1.crd"))
	require.NoError(t, err)
	assert.Equal(t, card, made)
	assert.Contains(t, ok(t, "fill", "--bench", file), "nothing to write", "the settings of the player stay")

	out, code = link("VSP-21002", "--own")
	require.Zero(t, code, out)
	text, err := os.ReadFile(filepath.Join(stick, "TUNE/VSP-21002.tune"))
	require.NoError(t, err)
	assert.Equal(t, "timing=a\ntray=shut\n", string(text))
	for _, wrong := range [][]string{{"VSP-20417"}, {"VSP-20417", "x", "--own"}, {"nobody", "shared-1"},
		{"VSP-20417", "mine"}} {
		out, code = link(wrong...)
		assert.NotZero(t, code, "%v: %s", wrong, out)
	}
	assert.Contains(t, out, `"mine" is no name for such a card: they are ROWAN/cards/shared-*.crd`)

	ok(t, "saves", "keep", "--bench", file)
	assert.FileExists(t, filepath.Join(vault, "list.toml"))
	assert.Contains(t, ok(t, "config", "saves"), vault)
	ok(t, "config", "keep-saves", "yes")
	assert.Contains(t, ok(t, "config", "keep-saves"), "yes")
}
