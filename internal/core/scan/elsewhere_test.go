package scan_test

import (
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/scancache"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// TestACacheIsOfNoFolder: what was seen as "." in one folder is not taken for what has that name in another one.
func TestACacheIsOfNoFolder(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	dir := t.TempDir()
	cache := filepath.Join(t.TempDir(), "seen.sqlite")
	for _, name := range []string{"Mosswick", "Gannet Patrol"} { // as long as one another
		coretest.Write(t, filepath.Join(dir, name), "lib/game.w8", demo.Cartridge("WREN", name))
	}
	scanned := func(in, what string) (titles []string) {
		t.Chdir(filepath.Join(dir, in))
		store, err := scancache.Open(cache)
		require.NoError(t, err)
		defer store.Close()
		r, err := scan.Scan(t.Context(), []string{what}, scan.Options{Set: set, Cache: store})
		require.NoError(t, err)
		for i := range r.Titles {
			assert.True(t, filepath.IsAbs(r.Titles[i].Source()), r.Titles[i].Source())
			titles = append(titles, r.Titles[i].Name)
		}
		return titles
	}
	for range 2 {
		assert.Equal(t, []string{"Mosswick"}, scanned("Mosswick", "lib"))
		assert.Equal(t, []string{"Gannet Patrol"}, scanned("Gannet Patrol", "lib"))
		assert.Equal(t, []string{"Mosswick"}, scanned("Mosswick/lib", "."))
		assert.Equal(t, []string{"Gannet Patrol"}, scanned("Gannet Patrol", "."))
	}
}

// TestALinkThatLeadsElsewhere: what was read behind it is not said of what it leads to now.
func TestALinkThatLeadsElsewhere(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	dir := t.TempDir()
	date := time.Date(2021, 3, 4, 5, 6, 7, 0, time.UTC)
	games := map[string][]byte{"Mosswick": demo.Cartridge("WREN", "Mosswick"), "Gannet Patrol": demo.Cartridge("WREN",
		"Gannet Patrol")}
	for name, game := range games {
		coretest.Write(t, dir, name+"/game.w8", game)
		require.NoError(t, os.Chtimes(filepath.Join(dir, name, "game.w8"), date, date))
	}
	store, err := scancache.Open(filepath.Join(t.TempDir(), "seen.sqlite"))
	require.NoError(t, err)
	defer store.Close()
	lib := filepath.Join(dir, "lib")
	for n, name := range []string{"Mosswick", "Gannet Patrol", "Mosswick"} {
		_ = os.Remove(lib)
		require.NoError(t, os.Symlink(name, lib))
		scanned := func() *title.Title {
			r, err := scan.Scan(t.Context(), []string{lib}, scan.Options{Set: set, Cache: store})
			require.NoError(t, err)
			require.Len(t, r.Titles, 1)
			return &r.Titles[0]
		}
		got := scanned()
		assert.Equal(t, name, got.Name)
		if n < 2 {
			assert.Empty(t, got.Discs[0].Sums, "nobody has read it all yet")
		}
		_, err := scan.Verify(t.Context(), []title.Title{*got}, scan.VerifyOptions{Cache: store})
		require.NoError(t, err)
		assert.Contains(t, scanned().Discs[0].Sums, fmt.Sprintf("%08x", crc32.ChecksumIEEE(games[name])))
	}
}

// TestAZipInParts is one title, opened by its last part.
func TestAZipInParts(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	in, out := t.TempDir(), t.TempDir()
	game := append(demo.Cartridge("WREN", "Mosswick"), make([]byte, 200_000)...)
	coretest.Write(t, in, "Mosswick.w8", game)
	judge.Run(t, "zip", "-q", "-j", "-0", "-s", "64k", filepath.Join(out, "split.zip"),
		filepath.Join(in, "Mosswick.w8"))
	r, err := scan.Scan(t.Context(), []string{out}, scan.Options{Set: set})
	require.NoError(t, err)
	require.Len(t, r.Titles, 1)
	assert.Equal(t, "Mosswick", r.Titles[0].Name)
	assert.True(t, r.Titles[0].OK(), r.Titles[0].Findings)
	assert.Len(t, r.Titles[0].Discs[0].Volumes, 3)
	require.NoError(t, os.Remove(filepath.Join(out, "split.z02")))
	r, err = scan.Scan(t.Context(), []string{out}, scan.Options{Set: set})
	require.NoError(t, err)
	require.Len(t, r.Titles, 1)
	assert.Contains(t, r.Titles[0].Findings[0].Say, "split.z02 is missing")
}
