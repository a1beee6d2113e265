package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"polytome/internal/core/blockmap"
	"polytome/internal/core/loader"
	"polytome/internal/drives"
	"polytome/internal/format/volume"
	"polytome/internal/size"
	"polytome/internal/target/drive"
)

// slabAt is the slab disk that a command is about; nil where it is about another volume.
func slabAt(ctx context.Context, what string) (*drives.Drive, *drives.Volume, error) {
	d, _, err := drives.Here.Target(ctx, what)
	if err != nil {
		return nil, nil, err
	}
	for i := range d.Volumes {
		if d.Volumes[i].Filesystem == drives.Slab {
			return d, &d.Volumes[i], nil
		}
	}
	return nil, nil, nil
}

// openVolume opens the volume that a command is about. It is only read until something is written.
func openVolume(ctx context.Context, what string) (*drive.Target, error) {
	d, part, err := drives.Here.Target(ctx, what)
	if err != nil {
		return nil, err
	}
	return drive.OpenVolume(ctx, drives.Here, drive.Address{Drive: d.Path, Part: part}, drive.Options{})
}

// drivesMapOptions are the flags of drives map.
type drivesMapOptions struct {
	asJSON, defragment, all bool
}

func drivesMap() *cobra.Command {
	var opt drivesMapOptions
	cmd := &cobra.Command{
		Use:   "map TARGET [FILE…]",
		Short: "Show what is stored where on a volume, and defragment files",
		Long: `Shows a FAT or exFAT volume, or a slab disk, as a measuring tape: what lies where from its beginning
to its end, what is free between, and which titles are fragmented. What lies one behind the other and belongs to one
title is one line; so are small files that belong to none, unless --all lists each of them.
--defragment makes fragmented files contiguous, those given or all: each is
rewritten into a free run and read back before the old copy is freed. Where no free run is large enough, other files
are moved out of the way. A mounted volume is only read.`,
		Example: `  polytome drives map /dev/sdb
  polytome drives map north.img --defragment
  polytome drives map north.img --defragment 'FULL/VSP-20417 - Copper Tide.iso'`,
		Args: needArgs(1, "a drive or image"),
		RunE: opt.run,
	}
	cmd.Flags().BoolVar(&opt.asJSON, "json", false, "print JSON: every file with its clusters")
	cmd.Flags().BoolVar(&opt.defragment, "defragment", false, "defragment files")
	cmd.Flags().BoolVar(&opt.all, "all", false, "list small files one by one")
	return cmd
}

func (opt *drivesMapOptions) run(cmd *cobra.Command, args []string) (err error) {
	ctx := cmd.Context()
	if len(args) > 1 && !opt.defragment {
		return usageError{errors.New("giving files needs --defragment")}
	}
	set, err := known()
	if err != nil {
		return err
	}
	if d, v, err := slabAt(ctx, args[0]); err != nil {
		return err
	} else if d != nil {
		if opt.defragment {
			return usageError{fmt.Errorf("it is a slab disk: polytome slab compact %s does that", args[0])}
		}
		m, err := blockmap.On(ctx, drives.Here, d, v, set)
		if err != nil {
			return err
		}
		return opt.show(cmd.OutOrStdout(), m, set)
	}
	p, err := openVolume(ctx, args[0])
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, p.Close()) }()
	if opt.defragment {
		return gatherFiles(ctx, cmd.OutOrStdout(), p, args[1:])
	}
	m, err := blockmap.Read(ctx, p.Volume(), set)
	if err != nil {
		return err
	}
	return opt.show(cmd.OutOrStdout(), m, set)
}

func (opt *drivesMapOptions) show(out io.Writer, m *blockmap.Map, set *loader.Set) error {
	if opt.asJSON {
		return printJSON(out, m)
	}
	least := m.Least()
	if opt.all {
		least = 0
	}
	printTape(out, m, m.Lengths(least), set)
	return nil
}

func printTape(out io.Writer, m *blockmap.Map, all []blockmap.Length, set *loader.Set) {
	info := m.Info
	name := info.Label
	if name == "" {
		name = "without a name"
	}
	one, unit, remedy := "file", "clusters", "--defragment makes them contiguous"
	if info.Filesystem == drives.Slab {
		one, unit, remedy = "title", "slabs", "polytome slab compact makes them contiguous"
	}
	fmt.Fprintf(out, "%s, %s, %s, %s of %s; %s free, the largest free run %s\n", name,
		drives.FilesystemShown(info.Filesystem), size.Format(info.Size), unit, size.Format(info.Cluster),
		size.Format(m.FreeBytes()), size.Format(m.Largest()))
	fmt.Fprintf(out, "\n  %12s  %12s  %s\n", "begins at", "length", "what lies there")
	for _, l := range all {
		what, how := m.Say(l)
		if p := set.Platform(m.Platform(l)); p != nil {
			what += " (" + p.Shown + ")"
		}
		if l.Parts > 1 || l.Kind == blockmap.Fragmented {
			what += ": " + how
		}
		fmt.Fprintf(out, "  %12s  %12s  %s\n", size.Format(m.Begins(l)), size.Format(m.Bytes(l)), what)
	}
	fmt.Fprintln(out)
	pieces := m.Fragmented()
	if len(pieces) == 0 {
		fmt.Fprintf(out, "Every %s is contiguous.\n", one)
	} else {
		fmt.Fprintf(out, "%s; %s:\n", size.Count(len(pieces), "fragmented "+one), remedy)
	}
	for _, f := range pieces {
		fmt.Fprintf(out, "  %4d fragments  %12s  %s\n", len(f.Runs), size.Format(f.Size), f.Path)
	}
	for _, f := range m.Files {
		if f.Err != "" {
			fmt.Fprintf(out, "  %s: %s\n", f.Path, f.Err)
		}
	}
}

