// Package estimate tells in advance how long writing takes: what a connection usually bears, and what has been
// learnt of a target in past runs.
package estimate

import (
	"fmt"
	"math"
	"time"

	"polytome/internal/core/run"
	"polytome/internal/size"
	"polytome/internal/target/protocols"
)

// A Speed is how fast a target takes files. Every figure is a range, as no two files go alike.
type Speed struct {
	Slow, Fast int64         // bytes a second of large files, written and read back
	Least      time.Duration // that each file takes beside
	Most       time.Duration
	Runs       int // that it was learnt from; 0 for what the connection usually bears
	// What was learnt is of whole files: the bytes a second of large ones with what each takes beside, and the time of
	// a small one with its bytes.
	OfLarge, OfSmall bool
}

// usual are the speeds of the connections of this computer, as long as nothing has been learnt.
var usual = map[string]Speed{
	"usb":     {Slow: 6 * size.MiB, Fast: 25 * size.MiB, Least: 10 * time.Millisecond, Most: 80 * time.Millisecond},
	"adapter": {Slow: 20 * size.MiB, Fast: 90 * size.MiB, Least: 5 * time.Millisecond, Most: 40 * time.Millisecond},
	"nbd":     {Slow: 15 * size.MiB, Fast: 80 * size.MiB, Least: 10 * time.Millisecond, Most: 60 * time.Millisecond},
}

// Stays is the speed of a target that reads files from where they lie: noting where takes next to no time.
var Stays = Speed{Slow: 1 << 50, Fast: 1 << 50, Least: 100 * time.Microsecond, Most: 2 * time.Millisecond}

// Usual is the speed of a connection.
func Usual(via string) Speed {
	if p, ok := usual[via]; ok {
		return p
	}
	if p := protocols.Named(via); p != nil {
		return Speed{Slow: p.Usual.Slow, Fast: p.Usual.Fast, Least: p.Usual.Least, Most: p.Usual.Most}
	}
	return usual["usb"]
}

// Limited is the speed when no more than rate bytes a second may be written; 0 for no limit.
func (p Speed) Limited(rate int64) Speed {
	if rate > 0 {
		p.Slow, p.Fast = min(p.Slow, rate), min(p.Fast, rate)
	}
	return p
}

// Guess is what a forecast begins with.
func (p Speed) Guess() run.Guess {
	return run.Guess{Rate: (p.Slow + p.Fast) / 2, PerFile: (p.Least + p.Most) / 2}
}

// A Learnt is what is remembered of the past runs at a target.
type Learnt struct {
	Rate    int64   `toml:"bytes-a-second,omitempty"` // of large files, the mean
	Spread  float64 `toml:"spread,omitempty"`         // by how much of it runs differ
	PerFile float64 `toml:"seconds-a-file,omitempty"` // that a small file takes
	Runs    int     `toml:"runs,omitempty"`
	Adapter string  `toml:"adapter,omitempty"` // that the target was behind: with another one it is another speed
}

// newest is how much the newest run counts against all that were before.
const newest = 0.4

// leastLearnt is how many bytes of large files a run must have written to tell a rate: fewer
// end in a cache.
const leastLearnt = 64 * size.MiB

// Learn takes a run's times in. It reports whether there was something to learn.
func (l *Learnt) Learn(r *run.Report) bool {
	learnt := false
	mix := func(old, now float64) float64 {
		if old == 0 {
			return now
		}
		return old + newest*(now-old)
	}
	if r.Large.Bytes >= leastLearnt && r.Large.Took > 0 {
		now := float64(r.Large.Bytes) / r.Large.Took.Seconds()
		if l.Rate > 0 {
			l.Spread = mix(l.Spread, math.Abs(now-float64(l.Rate))/float64(l.Rate))
		}
		l.Rate = int64(mix(float64(l.Rate), now))
		learnt = true
	}
	if r.Small.Files >= 10 {
		l.PerFile = mix(l.PerFile, r.Small.Took.Seconds()/float64(r.Small.Files))
		learnt = true
	}
	if learnt {
		l.Runs++
	}
	return learnt
}

