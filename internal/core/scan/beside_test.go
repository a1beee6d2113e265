package scan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/scan"
	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
)

// TestPicturesOfGamesThatShareAFolder go to the game whose name they begin with, whatever kind of picture their name
// ends in.
func TestPicturesOfGamesThatShareAFolder(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"Ropewalk", "Mosswick", "Mosswick-disc"} {
		coretest.Write(t, dir, name+".w8", demo.Cartridge("WREN", name))
	}
	for _, name := range []string{"Ropewalk-disc.png", "Ropewalk (front).jpg", "Ropewalk.png", "Mosswick-disc.png",
		"Reed-disc.png"} {
		coretest.Write(t, dir, name, []byte("picture"))
	}
	r, err := scan.Scan(t.Context(), []string{dir}, scan.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	has := map[string][]string{}
	for i := range r.Titles {
		for _, b := range r.Titles[i].Discs[0].Beside {
			has[r.Titles[i].Name] = append(has[r.Titles[i].Name], b.File.Path[len(dir)+1:])
		}
	}
	assert.Equal(t, map[string][]string{"Ropewalk": {"Ropewalk (front).jpg", "Ropewalk-disc.png", "Ropewalk.png"},
		"Mosswick-disc": {"Mosswick-disc.png"}}, has, "a game of that very name comes first")
}

// TestSheetsOfEqualTextAreNoDoubles where their tracks differ, and are where these are alike too.
func TestSheetsOfEqualTextAreNoDoubles(t *testing.T) {
	dir := t.TempDir()
	sheet := []byte("FILE \"track.bin\" BINARY\n  TRACK 01 MODE1/2048\n    INDEX 01 00:00:00\n")
	for game, id := range map[string]string{"Heron": "LAP_00001", "Lamp": "LAP_00002", "Lamp again": "LAP_00002"} {
		coretest.Write(t, dir, game+"/"+game+".cue", sheet)
		coretest.Write(t, dir, game+"/track.bin", coretest.Volume(t, id))
	}
	r, err := scan.Scan(t.Context(), []string{dir}, scan.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	double := map[string]bool{}
	for i := range r.Titles {
		for _, f := range r.Titles[i].Findings {
			double[r.Titles[i].Name] = true
			assert.Contains(t, f.Say, "it has the same content as")
		}
	}
	assert.Equal(t, map[string]bool{"Lamp again": true}, double)
}