// gatherFiles brings files into one piece.
func gatherFiles(ctx context.Context, out io.Writer, p *drive.Target, names []string) error {
	m, err := blockmap.Read(ctx, p.Volume(), nil)
	if err != nil {
		return err
	}
	if len(names) == 0 {
		for _, f := range m.Fragmented() {
			names = append(names, f.Path)
		}
	}
	if len(names) == 0 {
		fmt.Fprintln(out, "Every file is already contiguous.")
		return nil
	}
	v, err := p.Write(ctx)
	if err != nil {
		return err
	}
	failed := 0
	for _, name := range names {
		pr := &progress{out: os.Stderr}
		var done, total int64
		if n, err := v.Stat(name); err == nil {
			total = n.Size
		}
		moved, err := v.Defragment(ctx, name, true, func(n int64) {
			done += n
			pr.bytes(min(done, total), total)
		})
		pr.end()
		for _, f := range moved {
			fmt.Fprintf(out, "moved out of the way: %s\n", f)
		}
		if err != nil {
			if ctx.Err() != nil {
				return errStopped
			}
			failed++
			fmt.Fprintf(out, "%s was left as it is: %v\n", name, err)
			continue
		}
		fmt.Fprintf(out, "contiguous: %s\n", name)
	}
	if failed > 0 {
		return errPartial
	}
	return nil
}

// drivesCheckOptions are the flags of drives check.
type drivesCheckOptions struct {
	asJSON, repair bool
}

func drivesCheck() *cobra.Command {
	var opt drivesCheckOptions
	cmd := &cobra.Command{
		Use:   "check TARGET",
		Short: "Check a FAT or exFAT volume, and repair it",
		Long: `Reads every folder and chain of a volume, or the tables of a slab disk, and compares them with its
tables: lost clusters, files that share clusters, tables that differ, wrong lengths, wrong counts,
an unclean eject. --repair repairs what it can, and lists what it does first. A mounted volume is
only read.

Exit status: 0 no problems, or all were repaired; 3 problems are left.`,
		Example: `  polytome drives check /dev/sdb
  polytome drives check north.img --repair`,
		Args: needArgs(1, "a drive or image"),
		RunE: opt.run,
	}
	cmd.Flags().BoolVar(&opt.asJSON, "json", false, "print JSON")
	cmd.Flags().BoolVar(&opt.repair, "repair", false, "fix what can be fixed")
	return cmd
}

func (opt *drivesCheckOptions) run(cmd *cobra.Command, args []string) (err error) {
	ctx, out := cmd.Context(), cmd.OutOrStdout()
	if d, _, err := slabAt(ctx, args[0]); err != nil {
		return err
	} else if d != nil {
		if opt.repair {
			return repairSlab(cmd, d.Path, false, opt.asJSON)
		}
		return checkSlab(cmd, d.Path, false, opt.asJSON)
	}
	p, err := openVolume(ctx, args[0])
	if err != nil {
		return err
	}
	closed := false
	let := func() error {
		if closed {
			return nil
		}
		closed = true
		return p.Close()
	}
	defer func() { err = errors.Join(err, let()) }()
	first, err := p.Volume().Check(ctx)
	if err != nil {
		return err
	}
	left := first
	if !opt.asJSON {
		printHealth(out, first, opt.repair)
	}
	if opt.repair && !first.OK() {
		v, err := p.Write(ctx)
		if err != nil {
			return err
		}
		var failed error
		if first, left, failed = v.Repair(ctx); failed != nil {
			return failed
		}
		if err := let(); err != nil { // nothing is fixed before it is written
			return err
		}
		if !opt.asJSON {
			if left.OK() {
				fmt.Fprintln(out, "\nAll problems are repaired.")
			} else {
				fmt.Fprintln(out, "\nThis is left:")
				printFindings(out, left, false)
			}
		}
	}
	if opt.asJSON {
		if err := printJSON(out, map[string]*volume.Health{"found": first, "left": left}); err != nil {
			return err
		}
	}
	if !left.OK() {
		return errPartial
	}
	return nil
}

func printHealth(out io.Writer, h *volume.Health, repair bool) {
	fmt.Fprintf(out, "%s and %s, %s; %s free\n", size.Count(h.Files, "file"), size.Count(max(0, h.Folders-1), "folder"),
		size.Format(h.Bytes), size.Format(h.Free))
	if h.Fragmented > 0 {
		fmt.Fprintf(out, "%s fragmented: polytome drives map shows where\n", size.Count(h.Fragmented, "file"))
	}
	if h.OK() {
		fmt.Fprintln(out, "The volume is OK.")
		return
	}
	if repair {
		fmt.Fprintln(out, "Problems found, and how they are repaired:")
	} else {
		fmt.Fprintln(out, "Problems found; --repair would do this:")
	}
	printFindings(out, h, true)
}

func printFindings(out io.Writer, h *volume.Health, fixes bool) {
	for _, f := range h.Findings {
		at := f.Path
		if at != "" {
			at += ": "
		}
		fmt.Fprintf(out, "  %s: %s%s\n", f.Kind, at, f.Say)
		switch {
		case fixes && f.Repair != "":
			fmt.Fprintf(out, "      %s\n", f.Repair)
		case fixes:
			fmt.Fprintln(out, "      It cannot be repaired here.")
		}
	}
}
