package journal_test

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"polytome/internal/core/bench"
	"polytome/internal/core/journal"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/target"
	"polytome/internal/target/folder"
)

func open(t testing.TB, file string) *journal.Journal {
	j, err := journal.Open(file)
	require.NoError(t, err)
	t.Cleanup(func() { j.Close() })
	return j
}

// steps is a plan of a folder and some files.
func steps(t testing.TB, lengths ...int) *plan.Plan {
	p := &plan.Plan{Steps: []plan.Step{{Kind: plan.MakeFolder, Path: "FULL"}}, Files: len(lengths)}
	dir := t.TempDir()
	for i, n := range lengths {
		file := filepath.Join(dir, fmt.Sprint(i))
		data := make([]byte, n)
		for k := range data {
			data[k] = byte(k*31 + i)
		}
		require.NoError(t, os.WriteFile(file, data, 0o644))
		info, err := os.Stat(file)
		require.NoError(t, err)
		p.Steps = append(p.Steps, plan.Step{Kind: plan.Copy, Path: fmt.Sprintf("FULL/%d.iso", i), Title: fmt.Sprint("T",
			i), Size: int64(n), Needs: []int{0}, Make: &shape.Spec{Size: int64(n), Source: title.File{Path: file,
			Size: int64(n), Modified: info.ModTime()}}})
		p.Bytes += int64(n)
	}
	return p
}

func begin(at string) journal.Beginning {
	return journal.Beginning{Config: bench.Target{Name: "North stick", At: at, Loader: "rowan", Via: "usb"}, At: at,
		Bench: "/season.toml"}
}

func job(p *plan.Plan, dir string) run.Job {
	return run.Job{Plan: p, Options: run.Options{Verify: run.VerifyFull}, Open: func(context.Context) (target.Target,
		error) {
		return folder.Open(dir, folder.Options{})
	}}
}

func TestARunIsWrittenDown(t *testing.T) {
	j := open(t, filepath.Join(t.TempDir(), "runs.sqlite"))
	p := steps(t, 5<<20, 100, 6<<20)
	require.NoError(t, os.Remove(p.Steps[2].Make.Source.Path))
	dir := t.TempDir()
	lane, id, note := j.Start(t.Context(), begin(dir), job(p, dir))
	require.NoError(t, note)
	rep := lane.Wait()
	all, err := j.Runs(10)
	require.NoError(t, err)
	require.Len(t, all, 1)
	r := all[0]
	assert.Equal(t, id, r.ID)
	assert.Equal(t, journal.NotAll, r.State)
	assert.True(t, r.Open())
	assert.Equal(t, "North stick", r.Target)
	assert.Equal(t, 3, r.Done)
	assert.EqualValues(t, 11<<20, r.Written)
	assert.Equal(t, rep.Put, r.Report.Put)
	require.Len(t, r.Report.Failed, 1)
	assert.Contains(t, r.Report.Failed[0].Say, "plug its drive in again")
	sum := int64(0)
	for _, s := range r.Speeds {
		sum += s
	}
	assert.Positive(t, sum)
	require.Len(t, r.Course.Moments, 1, "what is out of the ordinary is kept")
	assert.Equal(t, run.Failed, r.Course.Moments[0].Kind)
	assert.Equal(t, "FULL/1.iso", r.Course.Moments[0].Path)
	assert.Contains(t, r.Course.Moments[0].Say, "plug its drive in again")
	assert.LessOrEqual(t, r.Course.Moments[0].At, r.Course.Elapsed)
	assert.Equal(t, rep.Elapsed, r.Course.Elapsed)
	assert.Positive(t, r.Course.Span)
	got, err := j.Steps(id)
	require.NoError(t, err)
	assert.Equal(t, "done", got[1].State)
	assert.NotEmpty(t, got[1].Sum)
	assert.Equal(t, "failed", got[2].State)

	_, rest, err := j.Rest(id)
	require.NoError(t, err)
	require.Len(t, rest.Steps, 1, "only what was not done")
	assert.Equal(t, "FULL/1.iso", rest.Steps[0].Path)
	assert.Empty(t, rest.Steps[0].Needs, "what it needs is done")
	want, err := json.Marshal(p.Steps[2].Make)
	require.NoError(t, err)
	is, err := json.Marshal(rest.Steps[0].Make)
	require.NoError(t, err)
	assert.JSONEq(t, string(want), string(is), "with all that is needed to make it")
	assert.True(t, p.Steps[2].Make.Source.Modified.Equal(rest.Steps[0].Make.Source.Modified))
	assert.EqualValues(t, 100, rest.Bytes)

	b := begin(dir)
	b.After = id
	require.NoError(t, os.WriteFile(p.Steps[2].Make.Source.Path, make([]byte, 100), 0o644))
	require.NoError(t, os.Chtimes(p.Steps[2].Make.Source.Path, p.Steps[2].Make.Source.Modified,
		p.Steps[2].Make.Source.Modified))
	lane, second, _ := j.Start(t.Context(), b, job(rest, dir))
	require.True(t, lane.Wait().All())
	all, err = j.Runs(10)
	require.NoError(t, err)
	assert.Equal(t, journal.Complete, all[0].State)
	assert.Equal(t, journal.Followed, all[1].State)
	assert.Equal(t, second, all[1].TakenUp)
	assert.False(t, all[1].Open())
	_, _, err = j.Run(99)
	assert.ErrorIs(t, err, journal.ErrNotFound)
}

