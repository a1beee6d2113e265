package main

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"polytome/internal/core/ledger"
	"polytome/internal/core/survey"
	"polytome/internal/size"
)

// demoLedger is the folder of the ledger while the demo runs; "" while it does not.
var demoLedger string

// theLedger is what is remembered of volumes.
func theLedger() ledger.Store {
	if demoLedger != "" {
		return ledger.Store{Dir: demoLedger}
	}
	return ledger.Usual()
}

// noted has the ledger remember a target. It is a convenience: where it cannot, that is said, and all else goes on.
func noted(ctx context.Context, s *survey.Survey, n survey.Noted) {
	if err := s.Note(ctx, theLedger(), n); err != nil && ctx.Err() == nil {
		fmt.Fprintf(stderr(), "polytome: %s is not remembered: %v\n", s.Config.Name, err)
	}
}

func ledgerCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "ledger",
		Short: "What lies on every stick, disk and share that was looked at, also on those in a drawer",
		Long: `Every target that is looked at is remembered by what it is: the serial number of its volume, or its
address. The ledger knows its titles, what players have there, its free space, and when it was seen and checked. It
is a cache: it can be deleted, and nothing is written or removed because of it.`,
		Example: `  polytome ledger
  polytome ledger name GULL "Hall 3" --place "drawer 2"
  polytome ledger show "Hall 3"
  polytome ledger export --csv > sticks.csv`,
		Args: noArgs,
	}
	var asJSON bool
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		all, err := volumes()
		if err != nil {
			return err
		}
		if asJSON {
			return printJSON(cmd.OutOrStdout(), all)
		}
		if len(all) == 0 {
			fmt.Fprintln(cmd.OutOrStdout(), "The ledger is empty: what is looked at from now on is remembered.")
		}
		for i := range all {
			fmt.Fprintln(cmd.OutOrStdout(), clean(volumeLine(all, &all[i])))
		}
		return nil
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	cmd.AddCommand(ledgerShowCommand(), ledgerNameCommand(), ledgerForgetCommand(), ledgerExportCommand())
	return cmd
}

// volumes are those of the ledger; what of it cannot be read is said.
func volumes() ([]ledger.Volume, error) {
	all, err := theLedger().All()
	if err != nil && len(all) == 0 {
		return nil, err
	}
	if err != nil {
		fmt.Fprintf(stderr(), "polytome: %v\n", err)
	}
	return all, nil
}

// volumeNamed is the volume of a name, among all.
func volumeNamed(word string) (all []ledger.Volume, v *ledger.Volume, err error) {
	if all, err = volumes(); err != nil {
		return nil, nil, err
	}
	if v, err = ledger.Find(all, word); err != nil {
		return nil, nil, usageError{err}
	}
	return all, v, nil
}

// volumeLine sums a volume up in a line.
func volumeLine(all []ledger.Volume, v *ledger.Volume) string {
	parts := []string{v.Called()}
	if w := v.Where(); w != "" {
		parts[0] += ", " + w
	}
	parts = append(parts, size.Count(len(v.Titles), "title"))
	if v.Capacity > 0 {
		parts = append(parts, fmt.Sprintf("%s of %s free", size.Format(v.Free), size.Format(v.Capacity)))
	}
	parts = append(parts, "seen "+day(v.Seen))
	if c := v.Check; c != nil && c.Problems > 0 {
		parts = append(parts, fmt.Sprintf("%s when checked %s", size.Count(c.Problems, "problem"), day(c.Taken)))
	}
	if !v.Changed.IsZero() {
		parts = append(parts, "changed elsewhere since "+day(v.Changed))
	}
	if o := ledger.Before(all, v); o != nil {
		parts = append(parts, "another stick than "+o.Called()+" before")
	}
	return strings.Join(parts, "; ")
}

func day(t time.Time) string { return t.Local().Format("2006-01-02") }

