package run

import (
	"math"
	"time"

	"polytome/internal/core/plan"
)

// A Guess is how fast a target is thought to be before anything was written.
type Guess struct {
	Rate    int64         // bytes a second of large files, written and checked
	PerFile time.Duration // that each small file takes
	After   time.Duration // that the check behind the run takes
}

// A Forecast tells from a lane's events how long the rest takes. It accounts for three things: how fast bytes of large
// files are written, how fast they are read back, and what every step takes beside. What was seen lately counts more
// than what was long ago. What it says moves towards what it estimates in small steps, so that it does not jump.
type Forecast struct {
	plan    *plan.Plan
	checks  bool
	left    []bool // steps that are not over
	files   [2]int // that are left: small, large
	bytes   int64  // of large files that are left
	all     work   // what there was to do at the beginning
	limit   int64  // bytes a second that are written at most; 0 for no limit
	guess   float64
	after   time.Duration // that comes behind the run
	written map[int]int64
	checked map[int]int64

	last         time.Duration // of the newest event
	write, check speed
	beside       [2]speed // steps a second
	seen         [2]bool  // some of the kind were done
	readBack     bool     // some bytes were read back
	shown        time.Duration
	shownAt      time.Duration
	begun        bool
}

// speed is an amount in a time, both of them fading, and what was thought of it before.
type speed struct{ amount, seconds, guess, seen float64 }

// saw takes in an amount and the time that it took.
func (s *speed) saw(amount, seconds float64) {
	s.amount, s.seconds, s.seen = s.amount+amount, s.seconds+seconds, s.seen+seconds
}

// fade has what was seen count less.
func (s *speed) fade(by float64) { s.amount, s.seconds = s.amount*by, s.seconds*by }

// per is the speed. A guess counts as much as a tenth of a second of what is seen, and nothing at all after a second:
// the target may be a hundred times slower than was thought.
func (s *speed) per() float64 {
	trust := trusts.Seconds() * math.Exp(-s.seen/trusts.Seconds())
	return (s.amount + s.guess*trust) / math.Max(s.seconds+trust, 1e-9)
}

// The memory of speeds fades by half in so long; a guess counts as much as so much of what was seen, at first.
const (
	fades  = 20 * time.Second
	trusts = time.Second / 10
)

// calm is how quickly what is shown follows what is estimated: slowly when much is left, and quickly while little is
// known.
func calm(left, passed time.Duration) time.Duration {
	return max(min(left/10, passed/4, 5*time.Second), time.Second/4)
}

// largeStep is from how many bytes on the length of a file counts.
const largeStep = 1 << 20

func classOf(s *plan.Step) int {
	if s.Writes() && s.Size >= largeStep {
		return 1
	}
	return 0
}

// NewForecast begins a forecast for a plan.
func NewForecast(p *plan.Plan, v Verify, g Guess) *Forecast {
	f := &Forecast{plan: p, checks: v == VerifyFull, left: make([]bool, len(p.Steps)), written: map[int]int64{},
		checked: map[int]int64{}}
	for i := range p.Steps {
		f.left[i] = true
		c := classOf(&p.Steps[i])
		f.files[c]++
		if c == 1 {
			f.bytes += p.Steps[i].Size
		}
	}
	f.all = work{float64(f.bytes), float64(f.bytes), f.files}
	rate := float64(max(g.Rate, 1<<20))
	if f.checks {
		rate *= 2 // half of the time is reading back
	}
	f.guess, f.after = rate, g.After
	f.write, f.check = speed{guess: rate}, speed{guess: rate}
	each := max(g.PerFile, time.Millisecond).Seconds()
	f.beside = [2]speed{{guess: 1 / each}, {guess: 1 / each}}
	return f
}

// Limit takes into account that so many bytes a second are written at most; 0 for no limit.
func (f *Forecast) Limit(rate int64) {
	if rate == f.limit {
		return
	}
	f.limit, f.write = rate, speed{guess: f.guess}
	if rate > 0 {
		f.write.guess = min(f.guess, float64(rate))
	}
}

