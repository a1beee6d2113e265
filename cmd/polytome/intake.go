package main

import (
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/intake"
	"polytome/internal/core/title"
	"polytome/internal/size"
)

func intakeCommand() *cobra.Command {
	w := &work{}
	cmd := &cobra.Command{
		Use:   "intake [DIR…]",
		Short: "Say what the files in folders are, and which of them are unsound",
		Long: `Intake goes through folders and lists the titles in them, with what it read out of
the images themselves. Nothing is written.`,
		Example: `  polytome intake ~/games
  polytome intake --bench season.toml --json`,
		RunE: func(cmd *cobra.Command, args []string) error {
			b := bench.New("")
			switch {
			case w.bench != "" && len(args) > 0:
				return usageError{fmt.Errorf("give folders or --bench, not both")}
			case w.bench != "":
				var err error
				if b, err = bench.Load(w.bench); err != nil {
					return err
				}
			case len(args) == 0:
				return usageError{fmt.Errorf("%s needs a folder, or a bench with --bench FILE", cmd.CommandPath())}
			}
			for _, dir := range args {
				b.Sources = append(b.Sources, bench.Source{Path: dir})
			}
			set, err := known()
			if err != nil {
				return err
			}
			r, err := scan(cmd.Context(), b, set, os.Stderr)
			if err != nil {
				return err
			}
			if w.asJSON {
				err = printJSON(cmd.OutOrStdout(), r)
			} else {
				printTitles(cmd.OutOrStdout(), r)
			}
			if err == nil && len(r.Problems) > 0 {
				err = errPartial
			}
			return err
		},
	}
	cmd.Flags().StringVar(&w.bench, "bench", "", "look through the sources of this bench file")
	cmd.Flags().BoolVar(&w.asJSON, "json", false, "print JSON")
	return cmd
}

func printTitles(out io.Writer, r intake.Result) {
	unsound := 0
	for i := range r.Titles {
		t := &r.Titles[i]
		state := "sound"
		if !t.Sound() {
			state = "UNSOUND"
			unsound++
		}
		fmt.Fprintf(out, "%-10s %11s  %-8s %s%s\n", t.ID, size.Format(t.Size()), state, t.Label(), discsOf(t))
		for _, f := range t.Findings {
			fmt.Fprintf(out, "%33s%s\n", "", f.Say)
			if f.Remedy != "" {
				fmt.Fprintf(out, "%33s-> %s\n", "", f.Remedy)
			}
		}
	}
	fmt.Fprintf(out, "%s, %d unsound. %s passed over as no game of a known platform.\n", size.Count(len(r.Titles), "title"), unsound, size.Count(r.Passed, "file"))
}

func discsOf(t *title.Title) string {
	if t.Of < 2 {
		return ""
	}
	return fmt.Sprintf(" (%d discs)", t.Of)
}
