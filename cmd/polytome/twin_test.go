package main

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// TestAStickIsMadeLikeAnother: from a mounted stick into an image, which foreign tools read, and from that to a folder;
// it is fixed, and what would be lost needs a flag.
func TestAStickIsMadeLikeAnother(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	stick := judge.NewStick(t, 40, "GULL", "11110001")
	at := filepath.Join(dir, "media", "GULL")
	stick.Plug(at)
	game := demo.Cartridge("WREN", "Ropewalk")
	coretest.Write(t, at, "oxbow/play/wren8/Ropewalk.w8", game)
	coretest.Write(t, at, "oxbow/play/wren8/Tide Mill.w8", demo.Cartridge("WREN", "Tide Mill"))
	coretest.Write(t, at, "notes.txt", []byte("mine"))
	old := time.Date(2026, 5, 6, 7, 8, 10, 0, time.Local)
	require.NoError(t, os.Chtimes(filepath.Join(at, "notes.txt"), old, old))

	img := filepath.Join(dir, "copy.img")
	ok(t, "drives", "prepare", img, "--size", "48MiB", "--fs", "fat32", "--label", "COPY", "--table", "none")
	assert.Contains(t, ok(t, "twin", at, img, "--dry-run"), "copy oxbow/play/wren8/Ropewalk.w8")
	assert.NotContains(t, judge.Run(t, "fsck.fat", "-n", "-v", img), "Ropewalk")
	out := ok(t, "twin", at, img)
	assert.Contains(t, out, "3 files copied, read back")
	assert.Contains(t, judge.Run(t, "fsck.fat", "-n", img), "files")
	assert.Equal(t, string(game), judge.Run(t, "mtype", "-i", img, "::oxbow/play/wren8/Ropewalk.w8"))
	assert.Contains(t, judge.Run(t, "mdir", "-i", img, "::notes.txt"), "2026-05-06   7:08")
	assert.Contains(t, ok(t, "twin", at, img), "3 files alike, 0 files to write")

	folder := filepath.Join(dir, "folder")
	require.NoError(t, os.Mkdir(folder, 0o755))
	ok(t, "twin", img, folder)
	copied := filepath.Join(folder, "oxbow/play/wren8/Ropewalk.w8")
	is, err := os.ReadFile(copied)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(game, is))

	info, err := os.Stat(copied) // one byte suffers; neither length nor date say so
	require.NoError(t, err)
	is[7] ^= 1
	require.NoError(t, os.WriteFile(copied, is, 0o644))
	require.NoError(t, os.Chtimes(copied, info.ModTime(), info.ModTime()))
	assert.Contains(t, ok(t, "twin", at, folder), "3 files alike, 0 files to write")
	code, out, errs := polytome(t, "twin", at, folder, "--fix")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "replace oxbow/play/wren8/Ropewalk.w8")
	assert.Contains(t, errs, "1 file would be removed or replaced; allow it with --remove")
	ok(t, "twin", at, folder, "--fix", "--remove")
	is, err = os.ReadFile(copied)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(game, is))

	coretest.Write(t, folder, "more/only here.bin", []byte("x"))
	ok(t, "twin", at, folder)
	assert.FileExists(t, filepath.Join(folder, "more/only here.bin"))
	ok(t, "twin", at, folder, "--delete-others", "--remove", "--backup-to", filepath.Join(dir, "kept"))
	assert.NoDirExists(t, filepath.Join(folder, "more"))
	assert.FileExists(t, filepath.Join(dir, "kept/files/more/only here.bin"))

	for _, wrong := range [][]string{{"twin", at, at}, {"twin", dir, folder},
		{"twin", filepath.Join(dir, "nowhere"), folder},
		{"twin", at}, {"twin", at, folder, "--loader", "oxbo"}} {
		code, _, errs := polytome(t, wrong...)
		assert.Equal(t, 2, code, errs)
	}
	code, _, _ = polytome(t, "twin", at, filepath.Join(dir, "nowhere"))
	assert.Equal(t, 1, code)
}

// TestSavesOnATwinStay where the loader is known.
func TestSavesOnATwinStay(t *testing.T) {
	ownFolders(t)
	from, to := t.TempDir(), t.TempDir()
	coretest.Write(t, from, "oxbow/play/wren8/Ropewalk.w8", demo.Cartridge("WREN", "Ropewalk"))
	coretest.Write(t, from, "oxbow/play/wren8/Ropewalk.hold", bytes.Repeat([]byte("a"), 8192))
	coretest.Write(t, from, "oxbow/play/wren8/Tide Mill.w8", demo.Cartridge("WREN", "Tide Mill"))
	coretest.Write(t, to, "oxbow/play/wren8/Ropewalk.w8", demo.Cartridge("WREN", "Ropewalk"))
	coretest.Write(t, to, "oxbow/play/wren8/Ropewalk.hold", bytes.Repeat([]byte("b"), 8192))
	old := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(from, "oxbow/play/wren8/Ropewalk.hold"), old, old))
	out := ok(t, "twin", from, to, "--loader", "oxbow")
	assert.Contains(t, out, "oxbow/play/wren8/Ropewalk.hold stays as it is: it is what players have reached")
	is, err := os.ReadFile(filepath.Join(to, "oxbow/play/wren8/Ropewalk.hold"))
	require.NoError(t, err)
	assert.Equal(t, bytes.Repeat([]byte("b"), 8192), is)
	assert.FileExists(t, filepath.Join(to, "oxbow/play/wren8/Tide Mill.w8"))
}

// TestALostStickIsMadeAgain from what the ledger remembers and the games that are still there.
func TestALostStickIsMadeAgain(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	games, lost, fresh := filepath.Join(dir, "games"), filepath.Join(dir, "lost"), filepath.Join(dir, "fresh")
	coretest.Write(t, games, "Ropewalk.w8", demo.Cartridge("WREN", "Ropewalk"))
	coretest.Write(t, games, "Tide Mill.w8", demo.Cartridge("WREN", "Tide Mill"))
	coretest.Write(t, lost, "oxbow/play/wren8/.keep", nil)
	coretest.Write(t, fresh, "oxbow/play/wren8/.keep", nil)
	file := filepath.Join(dir, "season.toml")
	coretest.Write(
		t,
		dir,
		"season.toml",
		[]byte("format = 1\n[[source]]\npath = 'games'\n[[target]]\nname = 'Hall 3'\nat = 'lost'\n"+
			"loader = 'oxbow'\nas = 'exfat'\ncapacity = '1GiB'\neverything = true\n"),
	)
	ok(t, "fill", "--bench", file)
	require.NoError(t, os.RemoveAll(lost))
	require.NoError(t, os.Remove(filepath.Join(games, "Tide Mill.w8")))
	coretest.Write(t, games, "New.w8", demo.Cartridge("WREN", "New"))

	code, _, errs := polytome(t, "twin", "Hall 3", fresh, "--as", "exfat")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "Hall 3 is not connected: say with --bench where your games are")
	code, out, errs := polytome(t, "twin", "Hall 3", fresh, "--bench", file, "--as", "exfat")
	assert.Equal(t, 3, code, out)
	assert.Contains(t, errs, "not among your games any longer: Tide Mill")
	assert.FileExists(t, filepath.Join(fresh, "oxbow/play/wren8/Ropewalk.w8"))
	assert.NoFileExists(t, filepath.Join(fresh, "oxbow/play/wren8/New.w8"), "it was not on it")
}
