package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"

	"polytome/internal/core/bench"
	"polytome/internal/core/connections"
	"polytome/internal/core/cover"
	"polytome/internal/core/journal"
	"polytome/internal/core/loader"
	"polytome/internal/core/prepare"
	"polytome/internal/core/scan"
	"polytome/internal/demo"
	"polytome/internal/draw"
	"polytome/internal/draw/scene"
	"polytome/internal/drives"
	"polytome/internal/netcards"
	"polytome/internal/target/served"
)

// drawDemo makes every drawing of the demo's world in a folder, as PDF and as SVG. They bear the date of the season, so
// that two of them can be compared.
func drawDemo(ctx context.Context, out io.Writer, world demo.World, connections *demo.Connections, b *bench.Bench,
	dir string, asJSON bool) (err error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("making the folder for the drawings: %w", err)
	}
	set, err := loader.Shipped()
	if err != nil {
		return err
	}
	three, err := connections.Each()
	if err != nil {
		return err
	}
	all := b.Clone()
	all.Targets = append(all.Targets[:3:3], three.Targets...)
	board, found, err := (&work{picked: -1, covers: world.CoverStore()}).surveys(ctx, all)
	if err != nil {
		return err
	}
	runs, err := demoRuns(world, all)
	if err != nil {
		return err
	}
	store, err := cover.OpenStore(world.CoverStore())
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, store.Close()) }()
	src := &draw.Source{Bench: all, Board: board, Titles: found.Titles, Set: set, Runs: runs, Cards: playroom,
		Drives: drives.Here, Looker: &cover.Looker{Store: store, Passwords: b.Passwords, Allowed: scan.Allowed(b)}}
	bellows, err := set.Profile("bellows")
	if err != nil {
		return err
	}
	o := draw.Options{Date: demo.Season, Bench: b.Name}
	var files []string
	for _, what := range []struct {
		name string
		draw.Request
	}{
		{"rack", draw.Request{Kind: draw.KindRack, Target: -1}},
		{"map", draw.Request{Kind: draw.KindMap, Target: -1, Drive: filepath.Join(world.Dir, "drives",
			"north-58.img")}},
		{"map-prepared", draw.Request{Kind: draw.KindMap, Target: -1, Drive: filepath.Join(world.Dir, "drives",
			"quay-28.img"), Ready: &prepare.Request{Profile: bellows}}},
		{"tree", draw.Request{Kind: draw.KindTree, Target: 2}},
		{"connections", draw.Request{Kind: draw.KindConnections, Target: -1}},
		{"card", draw.Request{Kind: draw.KindCard, Target: 0}},
		{"run", draw.Request{Kind: draw.KindRun, Target: -1}},
		{"fit", draw.Request{Kind: draw.KindFit, Target: -1}},
		{"checklist", draw.Request{Kind: draw.KindChecklist, Target: -1}},
	} {
		made, err := drawn(ctx, src, what.Request, o)
		if err != nil {
			return fmt.Errorf("drawing %s: %w", what.Kind.Words(), err)
		}
		for _, ext := range draw.Formats {
			file := filepath.Join(dir, what.name+ext)
			if err := draw.Save(file, made); err != nil {
				return err
			}
			files = append(files, file)
		}
	}
	if asJSON {
		return (&filling{out: out}).object(map[string]any{"drawings": files})
	}
	fmt.Fprintf(out, "\nThe drawings are in %s: %d files.\n", dir, len(files))
	return nil
}

// drawn makes one drawing. The connections has the Corvane wired directly, as it would be in a hall, and the hall's
// export as it would be found there.
func drawn(ctx context.Context, src *draw.Source, r draw.Request, o draw.Options) (*scene.Drawing, error) {
	if r.Kind != draw.KindConnections {
		return src.Make(ctx, r, o)
	}
	wired := *src
	wired.Bench, wired.Computer = src.Bench.Clone(), "playroom-desk"
	cards, err := playroom.Cards()
	if err != nil {
		return nil, err
	}
	for n := range wired.Bench.Targets {
		if p := &wired.Bench.Targets[n]; p.Loader == "gantry" {
			if err := connections.Join(p, cards, ""); err != nil {
				return nil, err
			}
		}
	}
	wired.Bench.Targets = append(wired.Bench.Targets,
		bench.Target{Name: "Hall export", At: served.Scheme + "hall", Loader: "rowan"},
		bench.Target{Name: "Vesper stick", At: "ftp://192.168.0.31/stick", Loader: "rowan", Carries: "Hall export"})
	wired.Bench.Identify()
	return wired.Make(ctx, r, o)
}

// playroom is the computer of the play space, with one cable and one wireless interface.
var playroom = netcards.System{
	Root: string(filepath.Separator) + "nowhere",
	Interfaces: func() ([]net.Interface, error) {
		on := net.FlagUp | net.FlagRunning
		return []net.Interface{{Index: 1, Name: "lo", Flags: on | net.FlagLoopback}, {Index: 2, Name: "cable0",
			Flags: on}, {Index: 3, Name: "hall0", Flags: on}}, nil
	},
	Addresses: func(i net.Interface) ([]net.Addr, error) {
		at := map[string]string{"lo": "127.0.0.1/8", "hall0": "192.168.0.5/24"}[i.Name]
		if at == "" {
			return nil, nil
		}
		ip, network, err := net.ParseCIDR(at)
		if err != nil {
			return nil, err
		}
		return []net.Addr{&net.IPNet{IP: ip, Mask: network.Mask}}, nil
	},
}

// demoRuns are the runs of the demo. They were on several benches, and count as those of the one that is drawn.
func demoRuns(world demo.World, b *bench.Bench) (runs []journal.Run, err error) {
	j, err := openJournalAt(demoJournal(world))
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, j.Close()) }()
	if runs, err = j.Runs(runsLooked); err != nil {
		return nil, err
	}
	file, err := filepath.Abs(b.File())
	for i := range runs {
		runs[i].Bench = file
	}
	return runs, err
}
