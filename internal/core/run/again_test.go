package run_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/target/folder"
)

// TestWhatWasDoneBeforeCounts: a run that goes on finds steps that an earlier one has done and could not write down any
// more. They count only where all is as the step makes it; where something else is there, it stays, and the step has
// failed.
func TestWhatWasDoneBeforeCounts(t *testing.T) {
	before := map[string]string{"old/a.iso": "game", "cfg": "old", "gone.iso": "gone"}
	for name, c := range map[string]struct {
		step   func(to *folder.Target) plan.Step
		change func(t *testing.T, dir string)
		done   bool
	}{
		"a move": {moved, func(t *testing.T, dir string) {
			require.NoError(t, os.Rename(filepath.Join(dir, "old/a.iso"), filepath.Join(dir, "a.iso")))
		}, true},
		"a move, and something else came there": {moved, func(t *testing.T, dir string) {
			require.NoError(t, os.Remove(filepath.Join(dir, "old/a.iso")))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "a.iso"), []byte("another"), 0o644))
		}, false},
		"a move, and a folder came there": {moved, func(t *testing.T, dir string) {
			require.NoError(t, os.Remove(filepath.Join(dir, "old/a.iso")))
			require.NoError(t, os.Mkdir(filepath.Join(dir, "a.iso"), 0o755))
		}, false},
		"a move, and both are there": {moved, func(t *testing.T, dir string) {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "a.iso"), []byte("game"), 0o644))
		}, false},
		"a move of what is gone": {moved,
			func(t *testing.T, dir string) { require.NoError(t, os.Remove(filepath.Join(dir, "old/a.iso"))) }, false},
		"a file": {func(*folder.Target) plan.Step { return text("new.txt", "new") }, func(t *testing.T, dir string) {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "new.txt"), []byte("new"), 0o644))
		}, true},
		"a file of other bytes": {func(*folder.Target) plan.Step { return text("new.txt", "new") },
			func(t *testing.T, dir string) {
				require.NoError(t, os.WriteFile(filepath.Join(dir, "new.txt"), []byte("old"), 0o644))
			}, false},
		"a replacement": {func(to *folder.Target) plan.Step {
			return plan.Step{Kind: plan.Replace, Path: "cfg", Make: written("newer"), Size: 5, Was: was(t, to, "cfg")}
		}, func(t *testing.T, dir string) {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "cfg"), []byte("newer"), 0o644))
		}, true},
		"a replacement of what somebody else has changed": {func(to *folder.Target) plan.Step {
			return plan.Step{Kind: plan.Replace, Path: "cfg", Make: written("newer"), Size: 5, Was: was(t, to, "cfg")}
		}, func(t *testing.T, dir string) {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "cfg"), []byte("by hand"), 0o644))
		}, false},
		"a removal": {func(to *folder.Target) plan.Step {
			return plan.Step{Kind: plan.Remove, Path: "gone.iso", Was: was(t, to, "gone.iso")}
		}, func(t *testing.T, dir string) { require.NoError(t, os.Remove(filepath.Join(dir, "gone.iso"))) }, true},
		"a removal of what somebody else has changed": {func(to *folder.Target) plan.Step {
			return plan.Step{Kind: plan.Remove, Path: "gone.iso", Was: was(t, to, "gone.iso")}
		}, func(t *testing.T, dir string) {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "gone.iso"), []byte("it is mine"), 0o644))
		}, false},
	} {
		t.Run(name, func(t *testing.T) {
			dir, to := stick(t, before)
			p := &plan.Plan{Steps: []plan.Step{c.step(to)}}
			c.change(t, dir)
			there := onTarget(t, dir)
			r := run.Run(context.Background(), p, to, run.Options{Again: true}, func(run.Event) {})
			assert.Equal(t, c.done, r.All(), r.Failed)
			assert.Equal(t, there, onTarget(t, dir), "nothing that lies there is touched")
			r = run.Run(context.Background(), p, to, run.Options{}, func(run.Event) {})
			assert.False(t, r.All(), "a run that is the first to do it has failed")
			assert.Equal(t, there, onTarget(t, dir))
		})
	}
}

// moved is a move of a file to the top.
func moved(to *folder.Target) plan.Step {
	e, _ := to.Stat(context.Background(), "old/a.iso")
	return plan.Step{Kind: plan.Move, Path: "a.iso", From: "old/a.iso", Was: &e}
}
