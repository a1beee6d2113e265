package survey_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/testkit/coretest"
)

// script runs one of a family's programs, which prints games: ID, name, and a sum of the content.
func script(t *testing.T, file, dir string) (games [][3]string) {
	cmd := exec.Command("/usr/bin/python3", file, dir)
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	require.NoError(t, err, "%s", out)
	require.NoError(t, json.Unmarshal(out, &games))
	return games
}

// TestFamiliesThatNobodyPlannedFor has a folder for each: the description of a platform and of a loader, a program that
// makes games with other tools, and one that lists a stick as the console would. The stick that is filled by the
// descriptions lists exactly these games, and the check finds nothing.
func TestFamiliesThatNobodyPlannedFor(t *testing.T) {
	families, err := filepath.Glob("../loader/testdata/families/*")
	require.NoError(t, err)
	require.NotEmpty(t, families)
	for _, family := range families {
		t.Run(filepath.Base(family), func(t *testing.T) {
			dir := t.TempDir()
			for _, kind := range []string{"platform", "profile"} {
				text, err := os.ReadFile(filepath.Join(family, kind+".toml"))
				require.NoError(t, err)
				coretest.Write(t, dir, "known/"+kind+"s/own.toml", text)
			}
			set, err := loader.Known(filepath.Join(dir, "known"))
			require.NoError(t, err)
			require.Empty(t, set.Broken)
			var p *loader.Profile
			for _, x := range set.Profiles {
				if x.Own {
					p = x
				}
			}
			games := filepath.Join(dir, "games")
			require.NoError(t, os.MkdirAll(games, 0o755))
			want := script(t, filepath.Join(family, "make.py"), games)
			r, err := scan.Scan(t.Context(), []string{games}, scan.Options{Set: set})
			require.NoError(t, err)
			for i := range r.Titles {
				if r.Titles[i].Platform != "" { // some are none of its games
					assert.Nil(t, r.Titles[i].Fault(), r.Titles[i].Name)
				}
			}
			b := bench.New("")
			b.Targets = []bench.Target{{Name: "Stick", At: filepath.Join(dir, "Stick"), Loader: p.Name, Via: "usb",
				As: p.Attachments[0].Filesystems[0], Capacity: 1 << 30, Everything: true}}
			require.NoError(t, os.MkdirAll(b.Targets[0].At, 0o755))
			w := &workshop{t: t, dir: dir, bench: b, titles: r.Titles, o: survey.Options{Set: set}}
			w.fill(0)
			assert.ElementsMatch(t, want, script(t, filepath.Join(family, "judge.py"), w.at("Stick", "")))
			for _, depth := range []check.Depth{check.Inside, check.Names} {
				report, err := w.look(0).Check(t.Context(), depth)
				require.NoError(t, err)
				assert.Empty(t, findings(report))
				assert.Empty(t, report.Others)
				assert.Len(t, report.Listed, len(want))
			}
			assert.True(t, w.look(0).Plan().Empty(), "nothing is left to do")
		})
	}
}
