package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/contents"
	"polytome/internal/core/loader"
	"polytome/internal/drives"
	"polytome/internal/size"
	"polytome/internal/ui/state"
)

func drivesCommand() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "drives [IMAGE…]",
		Short: "List drives; show, map, check, prepare and eject them",
		Long: `A drive is a stick, a card, a disk or an image file. Without a subcommand, drives lists those of
this computer, what is on them, and whether Polytome may write to them; image files given as
arguments are listed too. A drive is given by its path, its serial number, or the folder where it is
mounted, with #2 added for its second partition.`,
		Example: `  polytome drives
  polytome drives show /dev/sdb
  polytome drives prepare /dev/sdb --loader rowan --kit ~/rowan
  polytome drives prepare north.img --size 58GiB --loader bellows
  polytome drives map north.img --defragment
  polytome drives check /media/stick
  polytome drives eject QX-2209-11`,
		Args: mostArgs(100),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, sys := cmd.Context(), drives.Here
			all, err := sys.List(ctx)
			if err != nil && len(args) == 0 {
				return err
			}
			for _, name := range args {
				d, err := sys.Look(ctx, name)
				if err != nil {
					return err
				}
				all = append(all, d)
			}
			set, err := known()
			if err != nil {
				return err
			}
			listed := []shownDrive{}
			for _, d := range all {
				listed = append(listed, showDrive(ctx, sys, d, set))
			}
			if asJSON {
				return printJSON(cmd.OutOrStdout(), listed)
			}
			if len(listed) == 0 {
				fmt.Fprintln(cmd.OutOrStdout(), "There are no drives. Plug one in, or name an image file.")
			}
			for i := range listed {
				if i > 0 {
					fmt.Fprintln(cmd.OutOrStdout())
				}
				listed[i].print(cmd.OutOrStdout())
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	cmd.AddCommand(drivesShow(), drivesMap(), drivesCheck(), drivesReady(), drivesEject(), drivesElevated())
	return cmd
}

// shownDrive is a drive with what is on it.
type shownDrive struct {
	*drives.Drive
	Name string `json:"name"`
	// May says whether it may be written to; else Refusal says why not.
	May      bool                 `json:"may-write"`
	Refusal  string               `json:"refusal,omitempty"`
	Contents []*contents.Contents `json:"contents"` // by volume
}

func showDrive(ctx context.Context, sys drives.System, d *drives.Drive, set *loader.Set) shownDrive {
	s := shownDrive{Drive: d, Name: d.Name(), May: true, Contents: []*contents.Contents{}}
	if r := d.Refusal(); r != nil {
		s.May, s.Refusal = false, r.Say
	}
	for i := range d.Volumes {
		s.Contents = append(s.Contents, contents.Volume(ctx, sys, d, &d.Volumes[i], set))
	}
	return s
}

func (s *shownDrive) print(out io.Writer) {
	d := s.Drive
	what := []string{size.Format(d.Size), d.Bus}
	if d.Removable && !d.Image {
		what = append(what, "removable")
	}
	if d.Table != nil {
		what = append(what, d.Table.Scheme.Shown())
	} else {
		what = append(what, "no partition table")
	}
	if d.Serial != "" && !d.Image {
		what = append(what, "serial "+d.Serial)
	}
	fmt.Fprintf(out, "%s  %s\n  %s\n", d.Path, s.Name, strings.Join(what, ", "))
	for i, v := range d.Volumes {
		number := "  "
		if v.Number > 0 {
			number = fmt.Sprintf("#%d", v.Number)
		}
		free := ""
		if v.Free >= 0 {
			free = ", " + size.Format(v.Free) + " free"
		}
		line := fmt.Sprintf("  %s %s, %s%s", number, v.Shown(), size.Format(v.Size), free)
		if v.Label != "" {
			line = fmt.Sprintf("  %s %s, %s, %s%s", number, v.Label, v.Shown(), size.Format(v.Size), free)
		}
		if c := s.Contents[i]; v.Ours() || len(v.MountedAt) > 0 {
			line += ": " + c.Words()
		}
		if v.Trouble != "" {
			line += ": " + v.Trouble
		}
		if len(v.MountedAt) > 0 {
			line += ", mounted at " + strings.Join(v.MountedAt, ", ")
		}
		if v.Dirty {
			line += ", not ejected cleanly: check it"
		}
		fmt.Fprintln(out, line)
	}
	if d.Table != nil {
		for _, p := range d.Table.Problems {
			fmt.Fprintf(out, "  %s\n", p)
		}
	}
	if d.Denied() {
		fmt.Fprintf(out, "  %s\n", state.Sentence(drives.AskedLater))
	}
	switch {
	case !s.May:
		fmt.Fprintf(out, "  Polytome does not write to it: %s.\n", s.Refusal)
	case d.Fixed():
		fmt.Fprintln(out, "  It is built in: preparing it needs --fixed-disk, too.")
	default:
		fmt.Fprintln(out, "  Polytome may write to it.")
	}
}

func drivesShow() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "show TARGET",
		Short: "Show one drive: partitions, volumes, what is on them, and what can be done",
		Args:  needArgs(1, "a drive or image"),
		RunE: func(cmd *cobra.Command, args []string) error {
			d, _, err := drives.Here.Target(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			set, err := known()
			if err != nil {
				return err
			}
			s := showDrive(cmd.Context(), drives.Here, d, set)
			if asJSON {
				return printJSON(cmd.OutOrStdout(), s)
			}
			s.print(cmd.OutOrStdout())
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// drivesEjectOptions are the flags of drives eject.
type drivesEjectOptions struct {
	only, asJSON bool
}

func drivesEject() *cobra.Command {
	var opt drivesEjectOptions
	cmd := &cobra.Command{
		Use:   "eject TARGET",
		Short: "Write pending data, unmount and power off a drive, and say when it is safe to unplug",
		Example: `  polytome drives eject /dev/sdb
  polytome drives eject --unmount /media/stick`,
		Args: needArgs(1, "a drive, or the folder where one is mounted"),
		RunE: opt.run,
	}
	cmd.Flags().BoolVar(&opt.only, "unmount", false, "unmount only, so that the drive can be prepared")
	cmd.Flags().BoolVar(&opt.asJSON, "json", false, "print JSON")
	return cmd
}

func (opt *drivesEjectOptions) run(cmd *cobra.Command, args []string) error {
	d, _, err := drives.Here.Target(cmd.Context(), args[0])
	if err != nil {
		return err
	}
	do := drives.Here.Eject
	if opt.only {
		do = drives.Here.Unmount
	}
	out := cmd.OutOrStdout()
	r, err := do(cmd.Context(), d, func(s string) {
		if !opt.asJSON {
			fmt.Fprintf(out, "Not yet: %s …\n", s)
		}
	})
	var busy *drives.BusyError
	if opt.asJSON && errors.As(err, &busy) {
		if err := printJSON(out, busy); err != nil {
			return err
		}
	}
	if err != nil {
		return err
	}
	if opt.asJSON {
		return printJSON(out, r)
	}
	fmt.Fprintln(out, r.Say)
	return nil
}
