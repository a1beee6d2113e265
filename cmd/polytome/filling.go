package main

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"sync"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/fix"
	"polytome/internal/core/journal"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/scancache"
	"polytome/internal/core/survey"
	"polytome/internal/size"
)

// filling fills targets side by side, and prints it, for people or as JSON lines.
type filling struct {
	out       io.Writer
	progress  progressReader
	asJSON    bool
	dry       bool
	remove    bool // what is marked may leave
	repair    bool // what is there and does not start is put right
	bench     *bench.Bench
	journal   string  // where the runs are written down, "" for the usual file
	unchecked bool    // the targets are not checked at the end
	atOnce    bool    // lanes do not take turns at reading
	lanes     []*lane // by target; nil for one that is left out
	mu        sync.Mutex
	passing   passing
}

// lane is one target being filled.
type lane struct {
	f        *filling
	name     string
	n        int
	only     bool // there is no other one
	plan     *plan.Plan
	foreseen *check.Report // what the check will find after the plan; nil where it was not looked for
	forecast *run.Forecast
	total    int64
	done     int   // files that are written
	spared   int64 // bytes that files turned out to be smaller by
	report   *run.Report
	said     map[string]bool // what was said of waiting
}

// fill plans, runs and checks. It reports whether everything wanted is there.
func (f *filling) fill(ctx context.Context, all survey.Board) (complete bool, err error) {
	complete = true
	var away []error
	count := 0
	for _, s := range all {
		if s != nil {
			count++
		}
	}
	f.lanes = make([]*lane, len(all))
	for n, s := range all {
		if s == nil {
			continue
		}
		p := s.Plan()
		if s.Away != nil {
			away = append(away, fmt.Errorf("%s is not connected, so nothing can be written to it: %w", s.Config.Name,
				s.Away))
			continue
		}
		if n := p.Loses(); n > 0 && !f.remove && !f.dry {
			return false, usageError{fmt.Errorf(
				"on %s, %s would be removed or replaced; see the steps with --dry-run, and allow it with --remove",
				s.Config.Name, size.Count(n, "file"))}
		}
		f.lanes[n] = &lane{f: f, name: s.Config.Name, n: n, only: count == 1, plan: p, said: map[string]bool{}}
	}
	if len(away) == count {
		return false, away[0]
	}
	for _, err := range away {
		fmt.Fprintf(stderr(), "polytome: skipped: %v\n", err)
		complete = false
	}
	for n, l := range f.lanes {
		if l == nil {
			continue
		}
		if err := l.begin(all[n]); err != nil {
			return false, err
		}
		if !f.asJSON && !f.unchecked {
			l.foreseen = printForeseen(ctx, f.out, all[n], l.plan)
		}
		complete = complete && len(l.plan.Left) == 0
	}
	if f.dry {
		return complete, nil
	}
	f.run(ctx, all)
	cache := openCache(os.Stderr)
	for n, l := range f.lanes {
		if l != nil {
			all[n].Ran(cache, l.plan, l.report)
			if l.report.All() {
				noted(ctx, all[n], survey.Noted{Done: l.plan, Foreseen: l.foreseen})
			}
		}
	}
	_ = cache.Close()
	for _, l := range f.lanes {
		if l == nil {
			continue
		}
		if err := l.end(); err != nil {
			return false, err
		}
	}
	if ctx.Err() != nil {
		return false, errStopped
	}
	if f.unchecked {
		return complete, nil
	}
	checked, err := f.check(ctx, all)
	return complete && checked, err
}

// run carries out all plans at once.
func (f *filling) run(ctx context.Context, all survey.Board) {
	runs, note := openJournalAt(cmp.Or(f.journal, journalFile()))
	if note != nil {
		fmt.Fprintf(stderr(), "polytome: %v\n", note)
	}
	defer runs.Close()
	f.passing = passing{out: os.Stderr, want: f.progress == progressAuto && !f.asJSON}
	plans := make([]*plan.Plan, len(all))
	for n, l := range f.lanes {
		if l != nil {
			plans[n] = l.plan
		}
	}
	var going sync.WaitGroup
	waits, over := all.Waits(plans), make([]chan struct{}, len(all))
	for n := range over {
		over[n] = make(chan struct{})
	}
	var mu sync.Mutex // runs are written down one after another
	begin := func(n int, l *lane) *run.Lane {
		mu.Lock()
		defer mu.Unlock()
		s := all[n]
		job := s.Job(f.bench, l.plan)
		l.forecast = run.NewForecast(l.plan, job.Verify, s.Guess(l.plan, job.Verify))
		l.forecast.Limit(job.Limit)
		job.Emit, job.AtOnce = l.event, f.atOnce
		job.Over = func(r run.Report) { l.report = &r }
		started, _, note := runs.Start(ctx, s.Beginning(f.bench), job)
		if note != nil {
			fmt.Fprintf(stderr(), "polytome: %v\n", note)
		}
		return started
	}
	for n, l := range f.lanes {
		if l == nil {
			close(over[n])
			continue
		}
		for _, m := range waits[n] {
			fmt.Fprintf(stderr(), "polytome: %s removes files that %s still reads, so it starts when that is done\n",
				l.name, all[m].Config.Name)
		}
		going.Go(func() {
			defer close(over[n])
			for _, m := range waits[n] {
				<-over[m]
			}
			begin(n, l).Wait()
		})
	}
	going.Wait()
	f.passing.clear()
}

