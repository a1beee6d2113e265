package main

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/estimate"
	"polytome/internal/core/fix"
	"polytome/internal/core/journal"
	"polytome/internal/core/movesources"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/scancache"
	"polytome/internal/core/survey"
	"polytome/internal/size"
)

func fillCommand() *cobra.Command {
	w := &work{}
	how := &carrying{}
	var dry, remove, repair bool
	cmd := &cobra.Command{
		Use:   "fill",
		Short: "Copy the selected titles to the targets, and check the result",
		Long: `Fill copies what is selected and not there yet to all targets of the bench at the same time. What is
there under another name is renamed, not copied. Every file is written under a temporary name,
flushed and verified before it gets its final name. What is on the target stays, except for what the
bench marks to be removed or replaced, and what --delete-others removes: that needs --remove too. At
the end the target is checked: what the loader will list, and what not. A file that was already
there with its name and length but does not start is reported then; --fix copies it again from your
games. The exit status is 3 unless everything selected is there and starts.

How files are verified depends on the connection: over USB and SMB they are read back and compared;
over FTP the console is asked for their length, as reading back would take as long again. --verify
overrides this.

If a target disconnects, the run waits for it. Every run is recorded: see polytome runs.`,
		Example: `  polytome fill --bench season.toml --dry-run
  polytome fill --from ~/games --loader rowan --to /media/stick
  polytome fill --bench season.toml --remove --backup-to ~/kept
  polytome fill --bench season.toml --verify full --limit 20MiB
  polytome fill --from ~/games --loader rowan --to ./stick --as fat32 --capacity 58GiB --except 'size>4G'`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := how.check(); err != nil {
				return err
			}
			w.verify = how.verify
			b, all, partial, err := w.look(cmd.Context())
			if err != nil {
				return err
			}
			f := &filling{out: cmd.OutOrStdout(), progress: how.reader(os.Stderr), asJSON: w.asJSON, dry: dry,
				remove: remove, repair: repair, bench: b, atOnce: how.readAtOnce}
			complete, err := f.fill(cmd.Context(), all)
			if w.bench != "" {
				learnt := false
				for n, l := range f.lanes {
					learnt = l != nil && l.report != nil && b.Targets[n].Rate == 0 && b.Targets[n].Learn(l.report) ||
						learnt
				}
				if learnt {
					w.remember(b)
				}
			}
			if err == nil && how.moveSources != "" && !dry {
				err = f.moveSources(cmd.Context(), all, how.moveSources)
			}
			if err == nil && (partial || !complete) {
				err = errPartial
			}
			return err
		},
	}
	w.planFlags(cmd)
	how.flags(cmd)
	cmd.Flags().StringVar(&w.rate, "limit", "", "write at most this much per second to each target, such as 20MiB")
	cmd.Flags().StringVar(&how.moveSources, "move-sources", "",
		"after everything was read back: move the copied sources to this folder, or to the trash with 'trash'")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "print the steps and write nothing")
	cmd.Flags().BoolVar(&repair, "fix", false, "copy again from your games what is there but does not start")
	cmd.Flags().BoolVar(&remove, "remove", false, "allow removing and replacing what is marked for it")
	return cmd
}

// remember keeps how fast targets were in the bench. Nobody waits for it: where the bench is open elsewhere, or
// cannot be written, times are estimated from what was known before.
func (w *work) remember(b *bench.Bench) {
	fresh, err := bench.Load(w.bench)
	if err != nil || len(fresh.Targets) != len(b.Targets) || fresh.Hold(stateDir()) != nil {
		return
	}
	defer fresh.Release()
	for n := range fresh.Targets { // without what the command line said for this time
		fresh.Targets[n].Speed = b.Targets[n].Speed
	}
	_ = fresh.Save()
}

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
	forecast *run.Forecast
	total    int64
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
			printForeseen(ctx, f.out, all[n], l.plan)
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
			all[n].Wrote(cache, l.report.Wrote)
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
		if wrong := s.Wrong(audit); err == nil && f.repair && len(wrong) > 0 {
			audit, err = f.putRight(ctx, all, n, wrong, cache, runs)
		}
		if err != nil {
			if ctx.Err() != nil || l.only {
				return false, fmt.Errorf("checking %s: %w", s.Config.Name, err)
			}
			fmt.Fprintf(stderr(), "polytome: checking %s: %v\n", s.Config.Name, err)
			complete = false
			continue
		}
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

