package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"time"

	"polytome/internal/core/serve"
	"polytome/internal/core/source"
	"polytome/internal/core/survey"
	"polytome/internal/demo"
	"polytome/internal/drives"
	"polytome/internal/sim"
	"polytome/internal/size"
	"polytome/internal/target/served"
)

// playedPieces is how many pieces of each title the demo's Vesper reads.
const playedPieces = 60

// A playedRow is what the demo's Vesper read of a title.
type playedRow struct {
	Title   string        `json:"title"`
	Reads   int           `json:"reads"`
	Bytes   int64         `json:"bytes"`
	Slowest time.Duration `json:"slowest"`
}

// servedDemo lays the hall's export out, brings its list to the stick in the Vesper, serves it, and has the Vesper play
// every title.
func servedDemo(ctx context.Context, out io.Writer, world demo.World, connections *demo.Connections,
	asJSON bool) (err error) {
	b := connections.Hall()
	all, _, err := (&work{picked: -1}).surveys(ctx, b)
	if err != nil {
		return err
	}
	f := &filling{out: io.Discard, asJSON: asJSON, bench: b, progress: autoProgress(), journal: demoJournal(world)}
	if _, err := f.fill(ctx, all); err != nil {
		return err
	}
	e, err := served.Take(b.Resolve(b.Targets[0].At), survey.ServedAs(b.Targets[0]))
	if err != nil {
		return err
	}
	defer e.Leave()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	server := serve.New(e, serve.Options{Name: "rowan"})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	over := make(chan error, 1)
	go func() { over <- server.Serve(ctx, l) }()
	rows, listed, err := playAll(ctx, "nbd://"+l.Addr().String()+"/rowan", world.VesperStick())
	status := server.Status()
	cancel()
	err = errors.Join(err, <-over)
	source.CloseReferred()
	if err != nil {
		return err
	}
	if asJSON {
		return (&filling{out: out}).object(map[string]any{"served": rows, "lists": listed})
	}
	info := e.Volume().Info()
	fmt.Fprintf(out, "\nThe hall's export: %s of %s, laid out in %s. The Vesper lists %s, and plays:\n",
		drives.FilesystemShown(info.Filesystem), size.Format(info.Size),
		f.lanes[0].report.Elapsed.Round(10*time.Millisecond), size.Count(listed, "title"))
	for _, r := range rows {
		fmt.Fprintf(out, "  %-30s %3d reads  %10s  the slowest took %s\n", r.Title, r.Reads, size.Format(r.Bytes),
			r.Slowest.Round(time.Microsecond))
	}
	fmt.Fprintf(out, "  %s were read from where the games lie; nothing was copied.\n", size.Format(status.Bytes))
	if listed != e.Files() { // a disc each
		return fmt.Errorf("%d discs are served, and the Vesper lists %d", e.Files(), listed)
	}
	return nil
}

// playAll has the Vesper play every title of a network disk.
func playAll(ctx context.Context, address, stick string) (rows []playedRow, listed int, err error) {
	d, err := sim.MountNetworkDisk(ctx, address, stick)
	if err != nil {
		return nil, 0, err
	}
	defer func() { err = errors.Join(err, d.Close()) }()
	dice := rand.New(rand.NewPCG(demo.Seed, 2))
	for i := range d.Games {
		g := &d.Games[i]
		if !g.Starts {
			return nil, 0, fmt.Errorf("%s does not start: %s", g.Title, g.Why)
		}
		p, err := d.Play(ctx, g, playedPieces, 0, dice)
		if err != nil {
			return nil, 0, err
		}
		rows = append(rows, playedRow{g.Title, p.Reads, p.Bytes, p.Slowest})
	}
	return rows, len(d.Games), nil
}
