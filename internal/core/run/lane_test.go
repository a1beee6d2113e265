package run_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/target"
	"polytome/internal/target/folder"
)

// log keeps the events of a lane.
type log struct {
	mu  sync.Mutex
	all []run.Event
	on  func(run.Event) // called with each, nil for no one
}

func (l *log) emit(e run.Event) {
	l.mu.Lock()
	l.all = append(l.all, e)
	on := l.on
	l.mu.Unlock()
	if on != nil {
		on(e)
	}
}

// of are the steps that had an event of a kind, in their order.
func (l *log) of(k run.EventKind) (steps []int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, e := range l.all {
		if e.Kind == k {
			steps = append(steps, e.Step)
		}
	}
	return steps
}

// into makes a job of a plan for a folder.
func into(p *plan.Plan, dir string, emit func(run.Event)) run.Job {
	return run.Job{Plan: p, Emit: emit, Options: run.Options{FirstWait: time.Millisecond},
		Open: func(context.Context) (target.Target, error) {
			return folder.Open(dir, folder.Options{})
		}}
}

// titled gives each file a title of its own.
func titled(p *plan.Plan) *plan.Plan {
	for i := range p.Steps {
		if p.Steps[i].Kind == plan.Copy {
			p.Steps[i].Title = fmt.Sprintf("T%d", i)
		}
	}
	return p
}

func TestALanePausesAndGoesOn(t *testing.T) {
	p, want := files(t, 8<<20, 8<<20)
	dir := t.TempDir()
	var l *run.Lane
	ready := make(chan struct{})
	var once sync.Once
	var at atomic.Int64
	events := &log{on: func(e run.Event) {
		if e.Kind == run.Progress {
			once.Do(func() { <-ready; go l.Pause() })
			at.Store(e.Total)
		}
	}}
	j := into(p, dir, events.emit)
	j.Limit = 40 << 20
	began := time.Now()
	l = run.Start(context.Background(), j)
	close(ready)
	require.Eventually(t, func() bool { return len(events.of(run.Paused)) == 1 }, 5*time.Second, time.Millisecond)
	time.Sleep(50 * time.Millisecond) // the block that is under way
	held := at.Load()
	time.Sleep(300 * time.Millisecond)
	assert.LessOrEqual(t, at.Load()-held, int64(1<<20), "nothing is written in a pause")
	l.Resume()
	r := l.Wait()
	assert.True(t, r.All())
	assert.GreaterOrEqual(t, time.Since(began)-r.Elapsed, 330*time.Millisecond, "the pause is no part of the time")
	assert.Len(t, onTarget(t, dir), len(want))
}

func TestALaneStopsAfterTheFileUnderWay(t *testing.T) {
	p, _ := files(t, 6<<20, 6<<20, 6<<20)
	dir := t.TempDir()
	var l *run.Lane
	ready := make(chan struct{})
	events := &log{on: func(e run.Event) {
		if e.Kind == run.Began && e.Step == 2 {
			<-ready
			go l.Finish()
		}
	}}
	j := into(p, dir, events.emit)
	j.Limit = 30 << 20
	l = run.Start(context.Background(), j)
	close(ready)
	r := l.Wait()
	assert.True(t, r.Stopped)
	assert.Equal(t, 2, r.Put)
	assert.Equal(t, 1, r.Untried)
	assert.Len(t, onTarget(t, dir), 2)
}

// stopping is a folder that does something when so many bytes of a file were written.
type stopping struct {
	*folder.Target
	after int64
	do    func()
}

func (p *stopping) Create(ctx context.Context, name string, size int64) (target.Writer, error) {
	w, err := p.Target.Create(ctx, name, size)
	if err != nil {
		return nil, err
	}
	return &stoppingWriter{w, p, 0}, nil
}

type stoppingWriter struct {
	target.Writer
	p     *stopping
	wrote int64
}

func (w *stoppingWriter) Write(b []byte) (int, error) {
	n, err := w.Writer.Write(b)
	if before := w.wrote; before <= w.p.after && before+int64(n) > w.p.after {
		w.p.do()
	}
	w.wrote += int64(n)
	return n, err
}

func (w *stoppingWriter) Leave() error { return w.Writer.(target.Suspender).Leave() }

