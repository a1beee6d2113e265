package dock_test

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/dock"
)

// ports are what is plugged in, by slot; "" for nothing.
type ports struct {
	sync.Mutex
	in    []string
	looks int // at any of them
}

// looked waits until a slot was looked at as it is now.
func (p *ports) looked() {
	count := func() int {
		p.Lock()
		defer p.Unlock()
		return p.looks
	}
	for from := count(); count() < from+2; { // one may have begun before
		time.Sleep(time.Millisecond)
	}
}

func (p *ports) put(n int, what string) {
	p.Lock()
	p.in[n] = what
	p.Unlock()
}

func (p *ports) probe(_ context.Context, n int) (string, bool) {
	p.Lock()
	defer p.Unlock()
	p.looks++
	return p.in[n], p.in[n] != ""
}

// docked is a dock that runs, with its events.
type docked struct {
	*ports
	events chan dock.Event
	stop   context.CancelFunc
	over   chan struct{}
}

func start(t *testing.T, slots int, work func(ctx context.Context, id string, n int,
	report func(dock.Report)) dock.Report) *docked {
	d := &docked{ports: &ports{in: make([]string, slots)}, events: make(chan dock.Event, 1000),
		over: make(chan struct{})}
	ctx, stop := context.WithCancel(t.Context())
	d.stop = stop
	go func() {
		dock.Run(ctx, slots, dock.Options{Every: time.Millisecond, Probe: d.probe,
			Work: func(ctx context.Context, n int, report func(dock.Report)) dock.Report {
				id, _ := d.probe(ctx, n)
				return work(ctx, id, n, report)
			}}, func(e dock.Event) { d.events <- e })
		close(d.over)
	}()
	t.Cleanup(func() { stop(); <-d.over })
	return d
}

// until waits for a phase of a slot, and returns what was said.
func (d *docked) until(t *testing.T, n int, p dock.Phase) string {
	t.Helper()
	for {
		select {
		case e := <-d.events:
			if e.Slot == n && e.Phase == p {
				return e.Say
			}
		case <-time.After(time.Minute):
			t.Fatalf("slot %d never came to %s", n, p)
		}
	}
}

// TestWhatComesIsWorkedOnOnce, until it goes or another one comes.
func TestWhatComesIsWorkedOnOnce(t *testing.T) {
	times := map[string]int{}
	d := start(t, 1, func(_ context.Context, id string, _ int, report func(dock.Report)) dock.Report {
		times[id]++
		report(dock.Report{Phase: dock.Filling, Say: id})
		return dock.Report{Phase: dock.Done, Say: fmt.Sprint(id, times[id])}
	})
	d.until(t, 0, dock.Waiting)
	d.put(0, "red")
	assert.Equal(t, "red", d.until(t, 0, dock.Filling))
	assert.Equal(t, "red1", d.until(t, 0, dock.Done))
	d.put(0, "blue") // in its place
	assert.Equal(t, "blue1", d.until(t, 0, dock.Done))
	d.put(0, "")
	d.until(t, 0, dock.Waiting)
	d.put(0, "red")
	assert.Equal(t, "red2", d.until(t, 0, dock.Done))
	d.stop()
	<-d.over
	assert.Equal(t, map[string]int{"red": 2, "blue": 1}, times)
}

// TestASlowSlotHoldsNoOtherUp, and the end waits for what is worked on.
func TestASlowSlotHoldsNoOtherUp(t *testing.T) {
	hold := make(chan struct{})
	d := start(t, 2, func(ctx context.Context, _ string, n int, _ func(dock.Report)) dock.Report {
		if n == 0 {
			<-ctx.Done()
			close(hold)
		}
		return dock.Report{Phase: dock.Done}
	})
	d.put(0, "slow")
	for range 5 {
		d.put(1, "quick")
		d.until(t, 1, dock.Done)
		d.put(1, "")
		d.until(t, 1, dock.Waiting)
	}
	d.stop()
	<-d.over
	select {
	case <-hold:
	default:
		t.Fatal("the dock ended before its work")
	}
}

