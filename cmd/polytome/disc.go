package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/discread"
	"polytome/internal/optical"
	sim "polytome/internal/sim/optical"
	"polytome/internal/size"
	"polytome/internal/ui/state"
)

func discCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "disc",
		Short: "Look at the disc in a drive, and read it into an image",
		Long: `Disc works with the discs that you own, in a drive of this computer such as /dev/sr0. A simulated
drive with an image file in its tray is simulated:FILE; scratches can be put on it, as in
simulated:game.iso#hard=3000+3,soft=100+40.`,
		Example: `  polytome disc info /dev/sr0
  polytome disc read /dev/sr0 -o ~/games/tide.iso`,
	}
	cmd.AddCommand(discInfoCommand(), discReadCommand(), discEjectCommand())
	return cmd
}

// openDisc opens a drive.
func openDisc(at string) (*optical.Drive, func(), error) {
	if !strings.HasPrefix(at, sim.Scheme) {
		t, err := optical.OpenDevice(state.Expand(at))
		if err != nil {
			return nil, nil, err
		}
		d := optical.New(t)
		return d, func() { _ = d.Close() }, nil
	}
	machine, f, err := sim.FromAddress(at)
	if err != nil {
		return nil, nil, err
	}
	return optical.New(optical.Over(machine)), func() { _ = f.Close() }, nil
}

// onDisc does something with a drive, and lets go of it.
func onDisc(at string, do func(d *optical.Drive) error) error {
	d, done, err := openDisc(at)
	if err != nil {
		return err
	}
	defer done()
	if err := do(d); err != nil {
		return fmt.Errorf("%s: %w", at, err)
	}
	return nil
}

// discFacts is what is in a drive.
type discFacts struct {
	Drive  string          `json:"drive"`
	Medium string          `json:"medium"`
	Blocks int64           `json:"blocks,omitempty"`
	Size   int64           `json:"block-size,omitempty"` // bytes
	Tracks []optical.Track `json:"tracks,omitempty"`
	Most   int64           `json:"bytes-per-second,omitempty"` // that the drive reads at most
}

// factsOf looks at a drive, and waits until a disc that was just put in can be read.
func factsOf(ctx context.Context, d *optical.Drive) (f discFacts, err error) {
	m, err := d.Model(ctx)
	if err != nil {
		return f, err
	}
	f.Drive = strings.TrimSpace(m.Vendor + " " + m.Product)
	if err := d.WaitReady(ctx); err != nil {
		return f, err
	}
	now, _, err := d.Medium(ctx)
	if err != nil {
		return f, err
	}
	f.Medium = now.String()
	if c, err := d.Capacity(ctx); err == nil {
		f.Blocks, f.Size = c.Blocks, c.Size
	}
	f.Tracks, _ = d.Tracks(ctx) // a blank disc has none
	_, f.Most, _ = d.Speeds(ctx)
	return f, nil
}

func discInfoCommand() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use:     "info DRIVE",
		Short:   "Show what is in a disc drive",
		Example: `  polytome disc info /dev/sr0`,
		Args:    needArgs(1, "a disc drive, such as /dev/sr0"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var f discFacts
			err := onDisc(args[0], func(d *optical.Drive) (err error) {
				f, err = factsOf(cmd.Context(), d)
				return err
			})
			if err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			if asJSON {
				return printJSON(out, f)
			}
			fmt.Fprintf(out, "%s: %s, %s", f.Drive, f.Medium, size.Format(f.Blocks*f.Size))
			if f.Most > 0 {
				fmt.Fprintf(out, "; the drive reads up to %s/s", size.Format(f.Most))
			}
			fmt.Fprintln(out)
			for _, t := range f.Tracks {
				kind := "sound"
				if t.Data {
					kind = "data"
				}
				if t.Number != optical.LeadOut {
					fmt.Fprintf(out, "  track %d: %s, from block %s\n", t.Number, kind, size.Exact(t.Start))
				}
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func discEjectCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "eject DRIVE",
		Short:   "Open the tray of a disc drive",
		Example: `  polytome disc eject /dev/sr0`,
		Args:    needArgs(1, "a disc drive, such as /dev/sr0"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return onDisc(args[0], func(d *optical.Drive) error {
				return errors.Join(d.Lock(cmd.Context(), false), d.Eject(cmd.Context()))
			})
		},
	}
}

// discReadOptions are the flags of disc read.
type discReadOptions struct {
	out    string
	tries  int
	asJSON bool
	eject  bool
}