func ledgerShowCommand() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "show VOLUME", Short: "Everything that is remembered of one volume",
		Args: takeArgs(1, 1, "a volume"),
		RunE: func(cmd *cobra.Command, args []string) error {
			all, v, err := volumeNamed(args[0])
			if err != nil {
				return err
			}
			if asJSON {
				return printJSON(cmd.OutOrStdout(), v)
			}
			showVolume(cmd.OutOrStdout(), all, v)
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func showVolume(out io.Writer, all []ledger.Volume, v *ledger.Volume) {
	say := func(format string, args ...any) { fmt.Fprintln(out, clean(fmt.Sprintf(format, args...))) }
	say("%s", volumeLine(all, v))
	say("  known by %s, last at %s, for %s", v.ID, v.Address, strings.Join(v.Loaders, " and "))
	if !v.Written.IsZero() {
		say("  last written to %s", v.Written.Local().Format("2006-01-02 15:04"))
	}
	if c := v.Check; c != nil {
		say("  checked %s: lists %d, starts %d", c.Taken.Local().Format("2006-01-02 15:04"), c.Listed, c.Starts)
		if c.Kit != "" {
			say("  of the loader's own files %s was missing", c.Kit)
		}
	}
	for _, t := range v.Titles {
		say("  %-10s %s", t.ID, t.Name)
	}
	for _, s := range v.Saves {
		kept := "kept on this computer"
		if !s.Kept {
			kept = "NOT KEPT"
		}
		of := s.Of
		if of == "" {
			of = s.Path
		}
		say("  save of %s, %s: %s", of, day(s.Changed), kept)
	}
}

func ledgerNameCommand() *cobra.Command {
	var place string
	cmd := &cobra.Command{
		Use: "name VOLUME [NAME]", Short: "Give a volume a name, and say where it is kept",
		Long: `The volume is named by its name, label, target, address or ID. An empty name or place takes it away.
Names and places are kept in a file of their own, which stays when the rest of the ledger is deleted.`,
		Example: `  polytome ledger name GULL "Hall 3" --place "drawer 2"`,
		Args:    takeArgs(1, 2, "a volume, and its name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var name, where *string
			if len(args) == 2 {
				name = &args[1]
			}
			if cmd.Flags().Changed("place") {
				where = &place
			}
			if name == nil && where == nil {
				return usageError{errors.New("say a name, or where it is kept with --place")}
			}
			all, v, err := volumeNamed(args[0])
			if err != nil {
				return err
			}
			if name != nil {
				for i := range all {
					if *name != "" && all[i].ID != v.ID && strings.EqualFold(all[i].Name, *name) {
						return usageError{fmt.Errorf("%s is the name of another volume (%s)", *name, all[i].ID)}
					}
				}
				v.Name = *name
			}
			if where != nil {
				v.Place = *where
			}
			if err := theLedger().Name(v.ID, name, where); err != nil {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout(), clean(volumeLine(all, v)))
			return nil
		},
	}
	cmd.Flags().StringVar(&place, "place", "", `where it is kept, such as "drawer 2"`)
	return cmd
}

func ledgerForgetCommand() *cobra.Command {
	return &cobra.Command{
		Use: "forget VOLUME", Short: "Drop what is remembered of a volume; the volume itself is not touched",
		Args: takeArgs(1, 1, "a volume"),
		RunE: func(cmd *cobra.Command, args []string) error {
			_, v, err := volumeNamed(args[0])
			if err != nil {
				return err
			}
			if err := theLedger().Forget(v.ID); err != nil {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout(), clean(v.Called()+" is forgotten."))
			return nil
		},
	}
}

func ledgerExportCommand() *cobra.Command {
	var asCSV, asJSON bool
	cmd := &cobra.Command{
		Use: "export", Short: "All titles of all volumes, as CSV or JSON",
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if asCSV == asJSON {
				return usageError{errors.New("say --csv or --json")}
			}
			all, err := volumes()
			if err != nil {
				return err
			}
			if asJSON {
				return printJSON(cmd.OutOrStdout(), all)
			}
			return exportCSV(cmd.OutOrStdout(), all)
		},
	}
	cmd.Flags().BoolVar(&asCSV, "csv", false, "a line for each title, with its volume")
	cmd.Flags().BoolVar(&asJSON, "json", false, "all that is remembered")
	return cmd
}

// exportCSV writes a line for each title (RFC 4180).
func exportCSV(out io.Writer, all []ledger.Volume) error {
	w := csv.NewWriter(out)
	rows := [][]string{
		{"volume", "place", "label", "volume-id", "seen", "free", "title-id", "title", "platform", "loader",
			"path", "bytes", "starts"},
	}
	for _, v := range all {
		row := []string{v.Called(), v.Place, v.Label, v.ID, v.Seen.Format(time.RFC3339), strconv.FormatInt(v.Free, 10)}
		if len(v.Titles) == 0 {
			rows = append(rows, append(row, "", "", "", "", "", "", ""))
		}
		for _, t := range v.Titles {
			starts := "no"
			if t.Starts {
				starts = "yes"
			}
			rows = append(rows, append(row[:6:6], t.ID, t.Name, t.Platform, t.Loader, t.Path,
				strconv.FormatInt(t.Size, 10), starts))
		}
	}
	for _, row := range rows {
		for k := range row { // no cell is a formula
			if row[k] != "" && strings.ContainsRune("=+-@\t\r", rune(row[k][0])) {
				row[k] = "'" + row[k]
			}
		}
	}
	return w.WriteAll(rows)
}
