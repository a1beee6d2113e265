package survey_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
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

// TestAListThatSaysMoreThanIsHereIsNotRebuilt: the IDs of these games stand in the names that their files had, so a
// list of them that is lost cannot be written again from the stick alone.
func TestAListThatSaysMoreThanIsHereIsNotRebuilt(t *testing.T) {
	family, dir := "../loader/testdata/families/scoter", t.TempDir()
	set, p := ownFamily(t, family, dir)
	games := filepath.Join(dir, "games")
	require.NoError(t, os.MkdirAll(games, 0o755))
	script(t, filepath.Join(family, "make.py"), games)
	r, err := scan.Scan(t.Context(), []string{games}, scan.Options{Set: set})
	require.NoError(t, err)
	w := oneStick(t, dir, set, p.Name, p.Attachments[0].Filesystems[0], r.Titles)
	w.fill(0)
	require.NoError(t, os.Remove(w.at("Stick", "parts.txt")))
	report, err := w.look(0).Check(t.Context(), check.Inside)
	require.NoError(t, err)
	require.Len(t, report.Findings, 1)
	assert.Equal(t, check.List, report.Findings[0].Kind)
	assert.Empty(t, report.Findings[0].Fixes)
	assert.Contains(t, report.Findings[0].Remedy, "fill the target again")
	w.fill(0)
	script(t, filepath.Join(family, "judge.py"), w.at("Stick", "")) // which reads it
}

// ownFamily knows the descriptions of a family as a user's own.
func ownFamily(t *testing.T, family, dir string) (*loader.Set, *loader.Profile) {
	for _, kind := range []string{"platform", "profile"} {
		text, err := os.ReadFile(filepath.Join(family, kind+".toml"))
		require.NoError(t, err)
		coretest.Write(t, dir, "known/"+kind+"s/own.toml", text)
	}
	set, err := loader.Known(filepath.Join(dir, "known"))
	require.NoError(t, err)
	require.Empty(t, set.Broken)
	i := slices.IndexFunc(set.Profiles, func(p *loader.Profile) bool { return p.Own })
	return set, set.Profiles[i]
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
			set, p := ownFamily(t, family, dir)
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
			w := oneStick(t, dir, set, p.Name, p.Attachments[0].Filesystems[0], r.Titles)
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
