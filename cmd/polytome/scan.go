package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"

	"polytome/internal/core/filter"
	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/ui/style"
)

// scanOptions are the flags of scan.
type scanOptions struct {
	work
	only string
}

func scanCommand() *cobra.Command {
	var opt scanOptions
	cmd := &cobra.Command{
		Use:   "scan [DIR…]",
		Short: "Show what the files in folders are, and which of them are bad",
		Long: `Scan searches folders and lists the titles in them, with what it read from
the images themselves, also inside archives. Results are kept in the
cache, so that the next scan reads only what has changed. Nothing else is written.

A title list is a CSV file whose first line names its columns: id, name, region, year, players,
publisher, platform, checksum (or crc32, md5, sha1, sha256).`,
		Example: `  polytome scan ~/games
  polytome scan ~/games --list season-titles.csv
  polytome scan ~/games --filter "bad size>4G"
  polytome scan --bench season.toml --json`,
		RunE: opt.run,
	}
	f := cmd.Flags()
	f.StringVar(&opt.bench, "bench", "", "scan the sources of this bench file")
	f.StringArrayVar(&opt.lists, "list", nil,
		"a CSV file with the titles' proper names, - for standard input (may be repeated)")
	f.StringArrayVar(&opt.passwords, "password", nil, "try this password on encrypted archives (may be repeated)")
	f.StringArrayVar(&opt.allow, "allow-large", nil,
		"open this archive although it is suspiciously large inside (may be repeated)")
	f.StringVar(&opt.only, "filter", "", "list only these: words, or such as \"bad size>4G -region:north\"")
	f.BoolVar(&opt.asJSON, "json", false, "print JSON")
	return cmd
}

func (opt *scanOptions) run(cmd *cobra.Command, args []string) error {
	f := filter.Parse(opt.only)
	if f.Trouble != "" {
		return usageError{fmt.Errorf("--filter: %s", f.Trouble)}
	}
	if i := slices.Index(opt.lists, "-"); i >= 0 {
		file, remove, err := spooled(cmd.InOrStdin())
		if err != nil {
			return err
		}
		defer remove()
		opt.lists[i] = file
	}
	_, r, err := opt.scanned(cmd, args)
	if err != nil {
		return err
	}
	r.Titles = slices.DeleteFunc(r.Titles, func(t title.Title) bool { return !f.Match(&t, filter.Text(&t)) })
	if opt.asJSON {
		err = printJSON(cmd.OutOrStdout(), r)
	} else {
		printTitles(cmd.OutOrStdout(), r)
	}
	if err == nil && len(r.Problems) > 0 {
		err = errPartial
	}
	return err
}

// spooled writes what comes in to a file, for what has to be read more than once.
func spooled(in io.Reader) (file string, remove func(), err error) {
	dir, err := os.MkdirTemp("", "polytome-")
	if err != nil {
		return "", nil, err
	}
	remove = func() { _ = os.RemoveAll(dir) }
	f, err := os.Create(filepath.Join(dir, "standard input"))
	if err == nil {
		_, err = io.Copy(f, in)
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		remove()
		return "", nil, fmt.Errorf("reading standard input: %w", err)
	}
	return f.Name(), remove, nil
}

func printTitles(out io.Writer, r scan.Result) {
	bad := 0
	for i := range r.Titles {
		t := &r.Titles[i]
		state := "OK"
		if !t.OK() {
			state = "BAD"
			bad++
		}
		fmt.Fprintf(out, "%-10s %11s  %-8s %s%s\n", style.Clean(t.ID), size.Format(t.Size()), state,
			style.Clean(t.Label()), discsOf(t))
		for _, f := range t.Findings {
			fmt.Fprintf(out, "%33s%s\n", "", style.Clean(f.Say))
			if f.Remedy != "" {
				fmt.Fprintf(out, "%33s-> %s\n", "", f.Remedy)
			}
		}
	}
	if len(r.Dropped) > 0 {
		fmt.Fprintf(out, "%s left out by hand.\n", size.Count(len(r.Dropped), "title"))
	}
	fmt.Fprintf(out, "%s, %d bad. %s skipped: not a game of a known platform.\n", size.Count(len(r.Titles), "title"),
		bad, size.Count(r.Passed, "file"))
}

func discsOf(t *title.Title) string {
	if t.Of < 2 {
		return ""
	}
	return fmt.Sprintf(" (%d discs)", t.Of)
}