// TestARunThatWasKilledIsBroken has a record end at any event, as if the process were gone, and looks that what is
// resumed makes all of it there.
func TestARunThatWasKilledIsBroken(t *testing.T) {
	p := steps(t, 5<<20, 100, 3000, 4<<20, 0, 50)
	for dies := range 28 {
		base := t.TempDir()
		file := filepath.Join(base, "runs.sqlite")
		j, err := journal.Open(file)
		require.NoError(t, err)
		dir := filepath.Join(base, "target")
		require.NoError(t, os.Mkdir(dir, 0o755))
		b := begin(dir)
		b.Plan, b.Verify = p, run.VerifyFull
		rec, err := j.Begin(b)
		require.NoError(t, err)
		jb := job(p, dir)
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		n := 0
		jb.Emit = func(e run.Event) {
			if n++; n > dies {
				cancel() // and nothing more is written down
				return
			}
			rec.Event(e)
		}
		run.Start(ctx, jb).Wait()
		all, err := j.Runs(5)
		require.NoError(t, err)
		require.Equal(t, journal.Resuming, all[0].State, "its process has its lock")
		rec.Die()
		all, err = j.Runs(5)
		require.NoError(t, err)
		require.Equal(t, journal.Broken, all[0].State)
		require.Equal(t, dies > 0, all[0].Course.Span > 0,
			"one that was killed has a course as far as it was written down")
		_, rest, err := j.Rest(all[0].ID)
		require.NoError(t, err)
		again := job(rest, dir)
		again.Again = true
		b.After = all[0].ID
		lane, _, note := j.Start(t.Context(), b, again)
		require.NoError(t, note)
		rep := lane.Wait()
		require.True(t, rep.All(), "%v", rep.Failed)
		for _, s := range p.Steps[1:] {
			want, err := os.ReadFile(s.Make.Source.Path)
			require.NoError(t, err)
			got, err := os.ReadFile(filepath.Join(dir, s.Path))
			require.NoError(t, err)
			require.Equal(t, want, got)
		}
		left, err := filepath.Glob(filepath.Join(dir, "*", "*.begun"))
		require.NoError(t, err)
		require.Empty(t, left)
		require.NoError(t, j.Close())
	}
}

func TestARunWhoseStickWasPulledIsBroken(t *testing.T) {
	j := open(t, filepath.Join(t.TempDir(), "runs.sqlite"))
	p := steps(t, 100, 200)
	x := job(p, t.TempDir())
	x.Patience = -1
	x.Open = func(context.Context) (target.Target, error) {
		return nil, fmt.Errorf("opening the stick: %w", target.ErrGone)
	}
	lane, id, _ := j.Start(t.Context(), begin("/media/stick"), x)
	rep := lane.Wait()
	assert.Equal(t, 3, rep.Untried)
	all, err := j.Runs(1)
	require.NoError(t, err)
	assert.Equal(t, journal.Broken, all[0].State)
	assert.True(t, all[0].Open())
	_, rest, err := j.Rest(id)
	require.NoError(t, err)
	assert.Len(t, rest.Steps, 3)
}

// TestAClockThatGoesBack has runs begin in the future, as when the clock was set back since.
func TestAClockThatGoesBack(t *testing.T) {
	file := filepath.Join(t.TempDir(), "runs.sqlite")
	j := open(t, file)
	dir := t.TempDir()
	p := steps(t, 1000)
	lane, id, _ := j.Start(t.Context(), begin(dir), job(p, dir))
	lane.Wait()
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	_, err = db.Exec("UPDATE run SET began = ?", time.Now().Add(90*24*time.Hour).UnixMilli())
	require.NoError(t, errors.Join(err, db.Close()))
	lane, later, _ := j.Start(t.Context(), begin(dir), job(steps(t, 5), t.TempDir()))
	lane.Wait()
	all, err := j.Runs(5)
	require.NoError(t, err)
	assert.Equal(t, []int64{later, id}, []int64{all[0].ID, all[1].ID},
		"the newest is the one that came last, whatever the clock says")
	assert.True(t, all[1].Ended.Before(all[1].Began))
	assert.Positive(t, all[1].Report.Elapsed)
	require.NoError(t, os.Chtimes(filepath.Join(dir, "FULL", "0.iso"), time.Now().Add(time.Hour), time.Now().
		Add(time.Hour)))
	rep := run.Start(t.Context(), func() run.Job { x := job(p, dir); x.Again = true; return x }()).Wait()
	assert.True(t, rep.All(), "a file from the future is compared all the same: %v", rep.Failed)
}

