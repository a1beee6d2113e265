package main

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/journal"
	"polytome/internal/core/run"
	"polytome/internal/core/survey"
	"polytome/internal/size"
	"polytome/internal/target/remote"
)

// runsOptions are the flags of runs.
type runsOptions struct {
	asJSON bool
	n      int
}

func runsCommand() *cobra.Command {
	var opt runsOptions
	cmd := &cobra.Command{
		Use:   "runs [NUMBER]",
		Short: "List past runs, and resume interrupted ones",
		Long: `Every run is recorded before and after each step. Runs lists them, the newest first: where they wrote to,
how they ended, how much they wrote and how fast. With a number it shows one run in full, and what failed in it.

runs resume continues a run that was killed or whose stick was pulled: with what was not done, and in the
middle of a file where the target allows that. What is there is compared first, not trusted by its length.`,
		Example: `  polytome runs
  polytome runs 12
  polytome runs resume`,
		Args: mostArgs(1),
		RunE: opt.run,
	}
	cmd.Flags().BoolVar(&opt.asJSON, "json", false, "print JSON")
	cmd.Flags().IntVar(&opt.n, "last", 20, "how many runs to list")
	cmd.AddCommand(resumeCommand())
	return cmd
}

func (opt *runsOptions) run(cmd *cobra.Command, args []string) error {
	j, err := journal.Open(journalFile())
	if err != nil {
		return err
	}
	defer j.Close()
	if note := j.Note(); note != "" {
		fmt.Fprintf(stderr(), "polytome: %s\n", note)
	}
	if len(args) == 1 {
		return oneRun(cmd.OutOrStdout(), j, args[0], opt.asJSON)
	}
	all, err := j.Runs(opt.n)
	if err != nil {
		return err
	}
	if opt.asJSON {
		return printJSON(cmd.OutOrStdout(), all)
	}
	if len(all) == 0 {
		fmt.Fprintln(cmd.OutOrStdout(), "There were no runs yet.")
	}
	for i := range all {
		printRun(cmd.OutOrStdout(), &all[i])
	}
	return nil
}

// numbered reads the number of a run.
func numbered(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, usageError{fmt.Errorf("%q is not a run's number; list them with: polytome runs", text)}
	}
	return id, nil
}

func printRun(out io.Writer, r *journal.Run) {
	fmt.Fprintf(out, "%4d  %s  %-16s %-10s ", r.ID, r.Began.Local().Format("2006-01-02 15:04"), r.Target, r.State)
	written := r.Written
	if r.Report != nil {
		written = r.Report.Bytes
	}
	fmt.Fprintf(out, " %d of %s, %s of %s", r.Done, size.Count(r.Steps, "step"), size.Format(written),
		size.Format(r.Bytes))
	if r.Report != nil {
		fmt.Fprintf(out, " in %s", r.Report.Elapsed.Round(10*time.Millisecond))
		if s := r.Report.Elapsed.Seconds(); s >= 0.1 && written > 0 {
			fmt.Fprintf(out, ", %s/s", size.Format(int64(float64(written-r.Report.Resumed)/s)))
		}
		if n := len(r.Report.Failed); n > 0 {
			fmt.Fprintf(out, "; %d failed", n)
		}
	}
	if r.TakenUp > 0 {
		fmt.Fprintf(out, "; resumed by run %d", r.TakenUp)
	}
	fmt.Fprintln(out)
}

// oneRun tells all of one run.
func oneRun(out io.Writer, j *journal.Journal, text string, asJSON bool) error {
	id, err := numbered(text)
	if err != nil {
		return err
	}
	r, p, err := j.Run(id)
	if err != nil {
		return err
	}
	steps, err := j.Steps(id)
	if err != nil {
		return err
	}
	if asJSON {
		return printJSON(out, map[string]any{"run": r, "plan": p, "steps": steps})
	}
	printRun(out, &r)
	fmt.Fprintf(out, "      at %s, files %s\n", r.At, r.Verify.Words())
	for i := range p.Steps {
		s, ok := steps[i]
		switch {
		case !ok:
			s.State = "waits"
		case s.State == string(run.Began):
			s.State = "begun"
		}
		fmt.Fprintf(out, "  %-7s %s\n", s.State, describe(&p.Steps[i]))
		if s.Say != "" {
			fmt.Fprintf(out, "          %s\n", s.Say)
		}
	}
	return nil
}

