package intake_test

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/intake"
	"polytome/internal/core/loader"
	"polytome/internal/core/seen"
	"polytome/internal/coretest"
	"polytome/internal/demo"
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
