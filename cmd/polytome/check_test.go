package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/demoworld"
)

func TestAStickFilledByHandIsCheckedAndFixed(t *testing.T) {
	w := demoworld.Open(t)
	at := w.Pocket()
	before := tree(t, at)
	status, out, stderr := polytome(t, "check", at, "--as", "fat32")
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, stderr, "checking for Bellows and Mica: found", "it is found out whose target it is")
	assert.Contains(t, out, "Check: Bellows and Mica will list 5 titles, and start 1 of them.")
	assert.Contains(t, out, "FAULT   Titles/Punt Race/Punt Race.cue: it is listed, but does not start: its track "+
		"file Punt Race.bin is missing; Punt Race (1).bin is there: it looks like a second copy")
	assert.Contains(t, out, "the path must be Titles/<title>/<title>.cue; this file is Titles/Loose Lock.cue",
		"also the folder has its rule")
	assert.Contains(t, out, "at the console: it will be listed, but not start")
	assert.Contains(t, out, "-> give it the name in the cue sheet (--fix --only half)")
	assert.Contains(t, out, "Files no loader knows, left alone: who has it.txt.")
	assert.Equal(t, before, tree(t, at), "nothing is written without --fix")

	status, out, _ = polytome(t, "check", at, "--as", "fat32", "--fix", "--dry-run")
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, out, "rename Titles/Weir Keeper/weir.cue to Titles/Weir Keeper/Weir Keeper.cue")
	assert.Contains(t, out, "Nothing was written.")
	assert.Equal(t, before, tree(t, at))

	_, out, stderr = polytome(t, "check", at, "--as", "fat32", "--fix", "--only", "kit")
	assert.Contains(t, out, "2 renamed", stderr)
	assert.Contains(t, out, "Since the check before: 2 fixed.")
	assert.FileExists(t, filepath.Join(at, "bellows", "start.bin"))
	assert.FileExists(t, filepath.Join(at, "Titles", "Weir Keeper", "weir.cue"), "only the kind that was asked for")
	status, out, stderr = polytome(t, "check", at, "--as", "fat32", "--fix", "--json")
	assert.Equal(t, statusPartial, status, stderr)
	var r check.Report
	require.NoError(t, lastJSON(out, &r))
	assert.Len(t, r.Listed, 8)
	assert.Equal(t, 6, r.Starts())
	for _, f := range r.Findings {
		assert.Empty(t, f.Fixes, "%s %s: all that could be fixed is", f.Path, f.Say)
	}
	require.NoError(t, os.RemoveAll(filepath.Join(at, "Titles", "Ebb Choir")))
	require.NoError(t, os.RemoveAll(filepath.Join(at, "skua")))
	status, out, stderr = polytome(t, "check", at, "--as", "fat32", "--full")
	assert.Zero(t, status, "exit status 0 when nothing is wrong: %s%s", out, stderr)
	assert.NotContains(t, out, "FAULT")
}

// lastJSON reads the last JSON value of an output.
func lastJSON(out string, v any) error {
	var last json.RawMessage
	for d := json.NewDecoder(strings.NewReader(out)); d.More(); {
		if err := d.Decode(&last); err != nil {
			return err
		}
	}
	return json.Unmarshal(last, v)
}

func TestADamagedGameIsPutAgainFromTheSources(t *testing.T) {
	w := world(t)
	stick := filepath.Join(t.TempDir(), "stick")
	require.NoError(t, os.MkdirAll(stick, 0o755))
	fill := []string{"--from", w.Shelf, "--loader", "plover", "--to", stick, "--as", "fat32", "--capacity", "8GiB"}
	_, _, stderr := polytome(t, append([]string{"fill"}, fill...)...)
	require.NoError(t, os.MkdirAll(filepath.Join(stick, "system", "images"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(stick, "system", "images", "dulcimer-one.rom"),
		demo.SystemImage(1, 256<<10), 0o644))
	prog := filepath.Join(stick, "packages", "Quillwork", "start.prog")
	require.FileExists(t, prog, stderr)
	require.NoError(t, os.Truncate(prog, 0))
	status, out, _ := polytome(t, append([]string{"check"}, fill...)...)
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, out, "Quillwork")
	assert.Contains(t, out, "DOES NOT START")
	status, out, stderr = polytome(t, append([]string{"check", "--fix"}, fill...)...)
	info, err := os.Stat(prog)
	require.NoError(t, err)
	assert.Positive(t, info.Size(), "%d %s%s", status, out, stderr)
	assert.NotContains(t, out[len(out)/2:], "DOES NOT START")
}

