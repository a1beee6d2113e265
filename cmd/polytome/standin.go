package main

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/standin"
)

func standInCommand() *cobra.Command {
	var asJSON bool
	names := make([]string, 0, len(standin.Loaders))
	for n := range standin.Loaders {
		names = append(names, n)
	}
	slices.Sort(names)
	cmd := &cobra.Command{
		Use:   "stand-in LOADER FOLDER",
		Short: "Show what a simulated loader lists for a filled folder",
		Long: `A stand-in is a simulated loader. It reads a filled folder as the console would, and
knows nothing of Polytome's own rules: it is there to check them. There are: ` + strings.Join(names, ", ") + ".",
		Example: `  polytome stand-in rowan ./north-stick`,
		Args:    needArgs(2, "the name of a loader and a folder"),
		RunE: func(cmd *cobra.Command, args []string) error {
			l, ok := standin.Loaders[args[0]]
			if !ok {
				return usageError{fmt.Errorf("there is no stand-in for the loader %q; there are: %s", args[0], strings.Join(names, ", "))}
			}
			listing, err := l.List(os.DirFS(args[1]))
			if err != nil {
				return fmt.Errorf("reading %s: %w", args[1], err)
			}
			if asJSON {
				return printJSON(cmd.OutOrStdout(), listing)
			}
			for _, g := range listing.Games {
				why := ""
				if !g.Starts {
					why = "   does not start: " + g.Why
				}
				fmt.Fprintf(cmd.OutOrStdout(), "%-10s %s%s\n", g.ID, g.Title, why)
			}
			for _, p := range listing.Passed {
				fmt.Fprintf(cmd.OutOrStdout(), "passed over: %s: %s\n", p.Path, p.Why)
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}