// Event takes an event in.
func (f *Forecast) Event(e Event) {
	took := (e.Elapsed - f.last).Seconds()
	f.last = max(f.last, e.Elapsed)
	if e.Step < 0 || e.Step >= len(f.left) || took < 0 {
		return
	}
	fade := math.Exp2(-took / fades.Seconds())
	for _, s := range []*speed{&f.write, &f.check, &f.beside[0], &f.beside[1]} {
		s.fade(fade)
	}
	s := &f.plan.Steps[e.Step]
	class := classOf(s)
	if class == 0 && (e.Kind == Progress || e.Kind == Checking) { // of a small file, all of its time counts
		f.beside[0].saw(0, took)
		return
	}
	switch e.Kind {
	case Progress:
		f.add(&f.write, f.written, e, took)
	case Checking:
		if e.Bytes == 0 { // it begins: until now it was flushed
			f.beside[class].saw(0, took)
			f.written[e.Step] = s.Size
		} else {
			f.add(&f.check, f.checked, e, took)
			f.readBack = true
		}
	case Resuming:
		f.written[e.Step] = e.Bytes
	case Rewriting:
		delete(f.written, e.Step)
		delete(f.checked, e.Step)
	case Done, Failed, Skipped:
		if rest := s.Size - f.checked[e.Step]; class == 1 && f.checks && e.Kind == Done && rest > 0 {
			f.check.saw(float64(rest), took) // read back too quickly to be measured
			f.readBack = true
		} else {
			f.beside[class].saw(0, took)
		}
		if !f.left[e.Step] {
			return
		}
		f.left[e.Step] = false
		f.files[class]--
		if class == 1 {
			f.bytes -= s.Size
		}
		delete(f.written, e.Step)
		delete(f.checked, e.Step)
		if e.Kind == Done {
			f.beside[class].saw(1, 0)
			f.seen[class] = true
		}
	case Reordered:
		if !f.left[e.Step] { // it is tried again
			f.left[e.Step] = true
			f.files[class]++
			if class == 1 {
				f.bytes += s.Size
			}
		}
	case Began:
		f.beside[class].saw(0, took)
	case Ended, Paused, Resumed, PutOff, Waiting, Back:
	}
}

func (f *Forecast) add(to *speed, so map[int]int64, e Event, took float64) {
	to.saw(float64(max(0, e.Bytes-so[e.Step])), took)
	so[e.Step] = e.Bytes
}

// work is bytes of large files to be written and read back, and steps: small, large.
type work struct {
	write, check float64
	files        [2]int
}

// rest is what is left to do.
func (f *Forecast) rest() work {
	write, check := float64(f.bytes), float64(f.bytes)
	for i, n := range f.written {
		if classOf(&f.plan.Steps[i]) == 1 {
			write -= float64(n)
		}
	}
	for i, n := range f.checked {
		if classOf(&f.plan.Steps[i]) == 1 {
			check -= float64(n)
		}
	}
	return work{math.Max(0, write), math.Max(0, check), f.files}
}

// takes is how many seconds some work takes by what was seen.
func (f *Forecast) takes(w work) float64 {
	t := w.write / math.Max(f.write.per(), 1)
	for class, n := range w.files {
		of := class
		if !f.seen[class] && f.seen[1-class] { // what one kind takes beside says more of the other than a guess does
			of = 1 - class
		}
		t += float64(n) / math.Max(f.beside[of].per(), 1e-3)
	}
	if f.checks {
		rate := &f.check
		if !f.readBack && f.limit == 0 { // until then it is thought to go as writing does, unless that is held up
			rate = &f.write
		}
		t += w.check / math.Max(rate.per(), 1)
	}
	return t
}

// Share is which part of the whole is done, from 0 to 1, by the time that it takes: thousands of small files count for
// more than their bytes.
func (f *Forecast) Share() float64 {
	if f.files == [2]int{} {
		return 1
	}
	rest, all := f.takes(f.rest()), f.takes(f.all)
	return min(max(0, 1-rest/math.Max(all, 1e-9)), 0.99)
}

// Left is how long the rest takes, with what comes behind the run.
func (f *Forecast) Left() time.Duration {
	is := time.Duration(f.takes(f.rest()) * float64(time.Second))
	passed := f.last - f.shownAt
	if !f.begun {
		f.shown, f.begun = is, true
	} else if passed > 0 {
		f.shown -= passed // as it would be if it had been right
		f.shown += time.Duration(float64(is-f.shown) * (1 - math.Exp(-passed.Seconds()/calm(is, f.last).Seconds())))
	}
	f.shownAt = f.last
	return max(0, f.shown) + f.after
}
