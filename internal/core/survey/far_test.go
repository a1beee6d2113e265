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
	"polytome/internal/core/check"
	"polytome/internal/core/run"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/core/title"
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
			judge.NewLine(t, 30*time.Millisecond, 1e6).ToFTP(judge.ProFTP(t, dir, ""))), Loader: "gantry", Via: "ftp"}
	},
}

// TestTheTimeLeftFarAway fills a share and a console: half-way through, the time that is reported to be left is the one
// that the rest takes at the speed so far, with the check behind it; and what was learnt tells the next run beforehand
// that it takes as long as the last. How long runs take in fact depends on what else the machine does; see
// [BenchmarkMedia].
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

// filled is how a run went: what was said before it, and when half of it was done; when that was, how long it took
// without and with the check behind it, and that check.
type filled struct{ before, half, left, wrote, check, took time.Duration }

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
	fill := func(into string) filled {
		coretest.Write(t, dir, filepath.Join(into, "x.txt"), nil)
		require.NoError(t, os.Chmod(filepath.Join(dir, into), 0o777)) // who serves it need not be who runs this test
		to := c
		to.At += into
		return fill(t, b, to, scanned.Titles, func(look func(again bool) *check.Report) {
			// what the run has read back is not read once more: what stands there since is not seen before someone asks
			// for the check
			if c.Via == "smb" {
				spoil(t, filepath.Join(dir, into))
				assert.Equal(t, files, look(false).Starts())
				assert.Zero(t, look(true).Starts())
			}
		})
	}
	return fill("hd1"), fill("hd2")
}

// fill brings all titles to a target, of which the bench knows what it learnt of those that were filled before, and
// then runs what checks it, as behind the run or once more.
func fill(t testing.TB, b *bench.Bench, to bench.Target, titles []title.Title,
	then func(look func(again bool) *check.Report)) (out filled) {
	if len(b.Targets) > 0 {
		to.Speed = b.Targets[0].Speed
	}
	to.Name, to.Everything = "far", true
	b.Targets = []bench.Target{to}
	v, err := survey.Take(t.Context(), b, 0, titles, survey.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	require.NoError(t, v.Away)
	p := v.Plan()
	require.Equal(t, len(titles), p.Files)
	at, err := v.Open(t.Context())
	require.NoError(t, err)
	verify := v.Job(b, p).Verify
	out.before = v.PlanTime(p).Middle()
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
	out.wrote = time.Since(began)
	look := func(again bool) *check.Report {
		if again {
			checker = v.Checker(b, 0, "", nil)
		}
		audit, err := checker.Check(t.Context())
		require.NoError(t, err)
		return audit
	}
	require.Equal(t, len(titles), look(false).Starts())
	out.took = time.Since(began)
	out.check = out.took - out.wrote
	then(look)
	b.Targets[0].Learn(b.Targets[0].Speed, "", &r)
	return out
}
