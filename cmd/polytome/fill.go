package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/intake"
	"polytome/internal/core/plan"
	"polytome/internal/core/proof"
	"polytome/internal/core/run"
	"polytome/internal/core/survey"
	"polytome/internal/size"
)

func fillCommand() *cobra.Command {
	w := &work{}
	var dry, remove bool
	cmd := &cobra.Command{
		Use:   "fill",
		Short: "Write the chosen titles to the place, and prove the result",
		Long: `Fill writes what is wanted and not there yet. What is there under another name is renamed, not
copied. Every file is written under a temporary name, flushed, read back and compared before it gets its final
name. What is on the place stays, but for what the bench marks to leave or to be replaced, and what --exactly
has leave: that needs --remove too. At the end the place is proved: what the loader will list, and what not.`,
		Example: `  polytome fill --bench season.toml --dry-run
  polytome fill --from ~/games --loader rowan --to /media/stick
  polytome fill --bench season.toml --remove --keep-in ~/kept
  polytome fill --from ~/games --loader rowan --to ./stick --as fat32 --room 58GiB --except 'size>4G'`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			b, all, partial, err := w.look(cmd.Context())
			if err != nil {
				return err
			}
			learnt := false
			for n, s := range all {
				if s == nil {
					continue
				}
				out := &filling{out: cmd.OutOrStdout(), progress: os.Stderr, asJSON: w.asJSON, dry: dry, remove: remove,
					run: run.Options{Passwords: b.Passwords, Allowed: intake.Allowed(b)}}
				complete, err := out.fill(cmd.Context(), s)
				if err != nil {
					return err
				}
				if out.report != nil && w.bench != "" && b.Places[n].Rate == 0 {
					learnt = b.Places[n].Learn(out.report) || learnt
				}
				partial = partial || !complete
			}
			if learnt {
				w.remember(b)
			}
			if partial {
				return errPartial
			}
			return nil
		},
	}
	w.planFlags(cmd)
	cmd.Flags().StringVar(&w.rate, "rate", "", "write at most so much a second, such as 30MiB")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "print the steps and write nothing")
	cmd.Flags().BoolVar(&remove, "remove", false, "allow what is marked to leave, or to be replaced, to do so")
	return cmd
}

// remember keeps how fast places were in the bench. Nobody waits for it: where the bench is open elsewhere, or
// cannot be written, times are told by what was known before.
func (w *work) remember(b *bench.Bench) {
	fresh, err := bench.Load(w.bench)
	if err != nil || len(fresh.Places) != len(b.Places) || fresh.Hold(stateDir()) != nil {
		return
	}
	defer fresh.Release()
	for n := range fresh.Places { // without what the command line said for this time
		fresh.Places[n].Pace = b.Places[n].Pace
	}
	_ = fresh.Save()
}

// filling prints one place's filling, for people or as JSON lines.
type filling struct {
	out      io.Writer
	progress io.Writer // where the passing line of progress goes
	asJSON   bool
	dry      bool
	remove   bool // what is marked may leave
	run      run.Options
	plan     *plan.Plan
	report   *run.Report
	spared   int64 // bytes that files turned out to be smaller by
	drawn    time.Time
}

// fill plans, runs and proves. It reports whether everything wanted is there.
func (f *filling) fill(ctx context.Context, s *survey.Survey) (complete bool, err error) {
	f.plan = s.Plan()
	if s.Away != nil {
		return false, fmt.Errorf("%s is away, so nothing can be written to it: %w", s.Config.Name, s.Away)
	}
	if n := f.plan.Loses(); n > 0 && !f.remove && !f.dry {
		return false, usageError{fmt.Errorf("on %s, %s would be removed or replaced; look at the steps with --dry-run, and allow it with --remove", s.Config.Name, size.Count(n, "file"))}
	}
	if err := f.begin(s); err != nil {
		return false, err
	}
	if f.dry {
		return len(f.plan.Left) == 0, nil
	}
	to, err := s.Open()
	if err != nil {
		return false, err
	}
	defer to.Close()
	report := run.Run(ctx, f.plan, to, f.run, f.event)
	f.report = &report
	cache := openCache(os.Stderr)
	s.Wrote(cache, report.Wrote)
	_ = cache.Close()
	if err := f.end(report); err != nil {
		return false, err
	}
	if report.Stopped {
		return false, errStopped
	}
	audit, err := s.Proof(ctx)
	if err != nil {
		return false, fmt.Errorf("proving %s: %w", s.Config.Name, err)
	}
	if f.asJSON {
		err = f.line("proof", audit)
	} else {
		fmt.Fprintln(f.out)
		printProof(f.out, s.Shown(), audit)
	}
	if err != nil {
		return false, err
	}
	if len(report.Failed) > 0 && report.Put == 0 && f.plan.Files > 0 {
		return false, fmt.Errorf("nothing could be written to %s", s.Config.Name)
	}
	complete = len(f.plan.Left) == 0 && len(report.Failed) == 0
	for _, finding := range audit.Findings {
		if finding.Grade == proof.Stops || finding.Title != "" {
			complete = false
		}
	}
	return complete, nil
}

