package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/core/proof"
	"polytome/internal/core/survey"
	"polytome/internal/demo"
	"polytome/internal/size"
	"polytome/internal/standin"
	"polytome/internal/ui"
)

// demoRate is how fast the demo's stick takes bytes on the screen: quick
// enough not to bore, slow enough to be watched.
const demoRate = 3 * size.GiB

func demoCommand() *cobra.Command {
	var dir string
	var run, ascii, asJSON bool
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Try everything on made-up games and a made-up stick",
		Long: `Demo makes a small world, the season of a travelling play room, with games as image
files and a folder that stands for a USB stick, and opens the full screen on it. Large images are
sparse files and take little of your disk. Without --dir the world is made in a temporary folder and
removed at the end.

With --run it fills the stick without a screen, prints what it did, and asks the stand-in loader whether it
agrees with the proof. Titles that cannot go are part of the demo, so the exit status is 0 all the same.`,
		Example: `  polytome demo
  polytome demo --dir ./season
  polytome demo --run`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if dir == "" {
				if dir, err = os.MkdirTemp("", "polytome-demo-"); err != nil {
					return fmt.Errorf("making a folder for the demo: %w", err)
				}
				defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
			}
			world, err := demo.Open(dir, demo.Seed)
			if err != nil {
				return err
			}
			b, err := bench.Load(world.Bench)
			if err != nil {
				return err
			}
			if run {
				return runDemo(cmd.Context(), cmd.OutOrStdout(), world, b, asJSON)
			}
			set, err := loader.Known(filepath.Join(world.Dir, "own"))
			if err != nil {
				return err
			}
			return ui.Run(cmd.Context(), b, set, ui.Options{ASCII: ascii, Rate: demoRate, OwnDir: filepath.Join(world.Dir, "own"), CacheFile: filepath.Join(world.Dir, "seen.sqlite"), JournalFile: filepath.Join(world.Dir, "runs.sqlite")})
		},
	}
	cmd.Flags().StringVar(&dir, "dir", "", "make the world in this folder, and keep it")
	cmd.Flags().BoolVar(&run, "run", false, "fill the stick without a screen")
	cmd.Flags().BoolVar(&asJSON, "json", false, "with --run: print JSON, one object a line")
	cmd.Flags().BoolVar(&ascii, "ascii", false, "draw with ASCII characters only")
	return cmd
}

// runDemo goes from the games to the proof, and holds the proof against the
// stand-in.
func runDemo(ctx context.Context, out io.Writer, world demo.World, b *bench.Bench, asJSON bool) error {
	all, r, err := (&work{picked: -1}).surveys(ctx, b)
	if err != nil {
		return err
	}
	s := all[0]
	f := &filling{out: out, asJSON: asJSON, bench: b, progress: progressAuto}
	if asJSON {
		if err := f.object(map[string]any{"intake": r}); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(out, "Games in %s:\n", world.Games)
		printTitles(out, r)
		fmt.Fprintln(out)
	}
	if _, err := f.fill(ctx, survey.Board{s}); err != nil {
		return err
	}
	audit, err := s.Proof(ctx)
	if err != nil {
		return err
	}
	listing, err := standin.Loaders[s.Profile.Name].List(os.DirFS(world.Stick))
	if err != nil {
		return err
	}
	if err := agree(audit, listing); err != nil {
		return err
	}
	if asJSON {
		return f.object(map[string]any{"stand-in": listing})
	}
	fmt.Fprintf(out, "\nThe stand-in for %s lists the same %s, in the same order.\n", s.Profile.Shown, size.Count(len(listing.Games), "title"))
	return nil
}

// agree holds what the proof promises against what a simulated loader lists.
func agree(audit *proof.Report, listing *standin.Listing) error {
	if len(audit.Listed) != len(listing.Games) {
		return fmt.Errorf("the proof promises %d titles, and the stand-in lists %d", len(audit.Listed), len(listing.Games))
	}
	for i, l := range audit.Listed {
		if g := listing.Games[i]; g.Path != l.Path || g.Title != l.Name || g.Starts != l.Starts {
			return fmt.Errorf("line %d: the proof promises %s (%s), and the stand-in lists %s (%s) %s", i+1, l.Name, l.Path, g.Title, g.Path, g.Why)
		}
	}
	return nil
}