func TestAStoppedFileIsResumedInTheMiddle(t *testing.T) {
	for _, verify := range []run.Verify{run.VerifySize, run.VerifyFull} {
		for name, spoil := range map[string]func(t *testing.T, part string){
			"as it was left": func(*testing.T, string) {},
			"its end lost":   func(t *testing.T, part string) { require.NoError(t, os.Truncate(part, 4<<20+12345)) },
			"its end zeros": func(t *testing.T, part string) {
				info, err := os.Stat(part)
				require.NoError(t, err)
				require.NoError(t, os.Truncate(part, info.Size()-700<<10))
				require.NoError(t, os.Truncate(part, info.Size()))
			},
			"a byte in it changed": func(t *testing.T, part string) { poke(t, part, 1<<20) },
			"something else": func(t *testing.T,
				part string) {
				require.NoError(t, os.WriteFile(part, make([]byte, 5<<20), 0o644))
			},
			"longer than the file": func(t *testing.T, part string) { require.NoError(t, os.Truncate(part, 99<<20)) },
		} {
			t.Run(string(verify)+", "+name, func(t *testing.T) {
				p, want := files(t, 16<<20, 100)
				dir := t.TempDir()
				var l *run.Lane
				ready := make(chan struct{})
				j := into(p, dir, (&log{}).emit)
				j.Verify = verify
				j.Open = func(context.Context) (target.Target, error) {
					to, err := folder.Open(dir, folder.Options{})
					return &stopping{to, 8 << 20, func() { <-ready; l.Stop() }}, err
				}
				l = run.Start(context.Background(), j)
				close(ready)
				r := l.Wait()
				require.True(t, r.Stopped)
				require.Equal(t, "FULL/0.iso", r.Half)
				part := filepath.Join(dir, target.TemporaryName("FULL/0.iso"))
				info, err := os.Stat(part)
				require.NoError(t, err)
				require.Equal(t, info.Size(), r.HalfBytes)
				require.Contains(t, r.Waits(), "of 16.00 MiB of FULL/0.iso are kept under a temporary name")
				require.NoFileExists(t, filepath.Join(dir, "FULL/0.iso"))
				spoil(t, part)

				again := &log{}
				r = run.Start(context.Background(), into(p, dir, again.emit)).Wait()
				require.True(t, r.All(), r.Failed)
				got := onTarget(t, dir)
				assert.Len(t, got, len(want))
				for name, data := range want {
					assert.True(t, got[name] == string(data), name)
				}
				if name == "as it was left" {
					assert.Greater(t, r.Resumed, int64(7<<20), "what is there is not written again")
				}
				if name == "something else" || name == "longer than the file" {
					assert.Zero(t, r.Resumed)
				}
			})
		}
	}
}

func poke(t *testing.T, file string, at int64) {
	f, err := os.OpenFile(file, os.O_RDWR, 0)
	require.NoError(t, err)
	b := make([]byte, 1)
	_, err = f.ReadAt(b, at)
	require.NoError(t, err)
	b[0] ^= 0x40
	_, err = f.WriteAt(b, at)
	require.NoError(t, errors.Join(err, f.Close()))
}

func TestWithoutReadingBackAllOfWhatWasLeftIsCompared(t *testing.T) {
	p, want := files(t, 32<<20)
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "FULL"), 0o755))
	part := filepath.Join(dir, target.TemporaryName("FULL/0.iso"))
	require.NoError(t, os.WriteFile(part, want["FULL/0.iso"][:20<<20], 0o644))
	poke(t, part, 3<<20)
	j := into(p, dir, nil)
	j.Verify = run.VerifyNone
	r := run.Start(context.Background(), j).Wait()
	require.True(t, r.All())
	assert.EqualValues(t, 3<<20, r.Resumed, "all that is right is kept, and nothing behind the first wrong byte")
	assert.True(t, onTarget(t, dir)["FULL/0.iso"] == string(want["FULL/0.iso"]))
}

func TestStepsAreSkippedAndTriedAgain(t *testing.T) {
	p, want := files(t, 3<<20, 3<<20, 3<<20, 3<<20)
	titled(p)
	gone := p.Steps[2].Make.Source.Path
	require.NoError(t, os.Rename(gone, gone+"x"))
	// a text that needs the file that fails
	p.Steps = append(p.Steps, plan.Step{Kind: plan.Copy, Path: "FULL/text", Title: "T2", Size: 3, Make: p.Steps[1].Make,
		Needs: []int{2}})
	dir := t.TempDir()
	var l *run.Lane
	ready := make(chan struct{})
	events := &log{}
	events.on = func(e run.Event) {
		<-ready
		switch {
		case e.Kind == run.Began && e.Step == 1:
			l.Skip(3) // one that waits
		case e.Kind == run.Failed && e.Step == 5:
			require.NoError(t, os.Rename(gone+"x", gone))
			l.Retry(2)
			l.Retry(3)
			l.Retry(99)
		}
	}
	l = run.Start(context.Background(), into(p, dir, events.emit))
	close(ready)
	r := l.Wait()
	assert.True(t, r.All(), r.Failed)
	assert.Equal(t, []int{3}, events.of(run.Skipped))
	assert.Equal(t, []int{2, 5}, events.of(run.Failed), "and what needs it")
	assert.Len(t, onTarget(t, dir), len(want)+1)
	l.Retry(2) // nothing happens to a run that is over
	l.Skip(2)
	l.Pause()
	l.Resume()
}

