package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"polytome/internal/core/discs"
	"polytome/internal/optical"
	sim "polytome/internal/sim/optical"
	"polytome/internal/size"
	"polytome/internal/ui/state"
)

func discCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "disc",
		Short: "Read the discs that you own, and burn those that a console takes",
		Long: `Disc works with the discs that you own, in a drive of this computer such as /dev/sr0, under Windows E:.
A simulated drive is one too: the file that simulate drive shows, or simulated:DISC, where DISC is an image or a cue
sheet and what is wrong with it stands behind a number sign, as in
simulated:game.iso#hard=3000+3,soft=100+40 or simulated:new.iso#blank=dvd-r.`,
		Example: `  polytome disc ls
  polytome disc read /dev/sr0 --into ~/games
  polytome disc shelf /dev/sr0 --into ~/games
  polytome disc burn /dev/sr0 tide.iso --loader rowan`,
	}
	cmd.AddCommand(discListCommand(), discInfoCommand(), discReadCommand(), discShelfCommand(), discBurnCommand(),
		discVerifyCommand(), discEjectCommand())
	return cmd
}

// simulated are the simulated drives of this process, by their addresses: what happens to a disc stays for as long.
var simulated = struct {
	sync.Mutex
	drives map[string]*sim.Drive
}{drives: map[string]*sim.Drive{}}

// openDisc opens a drive.
func openDisc(at string) (*optical.Drive, error) {
	if !strings.HasPrefix(at, sim.Scheme) {
		at = state.Expand(at)
		if info, err := os.Stat(at); err == nil && info.Mode().Type() == fs.ModeSocket {
			t, err := sim.Dial(at)
			if err != nil {
				return nil, err
			}
			return optical.New(t), nil
		}
		t, err := optical.OpenDevice(at)
		if err != nil {
			return nil, err
		}
		return optical.New(t), nil
	}
	simulated.Lock()
	defer simulated.Unlock()
	machine := simulated.drives[at]
	if machine == nil {
		m, _, err := sim.FromAddress(at) // its disc stays open until the program ends
		if err != nil {
			return nil, err
		}
		machine = m
		simulated.drives[at] = m
	}
	return optical.New(optical.Over(machine)), nil
}

// onDisc does something with a drive, and lets go of it.
func onDisc(at string, do func(d *optical.Drive) error) (err error) {
	d, err := openDisc(at)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, d.Close()) }()
	if err := do(d); err != nil {
		return fmt.Errorf("%s: %w", at, err)
	}
	return nil
}

// factsOf looks at a drive.
func factsOf(ctx context.Context, at string) (f discs.Facts, err error) {
	set, err := known()
	if err != nil {
		return f, err
	}
	err = onDisc(at, func(d *optical.Drive) (err error) {
		f, err = discs.FactsOf(ctx, at, d, set)
		return err
	})
	return f, err
}

func printFacts(out io.Writer, f *discs.Facts, whole bool) {
	fmt.Fprintf(out, "%s: %s; %s", f.At, f.Drive, f.Words())
	if f.Blank && len(f.Speeds) > 0 {
		fmt.Fprintf(out, "; it can be written at %s", strings.Join(f.Speeds, ", "))
	}
	fmt.Fprintln(out)
	if !whole {
		return
	}
	if f.Most > 0 {
		fmt.Fprintf(out, "  the drive reads up to %s/s", size.Format(f.Most))
		if len(f.Writes) > 0 {
			fmt.Fprintf(out, ", and writes %s", strings.Join(f.Writes, ", "))
		}
		fmt.Fprintln(out)
	}
	session := 0
	for _, t := range f.Tracks {
		if t.Session != session && f.Tracks[len(f.Tracks)-1].Session > 1 {
			session = t.Session
			fmt.Fprintf(out, "  session %d\n", session)
		}
		kind := "sound"
		if t.Data {
			kind = "data"
		}
		fmt.Fprintf(out, "  track %d: %s, %s from block %s on\n", t.Number, kind, size.Count(int(t.End-t.Start),
			"block"), size.Exact(t.Start))
	}
}

func discListCommand() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use:     "ls",
		Short:   "Show the disc drives of this computer, and what lies in them",
		Example: `  polytome disc ls`,
		Args:    noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			all := []discs.Facts{}
			for _, at := range optical.Devices() {
				f, err := factsOf(cmd.Context(), at)
				if err != nil {
					f = discs.Facts{At: at, Say: err.Error()}
				}
				all = append(all, f)
			}
			out := cmd.OutOrStdout()
			if asJSON {
				return printJSON(out, all)
			}
			switch {
			case !optical.Reached:
				fmt.Fprintln(out, "Disc drives are used under Linux and Windows only. Try one: polytome simulate drive")
			case len(all) == 0:
				fmt.Fprintln(out,
					"This computer has no disc drive that the system knows of. Try one: polytome simulate drive")
			}
			for i := range all {
				printFacts(out, &all[i], false)
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func discInfoCommand() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use:     "info DRIVE",
		Short:   "Show what is in a disc drive",
		Example: `  polytome disc info /dev/sr0`,
		Args:    needArgs(1, "a disc drive, such as /dev/sr0"),
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := factsOf(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if asJSON {
				return printJSON(cmd.OutOrStdout(), f)
			}
			printFacts(cmd.OutOrStdout(), &f, true)
			if len(f.Writes) > 0 && (f.Blank || f.Room > 0) {
				set, err := known()
				if err != nil {
					return err
				}
				takers := discs.Takers(set, &f)
				for i := range takers {
					fmt.Fprintf(cmd.OutOrStdout(), "  %s %s\n", takers[i].Who(), takers[i].Words())
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
			return onDisc(args[0], func(d *optical.Drive) error { return discs.Eject(cmd.Context(), d) })
		},
	}
}
