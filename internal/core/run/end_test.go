package run_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/run"
	"polytome/internal/target"
	"polytome/internal/target/folder"
)

// TestSteeringNeverWaitsForWhoTakesEvents: the interface pauses, skips and reorders while no one takes events, as it is
// itself the one who does.
func TestSteeringNeverWaitsForWhoTakesEvents(t *testing.T) {
	p, want := files(t, 8<<20, 3<<20, 2<<20, 100)
	titled(p)
	dir := t.TempDir()
	events := make(chan run.Event) // like a screen that is drawing
	l := run.Start(t.Context(), into(p, dir, func(e run.Event) { events <- e }))
	<-events // the run waits with the next one from now on
	steered := make(chan struct{})
	go func() {
		defer close(steered)
		for range 20 {
			l.Pause()
			l.Later(2)
			l.Sooner(3)
			l.Skip(4)
			l.Retry(4)
			l.Resume()
		}
	}()
	select {
	case <-steered:
	case <-time.After(time.Minute):
		t.Fatal("steering waits for somebody who waits for it")
	}
	go func() {
		for range events { //nolint:revive // they are taken from now on
		}
	}()
	r := l.Wait()
	assert.True(t, r.All(), "%+v", r.Failed)
	assert.Len(t, onTarget(t, dir), len(want))
}

// TestSkippingInAPauseGoesOnPausing: the file under way is skipped, and the pause stays one.
func TestSkippingInAPauseGoesOnPausing(t *testing.T) {
	p, _ := files(t, 8<<20, 6<<20, 4<<20)
	titled(p)
	dir := t.TempDir()
	var l *run.Lane
	ready := make(chan struct{})
	events := &log{}
	skipped, begun := make(chan struct{}), make(chan struct{})
	var once atomic.Bool
	events.on = func(e run.Event) {
		switch {
		case e.Kind == run.Progress && e.Step == 1 && once.CompareAndSwap(false, true):
			<-ready
			l.Pause()
			l.Skip(1)
		case e.Kind == run.Skipped:
			close(skipped)
		case e.Kind == run.Began && e.Step == 2:
			close(begun)
		}
	}
	j := into(p, dir, events.emit)
	j.Limit = 40 << 20
	l = run.Start(t.Context(), j)
	close(ready)
	<-skipped
	assert.Empty(t, events.of(run.Resumed), "nobody asked to resume")
	assert.NotContains(t, events.of(run.Began), 2)
	l.Resume()
	<-begun
	r := l.Wait()
	assert.Equal(t, 1, r.Skipped)
	assert.Equal(t, 2, r.Put)
}

// TestAStepOfAGroupIsSkippedBeforeItsTurn: small files are taken in groups; one that was not begun can still be
// skipped, and tried again.
func TestAStepOfAGroupIsSkippedBeforeItsTurn(t *testing.T) {
	for _, again := range []bool{false, true} {
		p, _ := files(t, 100, 200, 300, 400, 500, 600)
		titled(p)
		dir := filepath.Join(t.TempDir(), "drive.img")
		blank(t, dir, 512<<20)
		var l *run.Lane
		ready := make(chan struct{})
		events := &log{}
		events.on = func(e run.Event) {
			if e.Kind == run.Began && e.Step == 2 {
				<-ready
				l.Skip(5)
				if again {
					l.Retry(5)
				}
			}
		}
		j := into(p, "", events.emit)
		j.Open = func(context.Context) (target.Target, error) { return openDrive(t, dir), nil }
		l = run.Start(t.Context(), j)
		close(ready)
		r := l.Wait()
		assert.Contains(t, events.of(run.Skipped), 5)
		if again {
			assert.True(t, r.All(), "%+v", r)
			assert.Equal(t, 6, r.Put)
			continue
		}
		assert.Equal(t, 1, r.Skipped)
		assert.Equal(t, 5, r.Put)
		assert.NotContains(t, events.of(run.Began), 5)
		to := openDrive(t, dir)
		_, err := to.Stat(t.Context(), p.Steps[5].Path)
		assert.ErrorIs(t, err, os.ErrNotExist)
		require.NoError(t, to.Close())
	}
}

// closing is a folder whose last bytes are written when it is closed.
type closing struct {
	*folder.Target
	err    error
	closed *atomic.Bool
}

func (c *closing) Close() error {
	time.Sleep(20 * time.Millisecond)
	c.closed.Store(true)
	return errors.Join(c.Target.Close(), c.err)
}

// TestTheEndIsReportedWhenAllIsClosed: what closing says belongs to the report, and no one hears of an end before it.
func TestTheEndIsReportedWhenAllIsClosed(t *testing.T) {
	for _, wrong := range []error{nil, errors.New("the last sector could not be written")} {
		p, want := files(t, 100, 2<<20)
		dir := t.TempDir()
		var closed, over atomic.Bool
		j := into(p, dir, func(e run.Event) {
			if e.Kind == run.Ended {
				assert.True(t, closed.Load(), "the end is reported before the target is closed")
			}
		})
		j.Open = func(context.Context) (target.Target, error) {
			f, err := folder.Open(dir, folder.Options{})
			return &closing{f, wrong, &closed}, err
		}
		var reported run.Report
		j.Over = func(r run.Report) {
			assert.True(t, closed.Load(), "it is over before the target is closed")
			reported = r
			over.Store(true)
		}
		r := run.Start(t.Context(), j).Wait()
		require.True(t, over.Load())
		assert.Equal(t, reported, r, "both hear the same")
		assert.Len(t, onTarget(t, dir), len(want))
		if wrong == nil {
			assert.True(t, r.All())
			continue
		}
		require.False(t, r.All(), "what did not reach the medium is not done")
		require.Len(t, r.Failed, 1)
		assert.Contains(t, r.Failed[0].Say, "ejecting the target: the last sector could not be written")
	}
}

// slip is a target with a mistake of ours in it.
type slip struct{ *folder.Target }

func (s slip) Create(ctx context.Context, path string, size int64) (target.Writer, error) {
	if size == 300 {
		panic("a slip")
	}
	return s.Target.Create(ctx, path, size)
}

// TestAMistakeFailsItsStepOnly: the other files arrive, and the program goes on.
func TestAMistakeFailsItsStepOnly(t *testing.T) {
	p, _ := files(t, 100, 2<<20, 300, 3<<20)
	titled(p)
	dir := t.TempDir()
	j := into(p, dir, nil)
	j.Open = func(context.Context) (target.Target, error) {
		f, err := folder.Open(dir, folder.Options{})
		return slip{f}, err
	}
	r := run.Start(t.Context(), j).Wait()
	require.Len(t, r.Failed, 1)
	assert.Contains(t, r.Failed[0].Say, "failed because of a bug in Polytome: a slip")
	assert.Equal(t, 3, r.Put)
	assert.Equal(t, []int{r.Failed[0].Step}, slices.Collect(func(yield func(int) bool) {
		for i := range r.Undone {
			yield(i)
		}
	}))
}