func TestTheFileUnderWayIsSkipped(t *testing.T) {
	p, _ := files(t, 16<<20, 1<<20)
	dir := t.TempDir()
	var l *run.Lane
	ready := make(chan struct{})
	events := &log{on: func(e run.Event) {
		if e.Kind == run.Progress && e.Step == 1 {
			<-ready
			go l.Skip(1)
		}
	}}
	j := into(p, dir, events.emit)
	j.Limit = 60 << 20
	l = run.Start(context.Background(), j)
	close(ready)
	r := l.Wait()
	assert.Equal(t, 1, r.Skipped)
	assert.Equal(t, 1, r.Put)
	assert.False(t, r.Stopped)
	assert.Len(t, onTarget(t, dir), 1, "nothing of it is left")
}

// TestTheOrderChangesAndNeedsAreKept moves titles about at random, and looks that nothing is done before what it needs.
func TestTheOrderChangesAndNeedsAreKept(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		lengths := make([]int, rapid.IntRange(3, 12).Draw(rt, "files"))
		p, _ := files(t, lengths...)
		for i := 1; i < len(p.Steps); i++ {
			p.Steps[i].Title = fmt.Sprint(rapid.IntRange(0, 4).Draw(rt, "title"))
			if i > 1 && rapid.Bool().Draw(rt, "needs") {
				p.Steps[i].Needs = []int{rapid.IntRange(1, i-1).Draw(rt, "one")}
			}
		}
		p.Steps = append(p.Steps, plan.Step{Kind: plan.Copy, Path: "FULL/list", Last: true, Make: p.Steps[1].Make})
		dir, err := os.MkdirTemp("", "order-")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		var l *run.Lane
		ready := make(chan struct{})
		moves := rapid.SliceOfN(rapid.IntRange(-2, len(p.Steps)+1), 0, 8).Draw(rt, "moves")
		events := &log{on: func(run.Event) { <-ready }}
		l = run.Start(context.Background(), into(p, dir, events.emit))
		for k, m := range moves {
			go func() {
				if k%2 == 0 {
					l.Sooner(m)
				} else {
					l.Later(m)
				}
			}()
		}
		close(ready)
		require.True(rt, l.Wait().All())
		done := events.of(run.Done)
		require.Len(rt, done, len(p.Steps))
		require.Equal(rt, 0, done[0], "the folder comes first")
		require.Equal(rt, len(p.Steps)-1, done[len(done)-1], "the list comes last")
		for k, i := range done {
			for _, n := range p.Steps[i].Needs {
				require.Less(rt, slices.Index(done, n), k)
			}
		}
	})
}

func TestATitleComesSoonerAndLater(t *testing.T) {
	p, _ := files(t, 10, 10, 10, 10)
	titled(p)
	var l *run.Lane
	ready := make(chan struct{})
	events := &log{}
	events.on = func(e run.Event) {
		<-ready
		if e.Kind == run.Began && e.Step == 0 {
			l.Sooner(3)
			l.Later(1)
		}
	}
	j := into(p, t.TempDir(), events.emit)
	l = run.Start(context.Background(), j)
	close(ready)
	require.True(t, l.Wait().All())
	assert.Equal(t, []int{0, 3, 2, 4, 1}, events.of(run.Done))
}

func TestHalfATitleIsNotWritten(t *testing.T) {
	p, _ := files(t, 10, 10, 10)
	for i := 1; i < 3; i++ {
		p.Steps[i].Title = "two discs"
	}
	p.Steps[3].Title = "another"
	require.NoError(t, os.Remove(p.Steps[1].Make.Source.Path))
	dir := t.TempDir()
	r := run.Run(context.Background(), p, openTarget(t, dir, folder.Options{}), run.Options{}, func(run.Event) {})
	require.Len(t, r.Failed, 2)
	assert.Contains(t, r.Failed[1].Say, "not done, because FULL/0.iso failed; fix that")
	assert.Equal(t, 1, r.Put, "other titles are")
}

func TestTheLimitHoldsAndChanges(t *testing.T) {
	p, _ := files(t, 48<<20)
	j := into(p, t.TempDir(), nil)
	j.Limit = 64 << 10 // a quarter of an hour
	l := run.Start(context.Background(), j)
	time.Sleep(200 * time.Millisecond)
	select {
	case <-l.Ended():
		t.Fatal("it is quicker than it may be")
	default:
	}
	l.Limit(0)
	select {
	case <-l.Ended():
		assert.True(t, l.Wait().All())
	case <-time.After(time.Minute):
		t.Fatal("without the limit it is done soon")
	}
}

// TestLanesTakeTurns has several lanes read from one disk, and looks that no two of them read at the same time.
func TestLanesTakeTurns(t *testing.T) {
	p, want := files(t, 20<<20, 20<<20, 3<<20)
	var all []*run.Lane
	var dirs []string
	for range 3 {
		dirs = append(dirs, t.TempDir())
		all = append(all, run.Start(context.Background(), into(p, dirs[len(dirs)-1], nil)))
	}
	for k, l := range all {
		require.True(t, l.Wait().All())
		assert.Len(t, onTarget(t, dirs[k]), len(want))
	}
}
