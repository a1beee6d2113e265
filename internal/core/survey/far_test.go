package survey_test

import (
	"fmt"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/intake"
	"polytome/internal/core/run"
	"polytome/internal/core/survey"
	"polytome/internal/coretest"
	"polytome/internal/demo"
	"polytome/internal/judge"
	"polytome/internal/secret"
)

// TestTheTimeLeftOverAFarShare fills a share over a way on which each question takes 30 ms and 1 MB passes in a second: half-way through, the time that is told to be left is the one that is
// left, within half as much again; and what was learnt tells the next run as well beforehand.
func TestTheTimeLeftOverAFarShare(t *testing.T) {
	games := t.TempDir()
	for i := range 60 {
		coretest.Write(t, games, fmt.Sprintf("Mill %02d.w8", i), append(demo.Cartridge("WREN", fmt.Sprint("Mill ", i)), make([]byte, 700*(i%9))...))
	}
	s := judge.SMB(t, t.TempDir())
	port := judge.Far(t, s.Port, 30*time.Millisecond, 1e6)
	secret.Remember("127.0.0.1", s.User, s.Password)
	set := coretest.Set(t)
	scan, err := intake.Scan(t.Context(), []string{games}, intake.Options{Set: set})
	require.NoError(t, err)
	b := bench.New("")
	fill := func(into string) (before, took, half, left time.Duration) {
		coretest.Write(t, s.Dir, filepath.Join(into, "oxbow/play/wren8/x.txt"), nil)
		pace := bench.Place{}
		if len(b.Places) > 0 {
			pace = b.Places[0]
		}
		b.Places = []bench.Place{{Name: "share", At: fmt.Sprintf("smb://%s@127.0.0.1:%d/games/%s", s.User, port, into), Loader: "oxbow", Road: "smb", Everything: true, Pace: pace.Pace}}
		v, err := survey.Take(t.Context(), b, 0, scan.Titles, survey.Options{Set: set})
		require.NoError(t, err)
		require.NoError(t, v.Away)
		p := v.Plan()
		require.Equal(t, 60, p.Files)
		to, err := v.Open(t.Context())
		require.NoError(t, err)
		f := run.NewForecast(p, run.VerifyFull, v.Pace().Guess())
		var mu sync.Mutex
		done, began := 0, time.Now()
		r := run.Run(t.Context(), p, to, run.Options{Verify: run.VerifyFull}, func(e run.Event) {
			mu.Lock()
			defer mu.Unlock()
			f.Event(e)
			if e.Kind == run.Done {
				if done++; done == 32 {
					half, left = time.Since(began), f.Left()
				}
			}
		})
		took = time.Since(began)
		require.NoError(t, to.Close())
		require.Empty(t, r.Failed)
		b.Places[0].Learn(&r)
		return v.PlanTime(p).Middle(), took, half, left
	}
	near := func(said, is time.Duration, what string) {
		ratio := said.Seconds() / is.Seconds()
		t.Logf("%s: %v, and it is %v (%.2f)", what, said.Round(time.Millisecond), is.Round(time.Millisecond), ratio)
		assert.InDelta(t, 1, ratio, 0.5, what)
	}
	_, took, half, left := fill("first")
	near(left, took-half, "left half-way through the first run")
	before, took, half, left := fill("second")
	near(before, took, "said before the second run")
	near(left, took-half, "left half-way through the second run")
}