func TestADamagedOrNewerJournal(t *testing.T) {
	file := filepath.Join(t.TempDir(), "runs.sqlite")
	require.NoError(t, os.WriteFile(file,
		[]byte("this is no database, and was never one, however long one looks at it"), 0o644))
	j := open(t, file)
	assert.Contains(t, j.Note(), "was damaged; it was set aside")
	assert.FileExists(t, file+".damaged")
	all, err := j.Runs(5)
	require.NoError(t, err)
	assert.Empty(t, all)
	require.NoError(t, j.Close())

	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	_, err = db.Exec("PRAGMA user_version = 99")
	require.NoError(t, errors.Join(err, db.Close()))
	_, err = journal.Open(file)
	assert.ErrorContains(t, err, "newer Polytome")

	var none *journal.Journal // runs go on without one
	dir := t.TempDir()
	lane, id, note := none.Start(t.Context(), begin(dir), job(steps(t, 10), dir))
	assert.NoError(t, note)
	assert.Zero(t, id)
	assert.True(t, lane.Wait().All())
	assert.NoError(t, none.Close())
	assert.Empty(t, none.Note())
}

func TestSpeedsOfALongRun(t *testing.T) {
	j := open(t, filepath.Join(t.TempDir(), "runs.sqlite"))
	p := steps(t, 5)
	b := begin(t.TempDir())
	b.Plan = p
	rec, err := j.Begin(b)
	require.NoError(t, err)
	const seconds = 5000
	rec.Event(run.Event{Kind: run.Began, Step: 1})
	rec.Event(run.Event{Kind: run.Resuming, Step: 1, Total: 1 << 40, Elapsed: time.Millisecond}) // was there before
	for s := range seconds {
		rec.Event(run.Event{Kind: run.Progress, Step: 1, Total: 1<<40 + int64(s+1)*1000,
			Elapsed: time.Duration(s)*time.Second + 500*time.Millisecond})
	}
	require.NoError(t, rec.End(run.Report{Elapsed: seconds * time.Second}))
	all, err := j.Runs(1)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(all[0].Speeds), 600)
	assert.Greater(t, len(all[0].Speeds), 290)
	for _, s := range all[0].Speeds {
		assert.InDelta(t, 1000, s, 130)
	}
}

// TestRunsAreKeptByWhatTheyTake keeps many small runs, and fewer large ones; one that goes on is never forgotten.
func TestRunsAreKeptByWhatTheyTake(t *testing.T) {
	j := open(t, filepath.Join(t.TempDir(), "runs.sqlite"))
	small := &plan.Plan{Steps: []plan.Step{{Kind: plan.MakeFolder, Path: "FULL"}}}
	b := begin("/stick")
	b.Plan = small
	const many = 400
	for range many {
		r, err := j.Begin(b)
		require.NoError(t, err)
		r.Die()
	}
	runs, err := j.Runs(2 * many)
	require.NoError(t, err)
	assert.Len(t, runs, many, "their number is no limit")

	large := &plan.Plan{}
	for i := range 5000 {
		large.Steps = append(large.Steps, plan.Step{Kind: plan.MakeFolder, Path: fmt.Sprintf("FULL/%d-%x", i,
			i*i*7919)})
	}
	defer journal.SetKeepBytes(journal.SetKeepBytes(2 << 20))
	goesOn, err := j.Begin(b)
	require.NoError(t, err)
	defer goesOn.Die()
	b.Plan = large
	for range 12 {
		r, err := j.Begin(b)
		require.NoError(t, err)
		r.Die()
	}
	runs, err = j.Runs(2 * many)
	require.NoError(t, err)
	var sum int64
	first := false
	for i := range runs {
		if first = first || runs[i].Steps == 1; runs[i].Steps > 1 {
			sum += int64(runs[i].Steps) * 120
		}
	}
	assert.True(t, first, "the one that goes on is kept")
	assert.LessOrEqual(t, sum, int64(2<<20))
	assert.Greater(t, len(runs), 2)
	assert.Less(t, len(runs), 6)
}
