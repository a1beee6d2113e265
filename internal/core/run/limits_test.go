package run_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/target/folder"
	"polytome/internal/testkit/judge"
)

// TestAFilesystemThatHoldsNoMoreFiles has bytes free, so freeing space would help nothing.
func TestAFilesystemThatHoldsNoMoreFiles(t *testing.T) {
	if !judge.AsRoot(t) {
		return
	}
	dir := t.TempDir()
	judge.Root(t, "mount", "-t", "tmpfs", "-o", "size=64m,nr_inodes=12,mode=777", "tmpfs", dir)
	t.Cleanup(func() { judge.Root(t, "umount", dir) })
	p, _ := files(t, 100, 100, 100, 100, 100, 100, 100, 100, 100, 100, 100, 100, 100, 100, 100, 100)
	r := carry(t, p, openTarget(t, dir, folder.Options{}))
	require.NotEmpty(t, r.Failed)
	assert.Contains(t, r.Failed[0].Say, "it can hold no more files, however small (no space left on")
	assert.Contains(t, r.Failed[0].Say, "not need, or reformat it for more files")
	assert.Positive(t, r.Put)
}

// TestALinkThatLeadsOutOfTheTarget is not followed, and is said to be one.
func TestALinkThatLeadsOutOfTheTarget(t *testing.T) {
	dir, elsewhere := t.TempDir(), t.TempDir()
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(dir, "FULL")))
	p, _ := files(t, 100)
	r := carry(t, p, openTarget(t, dir, folder.Options{}))
	require.NotEmpty(t, r.Failed)
	assert.Contains(t, r.Failed[0].Say, "a link leads out of the target")
	assert.NotContains(t, r.Failed[0].Say, "escapes")
	left, err := os.ReadDir(elsewhere)
	require.NoError(t, err)
	assert.Empty(t, left)
}
