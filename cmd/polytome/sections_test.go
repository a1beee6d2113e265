package main

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
)

func TestTheListOfTheConsoleIsDividedFromTheCommandLine(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	games, stick := filepath.Join(dir, "games"), filepath.Join(dir, "stick")
	for _, name := range []string{"Ropewalk", "Anchor Row", "Rope Trick"} {
		coretest.Write(t, games, name+".w8", demo.Cartridge("WREN", name))
	}
	coretest.Write(t, stick, "oxbow/play/wren8/.keep", nil)
	at := []string{"--from", games, "--to", stick, "--loader", "oxbow", "--as", "exfat"}
	ok(t, append([]string{"fill", "--sections", "letters"}, at...)...)
	assert.FileExists(t, filepath.Join(stick, "oxbow/play/wren8/R/Rope Trick.w8"))
	out := ok(t, "check", "--to", stick, "--loader", "oxbow", "--as", "exfat")
	assert.Contains(t, out, "  A\n               Anchor Row\n  R\n               Rope Trick\n               Ropewalk\n")
	_, _, errs := polytome(t, append([]string{"plan", "--sections", "leters"}, at...)...)
	assert.Contains(t, errs, `--sections: unknown way to divide the list "leters": did you mean "letters"?`)
	out = ok(
		t,
		"plan",
		"--sections",
		"letters",
		"--from",
		games,
		"--to",
		t.TempDir(),
		"--loader",
		"gantry",
		"--as",
		"exfat",
	)
	assert.Contains(t, out, "Gantry sorts its list itself: how the list of")
}
