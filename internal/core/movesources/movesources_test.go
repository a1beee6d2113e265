package movesources_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/movesources"
	"polytome/internal/core/title"
	"polytome/internal/testkit/judge"
)

func made(t *testing.T, dir, name, text string) title.File {
	file := filepath.Join(dir, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	info, err := os.Stat(file)
	require.NoError(t, err)
	return title.File{Path: file, Size: info.Size(), Modified: info.ModTime()}
}

func TestFilesAreMovedAndNothingIsOverwritten(t *testing.T) {
	games := t.TempDir()
	for name, to := range map[string]string{"on the same disk": filepath.Join(t.TempDir(), "over"),
		"on another disk": filepath.Join(judge.Mount(t, "size=4m"), "over")} {
		t.Run(name, func(t *testing.T) {
			a, b := made(t, games, "vesper/a.iso", "one"), made(t, games, "b.iso", "two")
			changed := made(t, games, "c.iso", "three")
			require.NoError(t, os.WriteFile(changed.Path, []byte("another"), 0o644))
			there := filepath.Join(to, filepath.Base(games), "b.iso")
			require.NoError(t, os.MkdirAll(filepath.Dir(there), 0o755))
			require.NoError(t, os.WriteFile(there, []byte("mine"), 0o644))
			gone := title.File{Path: filepath.Join(games, "gone.iso")}
			m, err := movesources.Move(t.Context(), []title.File{a, b, changed, gone}, []string{games}, to)
			require.NoError(t, err)
			assert.Equal(t, 1, m.Files)
			assert.EqualValues(t, 3, m.Bytes)
			require.Len(t, m.Failed, 3)
			assert.ErrorContains(t, m.Failed[0], "001/b.iso already exists, so")
			assert.ErrorContains(t, m.Failed[1], "c.iso has changed since, and stays")
			assert.NoFileExists(t, a.Path)
			assert.FileExists(t, b.Path)
			got, err := os.ReadFile(filepath.Join(to, filepath.Base(games), "vesper", "a.iso"))
			require.NoError(t, err)
			assert.Equal(t, "one", string(got))
			mine, err := os.ReadFile(there)
			require.NoError(t, err)
			assert.Equal(t, "mine", string(mine))
			info, err := os.Stat(filepath.Join(to, filepath.Base(games), "vesper", "a.iso"))
			require.NoError(t, err)
			assert.True(t, info.ModTime().Equal(a.Modified), "with its date")
		})
	}
	_, err := movesources.Move(t.Context(), nil, []string{games}, filepath.Join(games, "over"))
	assert.ErrorContains(t, err, "over is in a source folder")
}
