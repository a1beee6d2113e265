package journal_test

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/journal"
	"polytome/internal/core/run"
)

// TestTheSpeedsAddUpToWhatWasWritten tells a journal of runs of any length and looks that its speeds, each for its
// span, are all that was written.
func TestTheSpeedsAddUpToWhatWasWritten(t *testing.T) {
	j := open(t, filepath.Join(t.TempDir(), "runs.sqlite"))
	p := steps(t, 1<<20)
	rapid.Check(t, func(t *rapid.T) {
		b := begin("/media/stick")
		b.Plan, b.Verify = p, run.VerifyFull
		rec, err := j.Begin(b)
		require.NoError(t, err)
		var at time.Duration
		var total, gone int64
		rec.Event(run.Event{Kind: run.Began, Step: 1})
		if rapid.Bool().Draw(t, "gone on") { // what was there from an earlier try was not written now
			gone = rapid.Int64Range(1, 1<<30).Draw(t, "gone")
			total = gone
			rec.Event(run.Event{Kind: run.Resuming, Step: 1, Path: "FULL/0.iso", Bytes: gone, Total: gone})
		}
		longest := rapid.SampledFrom([]time.Duration{5 * time.Millisecond, time.Second, 10 * time.Minute}).
			Draw(t, "longest")
		for range rapid.IntRange(1, 200).Draw(t, "events") {
			at += time.Duration(rapid.Int64Range(0, int64(longest)).Draw(t, "step"))
			total += rapid.Int64Range(0, 64<<20).Draw(t, "bytes")
			rec.Event(run.Event{Kind: run.Progress, Step: 1, Total: total, Elapsed: at})
		}
		// It ends later than the last bytes came, so that the last span is over.
		whole := at + time.Hour
		require.NoError(t, rec.End(run.Report{Elapsed: whole, Put: 1, Done: 2}))
		r, _, err := j.Run(rec.ID())
		require.NoError(t, err)
		require.LessOrEqual(t, len(r.Speeds), 600, "a long run has no more of them")
		require.Equal(t, whole, r.Course.Elapsed)
		sum := 0.0
		for _, v := range r.Speeds {
			require.GreaterOrEqual(t, v, int64(0))
			sum += float64(v) * r.Course.Span.Seconds()
		}
		require.InDelta(t, float64(total-gone), sum, float64(total)/1000+600)
		require.LessOrEqual(t, time.Duration(len(r.Speeds)-1)*r.Course.Span, max(at, time.Millisecond),
			"none is of a time that had not come")
		if gone > 0 {
			require.Len(t, r.Course.Moments, 1)
			require.Equal(t, run.Resuming, r.Course.Moments[0].Kind)
		}
	})
}

// TestMomentsAreKeptInTheirOrder describes everything that can happen, and of more than is kept.
func TestMomentsAreKeptInTheirOrder(t *testing.T) {
	j := open(t, filepath.Join(t.TempDir(), "runs.sqlite"))
	p := steps(t, 100)
	b := begin("/media/stick")
	b.Plan = p
	rec, err := j.Begin(b)
	require.NoError(t, err)
	reported := []run.EventKind{run.Began, run.Progress, run.Paused, run.Resumed, run.PutOff, run.Waiting, run.Back,
		run.Checking, run.Rewriting, run.Failed, run.Skipped, run.Reordered, run.Done}
	for i, kind := range reported {
		rec.Event(run.Event{Kind: kind, Step: 1, Path: "FULL/0.iso", Say: "why " + string(kind),
			Elapsed: time.Duration(i) * time.Second})
	}
	all, err := j.Runs(1)
	require.NoError(t, err)
	assert.Equal(t, journal.Resuming, all[0].State)
	assert.NotZero(t, all[0].Course.Span, "a run that goes on has a course, too")
	for range 400 {
		rec.Event(run.Event{Kind: run.Waiting, Elapsed: time.Minute, Say: "the target went away"})
	}
	require.NoError(t, rec.End(run.Report{Elapsed: time.Hour}))
	r, _, err := j.Run(rec.ID())
	require.NoError(t, err)
	require.Len(t, r.Course.Moments, 300)
	assert.Equal(t, 8+400-300, r.Course.More, "those that are not kept are counted")
	want := []run.EventKind{run.Paused, run.Resumed, run.PutOff, run.Waiting, run.Back, run.Rewriting, run.Failed,
		run.Skipped}
	for i, kind := range want {
		m := r.Course.Moments[i]
		assert.Equal(t, kind, m.Kind)
		assert.Equal(t, "why "+string(kind), m.Say)
		assert.Equal(t, "FULL/0.iso", m.Path)
		if i > 0 {
			assert.GreaterOrEqual(t, m.At, r.Course.Moments[i-1].At)
		}
	}
}
