package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/discread"
	"polytome/internal/testkit/judge"
)

// TestADiscIsReadIntoAnImage with scratches, and from a second copy, in a simulated drive.
func TestADiscIsReadIntoAnImage(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	tree := filepath.Join(dir, "tree")
	require.NoError(t, os.MkdirAll(tree, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(tree, "VESPER.INF"), []byte("ID=VSP-20001\nNAME=Mosswick\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(tree, "DATA.BIN"), []byte(strings.Repeat("tide and sluice ", 1<<17)),
		0o600))
	pressed := filepath.Join(dir, "pressed.iso")
	judge.Run(t, "genisoimage", "-quiet", "-o", pressed, tree)
	image := filepath.Join(dir, "mosswick.iso")

	out := ok(t, "disc", "info", "simulated:"+pressed)
	assert.Contains(t, out, "GULLWING TRAY 16: DVD-ROM")
	assert.Contains(t, out, "track 1: data, from block 0")
	status, out, _ := polytome(t, "disc", "read", "simulated:"+pressed+"#hard=500+3,soft=700+20", "-o", image)
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, out, "mosswick.iso.reading: 3 blocks of ")
	assert.Contains(t, out, "3 blocks from block 500 on, tried 8 times")
	assert.NoFileExists(t, image)
	var r discread.Result
	status, out, errs := polytome(t, "disc", "read", "simulated:"+pressed+"#hard=100+50", "-o", image, "--json",
		"--eject")
	require.Equal(t, statusDone, status, errs)
	require.NoError(t, json.Unmarshal([]byte(out), &r))
	judge.Run(t, "cmp", pressed, image)
	assert.Contains(t, judge.Run(t, "isoinfo", "-i", image, "-x", "/VESPER.INF;1"), "ID=VSP-20001")
	assert.True(t, strings.HasPrefix(judge.Run(t, "sha1sum", image), r.SHA1))

	for say, args := range map[string][]string{
		"mosswick.iso is there already":       {"simulated:" + pressed, "-o", image},
		"say which image to write":            {"simulated:" + pressed},
		"no such file":                        {filepath.Join(dir, "sr0"), "-o", image + "2"},
		"a scratch is written as hard=FIRST+": {"simulated:" + pressed + "#deep=1+1", "-o", image + "2"},
	} {
		status, _, errs := polytome(t, append([]string{"disc", "read"}, args...)...)
		assert.NotEqual(t, statusDone, status)
		assert.Contains(t, errs, say)
	}
	ok(t, "disc", "eject", "simulated:"+pressed)
}
