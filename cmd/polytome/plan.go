package main

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/check"
	"polytome/internal/core/estimate"
	"polytome/internal/core/plan"
	"polytome/internal/core/shape"
	"polytome/internal/core/survey"
	"polytome/internal/size"
)

func planCommand() *cobra.Command {
	w := &work{}
	cmd := &cobra.Command{
		Use:   "plan",
		Short: "Print the steps that fill would carry out",
		Long: `Plan lists the target and prints, step by step, what has to be done so that it holds what you
selected: folders, files and the shape they go in, new names for what is already there, what is written
for titles, and what is removed. The same input always prints the same, and after a run there is
nothing left to do. Nothing is written.`,
		Example: `  polytome plan --bench season.toml
  polytome plan --bench season.toml --target "North stick" --only platform:vesper
  polytome plan --from ~/games --loader rowan --to /media/stick --json`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, all, partial, err := w.look(cmd.Context())
			if err != nil {
				return err
			}
			reports := []planReport{}
			for _, s := range all {
				if s == nil {
					continue
				}
				r := planReport{Target: s.Config.Name, Loader: s.Profile.Name, Time: s.PlanTime(s.Plan()),
					Plan: s.Plan()}
				if s.Away != nil {
					r.Away = s.Away.Error()
					partial = true
				}
				partial = partial || len(r.Left) > 0
				if !w.asJSON {
					r.print(cmd.OutOrStdout(), s)
					if !w.onlyCovers {
						printForeseen(cmd.Context(), cmd.OutOrStdout(), s, r.Plan)
					}
				}
				reports = append(reports, r)
			}
			if w.asJSON {
				if err := printJSON(cmd.OutOrStdout(), reports); err != nil {
					return err
				}
			}
			if partial {
				return errPartial
			}
			return nil
		},
	}
	w.planFlags(cmd)
	return cmd
}

// mostForeseen is how many problems are printed of those that are known before a run.
const mostForeseen = 6

// printForeseen says what a check would complain of after the run, and returns that check; nil for none.
func printForeseen(ctx context.Context, out io.Writer, s *survey.Survey, p *plan.Plan) *check.Report {
	all, seen, err := s.Foresee(ctx, p)
	if err != nil {
		return nil // the run or the check says so
	}
	for i, f := range all {
		if i == mostForeseen {
			fmt.Fprintf(out, "  and %s that the check would find: polytome check --planned lists all\n",
				size.Count(len(all)-i, "more problem"))
			break
		}
		at := f.Path
		if at == "" {
			at = "the target"
		}
		say := "known before"
		if f.Grade == check.Stops {
			say = "the console will list nothing"
		}
		fmt.Fprintf(out, "  %s: %s\n", say, clean(at+": "+f.Say))
		if f.Remedy != "" {
			fmt.Fprintf(out, "             -> %s\n", clean(f.Remedy))
		}
	}
	return seen
}

// planReport is the plan for one target, as printed.
type planReport struct {
	Target string         `json:"target"`
	Loader string         `json:"loader"`
	Away   string         `json:"away,omitempty"` // why it cannot be looked at; the plan is for what was on it before
	Time   estimate.Range `json:"time"`           // in nanoseconds
	*plan.Plan
}

func (r planReport) print(out io.Writer, s *survey.Survey) {
	fmt.Fprintf(out, "%s: %s; %d already there; %s\n", r.Target, r.Say(), r.There, r.Time)
	if r.Empty() {
		fmt.Fprintf(out, "  nothing to write: %s\n", r.Idle())
	}
	for i := range r.Steps {
		fmt.Fprintf(out, "%6d  %s\n", i+1, describe(&r.Steps[i]))
	}
	for _, n := range r.Notes {
		fmt.Fprintf(out, "  note: %s\n", n)
	}
	printLeft(out, r.Left)
}

// printLeft prints what is wanted and cannot go.
func printLeft(out io.Writer, left []plan.Left) {
	for _, l := range left {
		fmt.Fprintf(out, "  does not fit: %s (%s): %s\n", l.Label, l.Why.Verdict, l.Why.Say)
		for _, way := range l.Why.Ways {
			fmt.Fprintf(out, "             -> %s\n", way.Say)
		}
	}
}

// describe tells a step in a line. Names come from the target, and may be written to harm a terminal.
func describe(s *plan.Step) string { return clean(described(s)) }

func described(s *plan.Step) string {
	switch s.Kind {
	case plan.MakeFolder:
		return "make folder " + s.Path
	case plan.Clear:
		return "remove leftover " + s.Path
	case plan.Remove:
		return fmt.Sprintf("remove %s  (%s; %s)", s.Path, size.Format(s.Size), s.Why)
	case plan.RemoveFolder:
		return "remove the empty folder " + s.Path
	case plan.Backup:
		return fmt.Sprintf("back up %s  (%s)", s.Path, size.Format(s.Size))
	case plan.Move:
		return fmt.Sprintf("rename %s to %s", s.From, s.Path)
	}
	verb := "copy"
	if s.Kind == plan.Replace {
		verb = "replace"
	}
	from := s.Make.Source.Called()
	if from == "" {
		if verb == "copy" {
			verb = "write"
		}
		return fmt.Sprintf("%s %s  (%s)", verb, s.Path, size.Format(s.Size))
	}
	if s.Make.OnTarget() {
		switch s.Make.Shape {
		case shape.Whole:
			if s.Make.With.Elsewhere {
				return fmt.Sprintf("%s %s  (%s)", verb, s.Path, size.Format(s.Size))
			}
			return fmt.Sprintf("defragment %s  (%s)", s.Path, size.Format(s.Size))
		case shape.Set:
			var all []string
			for _, v := range s.Make.With.Values {
				all = append(all, v.Key+"="+v.Value)
			}
			return fmt.Sprintf("set %s in %s", strings.Join(all, ", "), s.Path)
		}
	}
	how := ""
	if s.Make.Shape != shape.Whole {
		how = shape.Of(s.Make.Shape).Word + ", "
	}
	return fmt.Sprintf("%s %s  (%s, %sfrom %s)", verb, s.Path, size.Format(s.Size), how, from)
}
