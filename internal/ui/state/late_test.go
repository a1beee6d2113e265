package state

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/testkit/coretest"
)

// late delivers results when it pleases: later, in another order, twice.
type late struct {
	t    *rapid.T
	d    *State
	jobs []tea.Cmd
	msgs []tea.Msg
}

func (l *late) add(cmd tea.Cmd) {
	if cmd != nil {
		l.jobs = append(l.jobs, cmd)
	}
}

// work does one job that was begun; its result waits.
func (l *late) work(k int) {
	job := l.jobs[k]
	l.jobs = append(l.jobs[:k:k], l.jobs[k+1:]...)
	switch m := job().(type) {
	case nil:
	case tea.BatchMsg:
		for _, c := range m {
			l.add(c)
		}
	default:
		l.msgs = append(l.msgs, m)
	}
}

// deliver hands one result over; it may come once more later.
func (l *late) deliver(k int, again bool) {
	m := l.msgs[k]
	if !again {
		l.msgs = append(l.msgs[:k:k], l.msgs[k+1:]...)
	}
	switch m := m.(type) {
	case ScanMsg:
		if !again || m.feed == nil {
			l.add(l.d.SetScan(m))
		}
	case SurveyMsg:
		l.d.SetSurvey(m)
	case CheckMsg:
		l.d.SetCheck(m)
	case PlanMsg:
		l.d.SetPlan(m)
	case SupposingMsg:
		if !again {
			l.add(l.d.SetSupposing(m))
		}
	case RunMsg:
		if !again {
			l.add(l.d.SetRun(m))
		}
	}
	l.holds()
}

// holds compares what the screen says of each target with the bench.
func (l *late) holds() {
	d := l.d
	for n := range d.Bench.Targets {
		p := &d.Bench.Targets[n]
		s := d.Targets[n].Survey
		if s != nil && (s.Config.ID() != p.ID() || s.Config.Name != p.Name ||
			d.Bench.Resolve(s.Config.At) != d.Bench.Resolve(p.At)) {
			l.t.Fatalf("target %d is %s at %s, and the screen shows %s at %s", n, p.Name, p.At, s.Config.Name,
				s.Config.At)
		}
		if s != nil && !d.Looking(n) && s.Facts.Filesystem.Name != p.As {
			l.t.Fatalf("%s is %q on the bench, and %q on the screen", p.Name, p.As, s.Facts.Filesystem.Name)
		}
		if lane := d.Targets[n].Lane; lane != nil && lane.Name != p.Name {
			l.t.Fatalf("target %d is %s, and shows the run of %s", n, p.Name, lane.Name)
		}
	}
}

// settle lets everything come to its end.
func (l *late) settle() {
	for len(l.jobs)+len(l.msgs) > 0 {
		if len(l.msgs) > 0 {
			l.deliver(len(l.msgs)-1, false)
		} else {
			l.work(len(l.jobs) - 1)
		}
	}
	for n := range l.d.Bench.Targets {
		if l.d.Looking(n) {
			l.t.Fatalf("%s is waited for, and nothing comes", l.d.Bench.Targets[n].Name)
		}
		if l.d.Targets[n].Survey == nil {
			l.t.Fatalf("%s was never looked at: %v", l.d.Bench.Targets[n].Name, l.d.Targets[n].Trouble)
		}
	}
	l.holds()
}

