package survey_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/fit"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/demo"
	"polytome/internal/sim"
	"polytome/internal/testkit/coretest"
)

// TestNamesThatTheConsoleCannotSpell are reported before anything is written.
func TestNamesThatTheConsoleCannotSpell(t *testing.T) {
	games, disk := t.TempDir(), t.TempDir()
	for _, name := range []string{"Ropewalk", "Été à la mer", "夕凪"} {
		coretest.Write(t, games, name+".w8", demo.Cartridge("WREN", "x"))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(disk, "hd1/gantry/shelf/wren8"), 0o755))
	console, err := sim.Consoles["corvane"].Serve(disk, 0, 1<<30)
	require.NoError(t, err)
	defer console.Close()
	set := coretest.Set(t)
	scanned, err := scan.Scan(t.Context(), []string{games}, scan.Options{Set: set})
	require.NoError(t, err)
	for i := range scanned.Titles { // as their files are named
		base := filepath.Base(scanned.Titles[i].Source())
		scanned.Titles[i].Name = base[:len(base)-3]
	}
	b := bench.New("")
	b.Targets = []bench.Target{{Name: "console", At: fmt.Sprintf("ftp://127.0.0.1:%d/hd1", console.Port()),
		Loader: "gantry", Via: "ftp", Encoding: "windows-1252", Everything: true}}
	s, err := survey.Take(t.Context(), b, 0, scanned.Titles, survey.Options{Set: set})
	require.NoError(t, err)
	require.NoError(t, s.Away)
	for i := range s.Titles {
		v := s.Sheet.Verdict(i)
		if s.Titles[i].Name != "夕凪" {
			assert.Equal(t, fit.Copy, v.Kind, s.Titles[i].Name)
			continue
		}
		assert.Equal(t, fit.BadName, v.Kind)
		assert.Contains(t, s.Sheet.Explain(i).Say, `the console's encoding windows-1252 lacks the character '夕'`)
	}
	assert.Equal(t, 2, s.Plan().Files)
}