// prover checks a target as the checklist's command does: by what was done there.
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

// printWrong reports which titles that are wanted do not start as they are there.
func printWrong(out io.Writer, s *survey.Survey, wrong []survey.Wrong) {
	can := 0
	fmt.Fprintf(out, "Selected on %s and there, but not starting: %s\n", s.Config.Name, size.Count(len(wrong), "title"))
	for _, w := range wrong {
		fmt.Fprintf(out, "  %s: %s\n", clean(s.Titles[w.Title].Label()), clean(w.Say))
		if len(w.Fixes) > 0 {
			can++
		}
	}
	if can > 0 {
		fmt.Fprintf(out, "  fill --fix fixes %d of them\n", can)
	}
}

// moveSources moves the files of titles that have been copied.
func (f *filling) moveSources(ctx context.Context, all survey.Board, to string) error {
	var carried []movesources.Carried
	for n, l := range f.lanes {
		if l != nil {
			carried = append(carried, movesources.Carried{Survey: all[n], Plan: l.plan, Report: l.report})
		} else if all[n] != nil {
			return fmt.Errorf("%s was not connected, so no source is moved: it may still be needed there",
				all[n].Config.Name)
		}
	}
	found := movesources.Find(carried)
	moved, err := movesources.Move(ctx, found.Files, f.bench.SourcePaths(), to)
	if err != nil {
		return err
	}
	if f.asJSON {
		return f.object(map[string]any{"moved": map[string]any{"titles": found.Titles, "files": moved.Files,
			"bytes": moved.Bytes, "to": to, "stay": found.Stay}})
	}
	where := "to " + to
	if to == movesources.Trash {
		where = "to the trash"
	}
	fmt.Fprintf(f.out, "\n%s of %s, %s, moved %s.\n", size.Count(moved.Files, "file"), size.Count(len(found.Titles),
		"title"), size.Format(moved.Bytes), where)
	for _, say := range found.Stay {
		fmt.Fprintf(f.out, "  %s.\n", say)
	}
	for _, err := range moved.Failed {
		fmt.Fprintf(f.out, "  not moved: %v\n", err)
	}
	if len(moved.Failed) > 0 {
		return errPartial
	}
	return nil
}

// line prints one object; with the target that it is of, where there are several.
func (l *lane) line(key string, v any) error {
	o := map[string]any{key: v}
	if !l.only {
		o["target"] = l.name
	}
	return l.f.object(o)
}

