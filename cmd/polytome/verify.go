package main

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/ui/style"
)

// verifyOptions are the flags of verify.
type verifyOptions struct {
	work
	lists []string
	again bool
}

func verifyCommand() *cobra.Command {
	var opt verifyOptions
	cmd := &cobra.Command{
		Use:   "verify [DIR…]",
		Short: "Read all files of titles in full, and compare checksums",
		Long: `Verify reads the files that scan finds: it compares them with the checksum lists beside them (.sfv, .md5,
.sha1, .sha256) and with those given, unpacks archives to test them, and looks for long runs
of zeros in images. It reads one file at a time on each disk.

Results are kept until the file changes, and scan shows them.`,
		Example: `  polytome verify ~/games
  polytome verify ~/games --sums published.sha1
  polytome verify --bench season.toml --again`,
		RunE: opt.run,
	}
	f := cmd.Flags()
	f.StringVar(&opt.bench, "bench", "", "verify the sources of this bench file")
	f.StringArrayVar(&opt.lists, "sums", nil, "a checksum list; its names are relative to it (may be repeated)")
	f.StringArrayVar(&opt.passwords, "password", nil, "try this password on encrypted archives (may be repeated)")
	f.StringArrayVar(&opt.allow, "allow-large", nil,
		"unpack this archive although it is suspiciously large inside (may be repeated)")
	f.BoolVar(&opt.again, "again", false, "also read what was verified before and has not changed")
	f.BoolVar(&opt.asJSON, "json", false, "print JSON")
	return cmd
}

func (opt *verifyOptions) run(cmd *cobra.Command, args []string) error {
	b, r, err := opt.scanned(cmd, args)
	if err != nil {
		return err
	}
	for _, l := range opt.lists {
		if _, err := os.Stat(l); err != nil {
			return fmt.Errorf("--sums: there is no list %s: %w", l, err)
		}
	}
	cache := openCache(os.Stderr)
	defer cache.Close()
	emit := &progress{out: os.Stderr}
	report, err := scan.Verify(cmd.Context(), r.Titles, scan.VerifyOptions{
		Cache: cache, Passwords: b.Passwords, Allowed: scan.Allowed(b), Lists: append(r.Sums, opt.lists...),
		Again: opt.again, Progress: emit.verify,
	})
	emit.end()
	if err != nil {
		return errStopped
	}
	if opt.asJSON {
		err = printJSON(cmd.OutOrStdout(), report)
	} else {
		printVerified(cmd.OutOrStdout(), report)
	}
	if err != nil {
		return err
	}
	for v, n := range report.Counts {
		if v.Bad() && n > 0 {
			return errPartial
		}
	}
	if len(r.Problems)+len(report.Problems) > 0 {
		return errPartial
	}
	return nil
}

// scanned looks through the folders that a command is about.
func (w *work) scanned(cmd *cobra.Command, args []string) (*bench.Bench, scan.Result, error) {
	b, err := w.sources(cmd, args)
	if err != nil {
		return nil, scan.Result{}, err
	}
	set, err := known()
	if err != nil {
		return nil, scan.Result{}, err
	}
	r, err := scanned(cmd.Context(), b, set, "", os.Stderr)
	return b, r, err
}

// sources is the bench of a command that needs folders with games: one from a file, or folders
// that are named.
func (w *work) sources(cmd *cobra.Command, args []string) (*bench.Bench, error) {
	b := bench.New("")
	switch {
	case w.bench != "" && len(args) > 0:
		return nil, usageError{fmt.Errorf("give folders or --bench, not both")}
	case w.bench != "":
		var err error
		if b, err = bench.Load(w.bench); err != nil {
			return nil, err
		}
	case len(args) == 0:
		return nil, usageError{fmt.Errorf("%s needs a folder, or a bench with --bench FILE", cmd.CommandPath())}
	}
	for _, dir := range args {
		b.Sources = append(b.Sources, bench.Source{Path: dir})
	}
	b.Lists = append(b.Lists, w.lists...)
	b.Passwords = append(b.Passwords, w.passwords...)
	for _, file := range w.allow {
		b.Edit(file, "", func(e *title.Edit) { e.Allow = true })
	}
	return b, nil
}

func printVerified(out io.Writer, r scan.VerifyReport) {
	for _, f := range r.Files {
		if f.Verdict == scan.Whole {
			continue
		}
		fmt.Fprintf(out, "%-10s %11s  %s\n", strings.ToUpper(string(f.Verdict)), size.Format(f.Size),
			style.Clean(f.Path))
		if f.Say != "" {
			fmt.Fprintf(out, "%24s%s\n", "", f.Say)
		}
	}
	for _, p := range r.Problems {
		fmt.Fprintf(out, "not used: %s: %s\n", style.Clean(p.Path), p.Say)
	}
	var words []string
	for _, v := range scan.Verdicts {
		if n := r.Counts[v]; n > 0 {
			words = append(words, fmt.Sprintf("%d %s", n, v))
		}
	}
	known := 0
	for _, f := range r.Files {
		if f.Known {
			known++
		}
	}
	fmt.Fprintf(out, "%s, %s: %s", size.Count(len(r.Files), "file"), size.Format(r.Bytes), strings.Join(words, ", "))
	if known > 0 {
		fmt.Fprintf(out, " (%d known from before)", known)
	}
	fmt.Fprintln(out, ".")
}
