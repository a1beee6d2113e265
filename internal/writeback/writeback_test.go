package writeback

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// medium writes what it is asked to, in that order, in a time of its own.
type medium struct {
	rate    float64 // bytes in a second
	clock   time.Time
	busy    time.Time // until when it has enough to do
	begun   []span
	done    []time.Time // when what was begun is there
	waited  time.Duration
	failing int // of what was begun, from 1
}

func (m *medium) now() time.Time { return m.clock }

func (m *medium) begin(from, n int64) {
	if m.busy.Before(m.clock) {
		m.busy = m.clock
	}
	m.busy = m.busy.Add(m.takes(n))
	m.begun, m.done = append(m.begun, span{from, from + n}), append(m.done, m.busy)
}

func (m *medium) takes(n int64) time.Duration {
	return time.Duration(float64(n) / m.rate * float64(time.Second))
}

func (m *medium) await(from, n int64) error {
	for i, s := range m.begun {
		if s == (span{from, from + n}) {
			if d := m.done[i].Sub(m.clock); d > 0 {
				m.clock, m.waited = m.done[i], m.waited+d
			}
			if i+1 == m.failing {
				return errors.New("the medium is worn out")
			}
			return nil
		}
	}
	panic("waits for what was never begun")
}

// behind is for how long the medium has to write when nothing more comes but a flush.
func (m *medium) behind(q *Queue) time.Duration { return max(0, m.busy.Sub(m.clock)) + m.takes(q.n) }

func TestAMediumIsNeverFarBehind(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := &medium{rate: rapid.Float64Range(4, 3000).Draw(t, "MB/s") * 1e6}
		source := rapid.Float64Range(4, 3000).Draw(t, "source in MB/s") * 1e6
		n := rapid.Int64Range(64<<10, 1<<20).Draw(t, "bytes of a write")
		q := on(m)
		for at := int64(0); at < 512<<20; at += n {
			m.clock = m.clock.Add(time.Duration(float64(n) / source * float64(time.Second)))
			require.NoError(t, q.Wrote(at, n))
			// two pieces are the least: one under way, one that is gathered
			require.Less(t, m.behind(q), max(long, m.takes(2*piece))+m.takes(2*n))
		}
	})
}

// What is lost by waiting: a medium and a source of the same pace must both be busy throughout.
func TestWhoWritesDoesNotHoldTheMediumUp(t *testing.T) {
	for _, rate := range []float64{8e6, 90e6, 500e6, 2e9} {
		m := &medium{rate: rate}
		began, q := m.clock, on(m)
		for at := int64(0); at < 1<<30; at += 1 << 18 {
			m.clock = m.clock.Add(m.takes(1<<18) / 4) // a source four times as fast
			require.NoError(t, q.Wrote(at, 1<<18))
		}
		took := m.clock.Sub(began) + m.behind(q)
		assert.InDelta(t, m.takes(1<<30).Seconds(), took.Seconds(), 0.02*took.Seconds(), "%.0f bytes a second", rate)
	}
}

func TestEveryByteIsBegun(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := &medium{rate: 1e9}
		q := on(m)
		var wrote []span
		at := int64(0)
		for range rapid.IntRange(1, 60).Draw(t, "writes") {
			if rapid.IntRange(0, 9).Draw(t, "what is elsewhere") == 0 {
				at = rapid.Int64Range(0, 1<<34).Draw(t, "where")
			}
			n := rapid.Int64Range(1, 1<<20).Draw(t, "bytes")
			require.NoError(t, q.Wrote(at, n))
			wrote = append(wrote, span{at, at + n})
			at += n
			if q.n == 0 { // a piece was just begun
				for _, w := range wrote {
					assert.True(t, covered(w, m.begun), "%d to %d is not on its way", w.from, w.to)
				}
			}
			assert.Less(t, q.n, int64(piece))
		}
	})
}

func covered(w span, by []span) bool {
	for _, s := range by {
		if s.from <= w.from && w.to <= s.to {
			return true
		}
	}
	return false
}

// Waiting takes an error away from the flush of the file.
func TestAnErrorOfTheMediumIsReportedOnce(t *testing.T) {
	m := &medium{rate: 50e6, failing: 3}
	q := on(m)
	var errs []error
	for at := int64(0); at < 64*piece; at += piece {
		if err := q.Wrote(at, piece); err != nil {
			errs = append(errs, err)
		}
	}
	require.Len(t, errs, 1)
	assert.ErrorContains(t, errs[0], "worn out")
}

func TestWhatWasFlushedIsNotWaitedFor(t *testing.T) {
	m := &medium{rate: 1e6}
	q := on(m)
	for at := int64(0); at < 4*piece; at += piece {
		require.NoError(t, q.Wrote(at, piece))
	}
	q.Flushed()
	m.waited = 0
	require.NoError(t, q.Wrote(4*piece, piece))
	assert.Zero(t, m.waited)
}

func TestAFileOfThisComputer(t *testing.T) {
	f, err := os.Create(filepath.Join(t.TempDir(), "file"))
	require.NoError(t, err)
	defer f.Close()
	q, b := Of(f), make([]byte, 1<<20)
	for at := int64(0); at < 64<<20; at += int64(len(b)) {
		_, err := f.WriteAt(b, at)
		require.NoError(t, err)
		require.NoError(t, q.Wrote(at, int64(len(b))))
	}
	r, w, err := os.Pipe()
	require.NoError(t, err)
	defer r.Close()
	defer w.Close()
	q = Of(w)
	for at := int64(0); at < 64<<20; at += piece {
		require.NoError(t, q.Wrote(at, piece), "what cannot be waited for is left to its flush")
	}
}
