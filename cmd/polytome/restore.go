package main

import (
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/estimate"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/survey"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/drive"
)

// restoreOptions are the flags of restore.
type restoreOptions struct {
	to, as            string
	over, dry, asJSON bool
}

func restoreCommand() *cobra.Command {
	var opt restoreOptions
	cmd := &cobra.Command{
		Use:   "restore FOLDER",
		Short: "Restore files that a run backed up before removing them",
		Long: `Restore takes a folder with the copies of what a run removed or replaced (see
fill --backup-to), checks every copy, and writes the files back to where they were. What is now at
their paths stays, unless --overwrite is given.`,
		Example: `  polytome restore ~/kept/"North stick"/"2026-03-14 092652" --to /media/stick
  polytome restore ./kept --to /media/stick --overwrite --dry-run`,
		Args: needArgs(1, "the folder with the copies"),
		RunE: opt.run,
	}
	cmd.Flags().StringVar(&opt.to, "to", "", "the target: a folder or mounted drive")
	cmd.Flags().StringVar(&opt.as, "as", "", "declare the target's filesystem: fat32, exfat, ntfs or ext4")
	cmd.Flags().BoolVar(&opt.over, "overwrite", false, "replace what is there now")
	cmd.Flags().BoolVar(&opt.dry, "dry-run", false, "print the steps and write nothing")
	cmd.Flags().BoolVar(&opt.asJSON, "json", false, "print JSON, one object a line")
	return cmd
}

func (opt *restoreOptions) run(cmd *cobra.Command, args []string) error {
	if opt.to == "" {
		return usageError{errors.New("--to TARGET is needed: where the files go back to")}
	}
	var p target.Target
	err := letIn(func() (err error) {
		p, err = survey.OpenTarget(
			cmd.Context(),
			drive.AddressOf(opt.to),
			bench.Target{Name: opt.to, At: opt.to, As: opt.as},
			nil,
			false,
		)
		return err
	})
	if err != nil {
		return err
	}
	defer p.Close()
	todo, err := run.Restore(cmd.Context(), args[0], p, opt.over)
	if err != nil {
		return err
	}
	say := fmt.Sprintf("%s to restore, %s", size.Count(todo.Files, "file"), size.Format(todo.Bytes))
	l := lone(cmd.OutOrStdout(), opt.to, todo, opt.asJSON)
	if err := l.announce(say, opt.dry); err != nil || opt.dry {
		return err
	}
	err = l.carry(func(emit func(run.Event)) run.Report {
		return run.Run(cmd.Context(), todo, p, run.Options{}, emit)
	})
	if err == nil && len(todo.Notes) > 0 {
		err = errPartial
	}
	return err
}

// lone is a lane for a plan that is of no bench.
func lone(out io.Writer, name string, p *plan.Plan, asJSON bool) *lane {
	f := &filling{out: out, asJSON: asJSON, progress: autoProgress()}
	f.passing = passing{out: os.Stderr, want: isTerminal(os.Stderr)}
	return &lane{f: f, only: true, name: name, plan: p, forecast: run.NewForecast(p, run.VerifyFull,
		estimate.Usual("").Guess()), said: map[string]bool{}}
}

// announce says what a lone lane is about to do; with dry, step by step.
func (l *lane) announce(say string, dry bool) error {
	if l.f.asJSON {
		return l.line("plan", l.plan)
	}
	fmt.Fprintln(l.f.out, say)
	for _, n := range l.plan.Notes {
		fmt.Fprintf(l.f.out, "  note: %s\n", n)
	}
	for i := range l.plan.Steps {
		if dry {
			fmt.Fprintf(l.f.out, "  %s\n", describe(&l.plan.Steps[i]))
		}
	}
	return nil
}

// carry runs the plan of a lone lane, and reports its end.
func (l *lane) carry(do func(emit func(run.Event)) run.Report) error {
	r := do(l.event)
	l.f.passing.clear()
	l.report = &r
	if err := l.end(); err != nil {
		return err
	}
	switch {
	case r.Stopped:
		return errStopped
	case len(r.Failed) > 0:
		return errPartial
	}
	return nil
}