// resumeOptions are the flags of resume.
type resumeOptions struct {
	how    carrying
	asJSON bool
}

func resumeCommand() *cobra.Command {
	var opt resumeOptions
	cmd := &cobra.Command{
		Use:   "resume [NUMBER]",
		Short: "Resume a run that was interrupted, stopped or incomplete",
		Long: `Resume does what a run has not done: the one with that number, or the newest interrupted one. Finished
steps are not repeated. A half-written file is resumed in the middle, after what is there was compared.`,
		Example: `  polytome runs resume
  polytome runs resume 12 --verify full`,
		Args: mostArgs(1),
		RunE: opt.run,
	}
	opt.how.flags(cmd)
	cmd.Flags().BoolVar(&opt.asJSON, "json", false, "print JSON, one object a line")
	return cmd
}

func (opt *resumeOptions) run(cmd *cobra.Command, args []string) error {
	if err := opt.how.check(); err != nil {
		return err
	}
	j, err := journal.Open(journalFile())
	if err != nil {
		return err
	}
	defer j.Close()
	r, err := toResume(j, args)
	if err != nil {
		return err
	}
	set, err := known()
	if err != nil {
		return err
	}
	var b *bench.Bench
	if r.Bench != "" {
		if b, err = bench.Load(r.Bench); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	job, beginning, err := survey.Again(j, r.ID, set, b)
	if err != nil {
		return err
	}
	if opt.how.verify != "" {
		job.Verify = run.Verify(opt.how.verify)
	}
	err = letIn(func() error { // the run itself has no one to ask
		to, err := job.Open(cmd.Context())
		if err == nil {
			err = to.Close()
		}
		return err
	})
	var denied *remote.LoginError
	if errors.As(err, &denied) {
		return err
	}
	f := &filling{out: cmd.OutOrStdout(), progress: opt.how.reader(os.Stderr), asJSON: opt.asJSON, bench: b}
	f.passing = passing{out: os.Stderr, want: f.progress == progressAuto && !opt.asJSON}
	l := &lane{f: f, only: true, name: r.Target, plan: job.Plan, said: map[string]bool{},
		forecast: run.NewForecast(job.Plan, job.Verify, r.Config.Speed.Speed(r.Config.Via).Guess())}
	l.forecast.Limit(job.Limit)
	f.lanes = []*lane{l}
	if !opt.asJSON {
		fmt.Fprintf(f.out, "Run %d at %s: %d of %s were done; %s.\n", r.ID, r.Target, r.Done,
			size.Count(r.Steps, "step"), job.Plan.Say())
	}
	job.AtOnce = opt.how.readAtOnce
	job.Emit, job.Over = l.event, func(r run.Report) { l.report = &r }
	lane, _, note := j.Start(cmd.Context(), beginning, job)
	if note != nil {
		fmt.Fprintf(stderr(), "polytome: %v\n", note)
	}
	lane.Wait()
	f.passing.clear()
	if err := l.end(); err != nil {
		return err
	}
	switch {
	case l.report.Stopped:
		return errStopped
	case !l.report.All():
		return errPartial
	}
	return nil
}

// toResume finds the run that is meant.
func toResume(j *journal.Journal, args []string) (journal.Run, error) {
	if len(args) == 1 {
		id, err := numbered(args[0])
		if err != nil {
			return journal.Run{}, err
		}
		r, _, err := j.Run(id)
		switch {
		case err != nil:
			return r, err
		case r.State == journal.Resuming:
			return r, fmt.Errorf("run %d is running in another Polytome", id)
		case !r.Open():
			return r, fmt.Errorf("run %d is %s: nothing is left to do", id, r.State)
		}
		return r, nil
	}
	all, err := j.Runs(100)
	if err != nil {
		return journal.Run{}, err
	}
	seen := map[string]bool{}
	for _, r := range all {
		if r.Open() && !seen[r.At] {
			return r, nil
		}
		seen[r.At] = true // a later run at the target has seen to what was left
	}
	return journal.Run{}, errors.New("there is no run to resume; list them with: polytome runs")
}
