package scan_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/scan"
	"polytome/internal/core/scancache"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
)

// remembering scans with a cache.
func remembering(t testing.TB, cache string, o scan.Options, dirs ...string) scan.Result {
	t.Helper()
	store, err := scancache.Open(cache)
	require.NoError(t, err)
	defer store.Close()
	o.Set, o.Cache = coretest.Set(t), store
	r, err := scan.Scan(context.Background(), dirs, o)
	require.NoError(t, err)
	return r
}

// words are titles in words, without what a first look and a second one tell apart.
func words(r scan.Result) (out []string) {
	for _, t := range r.Titles {
		out = append(out, strings.TrimSpace(fmt.Sprintf("%+v", t)))
	}
	return out
}

func TestASecondScanFindsTheSameWithoutLooking(t *testing.T) {
	w, err := demo.Open(filepath.Join(t.TempDir(), "world"), demo.Seed)
	require.NoError(t, err)
	cache := filepath.Join(t.TempDir(), "seen.sqlite")
	dirs := []string{w.Games, w.Shelf}
	first := remembering(t, cache, scan.Options{}, dirs...)
	assert.Zero(t, first.Reused)
	again := remembering(t, cache, scan.Options{}, dirs...)
	assert.Equal(t, first.Files, again.Files)
	assert.Equal(t, first.Files, again.Reused, "nothing was looked at")
	assert.Equal(t, words(first), words(again))
	assert.Equal(t, first.Passed, again.Passed)

	plain, err := scan.Scan(context.Background(), dirs, scan.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	assert.Equal(t, words(plain), words(again), "as without a cache")
	for i := range again.Titles {
		assert.NotContains(t, again.Titles[i].Discs[0].File.Path, "\x00")
	}
}

func TestWhatHasChangedIsLookedAtAgain(t *testing.T) {
	dir := t.TempDir()
	cache := filepath.Join(t.TempDir(), "seen.sqlite")
	put := func(name string, data []byte) { coretest.Write(t, dir, name, data) }
	put("a.w8", demo.Cartridge("WREN", "Ropewalk"))
	put("b.w8", demo.Cartridge("WREN", "Sluice"))
	put("lost.cue", []byte("FILE \"lost.bin\" BINARY\nTRACK 01 MODE1/2048\nINDEX 01 00:00:00\n"))
	put("deep/SYS/TITLE.JSON", []byte(`{"id": "MRD-0117", "name": "Weir"}`))
	put("deep/DATA/world.dat", []byte("world"))
	names := func(r scan.Result) (out []string) {
		for _, t := range r.Titles {
			s := t.Name
			if !t.OK() {
				s += " (bad)"
			}
			out = append(out, s)
		}
		return out
	}
	r := remembering(t, cache, scan.Options{}, dir)
	assert.Equal(t, []string{"lost (bad)", "Weir", "Ropewalk", "Sluice"}, names(r))

	put("b.w8", demo.Cartridge("WREN", "Sluice Gate"))
	put("lost.bin", coretest.Volume(t, "LAP_04412")) // what was missing comes
	r = remembering(t, cache, scan.Options{}, dir)
	assert.Equal(t, []string{"lost", "Weir", "Ropewalk", "Sluice Gate"}, names(r))
	assert.Equal(t, 3, r.Reused, "a.w8, and the files of the folder that is a game")

	require.NoError(t, os.Remove(filepath.Join(dir, "a.w8")))
	put("deep/DATA/more.dat", []byte("more"))
	r = remembering(t, cache, scan.Options{}, dir)
	assert.Equal(t, []string{"lost", "Weir", "Sluice Gate"}, names(r))
	assert.Len(t, r.Titles[1].Discs[0].Parts, 3, "a file deep in a game's folder was added")

	put("deep/SYS/TITLE.JSON", []byte(`{"id": "MRD-0118", "name": "Long Weir"}`))
	r = remembering(t, cache, scan.Options{}, dir)
	assert.Contains(t, names(r), "Long Weir")
}

func TestAMovedFolderIsKnown(t *testing.T) {
	dir := t.TempDir()
	cache := filepath.Join(t.TempDir(), "seen.sqlite")
	from, to := filepath.Join(dir, "old"), filepath.Join(dir, "elsewhere", "new")
	for i := range 20 {
		coretest.Write(t, from, fmt.Sprintf("%d.w8", i), demo.Cartridge("WREN", fmt.Sprintf("Kite %d", i)))
	}
	remembering(t, cache, scan.Options{}, from)
	require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
	require.NoError(t, os.Rename(from, to))
	r := remembering(t, cache, scan.Options{}, to)
	assert.Equal(t, 20, r.Reused)
	require.Len(t, r.Titles, 20)
	assert.True(t, strings.HasPrefix(r.Titles[0].Source(), to))

	// The same names, lengths and dates, but other content: it is looked at.
	require.NoError(t, os.Rename(to, from))
	remembering(t, cache, scan.Options{}, from)
	for i := range 20 {
		file := filepath.Join(from, fmt.Sprintf("%d.w8", i))
		info, err := os.Stat(file)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, demo.Cartridge("WREN", fmt.Sprintf("Moth %d", i)), 0o644))
		require.NoError(t, os.Chtimes(file, info.ModTime(), info.ModTime()))
	}
	require.NoError(t, os.Rename(from, to))
	r = remembering(t, cache, scan.Options{}, to)
	assert.Zero(t, r.Reused)
	assert.Contains(t, r.Titles[0].Name, "Moth")
}

