package main

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
)

func TestWhatIsBuiltIntoAModelIsListed(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	coretest.Write(t, dir, "bellows/start.bin", []byte("bellows"))
	coretest.Write(t, dir, "Carts/wren8/Ropewalk.w8", demo.Cartridge("WREN", "Ropewalk"))
	out := ok(t, "check", "--to", dir, "--loader", "bellows", "--as", "fat32", "--model", "north")
	assert.Contains(t, out, "will list 19 titles")
	assert.Contains(t, out, "LAP_05001  Alder Weir   built in")
	assert.Contains(t, out, "Ropewalk\n")
	assert.Contains(t, ok(t, "check", "--to", dir, "--loader", "bellows", "--as", "fat32"), "will list 1 title.")
	_, _, errs := polytome(t, "check", "--to", dir, "--loader", "bellows", "--as", "fat32", "--model", "nort")
	assert.Contains(t, errs, `unknown model "nort"`)
	assert.Contains(t, errs, "north")
	_, _, errs = polytome(t, "check", "--to", dir, "--loader", "oxbow", "--as", "fat32", "--model", "north")
	assert.Contains(t, errs, `Oxbow knows no models of the Tanager, so it cannot be "north"`)
}
