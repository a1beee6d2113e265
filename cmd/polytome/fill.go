package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"

	"polytome/internal/core/plan"
	"polytome/internal/core/proof"
	"polytome/internal/core/run"
	"polytome/internal/core/survey"
	"polytome/internal/size"
)

func fillCommand() *cobra.Command {
	w := &work{}
	var dry bool
	cmd := &cobra.Command{
		Use:   "fill",
		Short: "Write the chosen titles to the place, and prove the result",
		Long: `Fill writes what is wanted and not there yet. Every file is written under a temporary
name, flushed, read back and compared before it gets its final name. What is on the
place stays. At the end the place is proved: what the loader will list, and what not.`,
		Example: `  polytome fill --bench season.toml --dry-run
  polytome fill --from ~/games --loader rowan --to /media/stick
  polytome fill --from ~/games --loader rowan --to ./stick --as fat32 --room 58GiB`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, partial, err := w.look(cmd.Context())
			if err != nil {
				return err
			}
			for _, s := range all {
				out := &filling{out: cmd.OutOrStdout(), progress: os.Stderr, asJSON: w.asJSON}
				complete, err := out.fill(cmd.Context(), s, dry)
				if err != nil {
					return err
				}
				partial = partial || !complete
			}
			if partial {
				return errPartial
			}
			return nil
		},
	}
	w.flags(cmd)
	cmd.Flags().StringVar(&w.rate, "rate", "", "write at most so much a second, such as 30MiB")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "print the steps and write nothing")
	return cmd
}

// filling prints one place's filling, for people or as JSON lines.
type filling struct {
	out      io.Writer
	progress io.Writer // where the passing line of progress goes
	asJSON   bool
	plan     *plan.Plan
	drawn    time.Time
}

// fill plans, runs and proves. It reports whether everything wanted is there.
func (f *filling) fill(ctx context.Context, s *survey.Survey, dry bool) (complete bool, err error) {
	f.plan = s.Plan()
	if err := f.begin(s, dry); err != nil {
		return false, err
	}
	if dry {
		return len(f.plan.Left) == 0, nil
	}
	to, err := s.Open()
	if err != nil {
		return false, err
	}
	defer to.Close()
	report := run.Run(ctx, f.plan, to, f.event)
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
		printProof(f.out, s.Profile.Shown, audit)
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

func (f *filling) begin(s *survey.Survey, dry bool) error {
	if f.asJSON {
		return f.line("plan", f.plan)
	}
	fmt.Fprintf(f.out, "%s: %s to put, %s; %d there already\n", s.Config.Name, size.Count(f.plan.Files, "file"), size.Format(f.plan.Bytes), f.plan.There)
	if dry {
		for _, step := range f.plan.Steps {
			fmt.Fprintf(f.out, "  %s\n", describe(step))
		}
	}
	for _, l := range f.plan.Left {
		fmt.Fprintf(f.out, "  cannot go: %s (%s): %s\n", l.Label, l.Why.Verdict, l.Why.Say)
		for _, way := range l.Why.Ways {
			fmt.Fprintf(f.out, "             -> %s\n", way)
		}
	}
	if dry {
		fmt.Fprintln(f.out, "Nothing was written.")
	}
	return nil
}

func describe(s plan.Step) string {
	switch s.Kind {
	case plan.MakeFolder:
		return "make folder " + s.Path
	case plan.Clear:
		return "remove leftover " + s.Path
	}
	if s.Source.Path == "" {
		return fmt.Sprintf("write %s  (%s)", s.Path, size.Format(s.Source.Size))
	}
	return fmt.Sprintf("put %s  (%s, from %s)", s.Path, size.Format(s.Source.Size), s.Source.Path)
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
		f.clear()
		fmt.Fprintf(f.out, "  done: %s\n", describe(step))
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
	fmt.Fprintf(f.progress, "\r\x1b[K%3.0f %%  %s %s", percent(e.Total, f.plan.Bytes), doing, step.Path)
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
	if len(r.Failed) > 0 {
		fmt.Fprintf(f.out, "; %s failed", size.Count(len(r.Failed), "step"))
	}
	if r.Untried > 0 {
		fmt.Fprintf(f.out, "; %s not tried", size.Count(r.Untried, "step"))
	}
	fmt.Fprintln(f.out, ".")
	return nil
}
