package gamefolders_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/gamefolders"
	"polytome/internal/core/loader"
)

func TestFoldersOfGamesAreFound(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	home, stick := t.TempDir(), t.TempDir()
	for name, n := range map[string]int{
		"games/discs/a.iso": 5000, "games/discs/b.iso": 5000, "games/carts/c.iso": 10, "notes/read.txt": 9,
		".cache/d.iso": 100, "old/backup/2019/e.iso": 7000, "Downloads/f.zip": 2 << 20, "Downloads/small.zip": 20,
		"Downloads/empty.iso": 0} {
		file := filepath.Join(home, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, make([]byte, n), 0o644))
	}
	require.NoError(t, os.WriteFile(filepath.Join(stick, "g.iso"), make([]byte, 30), 0o644))
	require.NoError(t, os.Symlink(home, filepath.Join(home, "games", "again")))

	found := gamefolders.Find(t.Context(), []string{home, stick, filepath.Join(home, "games"), "/nowhere"}, set)
	want := []gamefolders.Folder{
		{filepath.Join(home, "Downloads"), 1, 2 << 20, []string{".zip"}},
		{filepath.Join(home, "games"), 3, 10010, []string{".iso"}},
		{filepath.Join(home, "old", "backup", "2019"), 1, 7000, []string{".iso"}},
		{stick, 1, 30, []string{".iso"}},
	}
	assert.Equal(t, want, found)

	over, cancel := context.WithCancel(t.Context())
	cancel()
	assert.Empty(t, gamefolders.Find(over, []string{home}, set), "it ends with the context")
}