func TestADamagedCacheIsMadeAgainAndSaidSo(t *testing.T) {
	dir := t.TempDir()
	for i := range 300 {
		coretest.Write(t, dir, fmt.Sprintf("%d/a.w8", i), demo.Cartridge("WREN", fmt.Sprintf("Kite %d", i)))
	}
	for name, spoil := range map[string]func(b []byte) []byte{
		"no database": func([]byte) []byte { return []byte(strings.Repeat("not a database at all ", 1000)) },
		"head":        func(b []byte) []byte { copy(b, make([]byte, 4096)); return b },
		"middle": func(b []byte) []byte {
			for i := 8192; i < len(b)-8192; i++ {
				b[i] ^= 0x5A
			}
			return b
		},
		"cut":   func(b []byte) []byte { return b[:len(b)/3] },
		"empty": func([]byte) []byte { return nil },
	} {
		t.Run(name, func(t *testing.T) {
			cache := filepath.Join(t.TempDir(), "seen.sqlite")
			want := words(remembering(t, cache, scan.Options{}, dir))
			b, err := os.ReadFile(cache)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(cache, spoil(b), 0o644))
			_ = os.Remove(cache + "-wal")
			r := remembering(t, cache, scan.Options{}, dir)
			assert.Equal(t, want, words(r))
			if name != "empty" {
				require.NotEmpty(t, r.Notes)
				assert.Contains(t, r.Notes[0], "was damaged and has been rebuilt")
			}
			r = remembering(t, cache, scan.Options{}, dir)
			assert.Equal(t, 300, r.Reused, "and works again")
			assert.Empty(t, r.Notes)
		})
	}
}

// TestTwoProcessesUseOneCache scans with several stores at the same time, as several programs do.
func TestTwoProcessesUseOneCache(t *testing.T) {
	dir := t.TempDir()
	for i := range 200 {
		coretest.Write(t, dir, fmt.Sprintf("%d/a.w8", i), demo.Cartridge("WREN", fmt.Sprintf("Kite %d", i)))
	}
	cache := filepath.Join(t.TempDir(), "seen.sqlite")
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for range 3 {
				r := remembering(t, cache, scan.Options{}, dir)
				assert.Len(t, r.Titles, 200)
				assert.Empty(t, r.Notes)
			}
		})
	}
	all.Wait()
	assert.Equal(t, 200, remembering(t, cache, scan.Options{}, dir).Reused)
}

func TestOtherPlatformsOrPasswordsMakeFilesNew(t *testing.T) {
	w, err := demo.Open(filepath.Join(t.TempDir(), "world"), demo.Seed)
	require.NoError(t, err)
	cache := filepath.Join(t.TempDir(), "seen.sqlite")
	dir := filepath.Join(w.Shelf, "new")
	find := func(r scan.Result, name string) *title.Title {
		i := slices.IndexFunc(r.Titles, func(t title.Title) bool { return t.Name == name })
		require.GreaterOrEqual(t, i, 0, name)
		return &r.Titles[i]
	}
	locked := find(remembering(t, cache, scan.Options{}, dir), "Wicker Toll")
	assert.True(t, locked.Encrypted)
	assert.Contains(t, locked.Fault().Say, "encrypted")
	open := find(remembering(t, cache, scan.Options{Passwords: []string{"wrong", demo.Password}}, dir), "Wicker Toll")
	assert.True(t, open.OK(), "%v", open.Findings)
	assert.Equal(t, "heron16", open.Platform)
}

func TestACacheOfANewerProgramIsLeftAlone(t *testing.T) {
	cache := filepath.Join(t.TempDir(), "seen.sqlite")
	dir := t.TempDir()
	coretest.Write(t, dir, "a.w8", demo.Cartridge("WREN", "Ropewalk"))
	remembering(t, cache, scan.Options{}, dir)
	out, err := exec.Command("python3", "-c",
		"import sqlite3,sys; c=sqlite3.connect(sys.argv[1]); c.execute('PRAGMA user_version=99'); c.commit()", cache).
		CombinedOutput()
	require.NoError(t, err, string(out))
	before, err := os.ReadFile(cache)
	require.NoError(t, err)
	_, err = scancache.Open(cache)
	require.ErrorIs(t, err, scancache.ErrNewer)
	after, err := os.ReadFile(cache)
	require.NoError(t, err)
	assert.Equal(t, before, after)
}

func TestChecksSurviveAndShow(t *testing.T) {
	dir := t.TempDir()
	cache := filepath.Join(t.TempDir(), "seen.sqlite")
	coretest.Write(t, dir, "a.w8", demo.Cartridge("WREN", "Ropewalk"))
	r := remembering(t, cache, scan.Options{}, dir)
	store, err := scancache.Open(cache)
	require.NoError(t, err)
	report, err := scan.Verify(context.Background(), r.Titles, scan.VerifyOptions{Cache: store})
	require.NoError(t, err)
	require.NoError(t, store.Close())
	require.Len(t, report.Files, 1)
	assert.Equal(t, scan.Whole, report.Files[0].Verdict)
	shown := func(dir string) {
		r := remembering(t, cache, scan.Options{}, dir)
		require.Len(t, r.Titles, 1)
		ev := r.Titles[0].Discs[0].Evidence
		assert.Contains(t, ev[len(ev)-1].From, "reading it all on "+time.Now().Format("2 Jan 2006"))
	}
	shown(dir)
	require.NoError(t, os.Rename(dir, dir+" moved"))
	shown(dir + " moved")
	shown(dir + " moved")
}