// Speed is what was learnt, put over the usual speed of the connection.
func (l *Learnt) Speed(via string) Speed {
	p := Usual(via)
	if l == nil || l.Runs == 0 {
		return p
	}
	p.Runs = l.Runs
	if l.Rate > 0 {
		spread := min(max(l.Spread, 0.15), 0.6)
		p.Slow, p.Fast = int64(float64(l.Rate)*(1-spread)), int64(float64(l.Rate)*(1+spread))
		p.OfLarge = true
	}
	if l.PerFile > 0 { // the middle is what was learnt
		p.Least = time.Duration(l.PerFile * 0.6 * float64(time.Second))
		p.Most = time.Duration(l.PerFile * 1.4 * float64(time.Second))
		p.OfSmall = true
	}
	return p
}

// A Range is how long something takes at least and at most.
type Range struct {
	Least time.Duration `json:"least"` // in nanoseconds
	Most  time.Duration `json:"most"`
}

// Of is how long some files take together that have so many bytes, one about as many as another.
func (p Speed) Of(files int, bytes int64) Range {
	if files == 0 {
		return Range{}
	}
	small := bytes/int64(files) < run.LargeFrom
	if small && p.OfSmall {
		bytes = 0
	}
	beside := time.Duration(files)
	if !small && p.OfLarge {
		beside = 0
	}
	seconds := func(rate int64) time.Duration {
		return time.Duration(float64(bytes) / float64(max(rate, 1)) * float64(time.Second))
	}
	return Range{seconds(p.Fast) + beside*p.Least, seconds(p.Slow) + beside*p.Most}
}

// ofAFile is which part of the time that a file takes to be written a look into one takes: opening it, reading its
// head, closing it.
const ofAFile = 0.3

// Looks is how long it takes to look into some files, as a check does.
func (p Speed) Looks(files int) Range {
	each := func(d time.Duration) time.Duration { return time.Duration(float64(files) * ofAFile * float64(d)) }
	return Range{each(p.Least), each(p.Most)}
}

// Plus is one after the other.
func (r Range) Plus(o Range) Range { return Range{r.Least + o.Least, r.Most + o.Most} }

// Beside is both at once.
func (r Range) Beside(o Range) Range { return Range{max(r.Least, o.Least), max(r.Most, o.Most)} }

// Middle is the middle of the range.
func (r Range) Middle() time.Duration { return (r.Least + r.Most) / 2 }

// String is the range in words: "3 to 8 min".
func (r Range) String() string {
	if r.Most == 0 {
		return "nothing to copy"
	}
	if r.Most < time.Second {
		return "a moment"
	}
	name, unit, ok := unitOf(r.Most)
	least, most := whole(r.Least, unit), whole(r.Most, unit)
	switch {
	case least == most, Words(r.Least) == Words(r.Most):
		return "about " + Words(r.Most)
	case ok && least >= 1:
		return fmt.Sprintf("%d to %d %s", least, most, name)
	}
	return Words(r.Least) + " to " + Words(r.Most)
}

// whole is a time in whole units.
func whole(d, unit time.Duration) int { return int(math.Round(float64(d) / float64(unit))) }

// unitOf is the unit in which a time is reported; ok is false for hours, which are reported with minutes.
func unitOf(d time.Duration) (string, time.Duration, bool) {
	switch {
	case d < 90*time.Second:
		return "s", time.Second, true
	case d < 2*time.Hour:
		return "min", time.Minute, true
	}
	return "h", time.Minute, false
}

// Words are about how long something takes, in words.
func Words(d time.Duration) string {
	name, unit, ok := unitOf(d)
	if !ok {
		return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%.0f %s", math.Max(1, math.Round(float64(d)/float64(unit))), name)
}
