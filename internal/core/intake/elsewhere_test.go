package intake_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/intake"
	"polytome/internal/core/loader"
	"polytome/internal/core/seen"
	"polytome/internal/coretest"
	"polytome/internal/demo"
	"polytome/internal/judge"
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
	scan := func(in, what string) (titles []string) {
		t.Chdir(filepath.Join(dir, in))
		store, err := seen.Open(cache)
		require.NoError(t, err)
		defer store.Close()
		r, err := intake.Scan(t.Context(), []string{what}, intake.Options{Set: set, Cache: store})
		require.NoError(t, err)
		for i := range r.Titles {
			assert.True(t, filepath.IsAbs(r.Titles[i].Source()), r.Titles[i].Source())
			titles = append(titles, r.Titles[i].Name)
		}
		return titles
	}
	for range 2 {
		assert.Equal(t, []string{"Mosswick"}, scan("Mosswick", "lib"))
		assert.Equal(t, []string{"Gannet Patrol"}, scan("Gannet Patrol", "lib"))
		assert.Equal(t, []string{"Mosswick"}, scan("Mosswick/lib", "."))
		assert.Equal(t, []string{"Gannet Patrol"}, scan("Gannet Patrol", "."))
	}
}

// TestAZipInParts is one title, opened by its last part.
func TestAZipInParts(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	in, out := t.TempDir(), t.TempDir()
	game := append(demo.Cartridge("WREN", "Mosswick"), make([]byte, 200_000)...)
	coretest.Write(t, in, "Mosswick.w8", game)
	judge.Run(t, "zip", "-q", "-j", "-0", "-s", "64k", filepath.Join(out, "split.zip"), filepath.Join(in, "Mosswick.w8"))
	r, err := intake.Scan(t.Context(), []string{out}, intake.Options{Set: set})
	require.NoError(t, err)
	require.Len(t, r.Titles, 1)
	assert.Equal(t, "Mosswick", r.Titles[0].Name)
	assert.True(t, r.Titles[0].Sound(), r.Titles[0].Findings)
	assert.Len(t, r.Titles[0].Discs[0].Volumes, 3)
	require.NoError(t, os.Remove(filepath.Join(out, "split.z02")))
	r, err = intake.Scan(t.Context(), []string{out}, intake.Options{Set: set})
	require.NoError(t, err)
	require.Len(t, r.Titles, 1)
	assert.Contains(t, r.Titles[0].Findings[0].Say, "split.z02 is missing")
}
