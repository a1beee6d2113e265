package run

import (
	"fmt"
	"math/rand"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"polytome/internal/core/plan"
	"polytome/internal/core/shape"
)

// TestTheTimeLeftSettlesAndDoesNotJump plays runs of files of all sizes at speeds that vary, and looks at what is
// forecast.
func TestTheTimeLeftSettlesAndDoesNotJump(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		p := &plan.Plan{}
		for i := range rapid.IntRange(30, 120).Draw(rt, "files") {
			n := rapid.Int64Range(1000, 300<<10).Draw(rt, fmt.Sprint(i))
			if rapid.IntRange(0, 2).Draw(rt, "kind") == 0 {
				n = rapid.Int64Range(20<<20, 120<<20).Draw(rt, "large")
			}
			p.Steps = append(p.Steps, plan.Step{Kind: plan.Copy, Size: n, Make: &shape.Spec{Size: n}})
		}
		rate := rapid.Float64Range(4, 60).Draw(rt, "MB a second") * 1e6
		each := rapid.Float64Range(0.005, 0.2).Draw(rt, "seconds a file")
		guess := Guess{Rate: int64(rate * rapid.Float64Range(0.2, 5).Draw(rt, "wrong by")),
			PerFile: 50 * time.Millisecond}
		f := NewForecast(p, VerifyFull, guess)
		type said struct {
			at, left time.Duration
			known    bool // some of each kind were done
		}
		over := [2]int{}
		var all []said
		now := time.Duration(0)
		r := rand.New(rand.NewSource(rapid.Int64().Draw(rt, "seed")))
		wobble := func() float64 { return 0.7 + 0.6*r.Float64() }
		emit := func(e Event, took float64) {
			now += time.Duration(took * float64(time.Second))
			e.Elapsed = now
			f.Event(e)
			all = append(all, said{now, f.Left(), over[0] > 2 && over[1] > 0})
		}
		for i, s := range p.Steps {
			emit(Event{Kind: Began, Step: i}, 0)
			for _, kind := range []EventKind{Progress, Checking} {
				if s.Size < largeStep {
					continue
				}
				for at := int64(0); at < s.Size; {
					k := min(2<<20, s.Size-at)
					at += k
					emit(Event{Kind: kind, Step: i, Bytes: at}, float64(k)/rate*wobble())
				}
			}
			emit(Event{Kind: Done, Step: i, Bytes: s.Size}, each*wobble())
			over[classOf(&s)]++
		}
		for k, s := range all {
			truth := now - s.at
			if s.at > 12*time.Second && s.at > now/5 && s.known {
				off := (s.left - truth).Abs()
				assert.LessOrEqual(rt, off, truth/3+4*time.Second, "at %s of %s: said %s", s.at, now, s.left)
			}
			if k > 0 && s.at > 5*time.Second { // by then it has settled
				passed := s.at - all[k-1].at
				jump := (s.left - all[k-1].left + passed).Abs()
				assert.LessOrEqual(rt, jump, all[k-1].left*time.Duration(1+passed/time.Second)*2/5+time.Second,
					"a jump at %s of %s, from %s to %s", s.at, now, all[k-1].left, s.left)
			}
		}
		assert.LessOrEqual(rt, all[len(all)-1].left, 3*time.Second)
	})
}

// played plays a run of one large file and many small ones at constant speeds, and tells after each event.
func played(p *plan.Plan, f *Forecast, rate, each float64, emit func(now time.Duration, e Event)) {
	now := time.Duration(0)
	say := func(e Event, took float64) {
		now += time.Duration(took * float64(time.Second))
		e.Elapsed = now
		f.Event(e)
		emit(now, e)
	}
	for i, s := range p.Steps {
		say(Event{Kind: Began, Step: i}, 0)
		for at := int64(0); s.Size >= largeStep && at < s.Size; {
			k := min(1<<20, s.Size-at)
			at += k
			say(Event{Kind: Progress, Step: i, Bytes: at}, float64(k)/rate)
		}
		say(Event{Kind: Done, Step: i, Bytes: s.Size}, each)
	}
}

// TestTheShareThatIsDoneIsOneOfTime: hundreds of small files behind a large one are most of the work, though they are
// hardly any bytes.
func TestTheShareThatIsDoneIsOneOfTime(t *testing.T) {
	p := &plan.Plan{Steps: []plan.Step{{Kind: plan.Copy, Size: 500 << 20, Make: &shape.Spec{}}}}
	for range 600 {
		p.Steps = append(p.Steps, plan.Step{Kind: plan.Copy, Size: 20 << 10, Make: &shape.Spec{}})
	}
	f := NewForecast(p, VerifySize, Guess{Rate: 50 << 20, PerFile: 20 * time.Millisecond})
	const rate, each = 100e6, 0.1
	whole := 500*(1<<20)/rate + 601*each
	last := 0.0
	played(p, f, rate, each, func(now time.Duration, e Event) {
		share, truth := f.Share(), now.Seconds()/whole
		if e.Step > 10 && e.Step < 600 {
			assert.InDelta(t, truth, share, 0.05, "step %d", e.Step)
			assert.GreaterOrEqual(t, share, last-0.02)
		}
		last = share
	})
	assert.Equal(t, 1.0, f.Share())
}

// TestALimitCountsInEstimates: the guess may be a hundred times too quick, and what is read back is not held up.
func TestALimitCountsInEstimates(t *testing.T) {
	p := &plan.Plan{Steps: []plan.Step{{Kind: plan.Copy, Size: 64 << 20, Make: &shape.Spec{}}}}
	for _, reported := range []bool{true, false} {
		for _, verify := range []Verify{VerifySize, VerifyFull} {
			f := NewForecast(p, verify, Guess{Rate: 400 << 20, PerFile: time.Millisecond})
			if reported {
				f.Limit(2 << 20)
			}
			played(p, f, 2<<20, 0, func(now time.Duration, e Event) {
				if now > 4*time.Second && e.Kind == Progress && (reported || verify == VerifySize) {
					truth := 32*time.Second - now
					assert.Less(t, (f.Left() - truth).Abs(), truth/5+time.Second, "at %s: %s", now, f.Left())
				}
			})
			f.Limit(0)
			assert.Positive(t, f.Share())
		}
	}
}
