package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/testkit/judge"
)

// paperText is what a foreign program reads in a PDF, with its lines put together.
func paperText(t *testing.T, file string) string {
	return strings.Join(strings.Fields(judge.Run(t, "pdftotext", file, "-")), " ")
}

func TestEveryKindIsDrawnFromABench(t *testing.T) {
	w := halls(t)
	dir := t.TempDir()
	for _, c := range []struct {
		args []string
		says []string
	}{
		{[]string{"rack"}, []string{"The rack", "North stick", "Ferry share", "reserve", "does not fit",
			"All to one scale", "together", "By platform"}},
		{[]string{"fit"}, []string{"What goes where, and why not", "Copper Tide", "Why not",
			"its track file Fog Signal.bin is missing", "put the file beside the cue sheet"}},
		{[]string{"tree", "--target", "North stick"}, []string{"The tree of North stick", "FULL/", "what happens to it",
			"kept"}},
		{[]string{"card", "--target", "North stick", "--fold", "eighth"}, []string{"Contents of North stick",
			"fold at the dashed lines, to 74 x 105 mm", "VSP-21344", "Mistral Halt", "At the console",
			"Switch the console on and start Rowan"}},
		{[]string{"card", "--collection", "--paper", "letter"}, []string{"fold at the dashed lines, to 108 x 140 mm",
			"Hollow Lane", "Two Tides"}},
		{[]string{"checklist"}, []string{"At the console", "Hall pocket", "Plug the stick into the lower port",
			"done on"}},
		{[]string{"connections"}, []string{"What is plugged into what", "Corvane disk", "carried by hand"}},
		{[]string{"run"}, []string{"There was no run yet on this bench."}},
	} {
		file := filepath.Join(dir, strings.ReplaceAll(strings.Join(c.args, " "), " ", "-"))
		for _, ext := range []string{".pdf", ".svg"} {
			status, out, stderr := polytome(t, append([]string{"draw", "--bench", w.Bench, "--date", "2026-03-14", "-o",
				file + ext}, c.args...)...)
			require.Zero(t, status, "%s: %s", c.args, stderr)
			assert.Contains(t, out, "is in "+file+ext+", ")
		}
		judge.Run(t, "qpdf", "--check", file+".pdf")
		judge.Run(t, "xmllint", "--noout", file+".svg")
		text := paperText(t, file+".pdf") + judge.Run(t, "pdfinfo", file+".pdf")
		assert.Contains(t, text, "14 March 2026")
		for _, s := range c.says {
			assert.Contains(t, text, s, "%s", c.args)
		}
	}
	again := filepath.Join(dir, "again.pdf")
	ok(t, "draw", "rack", "--bench", w.Bench, "--date", "2026-03-14", "-o", again)
	judge.Run(t, "cmp", again, filepath.Join(dir, "rack.pdf"))
	var made struct {
		Kind, File string
		Pages      int
	}
	require.NoError(t, json.Unmarshal([]byte(ok(t, "draw", "fit", "--bench", w.Bench, "--only", "platform:vesper",
		"--json", "-o", filepath.Join(dir, "vesper.pdf"))), &made))
	assert.Equal(t, "fit", made.Kind)
	assert.Equal(t, filepath.Join(dir, "vesper.pdf"), made.File)
	assert.Contains(t, judge.Run(t, "pdfinfo", made.File), fmt.Sprintf("%d", made.Pages))
}

func TestTheMapOfADriveIsDrawnBeforeAndAfter(t *testing.T) {
	w := halls(t)
	image, dir := filepath.Join(w.Dir, "drives", "north-58.img"), t.TempDir()
	before, err := os.Stat(image)
	require.NoError(t, err)
	ok(t, "draw", "map", image, "-o", filepath.Join(dir, "map.pdf"))
	text := paperText(t, filepath.Join(dir, "map.pdf"))
	for _, s := range []string{"What is stored where on north-58.img", "2 files fragmented", "Afterwards",
		"every file is contiguous", "Gannet Patrol", "fragment 2 of 3", "From the beginning to the end"} {
		assert.Contains(t, text, s)
	}
	assert.Contains(t, ok(t, "drives", "map", image), "2 fragmented files", "it was a rehearsal only")
	ok(t, "draw", "map", image, "--ready-for", "bellows", "-o", filepath.Join(dir, "ready.pdf"))
	text = paperText(t, filepath.Join(dir, "ready.pdf"))
	for _, s := range []string{"This will be lost: 6 titles for Rowan", "is lost", "is made", "PIPIT FAT32", "Steps",
		"write a partition table"} {
		assert.Contains(t, text, s)
	}
	after, err := os.Stat(image)
	require.NoError(t, err)
	assert.Equal(t, before.ModTime(), after.ModTime(), "nothing was written")
}

