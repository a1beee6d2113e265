package main

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/ledger"
	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
)

// TestTheLedgerKnowsWhatLiesOnASticknInADrawer: what was filled and taken away is found, with its place; what is
// nowhere, with who has room for it.
func TestTheLedgerKnowsWhatLiesOnAStickInADrawer(t *testing.T) {
	ownFolders(t)
	assert.Contains(t, ok(t, "ledger"), "The ledger is empty")
	dir := t.TempDir()
	games, a, b := filepath.Join(dir, "games"), filepath.Join(dir, "a"), filepath.Join(dir, "b")
	for _, name := range []string{"Ropewalk", "Tide Mill", "Anchor Row"} {
		coretest.Write(t, games, name+".w8", demo.Cartridge("WREN", name))
	}
	for _, stick := range []string{a, b} {
		coretest.Write(t, stick, "oxbow/play/wren8/.keep", nil)
	}
	file := filepath.Join(dir, "season.toml")
	season := bench.New(file)
	season.Sources = []bench.Source{{Path: games}}
	season.Targets = []bench.Target{
		{Name: "Blue", At: a, Loader: "oxbow", As: "exfat", Capacity: 1 << 30, Everything: true},
		{Name: "Red", At: b, Loader: "oxbow", As: "exfat", Capacity: 1 << 30},
	}
	require.NoError(t, season.Save())
	ok(t, "fill", "--bench", file, "--target", "Blue")
	out := ok(t, "where", "tide")
	assert.Contains(t, out, "Tide Mill: Blue (seen 20")
	out = ok(t, "ledger", "name", "blue", "Hall 3", "--place", "drawer 2")
	assert.Contains(t, out, "Hall 3, in drawer 2; 3 titles; ")
	ok(t, "check", "--bench", file, "--target", "Red")
	require.NoError(t, os.RemoveAll(a)) // it is in the drawer
	assert.Contains(t, ok(t, "where", "rope"), "Ropewalk: Hall 3, in drawer 2 (seen")
	out = ok(t, "ledger", "show", "Hall 3")
	assert.Contains(t, out, "last at "+a+", for oxbow")
	assert.Contains(t, out, "lists 3, starts 3")

	coretest.Write(t, games, "Salt Mill.w8", demo.Cartridge("WREN", "Salt Mill"))
	out = ok(t, "where", "--bench", file, "--missing")
	assert.Contains(t, out, "Salt Mill: nowhere; room on ")
	assert.Contains(t, out, "Red (")
	assert.NotContains(t, out, "Ropewalk")
	assert.Contains(t, ok(t, "where", "--bench", file, "--once", "anchor"), "Anchor Row: Hall 3")
	var found []wherever
	require.NoError(t, json.Unmarshal([]byte(ok(t, "where", "mill", "--json")), &found))
	require.Len(t, found, 1)
	assert.Equal(t, []string{"Hall 3"}, found[0].On)

	rows, err := csv.NewReader(strings.NewReader(ok(t, "ledger", "export", "--csv"))).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 5, "three titles, and a stick with none")
	var all []ledger.Volume
	require.NoError(t, json.Unmarshal([]byte(ok(t, "ledger", "export", "--json")), &all))
	assert.Len(t, all, 2)

	ok(t, "ledger", "name", "Hall 3", "", "--place", "")
	ok(t, "ledger", "forget", "Blue")
	assert.Contains(t, ok(t, "where", "rope"), "No volume that was looked at holds a title with these words.")
	for _, wrong := range [][]string{{"where"}, {"where", "--missing", "x"}, {"ledger", "name", "Red"},
		{"ledger", "show", "nobody"}, {"ledger", "export"}, {"ledger", "forget", "nobody"}} {
		code, _, errs := polytome(t, wrong...)
		assert.Equal(t, 2, code, "%v: %s", wrong, errs)
	}
}
