package contents

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
	"polytome/internal/drives"
	"polytome/internal/target"
)

// listing makes one of paths; those with a slash at the end are folders, and each file has 1 KiB.
func listing(paths ...string) (out []target.Entry) {
	for _, p := range paths {
		name, folder := strings.CutSuffix(p, "/")
		e := target.Entry{Path: name, Folder: folder}
		if !folder {
			e.Size = 1 << 10
		}
		out = append(out, e)
	}
	return out
}

func TestWhatIsOnAVolume(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	for _, c := range []struct {
		name, filesystem, words string
		paths                   []string
	}{
		{"nothing", "fat32", "empty", nil},
		{"folders only", "fat32", "empty", []string{"a/", "a/b/"}},
		{"files of nobody", "fat32", "2 files, 2.00 KiB", []string{"holiday/", "holiday/one.mov", "two.mov"}},
		{"images of a loader", "fat32", "2 titles for Rowan, 2.00 KiB",
			[]string{"FULL/", "FULL/VSP-20502 - Paper Falcons.iso", "SHORT/VSP-21002 - Saffron Circuit.iso"}},
		{"one in parts counts once", "fat32", "1 title for Rowan, 3.00 KiB", []string{"LONG/VSP-20417/",
			"LONG/VSP-20417/001.rwn", "LONG/VSP-20417/002.rwn", "LONG/VSP-20417/parts.toml"}},
		{"the loader without titles", "fat32", "Rowan itself, 1.00 KiB", []string{"ROWAN/", "ROWAN/rowan.run"}},
		{"letter case is none of FAT32's", "fat32", "Rowan itself, 1.00 KiB", []string{"rowan/ROWAN.RUN"}},
		{"a filesystem that the console does not read", "exfat", "1 file, 1.00 KiB",
			[]string{"FULL/VSP-20502 - Paper Falcons.iso"}},
		{"an image in the wrong folder is no title", "fat32", "1 file, 1.00 KiB",
			[]string{"VIDEO/VSP-20502 - Paper Falcons.iso"}},
		{"a folder called like an image is no title", "fat32", "empty",
			[]string{"FULL/VSP-20502 - Paper Falcons.iso/"}},
	} {
		filesystem, err := target.FilesystemNamed(c.filesystem)
		require.NoError(t, err)
		got := Of(listing(c.paths...), filesystem, set)
		assert.Equal(t, c.words, got.Words(), c.name)
		assert.Equal(t, len(c.paths), got.Files+got.Folders, c.name)
	}
}

// The loader with the most titles is named first, and each counts those that it would show itself.
func TestAVolumeForSeveralLoaders(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	fat32, err := target.FilesystemNamed("fat32")
	require.NoError(t, err)
	c := Of(listing("FULL/VSP-20502 - Paper Falcons.iso", "Carts/finch/Reed Runner.fin",
		"Carts/finch/Pocket Regatta.fin"), fat32, set)
	var names []string
	for _, l := range c.Loaders {
		names = append(names, l.Name)
		assert.False(t, l.Kit)
	}
	require.NotEmpty(t, names)
	assert.Equal(t, "bellows", names[0], "%v", names)
	assert.Contains(t, names, "rowan")
	assert.Equal(t, 2, c.Titles)
}

func TestAVolumeThatCannotBeLookedInto(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	gone := &drives.Volume{Filesystem: "fat32", MountedAt: []string{t.TempDir() + "/gone"}}
	c := Volume(t.Context(), drives.Here, &drives.Drive{}, gone, set)
	assert.Contains(t, c.Words(), "it cannot be looked into")
	assert.Contains(t, c.Words(), "gone")
}

// TestADiskOfThisComputersIsNotReadFromEndToEnd: what the computer runs from is left alone, and of a disk with very
// many files only that is said.
func TestADiskOfThisComputersIsNotReadFromEndToEnd(t *testing.T) {
	dir := t.TempDir()
	for i := range 30 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, strconv.Itoa(i)), nil, 0o600))
	}
	set, err := loader.Shipped()
	require.NoError(t, err)
	v := drives.Volume{Filesystem: "ext4", MountedAt: []string{dir}}
	d := &drives.Drive{Uses: []drives.Use{{Kind: drives.OfSystem, At: dir}}, Volumes: []drives.Volume{v}}
	assert.Equal(t, "what this computer runs from", Volume(context.Background(), drives.Here, d, &v, set).Words())
	d.Uses[0].Kind = drives.Mounted
	assert.Equal(t, 30, Volume(context.Background(), drives.Here, d, &v, set).Files)

	before := most
	most = 20
	t.Cleanup(func() { most = before })
	assert.Equal(t, "more than 20 files", Volume(context.Background(), drives.Here, d, &v, set).Words())
}