func (f *filling) object(v any) error {
	e := json.NewEncoder(f.out)
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

func (l *lane) begin(s *survey.Survey) error {
	f := l.f
	if f.asJSON {
		return l.line("plan", l.plan)
	}
	fmt.Fprintf(f.out, "%s: %s; %d already there, by name and length; %s\n", s.Config.Name, l.plan.Say(), l.plan.There,
		s.PlanTime(l.plan))
	cache := openCache(io.Discard)
	known := s.KnownWrong(cache)
	if len(known) > 0 {
		fmt.Fprintf(f.out, "  %s of these did not start at the last check, and nothing has changed since: fill --fix "+
			"fixes what it can\n", size.Count(len(known), "title"))
	}
	_ = cache.Close()
	if l.plan.Empty() && len(known) == 0 {
		fmt.Fprintf(f.out, "  nothing to write: %s\n", l.plan.Idle())
	}
	if say := s.Plain(); say != "" {
		fmt.Fprintf(f.out, "  note: %s\n", say)
	}
	for _, say := range l.plan.Notes {
		fmt.Fprintf(f.out, "  note: %s\n", say)
	}
	if f.dry {
		for i := range l.plan.Steps {
			fmt.Fprintf(f.out, "  %s\n", describe(&l.plan.Steps[i]))
		}
	}
	printLeft(f.out, l.plan.Left)
	if f.dry {
		fmt.Fprintln(f.out, "Nothing was written.")
	}
	return nil
}

// event prints one event of the run.
func (l *lane) event(e run.Event) {
	f := l.f
	f.mu.Lock()
	defer f.mu.Unlock()
	if l.forecast != nil {
		l.forecast.Event(e)
	}
	l.total = e.Total
	if f.progress == progressJSON {
		o := map[string]any{"event": e}
		if l.forecast != nil {
			o["left"] = l.forecast.Left()
		}
		if !l.only {
			o["target"] = l.name
		}
		_ = json.NewEncoder(os.Stderr).Encode(o)
	}
	if f.asJSON {
		_ = l.line("event", e)
		return
	}
	step := plan.Step{}
	if e.Step < len(l.plan.Steps) {
		step = l.plan.Steps[e.Step]
	}
	say := func(format string, args ...any) {
		f.passing.clear()
		if !l.only {
			fmt.Fprintf(f.out, "  %s:", l.name)
		} else {
			fmt.Fprint(f.out, " ")
		}
		fmt.Fprintf(f.out, " "+format+"\n", args...)
	}
	switch e.Kind {
	case run.Progress, run.Checking:
		f.passing.draw(func() string { return f.passingLine(l, e, &step) })
	case run.Resuming:
		say("resuming: %s of %s are already there", size.Format(e.Bytes), step.Path)
	case run.Done:
		if step.Writes() {
			l.spared += max(0, step.Size-e.Bytes)
		}
		say("done: %s", describe(&step))
	case run.Failed:
		say("FAILED: %s: %s", step.Path, e.Say)
	case run.Rewriting, run.PutOff, run.Waiting:
		if !l.said[e.Say] { // once
			l.said[e.Say] = true
			say("%s", e.Say)
		}
	case run.Back:
		say("it is back")
	case run.Began, run.Ended, run.Skipped, run.Paused, run.Resumed, run.Reordered:
	}
}

// passingLine is how far all targets are.
func (f *filling) passingLine(of *lane, e run.Event, step *plan.Step) string {
	if of.only {
		doing := "copy"
		if e.Kind == run.Checking {
			doing = "check"
		}
		left := ""
		if e.Elapsed > time.Second {
			left = "  about " + estimate.Words(of.forecast.Left()) + " left"
		}
		return fmt.Sprintf("%3.0f %%%s  %s %s", 100*of.forecast.Share(), left, doing, step.Path)
	}
	var parts []string
	longest := time.Duration(0)
	for _, l := range f.lanes {
		if l == nil || l.forecast == nil {
			continue
		}
		state := fmt.Sprintf("%.0f %%", 100*l.forecast.Share())
		if l.report != nil {
			state = "over"
		} else {
			longest = max(longest, l.forecast.Left())
		}
		parts = append(parts, l.name+" "+state)
	}
	return strings.Join(parts, ", ") + "; about " + estimate.Words(longest) + " left"
}

func percent(n, of int64) float64 {
	if of <= 0 {
		return 100
	}
	return 100 * float64(n) / float64(of)
}

func isTerminal(f *os.File) bool {
	info, err := f.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}

func (l *lane) end() error {
	r, f := l.report, l.f
	if f.asJSON {
		return l.line("run", r)
	}
	if !l.only {
		fmt.Fprintf(f.out, "%s: ", l.name)
	}
	fmt.Fprintf(f.out, "%s copied, %s, %s in %s", size.Count(r.Put, "file"), r.Verify.Words(), size.Format(r.Bytes),
		r.Elapsed.Round(10*time.Millisecond))
	for _, x := range []struct {
		n    int
		said string
	}{
		{r.Moved, fmt.Sprintf("%d renamed", r.Moved)}, {r.Removed, size.Count(r.Removed, "file") + " removed"},
		{r.Kept, fmt.Sprintf("%s kept in %s", size.Count(r.Kept, "file"), l.plan.BackupTo)},
		{int(r.Resumed), size.Format(r.Resumed) + " were there from before"},
		{r.Rewritten, fmt.Sprintf("%s had to be written twice, so the medium or its cable is not to be trusted",
			size.Count(r.Rewritten, "file"))},
		{r.Breaks, fmt.Sprintf("the connection was lost and restored %d times", r.Breaks)},
		{len(r.Failed), size.Count(len(r.Failed), "step") + " failed"},
		{r.Skipped, size.Count(r.Skipped, "step") + " skipped"}, {r.Untried, size.Count(r.Untried, "step") +
			" not tried"},
		{len(r.Half), r.Waits()},
	} {
		if x.n > 0 {
			fmt.Fprintf(f.out, "; %s", x.said)
		}
	}
	fmt.Fprintln(f.out, ".")
	for _, x := range r.Failed { // that no step is to blame for
		if x.Path == "" {
			fmt.Fprintf(f.out, "  FAILED: %s\n", x.Say)
		}
	}
	return nil
}
