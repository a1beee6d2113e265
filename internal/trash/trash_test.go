//go:build linux

package trash_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/adrg/xdg"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/testkit/judge"
	"polytome/internal/trash"
)

// at has the user's data be in a folder of the test's own.
func at(t *testing.T, dir string) string {
	t.Setenv("XDG_DATA_HOME", dir)
	xdg.Reload()
	t.Cleanup(func() { os.Unsetenv("XDG_DATA_HOME"); xdg.Reload() })
	return filepath.Join(dir, "Trash")
}

func TestFilesGoToTheTrashOfTheirDisk(t *testing.T) {
	can := at(t, t.TempDir())
	dir := t.TempDir()
	for range 3 { // of one name
		file := filepath.Join(dir, "Copper Tide %.iso")
		require.NoError(t, os.WriteFile(file, []byte("bytes"), 0o644))
		require.NoError(t, trash.Move(file))
		assert.NoFileExists(t, file)
	}
	for _, name := range []string{"Copper Tide %.iso", "Copper Tide %.2.iso", "Copper Tide %.3.iso"} {
		assert.FileExists(t, filepath.Join(can, "files", name))
		note, err := os.ReadFile(filepath.Join(can, "info", name+".trashinfo"))
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(string(note),
			"[Trash Info]\nPath="+dir+"/Copper%20Tide%20%25.iso\nDeletionDate=20"), string(note))
	}
	assert.Error(t, trash.Move(filepath.Join(dir, "none")))
}

func TestAnotherDiskHasATrashOfItsOwn(t *testing.T) {
	at(t, t.TempDir())
	disk := judge.Mount(t, "size=4m")
	require.NoError(t, os.MkdirAll(filepath.Join(disk, "games"), 0o755))
	file := filepath.Join(disk, "games", "a.iso")
	require.NoError(t, os.WriteFile(file, []byte("bytes"), 0o644))
	require.NoError(t, trash.Move(file))
	found, err := filepath.Glob(filepath.Join(disk, ".Trash-*", "files", "a.iso"))
	require.NoError(t, err)
	require.Len(t, found, 1, "it is not copied")
	notes, err := filepath.Glob(filepath.Join(disk, ".Trash-*", "info", "a.iso.trashinfo"))
	require.NoError(t, err)
	require.Len(t, notes, 1)
	note, err := os.ReadFile(notes[0])
	require.NoError(t, err)
	assert.Contains(t, string(note), "Path=games/a.iso\n")
}