func discReadCommand() *cobra.Command {
	var opt discReadOptions
	cmd := &cobra.Command{
		Use:   "read DRIVE",
		Short: "Read a disc of data into an image",
		Long: `Read reads every block of a disc into an image. First from front to back, past what cannot be read;
then what is missing, in single blocks, from both sides, slower each time. Until every block was
read, the image has the name NAME.reading, and NAME.reading.toml beside it says how each block was
read: the same command goes on where it ended, also with another copy of the disc, which gives what
this one lacks. An image that is whole gets its name, and its sums are printed. Exit status: 3 while
blocks are missing. Sound tracks are not read yet.`,
		Example: `  polytome disc read /dev/sr0 -o ~/games/tide.iso
  polytome disc read /dev/sr0 -o ~/games/tide.iso --eject`,
		Args: needArgs(1, "a disc drive, such as /dev/sr0"),
		RunE: opt.run,
	}
	f := cmd.Flags()
	f.StringVarP(&opt.out, "out", "o", "", "the image to write")
	f.IntVar(&opt.tries, "tries", 0, "how often a block that cannot be read is tried (default: 8)")
	f.BoolVar(&opt.asJSON, "json", false, "print JSON")
	f.BoolVar(&opt.eject, "eject", false, "open the tray at the end")
	return cmd
}

func (opt *discReadOptions) run(cmd *cobra.Command, args []string) error {
	if opt.out == "" {
		return usageError{errors.New("say which image to write: -o FILE")}
	}
	if opt.tries < 0 {
		return usageError{errors.New("--tries is a number from 1 on")}
	}
	ctx := cmd.Context()
	d, done, err := openDisc(args[0])
	if err != nil {
		return err
	}
	defer done()
	f, err := factsOf(ctx, d)
	if err != nil {
		return fmt.Errorf("%s: %w", args[0], err)
	}
	for _, t := range f.Tracks {
		if !t.Data && t.Number != optical.LeadOut {
			return fmt.Errorf("%s: track %d is sound, and only discs of data are read", args[0], t.Number)
		}
	}
	if f.Blocks == 0 || f.Size == 0 {
		return fmt.Errorf("%s: the drive does not say how large the disc is: is it blank?", args[0])
	}
	_ = d.Lock(ctx, true) // where the drive can
	defer func() { _ = d.Lock(context.WithoutCancel(ctx), false) }()
	p := &progress{out: os.Stderr}
	r, err := discread.Into(ctx, d, state.Expand(opt.out), f.Blocks, f.Size, discread.Options{Tries: opt.tries,
		Progress: func(b *discread.Blocks, _ int64) { p.bytes(b.In(discread.Good)*b.Size, b.Count*b.Size) }})
	p.end()
	if ctx.Err() != nil {
		return errStopped
	}
	if err != nil {
		return fmt.Errorf("%s: %w", args[0], err)
	}
	if opt.eject {
		err = errors.Join(d.Lock(ctx, false), d.Eject(ctx))
	}
	if opt.asJSON {
		err = errors.Join(err, printJSON(cmd.OutOrStdout(), r))
	} else {
		printReading(cmd.OutOrStdout(), r)
	}
	if err == nil && !r.Blocks.Whole() {
		err = errPartial
	}
	return err
}

// mostSpans is how many bad places are listed.
const mostSpans = 20

func printReading(out io.Writer, r *discread.Result) {
	b := r.Blocks
	if b.Whole() {
		fmt.Fprintf(out, "%s: all %s read", r.File, size.Count(int(b.Count), "block"))
		if r.Before > 0 {
			fmt.Fprintf(out, ", %s of them before", size.Exact(r.Before))
		}
		fmt.Fprintf(out, "\n  CRC-32 %s\n  SHA-1  %s\n", r.CRC32, r.SHA1)
		return
	}
	fmt.Fprintf(out, "%s: %s of %s could not be read. Read another copy of the disc, or this one again, with the same "+
		"command.\n", filepath.Base(r.File), size.Count(int(b.Count-b.In(discread.Good)), "block"), size.Exact(b.Count))
	bad := b.Of(discread.Bad)
	for i, s := range bad {
		if i == mostSpans {
			fmt.Fprintf(out, "  and %d more places\n", len(bad)-i)
			break
		}
		fmt.Fprintf(out, "  %s from block %s on, tried %s\n", size.Count(int(s.Count), "block"), size.Exact(s.First),
			size.Count(s.Tries, "time"))
	}
}