// TestWhatTheScreenSaysIsWhatTheBenchSays: targets come and go and are set up otherwise while looks at them, checks and
// runs go on, whose results come late, twice, and in any order.
func TestWhatTheScreenSaysIsWhatTheBenchSays(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	dir := t.TempDir()
	for i := range 3 {
		id := fmt.Sprintf("VSP-2%04d", i)
		coretest.Write(t, filepath.Join(dir, "games"), id+".iso",
			coretest.Image(t, coretest.Inf(id, fmt.Sprint("Mosswick ", i), "1/1", "full")))
	}
	round := 0
	rapid.Check(t, func(t *rapid.T) {
		round++
		at := filepath.Join(dir, fmt.Sprint("targets ", round))
		b := bench.New("")
		b.Sources = []bench.Source{{Path: filepath.Join(dir, "games")}}
		for _, name := range []string{"north", "east", "west", "ferry"} {
			if err := os.MkdirAll(filepath.Join(at, name), 0o755); err != nil {
				t.Fatal(err)
			}
			b.Targets = append(b.Targets, bench.Target{Name: name, At: filepath.Join(at, name), Loader: "rowan",
				As: "fat32", Titles: bench.Keys{"VSP-20000"}})
		}
		defer os.RemoveAll(at)
		l := &late{t: t, d: New(context.Background(), b, set, 0)}
		l.add(l.d.StartScan())
		l.settle()
		t.Repeat(map[string]func(*rapid.T){
			"work": func(t *rapid.T) {
				if len(l.jobs) > 0 {
					l.work(rapid.IntRange(0, len(l.jobs)-1).Draw(t, "job"))
				}
			},
			"deliver": func(t *rapid.T) {
				if len(l.msgs) > 0 {
					l.deliver(rapid.IntRange(0, len(l.msgs)-1).Draw(t, "message"), rapid.IntRange(0, 3).
						Draw(t, "again") == 0)
				}
			},
			"format": func(t *rapid.T) { // two quick presses of f
				n := rapid.IntRange(0, 3).Draw(t, "target")
				l.add(l.d.Declare(n, "exfat"))
				l.add(l.d.Declare(n, rapid.SampledFrom([]string{"fat32", "exfat"}).Draw(t, "as")))
			},
			"not connected": func(t *rapid.T) {
				n := rapid.IntRange(0, 3).Draw(t, "target")
				if len(b.Targets) > 2 && n < len(b.Targets) && !l.d.busy() {
					l.add(l.d.without(l.d.frozen(), n).take())
				}
			},
			"suppose": func(t *rapid.T) {
				n := rapid.IntRange(0, 3).Draw(t, "target")
				l.add(l.d.WhatIf(n))
			},
			"check": func(t *rapid.T) {
				n := rapid.IntRange(0, 3).Draw(t, "target")
				if n < len(b.Targets) {
					l.add(l.d.StartCheck(n, ""))
				}
			},
			"undo": func(t *rapid.T) { l.add(l.d.Undo()) },
			"redo": func(t *rapid.T) { l.add(l.d.Redo()) },
			"scan": func(t *rapid.T) { l.add(l.d.StartScan()) },
			"run": func(t *rapid.T) {
				n := rapid.IntRange(0, 3).Draw(t, "target")
				if n >= len(b.Targets) {
					return
				}
				l.d.Question = nil
				s, before := l.d.Targets[n].Survey, l.d.Targets[n].Lane
				l.add(l.d.AskWrite(n))
				if q := l.d.Question; q != nil && q.Agree {
					l.d.Question = nil
					l.add(q.Done(""))
				}
				if lane := l.d.Targets[n].Lane; lane != before && lane.Running() {
					if s.Facts.Filesystem.Name != b.Targets[n].As {
						t.Fatalf("a run is begun that was planned for %q, and %s is %q", s.Facts.Filesystem.Name,
							s.Config.Name, b.Targets[n].As)
					}
					l.d.Wait()
				}
			},
			"": func(*rapid.T) { l.holds() },
		})
		l.settle()
		for n := range b.Targets { // nothing went anywhere else
			if lane := l.d.Targets[n].Lane; lane != nil && lane.Report != nil && lane.Report.Put > 0 {
				if _, err := os.Stat(filepath.Join(b.Targets[n].At, "FULL")); err != nil {
					t.Fatalf("the run of %s wrote elsewhere: %v", b.Targets[n].Name, err)
				}
			}
		}
	})
}

