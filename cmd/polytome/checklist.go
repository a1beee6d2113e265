package main

import (
	"cmp"
	"errors"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/survey"
)

func checklistCommand() *cobra.Command {
	w := &work{picked: -1}
	var ticks []int
	cmd := &cobra.Command{
		Use:   "checklist",
		Short: "Print what to do at the console, as plain text with boxes to tick",
		Long: `Checklist prints what to do at the console after a target was filled. It depends on the loader's
profile and on the last run: filled for the first time or added to, with covers or without, over a
direct cable or not. Ticks are kept on the bench until the next run.`,
		Example: `  polytome checklist --bench season.toml
  polytome checklist --bench season.toml --target 'North stick' --tick 1 --tick 2
  polytome checklist --loader rowan --to /media/stick > checklist.txt`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			b, err := w.open(false)
			if err != nil {
				return err
			}
			if len(ticks) > 0 && (w.bench == "" || w.picked < 0) {
				return usageError{errors.New("--tick needs --bench and --target, where ticks are stored")}
			}
			set, err := known()
			if err != nil {
				return err
			}
			runs, note := openJournal()
			if note != nil {
				fmt.Fprintf(cmd.ErrOrStderr(), "polytome: %v\n", note)
			}
			defer runs.Close()
			var partial bool
			first := true
			for n := range b.Targets {
				if w.picked >= 0 && n != w.picked {
					continue
				}
				var s *survey.Survey
				err := letIn(func() (err error) {
					s, err = survey.Take(cmd.Context(), b, n, nil, survey.Options{Set: set, Vault: keptSaves()})
					return cmp.Or(err, awayOf(s))
				})
				if err != nil {
					if len(b.Targets) == 1 || w.picked >= 0 {
						return err
					}
					fmt.Fprintf(cmd.ErrOrStderr(), "polytome: skipped: %v\n", err)
					partial = true
					continue
				}
				p := s.Checker(b, n, check.Names, nil)
				p.Journal = runs
				r, err := p.Check(cmd.Context())
				if err != nil {
					return err
				}
				if err := tick(b, n, w.bench, r.Checklist, ticks); err != nil {
					return err
				}
				if w.asJSON {
					if err := printJSON(cmd.OutOrStdout(), checklistOf(&b.Targets[n], r.Checklist)); err != nil {
						return err
					}
					continue
				}
				if !first {
					fmt.Fprintln(cmd.OutOrStdout())
				}
				first = false
				fmt.Fprint(cmd.OutOrStdout(), check.ChecklistText(b.Targets[n].Name, r.Checklist,
					survey.Ticked(&b.Targets[n])))
			}
			if partial {
				return errPartial
			}
			return nil
		},
	}
	w.flags(cmd)
	cmd.Flags().IntSliceVar(&ticks, "tick", nil, "tick off this line, or untick it (may be repeated)")
	return cmd
}

// A ticked line is one of a checklist, with whether it was ticked off.
type tickedLine struct {
	Say  string `json:"say"`
	Done bool   `json:"done"`
}

func checklistOf(p *bench.Target, lines []string) map[string]any {
	out := []tickedLine{}
	for _, l := range lines {
		out = append(out, tickedLine{l, slices.Contains(p.Ticked, l)})
	}
	return map[string]any{"target": p.Name, "checklist": out}
}

// tick ticks lines off, and keeps that on the bench.
func tick(b *bench.Bench, n int, file string, lines []string, ticks []int) error {
	if len(ticks) == 0 {
		return nil
	}
	fresh, err := bench.Load(file)
	if err != nil {
		return err
	}
	if err := fresh.Hold(stateDir()); err != nil {
		return err
	}
	defer fresh.Release()
	for _, k := range ticks {
		if k < 1 || k > len(lines) {
			return usageError{fmt.Errorf("--tick: no line %d; the checklist has %d lines", k, len(lines))}
		}
		fresh.Targets[n].Tick(lines[k-1])
	}
	b.Targets[n].Ticked = fresh.Targets[n].Ticked
	return fresh.Save()
}