// TestTheDockRunsForWeeks: thousands of plug-ins at ten slots, after which nothing is left over.
func TestTheDockRunsForWeeks(t *testing.T) {
	const slots, each = 10, 500
	before := runtime.NumGoroutine()
	worked := make([]int, slots)
	d := start(t, slots, func(_ context.Context, _ string, n int, _ func(dock.Report)) dock.Report {
		worked[n]++
		return dock.Report{Phase: []dock.Phase{dock.Done, dock.NeedsYou, dock.Failed}[worked[n]%3]}
	})
	rest := make([]chan dock.Event, slots)
	for n := range rest {
		rest[n] = make(chan dock.Event, 10)
	}
	go func() {
		for e := range d.events {
			rest[e.Slot] <- e
		}
	}()
	var all sync.WaitGroup
	for n := range slots {
		all.Go(func() {
			wait := func(is func(dock.Phase) bool) {
				for e := range rest[n] {
					if is(e.Phase) {
						return
					}
				}
			}
			wait(func(p dock.Phase) bool { return p == dock.Waiting })
			for k := range each {
				d.put(n, fmt.Sprint("stick ", k))
				wait(dock.Phase.Rests)
				d.put(n, "")
				wait(func(p dock.Phase) bool { return p == dock.Waiting })
			}
		})
	}
	all.Wait()
	d.stop()
	<-d.over
	close(d.events)
	for n := range slots {
		assert.Equal(t, each, worked[n])
	}
	require.Eventually(t, func() bool { return runtime.NumGoroutine() <= before+1 }, time.Minute, 10*time.Millisecond,
		"nothing is left running")
	assert.True(t, slices.Contains(dock.Phases, dock.NeedsYou))
}

// TestWhatIsHalfPluggedInIsLeftAlone until it stays.
func TestWhatIsHalfPluggedInIsLeftAlone(t *testing.T) {
	n, worked := 0, 0
	ctx, stop := context.WithCancel(t.Context())
	flicker := []bool{true, false, true, false, true, true}
	dock.Run(ctx, 1, dock.Options{Every: time.Millisecond,
		Probe: func(context.Context, int) (string, bool) {
			ok := flicker[min(n, len(flicker)-1)]
			n++
			return "x", ok
		},
		Work: func(context.Context, int, func(dock.Report)) dock.Report {
			worked++
			assert.Equal(t, len(flicker), n)
			stop()
			return dock.Report{Phase: dock.Done}
		}}, func(dock.Event) {})
	assert.Equal(t, 1, worked)
}

// TestWhatCannotBeReachedIsTriedAgain, and what it failed with is gone when it goes.
func TestWhatCannotBeReachedIsTriedAgain(t *testing.T) {
	tries := 0
	d := start(t, 1, func(context.Context, string, int, func(dock.Report)) dock.Report {
		if tries++; tries < 3 {
			return dock.Report{Phase: dock.Failed, Say: "it does not answer", Again: true}
		}
		return dock.Report{Phase: dock.Done, Say: fmt.Sprint(tries)}
	})
	d.put(0, "console")
	d.until(t, 0, dock.Failed)
	assert.Equal(t, "3", d.until(t, 0, dock.Done))
	tries = 0
	d.put(0, "")
	d.until(t, 0, dock.Waiting)
	d.put(0, "console")
	d.until(t, 0, dock.Failed)
	d.put(0, "")
	d.until(t, 0, dock.Waiting)
	d.stop()
	<-d.over
}

// TestWhatWasEjectedStaysDone on the board until another one comes.
func TestWhatWasEjectedStaysDone(t *testing.T) {
	d := start(t, 1, func(_ context.Context, id string, _ int, _ func(dock.Report)) dock.Report {
		return dock.Report{Phase: dock.Done, Say: id, Ejected: id == "red"}
	})
	d.until(t, 0, dock.Waiting)
	for range 2 {
		d.put(0, "red")
		require.Equal(t, "red", d.until(t, 0, dock.Done))
		d.put(0, "")
		d.looked()
	}
	d.put(0, "blue")
	for e := range d.events {
		require.NotEqual(t, dock.Waiting, e.Phase)
		if e.Say == "blue" {
			break
		}
	}
	d.put(0, "")
	d.until(t, 0, dock.Waiting)
	d.stop()
	<-d.over
}

// TestAMistakeAtOneSlotEndsNothingElse.
func TestAMistakeAtOneSlotEndsNothingElse(t *testing.T) {
	d := start(t, 2, func(_ context.Context, id string, _ int, _ func(dock.Report)) dock.Report {
		if id == "bad" {
			panic("a mistake")
		}
		return dock.Report{Phase: dock.Done, Say: id}
	})
	d.put(0, "bad")
	assert.Contains(t, d.until(t, 0, dock.Failed), "a mistake")
	d.put(1, "good")
	assert.Equal(t, "good", d.until(t, 1, dock.Done))
	d.put(0, "good")
	assert.Equal(t, "good", d.until(t, 0, dock.Done))
}