func TestAMissingHalfIsFetched(t *testing.T) {
	w := world(t)
	stick := t.TempDir()
	fill := []string{"--from", w.Shelf, "--loader", "bellows", "--to", stick, "--as", "fat32", "--capacity", "8GiB"}
	_, _, stderr := polytome(t, append([]string{"fill"}, fill...)...)
	found, err := filepath.Glob(filepath.Join(stick, "Titles", "*", "*.bin"))
	require.NoError(t, err)
	require.NotEmpty(t, found, stderr)
	require.NoError(t, os.Remove(found[0]))
	_, out, _ := polytome(t, append([]string{"check"}, fill...)...)
	assert.Contains(t, out, "DOES NOT START")
	assert.Contains(t, out, "here again from your games (--fix --only half)")
	_, out, stderr = polytome(t, append([]string{"check", "--fix", "--only", "half"}, fill...)...)
	assert.FileExists(t, found[0], out+stderr)
	_, out, _ = polytome(t, append([]string{"check"}, fill...)...)
	assert.NotContains(t, out, "DOES NOT START")
}

func TestNamesOnATargetCannotSteerTheTerminal(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "FULL"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "FULL", "VSP-20417 - a\x1b[31mb.iso"), nil, 0o644))
	for _, more := range [][]string{nil, {"--fix", "--dry-run"}, {"--fix"}} {
		_, out, stderr := polytome(t, append([]string{"check", dir, "--loader", "rowan", "--as", "fat32"}, more...)...)
		assert.NotContains(t, out+stderr, "\x1b")
		assert.Contains(t, out, "VSP-20417")
	}
}

func TestWhatTheCheckRefuses(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "holiday.jpg"), nil, 0o644))
	status, _, stderr := polytome(t, "check", dir)
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "does not belong to any known loader")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "ROWANN"), 0o755))
	status, _, stderr = polytome(t, "check", dir)
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "the nearest is Rowan: found ROWANN (almost right); not found: "+
		"ROWAN/rowan.run")
	for _, args := range [][]string{
		{"check", dir, "--full", "--quick"}, {"check", dir, "--only", "kit"}, {"check", dir, "--fix", "--only",
			"nonsense"}, {"check", dir, "--bench", "x.toml"}, {"check", "a", "--to", "b"}, {"check"},
		{"checklist", "--tick", "1", "--loader", "rowan", "--to", dir}, {"connections", "cable"},
	} {
		status, _, stderr := polytome(t, args...)
		assert.Equal(t, statusUsage, status, "%v: %s", args, stderr)
	}
	status, _, stderr = polytome(t, "check", filepath.Join(dir, "nowhere"), "--loader", "rowan")
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "nowhere")
}

func TestTheChecklistSaysWhatWasDone(t *testing.T) {
	w := world(t)
	b, err := bench.Load(w.Bench)
	require.NoError(t, err)
	b.Targets = []bench.Target{{Name: "Pipit stick", At: filepath.Join(t.TempDir(), "stick"), Loader: "bellows",
		Via: "usb", As: "fat32", Capacity: 8 << 30, Everything: true}}
	require.NoError(t, os.MkdirAll(b.Targets[0].At, 0o755))
	require.NoError(t, b.Save())
	out := ok(t, "checklist", "--bench", w.Bench)
	assert.Equal(t, "At the console: Pipit stick\n\n[ ] 1. Plug the stick into the Pipit Mini before you switch it "+
		"on.\n", out, "nothing was put yet")
	_, _, said := polytome(t, "fill", "--bench", w.Bench)
	out = ok(t, "checklist", "--bench", w.Bench)
	assert.Contains(t, out, "the first time takes longer", said)
	assert.Contains(t, out, "Turn to the last page to see what was added")
	out = ok(t, "checklist", "--bench", w.Bench, "--target", "Pipit stick", "--tick", "1")
	assert.Contains(t, out, "[x] 1.")
	assert.Contains(t, ok(t, "checklist", "--bench", w.Bench), "[x] 1.", "the tick is kept")
	status, _, stderr := polytome(t, "checklist", "--bench", w.Bench, "--target", "Pipit stick", "--tick", "9")
	assert.Equal(t, statusUsage, status)
	assert.Contains(t, stderr, "no line 9")
}

func TestConnectionsOfABench(t *testing.T) {
	w := world(t)
	disk := filepath.Join(w.Dir, "console")
	require.NoError(t, os.MkdirAll(filepath.Join(disk, "hd1", "gantry"), 0o755))
	at := stand(t, "corvane", disk) + "hd1"
	b, err := bench.Load(w.Bench)
	require.NoError(t, err)
	b.Targets = append(b.Targets, bench.Target{Name: "Corvane", At: at, Loader: "gantry", Via: "ftp"})
	require.NoError(t, b.Save())
	out := ok(t, "connections", "--bench", w.Bench)
	assert.Contains(t, out, "North stick (Vesper, Rowan)\n  via      usb: carried by hand")
	assert.Contains(t, out, "Corvane (Corvane, Gantry)\n  via      ftp: this computer itself")
	assert.Contains(t, out, "answers on port")
	assert.Contains(t, out, "on       the Corvane, with its FTP server running")
	out = ok(t, "connections", "cable", "--bench", w.Bench, "--target", "Corvane", "--interface", "lo", "--system",
		"windows")
	assert.Contains(t, out, "Set on this computer:")
	assert.Contains(t, out, "255.255.255.0")
	assert.Contains(t, out, "Afterwards, set back:")
	status, out, _ := polytome(t, "connections", "--bench", w.Bench, "--target", "Corvane")
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, out, "this computer is not in the cable's network yet")
	out = ok(t, "connections", "cable", "--bench", w.Bench, "--target", "Corvane", "--back")
	assert.Contains(t, out, "Corvane is "+at+" again.")
	status, _, stderr := polytome(t, "connections", "cable", "--bench", w.Bench, "--target", "North stick")
	assert.Equal(t, statusUsage, status)
	assert.Contains(t, stderr, "only a target over a network can have a direct cable")
}

