package run_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/shape"
	"polytome/internal/target"
	"polytome/internal/target/folder"
)

// stick is a folder with some files on it.
func stick(t *testing.T, files map[string]string) (string, *folder.Target) {
	dir := t.TempDir()
	for name, text := range files {
		f := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(f), 0o755))
		require.NoError(t, os.WriteFile(f, []byte(text), 0o644))
	}
	return dir, openTarget(t, dir, folder.Options{})
}

// was is what is on a target now.
func was(t *testing.T, p target.Target, path string) *target.Entry {
	e, err := p.Stat(context.Background(), path)
	require.NoError(t, err)
	return &e
}

func written(text string) *shape.Spec {
	return &shape.Spec{Shape: shape.Written, Text: shape.Text(text), Size: int64(len(text))}
}

func text(path, text string, needs ...int) plan.Step {
	return plan.Step{Kind: plan.Copy, Path: path, Make: written(text), Size: int64(len(text)), Needs: needs}
}

func carry(t *testing.T, p *plan.Plan, to target.Target) run.Report {
	return run.Run(context.Background(), p, to, run.Options{}, func(run.Event) {})
}

func TestMovingRemovingAndReplacing(t *testing.T) {
	dir, to := stick(t, map[string]string{"old/a.iso": "a", "gone.iso": "gone", "cfg": "old", "mine": "mine"})
	p := &plan.Plan{Steps: []plan.Step{
		{Kind: plan.MakeFolder, Path: "FULL"},
		{Kind: plan.Move, Path: "FULL/A.iso", From: "old/a.iso", Was: was(t, to, "old/a.iso")},
		{Kind: plan.Replace, Path: "cfg", Make: written("newer"), Size: 5, Was: was(t, to, "cfg")},
		{Kind: plan.Remove, Path: "gone.iso", Was: was(t, to, "gone.iso")},
		{Kind: plan.RemoveFolder, Path: "old"},
	}}
	r := carry(t, p, to)
	assert.Empty(t, r.Failed)
	assert.Equal(t, []int{1, 1, 1}, []int{r.Moved, r.Removed, r.Put})
	assert.Equal(t, map[string]string{"FULL/A.iso": "a", "cfg": "newer", "mine": "mine"}, onTarget(t, dir))
	assert.NoDirExists(t, filepath.Join(dir, "old"))
}

func TestATargetThatChangedSinceThePlanIsNotTouched(t *testing.T) {
	for name, change := range map[string]func(file string) error{
		"longer": func(f string) error { return os.WriteFile(f, []byte("somebody wrote here"), 0o644) },
		"newer":  func(f string) error { return os.Chtimes(f, time.Now(), time.Now().Add(time.Hour)) },
		"gone":   os.Remove,
		"a folder": func(f string) error {
			if err := os.Remove(f); err != nil {
				return err
			}
			return os.Mkdir(f, 0o755)
		},
	} {
		for _, kind := range []plan.Kind{plan.Remove, plan.Replace, plan.Move} {
			t.Run(name+" "+string(kind), func(t *testing.T) {
				dir, to := stick(t, map[string]string{"it": "as it was", "b": "b"})
				step := plan.Step{Kind: kind, Path: "it", Was: was(t, to, "it"), Make: written("x"), Size: 1}
				if kind == plan.Move {
					step.Path, step.From = "other", "it"
				}
				p := &plan.Plan{Steps: []plan.Step{step, text("next", "done")}}
				require.NoError(t, change(filepath.Join(dir, "it")))
				before := onTarget(t, dir)
				r := carry(t, p, to)
				require.Len(t, r.Failed, 1)
				assert.Contains(t, r.Failed[0].Say, "changed since the plan was made")
				assert.Contains(t, r.Failed[0].Say, "nothing was touched")
				after := onTarget(t, dir)
				assert.Equal(t, "done", after["next"], "the rest goes on")
				delete(after, "next")
				assert.Equal(t, before, after)
			})
		}
	}
}

func TestWhatNeedsAFailedStepIsNotDone(t *testing.T) {
	dir, to := stick(t, map[string]string{"there.iso": "in the way"})
	last := text("list.txt", "names both")
	last.Last = true
	p := &plan.Plan{Steps: []plan.Step{
		text("there.iso", "x"),     // fails: it is there already
		text("parts.toml", "x", 0), // needs it
		text("other.iso", "other"),
		text("other.txt", "other", 2),
		last,
	}}
	r := carry(t, p, to)
	assert.Len(t, r.Failed, 3)
	assert.Contains(t, r.Failed[1].Say, "not done, because there.iso failed; fix that")
	assert.Contains(t, r.Failed[2].Say, "every title it names", "a list never names what is not there")
	assert.Equal(t, map[string]string{"there.iso": "in the way", "other.iso": "other", "other.txt": "other"},
		onTarget(t, dir))
}

