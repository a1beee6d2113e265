package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// TestTheLoaderItselfGoesAlong from the folder or the archive in which a person has it, to a stick that lacks it.
func TestTheLoaderItselfGoesAlong(t *testing.T) {
	ownFolders(t)
	for _, packed := range []bool{false, true} {
		dir := t.TempDir()
		coretest.Write(t, dir, "games/a.iso", coretest.Image(t, coretest.Inf("VSP-20001", "Mosswick", "1/1", "full")))
		coretest.Write(t, dir, "rowan/rowan-4.1.run", []byte("the loader"))
		coretest.Write(t, dir, "rowan/rowan.cfg", []byte("look=stick\n"))
		kit := filepath.Join(dir, "rowan")
		if packed {
			judge.Run(t, "zip", "-rj", kit+".zip", kit)
			kit += ".zip"
		}
		stick := t.TempDir()
		args := []string{"fill", "--from", filepath.Join(dir, "games"), "--loader", "rowan", "--to", stick, "--as",
			"fat32", "--capacity", "1GiB"}
		status, out, _ := polytome(t, append(args, "--dry-run")...)
		assert.Equal(t, statusDone, status, "nothing is missing of the titles")
		assert.Contains(t, out, "the console will list nothing")
		status, out, errs := polytome(t, append(args, "--kit", kit)...)
		assert.Equal(t, statusDone, status, out+errs)
		assert.NotContains(t, out, "the console will list nothing", "known before, with the kit")
		assert.Contains(t, out, "Rowan will list 1 title")
		assert.NotContains(t, out, "FAULT")
		b, err := os.ReadFile(filepath.Join(stick, "ROWAN", "rowan.run"))
		require.NoError(t, err)
		assert.Equal(t, "the loader", string(b))
		_, out, _ = polytome(t, append(args, "--kit", kit)...)
		assert.Contains(t, out, "nothing to write", "all of it is there")
	}
	status, _, errs := polytome(t, "fill", "--from", t.TempDir(), "--loader", "rowan", "--to", t.TempDir(),
		"--as", "fat32", "--capacity", "1GiB", "--kit", t.TempDir())
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, errs, "nothing of Rowan itself is there")
}
