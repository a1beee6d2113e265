package estimate_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"polytome/internal/core/estimate"
	"polytome/internal/core/run"
	"polytome/internal/size"
)

func TestTimesAreRanges(t *testing.T) {
	p := estimate.Speed{Slow: 5 * size.MiB, Fast: 10 * size.MiB, Least: 10 * time.Millisecond,
		Most: 100 * time.Millisecond}
	r := p.Of(100, 1000*size.MiB)
	assert.Equal(t, 101*time.Second, r.Least)
	assert.Equal(t, 210*time.Second, r.Most)
	assert.Equal(t, "2 to 4 min", r.String())
	assert.Equal(t, estimate.Range{}, p.Of(0, 0))
	assert.Equal(t, estimate.Range{Least: 202 * time.Second, Most: 420 * time.Second}, r.Plus(r))
	assert.Equal(t, r, r.Beside(estimate.Range{Least: 1, Most: 2}), "side by side, the longer counts")
	for d, want := range map[estimate.Range]string{
		{}: "nothing to copy", {Most: time.Millisecond}: "a moment", {Least: 900 * time.Millisecond,
			Most: 1200 * time.Millisecond}: "about 1 s", {Least: 2 * time.Second, Most: 8 * time.Second}: "2 to 8 s",
		{Least: 50 * time.Second, Most: 61 * time.Second}: "50 to 61 s",
		{Least: 10 * time.Second, Most: 10 * time.Minute}: "10 s to 10 min", {Least: 9 * time.Minute,
			Most: 9*time.Minute + 5*time.Second}: "about 9 min",
		{Least: 100 * time.Minute, Most: 200 * time.Minute}: "100 min to 3 h 20 min",
	} {
		assert.Equal(t, want, d.String())
	}
	assert.Equal(t, int64(3), p.Limited(3).Fast, "no faster than allowed")
	for _, via := range []string{"usb", "ftp", "smb", "adapter", "nbd", "pigeon"} {
		u := estimate.Usual(via)
		assert.Less(t, u.Slow, u.Fast)
		assert.Less(t, u.Least, u.Most)
	}
}

func TestRunsTeachATargetItsSpeed(t *testing.T) {
	var l estimate.Learnt
	assert.Equal(t, estimate.Usual("usb"), l.Speed("usb"))
	assert.False(t, l.Learn(&run.Report{Large: run.Timed{Files: 1, Bytes: 5 * size.MiB, Took: time.Second}}),
		"too little to tell")
	assert.True(t, l.Learn(&run.Report{Large: run.Timed{Files: 2, Bytes: 200 * size.MiB, Took: 20 * time.Second},
		Small: run.Timed{Files: 50, Bytes: 1000, Took: time.Second}}))
	p := l.Speed("usb")
	assert.Equal(t, 1, p.Runs)
	assert.InDelta(t, 1, p.Of(50, 1000).Middle().Seconds(), 0.001, "small files take what they took with their bytes")
	assert.InDelta(t, 20, p.Of(2, 200*size.MiB).Middle().Seconds(), 1, "and large ones with what they took beside")
	assert.Less(t, p.Slow, 10*size.MiB)
	assert.Greater(t, p.Fast, 10*size.MiB)
	assert.Greater(t, 20*time.Millisecond, p.Least)
	for range 20 { // it follows when the target becomes another
		l.Learn(&run.Report{Large: run.Timed{Files: 2, Bytes: 200 * size.MiB, Took: 5 * time.Second}})
	}
	assert.InDelta(t, 40*size.MiB, l.Rate, float64(size.MiB))
	var none *estimate.Learnt
	assert.Equal(t, estimate.Usual("smb"), none.Speed("smb"))
}