func TestWhatGoesIsKeptFirstAndCanBeRestore(t *testing.T) {
	ctx := context.Background()
	dir, to := stick(t, map[string]string{"FULL/a.iso": strings.Repeat("alpha", 100_000), "cfg": "old", "mine": "mine"})
	kept := filepath.Join(t.TempDir(), "kept")
	p := &plan.Plan{BackupTo: kept, Steps: []plan.Step{
		{Kind: plan.Backup, Path: "FULL/a.iso", Was: was(t, to, "FULL/a.iso")},
		{Kind: plan.Backup, Path: "cfg", Was: was(t, to, "cfg")},
		{Kind: plan.Remove, Path: "FULL/a.iso", Was: was(t, to, "FULL/a.iso"), Needs: []int{0}},
		{Kind: plan.Replace, Path: "cfg", Make: written("new"), Size: 3, Was: was(t, to, "cfg"), Needs: []int{1}},
		{Kind: plan.RemoveFolder, Path: "FULL"},
	}}
	before := onTarget(t, dir)
	r := carry(t, p, to)
	require.Empty(t, r.Failed)
	assert.Equal(t, 2, r.Kept)
	assert.Equal(t, map[string]string{"cfg": "new", "mine": "mine"}, onTarget(t, dir))
	list, err := run.LoadKept(kept)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "FULL/a.iso", list[0].Path)

	back, err := run.Restore(ctx, kept, to, false)
	require.NoError(t, err)
	assert.Equal(t, []string{"cfg already exists, and stays"}, back.Notes)
	back, err = run.Restore(ctx, kept, to, true)
	require.NoError(t, err)
	require.Empty(t, carry(t, back, to).Failed)
	assert.Equal(t, before, onTarget(t, dir), "everything is as it was")

	// a copy that was damaged is not put back, and the rest is
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "FULL")))
	require.NoError(t, os.WriteFile(filepath.Join(kept, "files", "FULL", "a.iso"), []byte("rotten"), 0o644))
	back, err = run.Restore(ctx, kept, to, true)
	require.NoError(t, err)
	assert.Contains(t, back.Notes[0], "its copy is damaged")
	assert.Equal(t, 1, back.Files)

	_, err = run.LoadKept(dir)
	assert.ErrorContains(t, err, "001 is not a backup: there is no kept")
	for bad, say := range map[string]string{`{"path":"../../etc/passwd"}`: "path inside the target",
		"{broken\n{}": "line 1"} {
		require.NoError(t, os.WriteFile(filepath.Join(kept, run.KeptList), []byte(bad+"\n"), 0o644))
		_, err = run.LoadKept(kept)
		assert.ErrorContains(t, err, say)
	}
	require.NoError(t, os.WriteFile(filepath.Join(kept, run.KeptList),
		[]byte(`{"path":"a","size":1}`+"\n"+`{"path":"b","si`), 0o644))
	list, err = run.LoadKept(kept)
	require.NoError(t, err, "a line that a killed run left unfinished is skipped")
	assert.Len(t, list, 1)
}

func TestNothingGoesWhenItsCopyCannotBeMade(t *testing.T) {
	dir, to := stick(t, map[string]string{"a.iso": "alpha"})
	file := filepath.Join(t.TempDir(), "no folder")
	require.NoError(t, os.WriteFile(file, nil, 0o644))
	p := &plan.Plan{BackupTo: file, Steps: []plan.Step{
		{Kind: plan.Backup, Path: "a.iso", Was: was(t, to, "a.iso")},
		{Kind: plan.Remove, Path: "a.iso", Was: was(t, to, "a.iso"), Needs: []int{0}},
	}}
	r := carry(t, p, to)
	assert.Len(t, r.Failed, 2)
	assert.Equal(t, map[string]string{"a.iso": "alpha"}, onTarget(t, dir))
}

func TestTimesOfARunAreReported(t *testing.T) {
	p, _ := files(t, 100, 200, 8<<20)
	r := carry(t, p, openTarget(t, t.TempDir(), folder.Options{}))
	assert.Equal(t, 2, r.Small.Files)
	assert.Equal(t, 1, r.Large.Files)
	assert.EqualValues(t, 8<<20, r.Large.Bytes)
	assert.Positive(t, r.Large.Took)
}

func FuzzLoadKept(f *testing.F) {
	f.Add([]byte(`{"path":"FULL/a.iso","size":5,"modified":"2026-03-14T09:26:52Z","sum":"00"}` + "\n"))
	f.Add([]byte(`{"path":"../x"}` + "\n" + `{"pa`))
	f.Fuzz(func(t *testing.T, text []byte) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, run.KeptList), text, 0o644))
		kept, err := run.LoadKept(dir)
		if err != nil {
			return
		}
		for _, k := range kept {
			require.True(t, filepath.IsLocal(filepath.FromSlash(k.Path)), "nothing is put outside of a target: %q",
				k.Path)
		}
	})
}
