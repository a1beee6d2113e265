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

// TestTheTimeLeftSettlesAndDoesNotJump plays runs of files of all sizes at speeds that vary, and looks at what is forecast.
func TestTheTimeLeftSettlesAndDoesNotJump(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		p := &plan.Plan{}
		for i := range rapid.IntRange(30, 120).Draw(rt, "files") {
			n := rapid.Int64Range(1000, 300<<10).Draw(rt, fmt.Sprint(i))
			if rapid.IntRange(0, 2).Draw(rt, "kind") == 0 {
				n = rapid.Int64Range(20<<20, 120<<20).Draw(rt, "large")
			}
			p.Steps = append(p.Steps, plan.Step{Kind: plan.Put, Size: n, Make: &shape.Spec{Size: n}})
		}
		rate := rapid.Float64Range(4, 60).Draw(rt, "MB a second") * 1e6
		each := rapid.Float64Range(0.005, 0.2).Draw(rt, "seconds a file")
		guess := Guess{Rate: int64(rate * rapid.Float64Range(0.2, 5).Draw(rt, "wrong by")), PerFile: 50 * time.Millisecond}
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
		tell := func(e Event, took float64) {
			now += time.Duration(took * float64(time.Second))
			e.Elapsed = now
			f.Event(e)
			all = append(all, said{now, f.Left(), over[0] > 2 && over[1] > 0})
		}
		for i, s := range p.Steps {
			tell(Event{Kind: Began, Step: i}, 0)
			for _, kind := range []EventKind{Progress, Checking} {
				if s.Size < largeStep {
					continue
				}
				for at := int64(0); at < s.Size; {
					k := min(2<<20, s.Size-at)
					at += k
					tell(Event{Kind: kind, Step: i, Bytes: at}, float64(k)/rate*wobble())
				}
			}
			tell(Event{Kind: Done, Step: i, Bytes: s.Size}, each*wobble())
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
				assert.LessOrEqual(rt, jump, all[k-1].left*time.Duration(1+passed/time.Second)*2/5+time.Second, "a jump at %s of %s, from %s to %s", s.at, now, all[k-1].left, s.left)
			}
		}
		assert.LessOrEqual(rt, all[len(all)-1].left, 3*time.Second)
	})
}