func TestARunIsCharted(t *testing.T) {
	file, stick := smallBench(t)
	require.NoError(t, os.MkdirAll(filepath.Join(stick, "FULL"), 0o755))
	ok(t, "fill", "--bench", file)
	out := filepath.Join(t.TempDir(), "run.pdf")
	ok(t, "draw", "run", "--bench", file, "-o", out)
	text := paperText(t, out)
	for _, s := range []string{"How it ran", "Stick", "complete", "read back", "Nothing unusual happened"} {
		assert.Contains(t, text, s)
	}
	newest := filepath.Join(t.TempDir(), "newest.svg")
	ok(t, "draw", "run", "-o", newest)
	assert.FileExists(t, newest)
	status, _, stderr := polytome(t, "draw", "run", "--run", "99999", "-o", filepath.Join(t.TempDir(), "x.pdf"))
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "no run with that number: 99999")
}

func TestATargetWithoutSourcesHasACardOfWhatItLists(t *testing.T) {
	w := halls(t)
	out := filepath.Join(t.TempDir(), "card.pdf")
	ok(t, "draw", "card", "--loader", "bellows", "--also-for", "mica", "--to", filepath.Join(w.Dir, "hall-pocket"),
		"--as", "fat32", "--capacity", "28GiB", "-o", out)
	text := paperText(t, out)
	assert.Contains(t, text, "Bellows and Mica")
	for _, s := range []string{"Contents of hall-pocket", "Snipe Hunt", "Ebb Choir", "Tollhouse Tales (2 discs)",
		"SKU-0044", "At the console", "Plug the stick into the lower port"} {
		assert.Contains(t, text+judge.Run(t, "pdfinfo", out), s)
	}
}