// TestWhatDoesNotStartIsNotThere spoils files that a fill takes for there by their names and lengths: the fill says
// that they do not start and how they are put right, and does so where it is asked to.
func TestWhatDoesNotStartIsNotThere(t *testing.T) {
	dir := t.TempDir()
	games, stick := filepath.Join(dir, "games"), filepath.Join(dir, "stick")
	require.NoError(t, os.MkdirAll(stick, 0o755))
	for _, disc := range []string{"1", "2"} {
		sheet := "Two Tides (Disc " + disc + ")"
		coretest.Write(t, games, sheet+".cue",
			[]byte("FILE \""+sheet+".bin\" BINARY\n  TRACK 01 MODE1/2048\n    INDEX 01 00:00:00\n"))
		coretest.Write(t, games, sheet+".bin", coretest.Volume(t, "LAP_0001"+disc))
	}
	coretest.Write(t, games, "Ropewalk.w8", demo.Cartridge("WREN", "Ropewalk"))
	coretest.Write(t, stick, "bellows/start.bin", []byte("x"))
	fill := func(more ...string) (int, string) {
		status, out, errs := polytome(t, append([]string{"fill", "--from", games, "--loader", "bellows", "--to", stick,
			"--as", "fat32"}, more...)...)
		return status, out + errs
	}
	status, out := fill()
	require.Zero(t, status, out)
	spoilt := map[string][]byte{
		"Carts/wren8/Ropewalk.w8":                 append([]byte("XXXX"), demo.Cartridge("WREN", "Ropewalk")[4:]...),
		"Titles/Two Tides/Two Tides.m3u":          nil,
		"Titles/Two Tides/Two Tides (Disc 1).cue": nil,
	}
	whole := map[string][]byte{}
	for name, data := range spoilt {
		at := filepath.Join(stick, name)
		was, err := os.ReadFile(at)
		require.NoError(t, err)
		whole[name] = was
		if data == nil && strings.HasSuffix(name, ".cue") {
			data = []byte(strings.Replace(string(was), "FILE", "FOLD", 1)) // edited, of the same length
		}
		require.NoError(t, os.WriteFile(at, data, 0o644))
	}
	status, out = fill()
	assert.Equal(t, 3, status, out)
	assert.Contains(t, out, "there, but not starting: 2 titles")
	assert.Contains(t, out, "fill --fix fixes 2 of them")
	_, out = fill("--dry-run")
	assert.Contains(t, out, "2 titles of these did not start at the last check", out)
	status, out = fill("--fix")
	assert.Zero(t, status, out)
	for name, was := range whole {
		is, err := os.ReadFile(filepath.Join(stick, name))
		require.NoError(t, err)
		assert.Equal(t, string(was), string(is), name)
	}
	status, out = fill()
	assert.Zero(t, status, out)
	assert.NotContains(t, out, "did not start")
}

// TestOneChecklist has a fill and the checklist's own command say the same.
func TestOneChecklist(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))
	games, stick := filepath.Join(dir, "games"), filepath.Join(dir, "stick")
	require.NoError(t, os.MkdirAll(stick, 0o755))
	for disc := range 2 {
		id := []string{"VSP-30001", "VSP-30002"}[disc]
		coretest.Write(t, games, id+".iso", coretest.Image(t, coretest.Inf(id, "Two Sails",
			[]string{"1/2", "2/2"}[disc], "full")))
	}
	coretest.Write(t, stick, "ROWAN/rowan.cfg", []byte("look=stick\nfaces=yes\n"))
	coretest.Write(t, stick, "ROWAN/rowan.run", []byte("x"))
	lines := func(out string) (all []string) {
		for line := range strings.Lines(out) {
			if m := checklistLine.FindStringSubmatch(line); m != nil {
				all = append(all, m[1])
			}
		}
		return all
	}
	for range 2 { // the first time, and again
		_, out, errs := polytome(t, "fill", "--from", games, "--loader", "rowan", "--to", stick, "--as", "fat32")
		_, after, ok := strings.Cut(out, "At the console:")
		require.True(t, ok, out+errs)
		_, list, _ := polytome(t, "checklist", "--from", games, "--loader", "rowan", "--to", stick, "--as", "fat32")
		require.NotEmpty(t, lines(after))
		assert.Equal(t, lines(after), lines(list))
	}
}

var checklistLine = regexp.MustCompile(`^ *(?:\[ \] )?[0-9]+\. (.*)\n?$`)