func (f *filling) line(key string, v any) error {
	e := json.NewEncoder(f.out)
	e.SetEscapeHTML(false)
	return e.Encode(map[string]any{key: v})
}

func (f *filling) begin(s *survey.Survey) error {
	if f.asJSON {
		return f.line("plan", f.plan)
	}
	fmt.Fprintf(f.out, "%s: %s; %d there already; %s\n", s.Config.Name, f.plan.Say(), f.plan.There, s.PlanTime(f.plan))
	if f.dry {
		for i := range f.plan.Steps {
			fmt.Fprintf(f.out, "  %s\n", describe(&f.plan.Steps[i]))
		}
	}
	printLeft(f.out, f.plan.Left)
	if f.dry {
		fmt.Fprintln(f.out, "Nothing was written.")
	}
	return nil
}

// event prints one event of the run.
func (f *filling) event(e run.Event) {
	if f.asJSON {
		_ = f.line("event", e)
		return
	}
	step := plan.Step{}
	if e.Step < len(f.plan.Steps) {
		step = f.plan.Steps[e.Step]
	}
	switch e.Kind {
	case run.Progress, run.Checking:
		f.draw(e, step)
	case run.Done:
		if step.Writes() {
			f.spared += max(0, step.Size-e.Bytes)
		}
		f.clear()
		fmt.Fprintf(f.out, "  done: %s\n", describe(&step))
	case run.Failed:
		f.clear()
		fmt.Fprintf(f.out, "  FAILED: %s: %s\n", step.Path, e.Say)
	}
}

// draw shows the passing line of progress, on a terminal only.
func (f *filling) draw(e run.Event, step plan.Step) {
	file, ok := f.progress.(*os.File)
	if !ok || !isTerminal(file) || time.Since(f.drawn) < 100*time.Millisecond {
		return
	}
	f.drawn = time.Now()
	doing := "put"
	if e.Kind == run.Checking {
		doing = "check"
	}
	fmt.Fprintf(f.progress, "\r\x1b[K%3.0f %%  %s %s", percent(e.Total, f.plan.Bytes-f.spared), doing, step.Path)
}

func (f *filling) clear() {
	if !f.drawn.IsZero() {
		fmt.Fprint(f.progress, "\r\x1b[K")
		f.drawn = time.Time{}
	}
}

func percent(n, of int64) float64 {
	if of == 0 {
		return 100
	}
	return 100 * float64(n) / float64(of)
}

func isTerminal(f *os.File) bool {
	info, err := f.Stat()
	return err == nil && info.Mode()&os.ModeCharDevice != 0
}

func (f *filling) end(r run.Report) error {
	if f.asJSON {
		return f.line("run", r)
	}
	fmt.Fprintf(f.out, "%s put and read back, %s in %s", size.Count(r.Put, "file"), size.Format(r.Bytes), r.Elapsed.Round(10*time.Millisecond))
	if r.Moved > 0 {
		fmt.Fprintf(f.out, "; %d renamed", r.Moved)
	}
	if r.Removed > 0 {
		fmt.Fprintf(f.out, "; %s removed", size.Count(r.Removed, "file"))
	}
	if r.Kept > 0 {
		fmt.Fprintf(f.out, "; %s kept in %s", size.Count(r.Kept, "file"), f.plan.KeptIn)
	}
	if len(r.Failed) > 0 {
		fmt.Fprintf(f.out, "; %s failed", size.Count(len(r.Failed), "step"))
	}
	if r.Untried > 0 {
		fmt.Fprintf(f.out, "; %s not tried", size.Count(r.Untried, "step"))
	}
	fmt.Fprintln(f.out, ".")
	return nil
}