func TestDrawingsThatCannotBe(t *testing.T) {
	w := halls(t)
	dir := t.TempDir()
	there, full := filepath.Join(dir, "mine.pdf"), judge.Mount(t, "size=16k")
	require.NoError(t, os.WriteFile(there, []byte("mine"), 0o644))
	out := filepath.Join(dir, "x.pdf")
	for name, c := range map[string]struct {
		args   []string
		status int
		say    string
	}{
		"no kind": {[]string{"-o", out}, 2,
			"needs a kind of drawing: rack, map, tree, connections, card, run, fit, checklist"},
		"unknown kind": {[]string{"poster", "-o", out}, 2, `unknown drawing "poster"; use one of: rack`},
		"unknown paper": {[]string{"rack", "--bench", w.Bench, "--paper", "a3", "-o", out}, 2,
			`--paper: unknown paper "a3": did you mean`},
		"unknown fold": {[]string{"card", "--bench", w.Bench, "--fold", "third", "-o", out}, 2,
			`--fold: unknown fold "third"; use one of: quarter`},
		"no date": {[]string{"rack", "--bench", w.Bench, "--date", "yesterday", "-o", out}, 2,
			`--date: "yesterday" is not a date; write it like 2026-03-14`},
		"no file": {[]string{"rack", "--bench", w.Bench}, 2, "-o FILE is needed"},
		"another extension": {[]string{"rack", "--bench", w.Bench, "-o", filepath.Join(dir, "x.png")}, 2,
			"a drawing must be a .pdf or .svg file"},
		"no such folder": {[]string{"rack", "--bench", w.Bench, "-o", filepath.Join(dir, "no", "x.pdf")}, 1,
			"the folder " + filepath.Join(dir, "no") + " does not exist; create it first"},
		"a folder": {[]string{"rack", "--bench", w.Bench, "-o", mkdir(t, dir, "folder.pdf")}, 1,
			"is a folder; name a file in it"},
		"it is there": {[]string{"rack", "--bench", w.Bench, "-o", there}, 1,
			"mine.pdf already exists; replace it with --overwrite"},
		"which target": {[]string{"tree", "--bench", w.Bench, "-o", out}, 2,
			"name it with --target; the bench has: North stick, Ferry share"},
		"no such bench": {[]string{"rack", "--bench", filepath.Join(dir, "no.toml"), "-o", out}, 1,
			"there is no bench"},
		"a folder has no map": {[]string{"map", "--bench", w.Bench, "--target", "North stick", "-o", out}, 1,
			"only the map of a drive or image can be drawn"},
		"no such drive": {[]string{"map", filepath.Join(dir, "no.img"), "-o", out}, 1, "no.img"},
		"a bare drive": {[]string{"map", filepath.Join(w.Dir, "drives", "quay-28.img"), "-o", out}, 1,
			"has no volume to fill"},
		"ready for nobody": {[]string{"map", filepath.Join(w.Dir, "drives", "quay-28.img"), "--ready-for", "rowna",
			"-o", out}, 2, `did you mean "rowan"?`},
		"ready what": {[]string{"rack", "--bench", w.Bench, "--ready-for", "rowan", "-o", out}, 2,
			"--ready-for needs the map of a drive"},
		"extra word": {[]string{"rack", "x", "-o", out}, 2, `unexpected argument "x"`},
		"a full disk": {[]string{"fit", "--bench", w.Bench, "-o", filepath.Join(full, "x.pdf")}, 1,
			"cannot be written: "},
		"nothing to read from": {[]string{"fit", "-o", out}, 2, "--loader NAME, --to TARGET needed"},
	} {
		t.Run(name, func(t *testing.T) {
			status, printed, stderr := polytome(t, append([]string{"draw"}, c.args...)...)
			assert.Equal(t, c.status, status, printed+stderr)
			assert.Contains(t, stderr, c.say)
		})
	}
	data, err := os.ReadFile(there)
	require.NoError(t, err)
	assert.Equal(t, "mine", string(data))
	assert.Equal(t, []string{"folder.pdf", "mine.pdf"}, namesIn(t, dir), "no half file")
	assert.Empty(t, namesIn(t, full), "no half file")

	ok(t, "draw", "rack", "--bench", w.Bench, "-o", there, "--overwrite")
	judge.Run(t, "qpdf", "--check", there)

	sealed := reachable(t, t.TempDir())
	reachable(t, w.Dir)
	require.NoError(t, os.Chmod(filepath.Dir(binary), 0o755))
	require.NoError(t, os.Chmod(w.Bench, 0o644)) // it is saved for its owner alone
	cmd := restricted("draw", "rack", "--bench", w.Bench, "-o", filepath.Join(sealed, "x.pdf"))
	cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+filepath.Join(os.TempDir(), "nowhere"),
		"XDG_CACHE_HOME="+filepath.Join(os.TempDir(), "nowhere"))
	status, _, stderr := finish(t, cmd)
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "permission denied")
	assert.Empty(t, namesIn(t, sealed))
}

func mkdir(t *testing.T, dir, name string) string {
	require.NoError(t, os.Mkdir(filepath.Join(dir, name), 0o755))
	return filepath.Join(dir, name)
}

func TestAnEmptyBenchIsDrawn(t *testing.T) {
	dir := t.TempDir()
	b := bench.New(filepath.Join(dir, "empty.toml"))
	b.Sources = []bench.Source{{Path: t.TempDir()}}
	require.NoError(t, b.Save())
	for kind, say := range map[string]string{"rack": "The bench has no target yet",
		"fit": "The bench has no target yet", "connections": "nothing is connected to this computer",
		"checklist": "nothing to do at a console",
		"run":       "There was no run yet", "tree": "Nothing is on this target", "card": "There are no titles",
		"map": "There is no volume to draw"} {
		file := filepath.Join(dir, kind+".pdf")
		status, _, stderr := polytome(t, "draw", kind, "--bench", b.File(), "-o", file)
		require.Zero(t, status, "%s: %s", kind, stderr)
		assert.Contains(t, paperText(t, file), say, kind)
	}
}
