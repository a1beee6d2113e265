package draw_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/journal"
	"polytome/internal/core/run"
	"polytome/internal/draw"
	"polytome/internal/draw/scene"
	"polytome/internal/size"
	"polytome/internal/testkit/judge"
)

func TestALaneReportsWhatBecameOfItsRun(t *testing.T) {
	r := journal.Run{ID: 7, Target: "North stick", State: journal.NotAll, Began: season, Steps: 1200, Done: 1190,
		Written: 3 * size.GiB, Course: journal.Course{Span: time.Second, Elapsed: 3 * time.Second,
			Moments: []journal.Moment{{At: time.Second, Kind: run.Failed, Path: "FULL/a.iso",
				Say: "its drive was pulled"}},
			More: 2}, Speeds: []int64{size.MiB, 3 * size.MiB, 2 * size.MiB},
		Report: &run.Report{Put: 1100, Bytes: 4 * size.GiB, Resumed: size.GiB, Failed: []run.Failure{{}}, Skipped: 3,
			Untried: 6, Verify: run.VerifyFull, Elapsed: 3 * time.Second}}
	text := textOf(draw.RunsOf([]journal.Run{r}, nil).Draw(options("a4")))
	for _, want := range []string{"North stick", "not all · begun 14 March 2026, 00:00", "1,190 of 1,200 steps done",
		"1,100 files, 3.00 GiB written", "1.00 GiB were there from an earlier try", "1 failed", "3 skipped",
		"6 not tried", "read back", "took 3.0 s",
		"at best 3.00 MiB/s, on average 2.00 MiB/s", "its drive was pulled", "FULL/a.iso", "and 2 more"} {
		assert.Contains(t, text, want)
	}
	r.Report, r.Speeds, r.State, r.Course = nil, nil, journal.Broken, journal.Course{}
	text = textOf(draw.RunsOf([]journal.Run{r}, nil).Draw(options("a4")))
	for _, want := range []string{"interrupted", "3.00 GiB written", "no speed was recorded for this run",
		"Nothing unusual happened"} {
		assert.Contains(t, text, want)
	}
}

// TestOnlyRunsOfTheBenchAreCharted has runs of another bench, of another target, and an older one at the same target.
func TestOnlyRunsOfTheBenchAreCharted(t *testing.T) {
	dir := t.TempDir()
	b := bench.New(filepath.Join(dir, "season.toml"))
	b.Targets = []bench.Target{{Name: "North stick", At: "stick", Loader: "rowan"}, {Name: "Ferry share", At: "share",
		Loader: "rowan"}}
	at := func(id int64, target, address, of string) journal.Run {
		return journal.Run{ID: id, Target: target, At: filepath.Join(dir, address), Bench: of,
			Config: bench.Target{Name: target}, State: journal.Complete, Steps: int(id)}
	}
	file := filepath.Join(dir, "season.toml")
	runs := []journal.Run{at(5, "North stick", "stick", filepath.Join(dir, "other.toml")), at(4, "North stick", "stick",
		file), at(3, "North stick", "stick", file), at(2, "Attic", "attic", file)}
	c := draw.RunsOf(runs, b)
	require.Len(t, c.Lanes, 1)
	assert.Equal(t, "0 of 4 steps done", c.Lanes[0].Totals[0])
}

func TestAFileIsWrittenWholeOrNotAtAll(t *testing.T) {
	d := draw.Checklist{}.Draw(options("a4"))
	dir := t.TempDir()
	for name, say := range map[string]string{"x.png": "a drawing must be a .pdf or .svg file",
		"x": "a drawing must be a .pdf or .svg file", "no/x.pdf": "does not exist; create it first",
		"file/x.pdf": "is not a folder"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), nil, 0o644))
		assert.ErrorContains(t, draw.Save(filepath.Join(dir, name), d), say)
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "folder.svg"), 0o755))
	assert.ErrorContains(t, draw.Save(filepath.Join(dir, "folder.svg"), d), "is a folder; name a file in it")

	full := judge.Mount(t, "size=40k")
	old := filepath.Join(full, "x.svg")
	require.NoError(t, draw.Save(old, d))
	before, err := os.ReadFile(old)
	require.NoError(t, err)
	large := fitWith(60, 9).Draw(options("a4"))
	assert.ErrorContains(t, draw.Save(old, large), "no space left on device")
	after, err := os.ReadFile(old)
	require.NoError(t, err)
	assert.Equal(t, before, after, "what was there stays when its successor has no space")
	entries, err := os.ReadDir(full)
	require.NoError(t, err)
	assert.Len(t, entries, 1)

	// A picture that is none stops the file, and leaves none.
	broken := cardWith(1, draw.Folds[0], true).Draw(options("a4"))
	for _, item := range broken.Pages[0].Items {
		if p, ok := item.(*scene.Picture); ok {
			p.JPEG = []byte("no picture")
		}
	}
	assert.Error(t, draw.Save(filepath.Join(dir, "broken.pdf"), broken))
	assert.NoFileExists(t, filepath.Join(dir, "broken.pdf"))
	left, err := filepath.Glob(filepath.Join(dir, "*.begun"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestNamesOfKindsAndFolds(t *testing.T) {
	for _, k := range draw.Kinds {
		found, err := draw.KindNamed(" " + strings.ToUpper(string(k)) + " ")
		require.NoError(t, err)
		assert.Equal(t, k, found)
		assert.True(t, strings.HasPrefix(k.Words(), "the "), "%s has words", k)
	}
	_, err := draw.KindNamed("poster")
	assert.EqualError(t, err,
		`unknown drawing "poster"; use one of: rack, map, tree, connections, card, run, fit, checklist`)
	for _, f := range draw.Folds {
		found, err := draw.FoldNamed(f.Name)
		require.NoError(t, err)
		assert.Equal(t, f, found)
	}
	f, err := draw.FoldNamed("")
	require.NoError(t, err)
	assert.Equal(t, "quarter", f.Name)
	_, err = draw.FoldNamed("third")
	assert.EqualError(t, err, `unknown fold "third"; use one of: quarter, eighth, half, whole`)
}
