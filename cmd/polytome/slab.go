package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/prepare"
	"polytome/internal/core/slabdisk"
	"polytome/internal/drives"
	"polytome/internal/format/slab"
	"polytome/internal/size"
)

func slabCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "slab",
		Short: "Work with a console's own disk, title by title",
		Example: "  polytome slab ls /dev/sdb\n  polytome slab add vesper.img ~/games/*.iso\n" +
			"  polytome slab set nbd://192.168.0.20/vesper-disk VSP-20417 timing=b",
		Long: `A slab disk has titles with a record each, and no folders. Every change is whole or not made at all,
whatever happens meanwhile. docs/formats/slab.md describes the format. DISK is a drive behind an
adapter, an image file, or what the console exports: nbd://192.168.0.20/vesper-disk. The command
drives prepare --fs slab makes one, and fill, check and clean-out work on it as on any other target.`,
	}
	cmd.AddCommand(slabLs(), slabAdd(), slabOut(), slabRename(), slabSet(), slabRemove(), slabPut(), slabCheck(),
		slabRepair(), slabCompact(), slabClone())
	return cmd
}

// atLeast asks for so many arguments, described in words.
func atLeast(n int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) < n {
			return usageError{fmt.Errorf("%s needs %s", cmd.CommandPath(), what)}
		}
		return nil
	}
}

// reading has a function read a disk.
func reading(ctx context.Context, at string, do func(d *slabdisk.Disk) error) error {
	d, err := slabdisk.Open(ctx, drives.Here, at, false)
	if err != nil {
		return err
	}
	defer d.Close() // which was read from
	return do(d)
}

// changing has a function change a disk.
func changing(ctx context.Context, at string, do func(d *slabdisk.Disk) error) error {
	d, err := slabdisk.Open(ctx, drives.Here, at, true)
	if err != nil {
		return err
	}
	return errors.Join(do(d), d.Close())
}

// each does something with several things, prints what became of each, or all of it as JSON at the end. One that fails
// does not keep the others from being done.
func each(cmd *cobra.Command, asJSON bool, all []string, do func(one string) (result any, say string,
	err error)) error {
	var failed []error
	results := []any{}
	for _, one := range all {
		result, say, err := do(one)
		if err = said(cmd.Context(), err); errors.Is(err, errStopped) {
			return err
		}
		if failed = append(failed, err); err != nil {
			continue
		}
		if results = append(results, result); !asJSON {
			fmt.Fprintln(cmd.OutOrStdout(), say)
		}
	}
	if asJSON {
		failed = append(failed, printJSON(cmd.OutOrStdout(), results))
	}
	return errors.Join(failed...)
}

// counting shows how far work of so many bytes is; end ends that.
func counting(total int64) (count func(n int64), end func()) {
	p, done := &progress{out: os.Stderr}, int64(0)
	return func(n int64) { done += n; p.bytes(done, max(done, total)) }, p.end
}