// TestAnAnswerIsForTheTargetThatWasAskedAbout: a question that was prepared for one target is not answered for another
// one.
func TestAnAnswerIsForTheTargetThatWasAskedAbout(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	dir := t.TempDir()
	b := bench.New("")
	b.Sources = []bench.Source{{Path: filepath.Join(dir, "games")}}
	coretest.Write(t, filepath.Join(dir, "games"), "a.iso", coretest.Image(t, coretest.Inf("VSP-20000", "Mosswick",
		"1/1", "full")))
	for _, name := range []string{"north", "east"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, name), 0o755))
		b.Targets = append(b.Targets, bench.Target{Name: name, At: filepath.Join(dir, name), Loader: "rowan",
			As: "fat32", Everything: true})
	}
	d := New(t.Context(), b, set, 0)
	settle := settling(d)
	settle(d.StartScan())
	cmd := d.AskDeleteOthers(0)
	require.NotNil(t, cmd)
	msg := cmd().(AskMsg)
	settle(d.without(d.frozen(), 0).take())
	settle(msg.Question.Done("north"))
	require.Len(t, b.Targets, 1)
	require.False(t, b.Targets[0].DeleteOthers, "east was not asked about")
	require.True(t, strings.Contains(d.Notice, "north is no longer a target, so nothing was done"), d.Notice)
}

// settling does jobs, one after another, until nothing goes on any longer.
func settling(d *State) func(cmd tea.Cmd) {
	var settle func(cmd tea.Cmd)
	settle = func(cmd tea.Cmd) {
		if cmd == nil {
			return
		}
		switch m := cmd().(type) {
		case tea.BatchMsg:
			for _, c := range m {
				settle(c)
			}
		case ScanMsg:
			settle(d.SetScan(m))
		case SurveyMsg:
			d.SetSurvey(m)
		}
	}
	return settle
}

// TestUndoLooksAtNothingAgain: what is on a target does not change when other titles are wanted there, so only the
// choices are judged again; a target that is set up otherwise is looked at, and no other.
func TestUndoLooksAtNothingAgain(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	dir := t.TempDir()
	b := bench.New("")
	b.Sources = []bench.Source{{Path: filepath.Join(dir, "games")}}
	for i := range 3 {
		id := fmt.Sprintf("VSP-2%04d", i)
		coretest.Write(t, filepath.Join(dir, "games"), id+".iso",
			coretest.Image(t, coretest.Inf(id, fmt.Sprint("Mosswick ", i), "1/1", "full")))
	}
	for _, name := range []string{"north", "east"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, name), 0o755))
		b.Targets = append(b.Targets, bench.Target{Name: name, At: filepath.Join(dir, name), Loader: "rowan",
			As: "fat32", Everything: true})
	}
	d := New(t.Context(), b, set, 0)
	settle := settling(d)
	settle(d.StartScan())
	looks := d.Board()
	counts := func() []int { return []int{d.Targets[0].Survey.Sheet.Count, d.Targets[1].Survey.Sheet.Count} }
	require.Equal(t, []int{3, 3}, counts())
	settle(d.Want(0, []int{1}))
	settle(d.Favour([]int{2}))
	require.Equal(t, []int{2, 3}, counts())
	for _, step := range []struct {
		do   func() tea.Cmd
		want []int
		plan int
	}{{d.Undo, []int{2, 3}, 2}, {d.Undo, []int{3, 3}, 3}, {d.Redo, []int{2, 3}, 2}, {d.Undo, []int{3, 3}, 3}} {
		cmd := step.do()
		for n := range d.Targets {
			require.False(t, d.Looking(n))
			require.Same(t, looks[n], d.Targets[n].Survey)
		}
		require.Equal(t, step.want, counts())
		images := 0
		for _, s := range d.Targets[0].Survey.Plan().Steps {
			if strings.HasSuffix(s.Path, ".iso") {
				images++
			}
		}
		require.Equal(t, step.plan, images, "the plan follows")
		settle(cmd)
	}
	settle(d.Declare(1, "exfat"))
	cmd := d.Undo()
	require.Equal(t, []bool{false, true}, []bool{d.Looking(0), d.Looking(1)})
	settle(cmd)
	require.Equal(t, "fat32", d.Targets[1].Survey.Facts.Filesystem.Name)
}
