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
	"polytome/internal/demo"
	"polytome/internal/secret"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// far are servers to which each question takes 30 ms, and over which 1 MB passes in a second.
var far = map[string]func(t testing.TB) (dir string, c bench.Target){
	"smb": func(t testing.TB) (string, bench.Target) {
		s := judge.SMB(t, t.TempDir())
		secret.Remember("127.0.0.1", s.User, s.Password)
		return s.Dir, bench.Target{At: fmt.Sprintf("smb://%s@127.0.0.1:%d/games/", s.User,
			judge.Far(t, s.Port, 30*time.Millisecond, 1e6)), Loader: "oxbow", Via: "smb"}
	},
	"ftp": func(t testing.TB) (string, bench.Target) {
		dir := t.TempDir()
		secret.Remember("127.0.0.1", "games", "games")
		return dir, bench.Target{At: fmt.Sprintf("ftp://games@127.0.0.1:%d/",
			judge.FarFTP(t, judge.ProFTP(t, dir, ""), 30*time.Millisecond, 1e6)), Loader: "gantry", Via: "ftp"}
	},
}

// TestTheTimeLeftFarAway fills a share and a console: half-way through, the time that is reported to be left is the one
// that the rest takes at the speed so far, with the check behind it; and what was learnt tells the next run beforehand
// that it takes as long as the last. How long runs take in fact depends on what else the machine does; see
// [BenchmarkTheTimeLeftFarAway].
func TestTheTimeLeftFarAway(t *testing.T) {
	for name, serve := range far {
		t.Run(name, func(t *testing.T) {
			dir, c := serve(t)
			first, second := fillTwice(t, dir, c)
			near := func(said, is time.Duration, what string) {
				ratio := said.Seconds() / is.Seconds()
				t.Logf("%s: said %v, and it is %v", what, said, is)
				assert.Greater(t, ratio, 0.5, what)
				assert.Less(t, ratio, 2.0, what)
			}
			for _, f := range []filled{first, second} {
				near(f.left, f.half*(files-halfFiles)/halfFiles+f.check, "the time left half-way")
			}
			near(second.before, first.took, "the time that was said before the second run")
		})
	}
}

// BenchmarkTheTimeLeftFarAway shows what was said of the time against what it was.
func BenchmarkTheTimeLeftFarAway(b *testing.B) {
	for name, serve := range far {
		b.Run(name, func(b *testing.B) {
			for range b.N {
				dir, c := serve(b)
				first, second := fillTwice(b, dir, c)
				b.ReportMetric(first.left.Seconds()/(first.took-first.half).Seconds(), "half-way/true")
				b.ReportMetric(second.before.Seconds()/second.took.Seconds(), "before/true")
				b.ReportMetric(second.left.Seconds()/(second.took-second.half).Seconds(), "half-way-again/true")
			}
		})
	}
}

// spoil has zeros stand in all cartridges below a folder.
func spoil(t testing.TB, dir string) {
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

// So many files are written, and so many of them are half.
const files, halfFiles = 60, 32

// filled is how a run went: what was said before it, and when half of it was done; when that was, and how long it and
// the check behind it took.
type filled struct{ before, half, left, check, took time.Duration }

// fillTwice fills two folders of a server, the second with what was learnt at the first.
func fillTwice(t testing.TB, dir string, c bench.Target) (first, second filled) {
	games := t.TempDir()
	for i := range files {
		coretest.Write(t, games, fmt.Sprintf("Mill %02d.w8", i), append(demo.Cartridge("WREN", fmt.Sprint("Mill ", i)),
			make([]byte, 700*(i%9))...))
	}
	set := coretest.Set(t)
	scanned, err := scan.Scan(t.Context(), []string{games}, scan.Options{Set: set})
	require.NoError(t, err)
	b := bench.New("")
	fill := func(into string) (out filled) {
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
		require.Equal(t, files, p.Files)
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
				if done++; done == halfFiles {
					out.half, out.left = time.Since(began), f.Left()
				}
			}
		})
		require.NoError(t, at.Close())
		require.Empty(t, r.Failed)
		checker := v.Checker(b, 0, "", nil)
		checker.JustRan(p, &r)
		written := time.Since(began)
		audit, err := checker.Check(t.Context())
		out.took = time.Since(began)
		out.check = out.took - written
		require.NoError(t, err)
		require.Equal(t, files, audit.Starts())
		// what the run has read back is not read once more: what stands there since is not seen before someone asks
		// for the check
		if c.Via == "smb" {
			spoil(t, filepath.Join(dir, into))
			audit, err = checker.Check(t.Context())
			require.NoError(t, err)
			assert.Equal(t, files, audit.Starts())
			audit, err = v.Checker(b, 0, "", nil).Check(t.Context())
			require.NoError(t, err)
			assert.Zero(t, audit.Starts())
		}
		b.Targets[0].Learn(b.Targets[0].Speed, "", &r)
		out.before = v.PlanTime(p).Middle()
		return out
	}
	return fill("hd1"), fill("hd2")
}
