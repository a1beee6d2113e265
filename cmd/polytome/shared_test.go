package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/testkit/coretest"
)

// TestGamesThatLieOnTheTargetItself: that its own games would be renamed is said before, and a target that is filled
// from it gets them first.
func TestGamesThatLieOnTheTargetItself(t *testing.T) {
	dir := t.TempDir()
	for _, id := range []string{"VSP-20001", "VSP-20002", "VSP-20003"} {
		coretest.Write(t, dir, "src/"+id+" mine.iso", coretest.Image(t, coretest.Inf(id, "Game "+id, "1/1", "full")))
	}
	link := filepath.Join(dir, "link")
	require.NoError(t, os.Symlink(filepath.Join(dir, "src"), link))
	_, out, errs := polytome(t, "plan", "--from", filepath.Join(dir, "src"), "--loader", "rowan", "--to", link, "--as",
		"fat32")
	assert.Contains(t, out+errs, "is your only copy")

	require.NoError(t, os.Mkdir(filepath.Join(dir, "other"), 0o755))
	bench := `format = 1
name = "both"

[[source]]
path = "src"

[[target]]
name = "itself"
at = "link"
loader = "rowan"
as = "fat32"
everything = true

[[target]]
name = "other"
at = "other"
loader = "rowan"
as = "fat32"
everything = true
`
	require.NoError(t, os.WriteFile(filepath.Join(dir, "both.toml"), []byte(bench), 0o644))
	_, out, errs = polytome(t, "fill", "--bench", filepath.Join(dir, "both.toml"))
	assert.Contains(t, errs, "itself removes files that other still reads, so it starts when that is done")
	assert.NotContains(t, out, "failed")
	for _, target := range []string{"src", "other"} {
		all, err := filepath.Glob(filepath.Join(dir, target, "FULL", "*.iso"))
		require.NoError(t, err)
		assert.Len(t, all, 3, "%s:\n%s%s", target, out, errs)
	}
}
