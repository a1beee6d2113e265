package main

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"time"

	"github.com/spf13/cobra"

	"polytome/internal/demo"
	"polytome/internal/sim"
	"polytome/internal/size"
)

// listPatience is how often a console that waits for its first list looks whether it is there.
const listPatience = 500 * time.Millisecond

// playNetworkDisk is a simulated Vesper that plays from a network disk.
func playNetworkDisk(cmd *cobra.Command, console string, opt *simulatorOptions) (err error) {
	if console != "vesper" || opt.stick == "" {
		return usageError{errors.New("only the vesper plays from a network disk: simulate vesper --play ADDRESS " +
			"--stick FOLDER")}
	}
	ctx, out := cmd.Context(), cmd.OutOrStdout()
	d, err := sim.MountNetworkDisk(ctx, opt.play, opt.stick)
	for said := false; errors.Is(err, sim.ErrNoList); said = true {
		if !said {
			fmt.Fprintf(out, "The console waits for its first list, %s.\n", sim.NetworkList)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(listPatience):
		}
		d, err = sim.MountNetworkDisk(ctx, opt.play, opt.stick)
	}
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, d.Close()) }()
	dice := rand.New(rand.NewPCG(demo.Seed, 1))
	wrong := false
	fmt.Fprintf(out, "The console lists %s.\n", size.Count(len(d.Games), "title"))
	for i := range d.Games {
		g := &d.Games[i]
		if !g.Starts {
			wrong = true
			fmt.Fprintf(out, "%-12s %-30s does not start: %s\n", g.ID, g.Title, g.Why)
			continue
		}
		p, err := d.Play(ctx, g, opt.pieces, opt.pause, dice)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		fmt.Fprintf(out, "%-12s %-30s %s in %s, the slowest took %s\n", g.ID, g.Title, size.Format(p.Bytes),
			size.Count(p.Reads, "read"), p.Slowest.Round(time.Microsecond))
		if err != nil {
			wrong = true
			fmt.Fprintf(out, "%12s %v\n", "", err)
		}
	}
	if wrong {
		return errPartial
	}
	return nil
}
