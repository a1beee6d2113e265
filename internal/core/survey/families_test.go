package survey_test

import (
	"crypto/sha1"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
	"polytome/internal/core/convert"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/target/folder"
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

// TestACopyOfTheLoadersOwnFile: games without the file that their launchers are copies of do not go, and it is said
// why; a copy that is not what it should be is found, and made again by the proposed fix, also after the file itself
// changed.
func TestACopyOfTheLoadersOwnFile(t *testing.T) {
	family, dir := "../loader/testdata/families/wigeon", t.TempDir()
	set, p := ownFamily(t, family, dir)
	games := filepath.Join(dir, "games")
	require.NoError(t, os.MkdirAll(games, 0o755))
	want := script(t, filepath.Join(family, "make.py"), games)
	r, err := scan.Scan(t.Context(), []string{games}, scan.Options{Set: set})
	require.NoError(t, err)
	w := oneStick(t, dir, set, p.Name, "exfat", r.Titles)
	s := w.look(0)
	for i := range s.Titles {
		assert.Contains(t, s.Sheet.Explain(i).Say, "its launcher is a copy of boot/starter.bin, which is not there")
	}
	assert.True(t, s.Plan().Empty())

	require.NoError(t, os.CopyFS(w.at("Stick", ""), os.DirFS(filepath.Join(family, "stick"))))
	w.fill(0)
	fixed := func(found int) {
		report, err := w.look(0).Check(t.Context(), check.Inside)
		require.NoError(t, err)
		require.Len(t, report.Findings, found, findings(report))
		for _, f := range report.Findings {
			require.NotEmpty(t, f.Fixes, f.Say)
			w.bench.Targets[0].Fix(f.Fixes...)
		}
		w.fill(0)
		w.bench.Targets[0].Fixes, w.bench.Targets[0].Replace = nil, nil
		assert.ElementsMatch(t, want, script(t, filepath.Join(family, "judge.py"), w.at("Stick", "")))
	}
	b, err := os.ReadFile(w.at("Stick", "go/Alder.go"))
	require.NoError(t, err)
	b[20] ^= 1
	require.NoError(t, os.WriteFile(w.at("Stick", "go/Alder.go"), b, 0o644))
	require.NoError(t, os.WriteFile(w.at("Stick", "shelf/02 Brook/start"), make([]byte, 24), 0o644))
	fixed(2)
	require.NoError(t, os.WriteFile(w.at("Stick", "boot/starter.bin"), make([]byte, 500), 0o644))
	fixed(4)
	require.NoError(t, os.Remove(w.at("Stick", "shelf/02 Brook/start")))
	require.NoError(t, os.Remove(w.at("Stick", "shelf/02 Brook/shelf.txt")))
	require.NoError(t, os.Remove(w.at("Stick", "go/Owl Post.go")))
	fixed(5) // two of them as what was to be there
}

// TestWhatIsJoinedComesApartAgain: every piece of a box and a crate is the file that it was made of; a header that was
// written over, discs of different games, and a box that ends too early are found, and copied again.
func TestWhatIsJoinedComesApartAgain(t *testing.T) {
	family, dir := "../loader/testdata/families/garganey", t.TempDir()
	set, p := ownFamily(t, family, dir)
	games := filepath.Join(dir, "games")
	require.NoError(t, os.MkdirAll(games, 0o755))
	want := script(t, filepath.Join(family, "make.py"), games)
	r, err := scan.Scan(t.Context(), []string{games}, scan.Options{Set: set})
	require.NoError(t, err)
	w := oneStick(t, dir, set, p.Name, "fat32", r.Titles)
	w.fill(0)

	sums := map[string]bool{}
	for _, file := range []string{"boxes/Long Way Home.box", "boxes/Été.box", "boxes/Mill Pond.box",
		"crates/G0101.crate",
		"crates/G0102.crate"} {
		out := filepath.Join(dir, "apart", filepath.Base(file))
		require.NoError(t, os.MkdirAll(out, 0o755))
		to, err := folder.Open(out, folder.Options{})
		require.NoError(t, err)
		names, err := convert.Pieces(t.Context(), w.at("Stick", file), p, to, func(int64, int64) {})
		require.NoError(t, err)
		require.NoError(t, to.Close())
		for _, name := range names {
			b, err := os.ReadFile(filepath.Join(out, name))
			require.NoError(t, err)
			sums[fmt.Sprintf("%x", sha1.Sum(b))] = true
		}
	}
	for _, g := range want {
		assert.True(t, sums[g[2]], g[1])
	}
	assert.FileExists(t, filepath.Join(dir, "apart/G0101.crate/data/deep/ü.dat"))
	_, err = convert.Pieces(t.Context(), w.at("Stick", "games.txt"), p, nil, nil)
	assert.ErrorContains(t, err, "its header is not as the rule makes it")

	long, err := os.ReadFile(w.at("Stick", "boxes/Long Way Home.box"))
	require.NoError(t, err)
	short, err := os.ReadFile(w.at("Stick", "boxes/Été.box"))
	require.NoError(t, err)
	for what, b := range map[string][]byte{
		// its row twice
		"piece 2 begins inside of the one before":  slices.Concat(long[:112], long[64:112], long[160:]),
		"its header is not as the rule makes it":   slices.Concat([]byte("coffer"), long[6:]),
		"piece 2 is outside of it":                 long[:5000],
		"it has 2 of the 3 discs of Long Way Home": slices.Concat(long[:6], []byte{0, 2}, long[8:]),
		"piece 2 in it is a disc of Été":           swapped(long, short),
	} {
		require.NoError(t, os.WriteFile(w.at("Stick", "boxes/Long Way Home.box"), b, 0o644))
		report, err := w.look(0).Check(t.Context(), check.Inside)
		require.NoError(t, err)
		said := findings(report)
		assert.Contains(t, said, what)
		for _, f := range report.Findings {
			w.bench.Targets[0].Fix(f.Fixes...)
		}
		w.fill(0)
		w.bench.Targets[0].Fixes, w.bench.Targets[0].Replace = nil, nil
		assert.ElementsMatch(t, want, script(t, filepath.Join(family, "judge.py"), w.at("Stick", "")), what)
	}
}

// swapped is a box with two discs whose second one is of another box.
func swapped(long, short []byte) []byte {
	block := binary.BigEndian.Uint32(short[112:])
	out := slices.Clone(short)
	first := binary.BigEndian.Uint32(long[64:])
	copy(out[binary.BigEndian.Uint32(short[64:])*512:block*512], long[first*512:])
	copy(out[binary.BigEndian.Uint32(short[64:])*512+40:], "1/2")
	return out
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
			if lies := filepath.Join(family, "stick"); exists(lies) { // what was there before
				require.NoError(t, os.CopyFS(w.at("Stick", ""), os.DirFS(lies)))
			}
			w.fill(0)
			listed := len(want)
			if text, err := os.ReadFile(filepath.Join(family, "listed")); err == nil { // where games are joined
				listed, err = strconv.Atoi(strings.TrimSpace(string(text)))
				require.NoError(t, err)
			}
			assert.ElementsMatch(t, want, script(t, filepath.Join(family, "judge.py"), w.at("Stick", "")))
			for _, depth := range []check.Depth{check.Inside, check.Names} {
				report, err := w.look(0).Check(t.Context(), depth)
				require.NoError(t, err)
				assert.Empty(t, findings(report))
				assert.Empty(t, report.Others)
				assert.Len(t, report.Listed, listed)
			}
			assert.True(t, w.look(0).Plan().Empty(), "nothing is left to do")
		})
	}
}

func exists(file string) bool {
	_, err := os.Stat(file)
	return err == nil
}