func slabLs() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use:     "ls DISK",
		Short:   "List what is on a slab disk",
		Example: "  polytome slab ls vesper.img",
		Args:    one("the disk"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return reading(cmd.Context(), args[0], func(d *slabdisk.Disk) error {
				i, titles, files := d.Info(), d.Titles(), d.Files()
				out := cmd.OutOrStdout()
				if asJSON {
					return printJSON(out, map[string]any{"disk": i, "titles": append([]slab.Title{}, titles...),
						"files": append([]slab.File{}, files...)})
				}
				for _, t := range titles {
					fmt.Fprintf(out, "%-12s %-8s %10s  %s%s\n", t.ID, t.Kind, size.Format(t.Size), t.Name, more(&t))
				}
				for _, f := range files {
					fmt.Fprintf(out, "%-12s %-8s %10s  %s\n", "", "file", size.Format(f.Size), f.Name)
				}
				fmt.Fprintf(out, "%s: %s, %s, %s free of %s\n", orNone(i.Label), size.Count(i.Titles, "title"),
					size.Count(i.Files, "small file"), size.Format(i.Free), size.Format(i.Slabs*slab.Slab))
				return nil
			})
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func orNone(label string) string {
	if label == "" {
		return "without a label"
	}
	return label
}

// more is what a line of a title says besides: its settings, and that it lies in pieces.
func more(t *slab.Title) string {
	var b strings.Builder
	for _, key := range slices.Sorted(maps.Keys(t.Settings)) {
		fmt.Fprintf(&b, "  %s=%s", key, t.Settings[key])
	}
	if len(t.Extents) > 1 {
		fmt.Fprintf(&b, "  in %d pieces", len(t.Extents))
	}
	return b.String()
}

func slabCheck() *cobra.Command {
	deep, asJSON := false, false
	cmd := &cobra.Command{
		Use: "check DISK", Short: "Look for what is wrong on a slab disk",
		Example: "  polytome slab check vesper.img --deep",
		Args:    one("the disk"),
		RunE:    func(cmd *cobra.Command, args []string) error { return checkSlab(cmd, args[0], deep, asJSON) },
	}
	cmd.Flags().BoolVar(&deep, "deep", false, "read every title, and compare its checksum")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func checkSlab(cmd *cobra.Command, at string, deep, asJSON bool) error {
	return reading(cmd.Context(), at, func(d *slabdisk.Disk) error {
		total := int64(0)
		for _, t := range d.Titles() {
			total += t.Size
		}
		count, end := counting(total)
		problems, err := d.Check(cmd.Context(), deep, count)
		if end(); err != nil {
			return said(cmd.Context(), err)
		}
		out := cmd.OutOrStdout()
		if asJSON {
			err = printJSON(out, map[string]any{"problems": append([]slab.Problem{}, problems...)})
		} else {
			printProblems(out, problems)
			if len(problems) == 0 {
				fmt.Fprintln(out, "Nothing is wrong"+map[bool]string{true: ".",
					false: "; polytome slab check --deep also reads every title."}[deep])
			}
		}
		if len(problems) > 0 && err == nil {
			err = errProblems
		}
		return err
	})
}

var errProblems = errors.New("there are problems: slab repair fixes what can be fixed")

func printProblems(out io.Writer, all []slab.Problem) {
	for _, p := range all {
		fmt.Fprintf(out, "%s: %s\n", p.Of, p.Say)
	}
}

func slabRepair() *cobra.Command {
	dry, asJSON := false, false
	cmd := &cobra.Command{
		Use: "repair DISK", Short: "Repair a slab disk",
		Example: "  polytome slab repair vesper.img --dry-run",
		Long: `Repair says what it will do before it does it. A damaged header or table is written again; where both tables
are lost, the titles are found by what stands in front of them, and kept if they are whole.`,
		Args: one("the disk"),
		RunE: func(cmd *cobra.Command, args []string) error { return repairSlab(cmd, args[0], dry, asJSON) },
	}
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only show what would be done")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func repairSlab(cmd *cobra.Command, at string, dry, asJSON bool) (err error) {
	count, end := counting(0)
	r, finish, err := slabdisk.Repair(cmd.Context(), drives.Here, at, !dry, count)
	if end(); err != nil {
		return said(cmd.Context(), err)
	}
	defer func() { err = errors.Join(err, finish()) }()
	out := cmd.OutOrStdout()
	if asJSON {
		err = printJSON(out, r)
	} else {
		for _, say := range r.Do {
			fmt.Fprintln(out, say)
		}
		printProblems(out, r.Lost)
	}
	done := "Repaired."
	switch {
	case err != nil:
		return err
	case len(r.Do) == 0:
		done = "Nothing has to be repaired."
	case dry:
		done = "Nothing was changed."
	default:
		if _, err := r.Apply(); err != nil {
			return err
		}
	}
	if !asJSON {
		fmt.Fprintln(out, done)
	}
	return nil
}

func slabCompact() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use: "compact DISK", Example: "  polytome slab compact vesper.img",
		Short: "Move titles so that each and the free space are in one piece",
		Long: `Compact moves titles as a whole where they find room, and then piece by piece: one free slab is
enough. It can be stopped at any moment, and goes on where it was.`,
		Args: one("the disk"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return changing(cmd.Context(), args[0], func(d *slabdisk.Disk) error {
				count, end := counting(0)
				n, err := d.Compact(cmd.Context(), count)
				end()
				if asJSON {
					return errors.Join(said(cmd.Context(), err), printJSON(cmd.OutOrStdout(),
						map[string]int{"moved": n}))
				}
				fmt.Fprintf(cmd.OutOrStdout(), "moved: %s\n", size.Count(n, "title"))
				return said(cmd.Context(), err)
			})
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// cloning is what the flags of slab clone say.
type cloning struct {
	bytes, erase  string
	fixed, asJSON bool
}

func slabClone() *cobra.Command {
	var c cloning
	cmd := &cobra.Command{
		Use: "clone DISK NEW", Short: "Copy a slab disk to a larger one",
		Long: `Clone makes the other drive a slab disk with all that is on this one, each title in one piece. Every
title is compared with its checksum on the way. What is on the other drive is lost, and listed
first; nothing is written until you type its name or serial number, or give it with --erase.`,
		Example: "  polytome slab clone vesper.img larger.img --size 2TB\n  polytome slab clone /dev/sdb /dev/sdc",
		Args:    atLeast(2, "the disk, and the new one"),
		RunE:    func(cmd *cobra.Command, args []string) error { return c.run(cmd, args[0], args[1]) },
	}
	f := cmd.Flags()
	f.StringVar(&c.bytes, "size", "", "create the image with this size if it does not exist")
	f.StringVar(&c.erase, "erase", "", "confirm that everything on the new drive is lost: its serial number or name")
	f.BoolVar(&c.fixed, "fixed-disk", false, "confirm a disk that is built into this computer")
	f.BoolVar(&c.asJSON, "json", false, "print JSON")
	return cmd
}

func (c *cloning) run(cmd *cobra.Command, from, at string) (err error) {
	ctx, out := cmd.Context(), cmd.OutOrStdout()
	set, err := known()
	if err != nil {
		return err
	}
	return reading(ctx, from, func(disk *slabdisk.Disk) (err error) {
		consent := drives.Consent{Typed: c.erase, Fixed: c.fixed}
		if c.bytes != "" {
			if err := makeImage(at, c.bytes); err != nil {
				return err
			}
			defer func() {
				if err != nil { // an image without all of it is what no one asked for
					err = errors.Join(err, os.Remove(at))
				}
			}()
		}
		to, err := drives.Here.Look(ctx, at)
		if err != nil {
			return err
		}
		if refusal := to.Refusal(); refusal != nil {
			return refusal
		}
		if c.bytes != "" {
			consent.Typed = to.Name()
		}
		if consent.Typed == "" {
			p, err := prepare.Make(ctx, drives.Here, to, set, prepare.Request{Filesystem: drives.Slab})
			if err != nil {
				return err
			}
			if consent.Typed, err = typedName(cmd.InOrStdin(), out, to, p); err != nil {
				return err
			}
		}
		total := int64(0)
		for _, t := range disk.Titles() {
			total += t.Size
		}
		count, end := counting(total)
		err = disk.Clone(ctx, drives.Here, to, consent, count)
		if end(); err != nil {
			return said(ctx, err)
		}
		if c.asJSON {
			return printJSON(out, map[string]any{"titles": disk.Titles()})
		}
		fmt.Fprintf(out, "%s: %s\n", at, size.Count(disk.Info().Titles, "title"))
		return nil
	})
}