// check audits the targets, and reports whether all of them are as they should be.
func (f *filling) check(ctx context.Context, all survey.Board) (complete bool, err error) {
	complete = true
	cache := openCache(os.Stderr)
	defer cache.Close()
	runs, _ := openJournalAt(cmp.Or(f.journal, journalFile())) // that it cannot be read was said before
	defer runs.Close()
	for n, l := range f.lanes {
		if l == nil {
			continue
		}
		s := all[n]
		checker := f.checker(s, n, runs)
		checker.JustRan(l.plan, l.report)
		audit, _, err := checker.CheckAgain(ctx, cache)
		if err == nil && f.repair {
			if wrong := s.Wrong(audit); len(wrong) > 0 {
				audit, err = f.putRight(ctx, all, n, wrong, cache, runs)
			}
		}
		if err != nil {
			if ctx.Err() != nil || l.only {
				return false, fmt.Errorf("checking %s: %w", s.Config.Name, err)
			}
			fmt.Fprintf(stderr(), "polytome: checking %s: %v\n", s.Config.Name, err)
			complete = false
			continue
		}
		noted(ctx, s, survey.Noted{Check: audit, Stale: true})
		if f.asJSON {
			err = l.line("check", audit)
		} else {
			fmt.Fprintln(f.out)
			printCheck(f.out, s.Shown(), audit)
		}
		if err != nil {
			return false, err
		}
		if len(l.report.Failed) > 0 && l.report.Put == 0 && l.plan.Files > 0 && l.only {
			return false, fmt.Errorf("nothing could be written to %s", s.Config.Name)
		}
		wrong := s.Wrong(audit)
		if len(wrong) > 0 && !f.asJSON {
			printWrong(f.out, s, wrong)
		}
		complete = complete && l.report.All() && len(wrong) == 0
		for _, finding := range audit.Findings {
			if finding.Grade == check.Stops || finding.Kind == check.Promised {
				complete = false
			}
		}
	}
	return complete, nil
}

// checker checks a target as the checklist's command does: by what was done there.
func (f *filling) checker(s *survey.Survey, n int, runs *journal.Journal) *survey.Checker {
	p := s.Checker(f.bench, n, "", nil)
	p.Journal = runs
	return p
}

// putRight carries out what fixes the titles that are wanted and do not start, and checks the target again.
func (f *filling) putRight(ctx context.Context, all survey.Board, n int, wrong []survey.Wrong, cache *scancache.Store,
	runs *journal.Journal) (*check.Report, error) {
	var fixes []fix.Fix
	for _, w := range wrong {
		fixes = append(fixes, w.Fixes...)
	}
	if len(fixes) > 0 {
		if !f.asJSON {
			fmt.Fprintf(f.out, "\nFixing what does not start:\n")
		}
		again := &filling{out: f.out, progress: f.progress, asJSON: f.asJSON, journal: f.journal, remove: true,
			bench: f.bench, unchecked: true}
		if _, err := again.fix(ctx, all, n, fixes); err != nil {
			return nil, err
		}
	}
	audit, _, err := f.checker(all[n], n, runs).CheckAgain(ctx, cache)
	return audit, err
}

// fix carries out fixes of a target.
func (f *filling) fix(ctx context.Context, all survey.Board, n int, fixes []fix.Fix) (complete bool, err error) {
	s, c := all[n], &f.bench.Targets[n]
	before, chosen := *c, slices.Clone(s.Sheet.Chosen)
	c.DeleteOthers, c.Removing, c.Fixes = false, nil, nil
	c.Fix(fixes...)
	keep := make([]bool, len(s.Titles))
	for i := range s.Titles {
		keep[i] = slices.ContainsFunc(fixes,
			func(m fix.Fix) bool { return m.Do == fix.Copy && m.Title == s.Titles[i].Key })
	}
	if err := s.Rejudge(ctx, f.bench, n); err != nil {
		return false, err
	}
	s.Narrow(f.bench, n, keep)
	one := make(survey.Board, len(all))
	one[n] = s
	complete, err = f.fill(ctx, one)
	*c = before
	s.Narrow(f.bench, n, chosen)
	return complete, err
}
