package run_test

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/drive"
	"polytome/internal/testkit/judge"
)

// counted counts how often a drive is waited for, and what is changed without waiting.
type counted struct {
	*drive.Target
	held     bool
	settled  int
	unheld   int
	made     int
	settling error
	making   func(n int)
	settles  func()
}

func (c *counted) Hold() { c.held = true; c.Target.Hold() }

func (c *counted) Settle(ctx context.Context) error {
	c.held = false
	c.settled++
	if c.settles != nil {
		c.settles()
	}
	if c.settling != nil {
		return c.settling
	}
	return c.Target.Settle(ctx)
}

func (c *counted) MakeFolder(ctx context.Context, name string) error {
	if !c.held {
		c.unheld++
	}
	c.made++
	if c.making != nil {
		c.making(c.made)
	}
	return c.Target.MakeFolder(ctx, name)
}

func (c *counted) Remove(ctx context.Context, name string) error {
	if !c.held {
		c.unheld++
	}
	return c.Target.Remove(ctx, name)
}

// TestFoldersAndRemovalsWaitForTheMediumTogether makes folders and removes files of a drive, one of which has changed
// since the plan: that step alone fails, and the drive is waited for a few times only. When the drive does not take
// what was done, none of it is reported as done.
func TestFoldersAndRemovalsWaitForTheMediumTogether(t *testing.T) {
	img := filepath.Join(t.TempDir(), "stick.img")
	blank(t, img, 400*size.MiB)
	to := &counted{Target: openDrive(t, img)}
	p := &plan.Plan{}
	for i := range 40 {
		p.Steps = append(p.Steps, plan.Step{Kind: plan.MakeFolder, Path: fmt.Sprintf("A%d/B", i)})
	}
	for i := range 40 {
		p.Steps = append(p.Steps, text(fmt.Sprintf("A%d/B/x.txt", i), "some text"))
	}
	require.Empty(t, carry(t, p, to).Failed)
	assert.LessOrEqual(t, to.settled, 2)
	assert.Zero(t, to.unheld)

	p = &plan.Plan{}
	for i := range 40 {
		name := fmt.Sprintf("A%d/B/x.txt", i)
		p.Steps = append(p.Steps, plan.Step{Kind: plan.Remove, Path: name, Was: was(t, to, name)})
	}
	for i := range 40 {
		p.Steps = append(p.Steps, plan.Step{Kind: plan.RemoveFolder, Path: fmt.Sprintf("A%d/B", i)})
	}
	p.Steps[7].Was.Size++
	to.settled = 0
	r := carry(t, p, to)
	require.Len(t, r.Failed, 2)
	assert.Equal(t, 7, r.Failed[0].Step)
	assert.Equal(t, 47, r.Failed[1].Step, "a folder with a file in it stays")
	assert.Equal(t, 39, r.Removed)
	assert.LessOrEqual(t, to.settled, 4)
	assert.LessOrEqual(t, to.unheld, 2, "what is left alone behind one that failed")
	left, err := to.List(t.Context(), nil)
	require.NoError(t, err)
	assert.Len(t, left, 42)

	p = &plan.Plan{Steps: []plan.Step{{Kind: plan.MakeFolder, Path: "C"}, {Kind: plan.MakeFolder, Path: "D"}}}
	to.settling = target.ErrReadOnly
	done := 0
	r = run.Run(t.Context(), p, to, run.Options{}, func(e run.Event) {
		if e.Kind == run.Done {
			done++
		}
	})
	assert.Zero(t, done)
	assert.NotEmpty(t, r.Failed)
	require.NoError(t, to.Close())
	judge.Run(t, "fsck.fat", "-n", img)
}

// TestChangesStopWhereTheyArePaused pauses among many folders: those made by then last before anything waits, and the
// others come after it.
func TestChangesStopWhereTheyArePaused(t *testing.T) {
	img := filepath.Join(t.TempDir(), "stick.img")
	blank(t, img, 400*size.MiB)
	p := &plan.Plan{}
	for i := range 60 {
		p.Steps = append(p.Steps, plan.Step{Kind: plan.MakeFolder, Path: fmt.Sprintf("A%d", i)})
	}
	var lane *run.Lane
	ready := make(chan bool)
	to := &counted{Target: openDrive(t, img)}
	var events log
	to.making = func(n int) {
		if n == 21 {
			<-ready
			lane.Pause()
		}
	}
	var before []int
	to.settles = func() {
		before = append(before, to.made)
		go lane.Resume()
	}
	lane = run.Start(t.Context(), run.Job{Plan: p, Emit: events.emit, Options: run.Options{FirstWait: time.Millisecond},
		Open: func(context.Context) (target.Target, error) { return to, nil }})
	close(ready)
	require.Empty(t, lane.Wait().Failed)
	assert.Len(t, events.of(run.Done), 60)
	assert.Equal(t, []int{21, 60}, before)
}
