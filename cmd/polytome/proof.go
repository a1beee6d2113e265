package main

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/intake"
	"polytome/internal/core/loader"
	"polytome/internal/core/proof"
	"polytome/internal/core/survey"
	"polytome/internal/size"
)

func proofCommand() *cobra.Command {
	w := &work{}
	cmd := &cobra.Command{
		Use:   "proof",
		Short: "Say what the loader will list on the place, and what is wrong there",
		Long: `Proof reads a place as the loader would and says what it will list, what it will pass
over and why, and what to do at the console. With a bench, or with --from, it also looks for titles
that should be there and are not. Nothing is written.`,
		Example: `  polytome proof --bench season.toml
  polytome proof --loader rowan --to /media/stick
  polytome proof --loader rowan --to ./stick --as fat32 --json`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			b, err := w.open(false)
			if err != nil {
				return err
			}
			var all survey.Board
			if w.bench != "" || len(w.from) > 0 {
				all, _, err = w.surveys(cmd.Context(), b)
			} else {
				var set *loader.Set
				if set, err = known(); err == nil {
					var s *survey.Survey
					s, err = survey.Take(cmd.Context(), b, 0, intake.Result{}.Titles, survey.Options{Set: set})
					all = append(all, s)
				}
			}
			if err != nil {
				return err
			}
			good := true
			for _, s := range all {
				if s == nil {
					continue
				}
				r, err := s.Proof(cmd.Context())
				if err != nil {
					return err
				}
				good = good && r.Good()
				if w.asJSON {
					if err := printJSON(cmd.OutOrStdout(), r); err != nil {
						return err
					}
					continue
				}
				printProof(cmd.OutOrStdout(), s.Shown(), r)
			}
			if !good {
				return errPartial
			}
			return nil
		},
	}
	w.flags(cmd)
	return cmd
}

// printProof writes an audit for people.
func printProof(out io.Writer, loaderName string, r *proof.Report) {
	fmt.Fprintf(out, "Proof: %s will list %s.\n", loaderName, size.Count(len(r.Listed), "title"))
	for _, l := range r.Listed {
		note := ""
		if !l.Starts {
			note = "   DOES NOT START"
		}
		fmt.Fprintf(out, "  %-10s %s%s\n", l.ID, l.Name, note)
	}
	if len(r.Findings) > 0 {
		fmt.Fprintln(out, "Findings:")
	}
	for _, f := range r.Findings {
		at := f.Path
		if at != "" {
			at += ": "
		}
		fmt.Fprintf(out, "  %-7s %s%s\n", strings.ToUpper(string(f.Grade)), at, f.Say)
		if f.Remedy != "" {
			fmt.Fprintf(out, "          -> %s\n", f.Remedy)
		}
	}
	for _, u := range r.Unchecked {
		fmt.Fprintf(out, "Not checked: %s.\n", u)
	}
	if len(r.Checklist) > 0 {
		fmt.Fprintln(out, "At the console:")
	}
	for i, c := range r.Checklist {
		fmt.Fprintf(out, "  %d. %s.\n", i+1, c)
	}
}
