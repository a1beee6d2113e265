package survey_test

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/run"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/coretest"
	"polytome/internal/demo"
	"polytome/internal/judge"
	"polytome/internal/secret"
)

// TestTheTimeLeftFarAway fills a share and a console over a way on which each question takes 30 ms and 1 MB passes in a
// second: half-way through, the time that is reported to be left is the one that is left with the check behind it,
// within half as much again; and what was learnt tells the next run as well beforehand.
func TestTheTimeLeftFarAway(t *testing.T) {
	t.Run("smb", func(t *testing.T) {
		s := judge.SMB(t, t.TempDir())
		secret.Remember("127.0.0.1", s.User, s.Password)
		timeLeft(t, s.Dir, bench.Target{At: fmt.Sprintf("smb://%s@127.0.0.1:%d/games/", s.User,
			judge.Far(t, s.Port, 30*time.Millisecond, 1e6)), Loader: "oxbow", Via: "smb"})
	})
	t.Run("ftp", func(t *testing.T) {
		dir := t.TempDir()
		secret.Remember("127.0.0.1", "games", "games")
		timeLeft(t, dir, bench.Target{At: fmt.Sprintf("ftp://games@127.0.0.1:%d/",
			judge.FarFTP(t, judge.ProFTP(t, dir, ""), 30*time.Millisecond, 1e6)), Loader: "gantry", Via: "ftp"})
	})
}

// spoil has zeros stand in all cartridges below a folder.
func spoil(t *testing.T, dir string) {
	require.NoError(t, filepath.WalkDir(dir, func(name string, e fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(name) != ".w8" {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		return os.WriteFile(name, make([]byte, info.Size()), 0o644)
	}))
}

func timeLeft(t *testing.T, dir string, c bench.Target) {
	games := t.TempDir()
	for i := range 60 {
		coretest.Write(t, games, fmt.Sprintf("Mill %02d.w8", i), append(demo.Cartridge("WREN", fmt.Sprint("Mill ", i)),
			make([]byte, 700*(i%9))...))
	}
	set := coretest.Set(t)
	scanned, err := scan.Scan(t.Context(), []string{games}, scan.Options{Set: set})
	require.NoError(t, err)
	b := bench.New("")
	fill := func(into string) (before, took, half, left time.Duration) {
		coretest.Write(t, dir, filepath.Join(into, "x.txt"), nil)
		require.NoError(t, os.Chmod(filepath.Join(dir, into), 0o777)) // who serves it need not be who runs this test
		speed := bench.Target{}
		if len(b.Targets) > 0 {
			speed = b.Targets[0]
		}
		to := c
		to.Name, to.At, to.Everything, to.Speed = "far", c.At+into, true, speed.Speed
		b.Targets = []bench.Target{to}
		v, err := survey.Take(t.Context(), b, 0, scanned.Titles, survey.Options{Set: set})
		require.NoError(t, err)
		require.NoError(t, v.Away)
		p := v.Plan()
		require.Equal(t, 60, p.Files)
		at, err := v.Open(t.Context())
		require.NoError(t, err)
		verify := v.Job(b, p).Verify
		f := run.NewForecast(p, verify, v.Guess(p, verify))
		var mu sync.Mutex
		done, began := 0, time.Now()
		r := run.Run(t.Context(), p, at, run.Options{Verify: verify}, func(e run.Event) {
			mu.Lock()
			defer mu.Unlock()
			f.Event(e)
			if e.Kind == run.Done {
				if done++; done == 32 {
					half, left = time.Since(began), f.Left()
				}
			}
		})
		require.NoError(t, at.Close())
		require.Empty(t, r.Failed)
		checker := v.Checker(b, 0, "", nil)
		checker.JustRan(p, &r)
		written := time.Since(began)
		audit, err := checker.Check(t.Context())
		took = time.Since(began)
		t.Logf("the run took %v, the check %v", written, took-written)
		require.NoError(t, err)
		require.Equal(t, 60, audit.Starts())
		// what the run has read back is not read once more: what stands there since is not seen before someone asks
		// for the check
		if c.Via == "smb" {
			spoil(t, filepath.Join(dir, into))
			audit, err = checker.Check(t.Context())
			require.NoError(t, err)
			assert.Equal(t, 60, audit.Starts())
			audit, err = v.Checker(b, 0, "", nil).Check(t.Context())
			require.NoError(t, err)
			assert.Zero(t, audit.Starts())
		}
		b.Targets[0].Learn(&r)
		return v.PlanTime(p).Middle(), took, half, left
	}
	near := func(said, is time.Duration, what string) {
		ratio := said.Seconds() / is.Seconds()
		t.Logf("%s: %v, and it is %v (%.2f)", what, said.Round(time.Millisecond), is.Round(time.Millisecond), ratio)
		assert.InDelta(t, 1, ratio, 0.5, what)
		assert.Greater(t, ratio, 1/1.5, what)
	}
	_, took, half, left := fill("hd1")
	near(left, took-half, "left half-way through the first run")
	before, took, half, left := fill("hd2")
	near(before, took, "said before the second run")
	near(left, took-half, "left half-way through the second run")
}
