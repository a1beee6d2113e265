package bench_test

import (
	"bytes"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/testkit/judge"
)

// TestABenchOnADiskThatIsFullOrReadOnly saves on real small filesystems: what was saved before is still there, whole,
// and is resumed when there is space again.
func TestABenchOnADiskThatIsFullOrReadOnly(t *testing.T) {
	dir := judge.Mount(t, "size=256k")
	file := filepath.Join(dir, "season.toml")
	b := bench.New(file)
	b.Targets = []bench.Target{{Name: "Stick", At: "stick", Loader: "rowan", Titles: bench.Keys{"VSP-00001"}}}
	require.NoError(t, b.Save())
	good, err := os.ReadFile(file)
	require.NoError(t, err)

	filler := filepath.Join(dir, "filler")
	err = os.WriteFile(filler, bytes.Repeat([]byte("x"), 1<<20), 0o644)
	require.ErrorIs(t, err, syscall.ENOSPC)
	for i := range 300 { // more than a block, so that it cannot be written over what is there
		b.Targets[0].Want(true, string(rune('a'+i%26))+string(bytes.Repeat([]byte{'k'}, i)))
	}
	err = b.Save()
	require.ErrorIs(t, err, syscall.ENOSPC)
	assert.ErrorContains(t, err, "season.toml", "the message names the file")
	now, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, good, now, "nothing is half")
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 2, "and nothing is left behind")
	again, err := bench.Load(file)
	require.NoError(t, err)
	assert.Equal(t, bench.Keys{"VSP-00001"}, again.Targets[0].Titles)

	require.NoError(t, os.Remove(filler))
	require.NoError(t, b.Save(), "with space, it resumes all that was chosen meanwhile")
	again, err = bench.Load(file)
	require.NoError(t, err)
	assert.Equal(t, b.Targets[0].Titles, again.Targets[0].Titles)

	judge.Remount(t, dir, "ro")
	b.Targets[0].Want(true, "VSP-00002")
	err = b.Save()
	require.ErrorIs(t, err, syscall.EROFS)
	_, err = bench.Load(file)
	require.NoError(t, err, "it can be looked at")
	judge.Remount(t, dir, "rw")
	require.NoError(t, b.Save())
	again, err = bench.Load(file)
	require.NoError(t, err)
	assert.True(t, again.Targets[0].Wants("VSP-00002"))
}
