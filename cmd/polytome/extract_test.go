package main

import (
	"archive/zip"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// zipped makes an archive of members, in their order; names may be there twice.
func zipped(t *testing.T, file string, members ...[2]string) {
	f, err := os.Create(file)
	require.NoError(t, err)
	z := zip.NewWriter(f)
	for _, m := range members {
		w, err := z.CreateHeader(&zip.FileHeader{Name: m[0]})
		require.NoError(t, err)
		_, err = w.Write([]byte(m[1]))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	require.NoError(t, f.Close())
}

// TestNothingOfAnArchiveVanishes: what cannot be unpacked, or is named otherwise, is reported, and then the exit status
// says so.
func TestNothingOfAnArchiveVanishes(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "odd.zip")
	zipped(t, file, [2]string{"a.txt", "first"}, [2]string{"a.txt", "second"}, [2]string{"b", "a file"},
		[2]string{"b/c.txt", "in a folder"}, [2]string{"d\x1b[31m.txt", "coloured"}, [2]string{"../out.txt", "outside"})
	to := filepath.Join(dir, "out")
	status, _, errs := polytome(t, "image", "extract", file, "--to", to)
	assert.Equal(t, 3, status, "one was left out")
	for name, want := range map[string]string{"a.txt": "first", "a (2).txt": "second", "b (2)": "a file",
		"b/c.txt": "in a folder", "d_[31m.txt": "coloured"} {
		got, err := os.ReadFile(filepath.Join(to, name))
		require.NoError(t, err)
		assert.Equal(t, want, string(got), name)
	}
	assert.NoFileExists(t, filepath.Join(dir, "out.txt"))
	assert.Contains(t, errs, "skipped: ../out.txt: the name leads out of the archive")
	assert.Contains(t, errs, "renamed: a.txt is a (2).txt there: another file of the archive has its name")
	assert.Contains(t, errs, "renamed: b is b (2) there: a folder of the archive has its name")
	assert.Contains(t, errs, "is d_[31m.txt there: it has characters that a name cannot have here")
	zipped(t, file, [2]string{"../1", "x"}, [2]string{"../2", "x"}, [2]string{"../3", "x"}, [2]string{"/4", "x"},
		[2]string{"c:5", "x"}, [2]string{"6", "x"})
	status, out, _ := polytome(t, "image", "extract", file, "--to", filepath.Join(dir, "few"))
	assert.Equal(t, 3, status)
	assert.Contains(t, out, "1 file, 1 bytes")
}
