package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"polytome/internal/config"
	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/cover"
	"polytome/internal/core/ledger"
	"polytome/internal/core/loader"
	"polytome/internal/core/run"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/demo"
	"polytome/internal/sim"
	"polytome/internal/size"
	"polytome/internal/target/drive"
	"polytome/internal/ui"
	"polytome/internal/ui/state"
)

// demoRate is how fast the demo's stick takes bytes on the screen: quick
// enough not to bore, slow enough to be watched.
const demoRate = 3 * size.GiB

// demoOptions are the flags of demo.
type demoOptions struct {
	dir, drawings          string
	without, ascii, asJSON bool
}

func demoCommand() *cobra.Command {
	var opt demoOptions
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Try everything on made-up games and a made-up stick",
		Long: `Demo creates a small world, the season of a travelling play space, with games as image files, a
folder that stands for a USB stick, and simulated consoles on this computer's loopback: one over
FTP, one whose disk is a share, for which Samba is started where it is installed, and one that
exports its own disk over NBD. It opens the full screen on it. Large images are sparse files and
take little of your disk. Without --dir the world is made in a temporary folder and removed at the
end.

With --run it fills the stick without a screen, prints what it did, and compares the check with what
the simulated loader lists. Then it fills a drive image, the share and the two consoles at the same
time, checks all four, and prints one table. It serves games over the network, and has a simulated
console play them. Then it checks a stick that was filled by hand, fixes a copy
of it, and checks that. At the end it draws every drawing that there is, as PDF and SVG, into the
world's folder drawings, or another one with --drawings. Titles that do not fit are part of the
demo, so the exit status is 0 anyway.`,
		Example: `  polytome demo
  polytome demo --dir ./season
  polytome demo --run`,
		Args: noArgs,
		RunE: opt.run,
	}
	cmd.Flags().StringVar(&opt.dir, "dir", "", "create the world in this folder, and keep it")
	cmd.Flags().StringVar(&opt.drawings, "drawings", "",
		"with --run: the folder for drawings (default: drawings, in the world's folder)")
	cmd.Flags().BoolVar(&opt.without, "run", false, "fill the stick without a screen")
	cmd.Flags().BoolVar(&opt.asJSON, "json", false, "with --run: print JSON, one object a line")
	cmd.Flags().BoolVar(&opt.ascii, "ascii", false, "draw with ASCII characters only")
	return cmd
}

func (opt *demoOptions) run(cmd *cobra.Command, _ []string) (err error) {
	if opt.dir == "" {
		var remove func() error
		if opt.dir, remove, err = temporaryWorld(); err != nil {
			return fmt.Errorf("making a folder for the demo: %w", err)
		}
		defer func() { err = errors.Join(err, remove()) }()
	}
	if opt.dir, err = filepath.Abs(opt.dir); err != nil {
		return err
	}
	world, err := demo.Open(opt.dir, demo.Seed)
	if err != nil {
		return err
	}
	demoSaves, demoLedger = world.Saves(), world.Ledger()
	b, err := bench.Load(world.Bench)
	if err != nil {
		return err
	}
	connections, err := world.Bring(cmd.Context())
	if err != nil {
		return err
	}
	defer connections.Close()
	if opt.without {
		connections.Connect(b)
		b.Targets = b.Targets[:4] // those that are no console
		if err := fetchForDemo(cmd.Context(), cmd.OutOrStdout(), world, b, opt.asJSON); err != nil {
			return err
		}
		if err := runDemo(cmd.Context(), cmd.OutOrStdout(), world, b, opt.asJSON); err != nil {
			return err
		}
		if err := connectionsAtOnce(cmd.Context(), cmd.OutOrStdout(), world, connections, opt.asJSON); err != nil {
			return err
		}
		if err := servedDemo(cmd.Context(), cmd.OutOrStdout(), world, connections, opt.asJSON); err != nil {
			return err
		}
		if err := byHand(cmd.Context(), cmd.OutOrStdout(), world, opt.asJSON); err != nil {
			return err
		}
		return drawDemo(cmd.Context(), cmd.OutOrStdout(), world, connections, b,
			cmp.Or(opt.drawings, filepath.Join(world.Dir, "drawings")), opt.asJSON)
	}
	connections.Connect(b)
	if err := b.Save(); err != nil {
		return err
	}
	set, err := loader.Known(filepath.Join(world.Dir, "own"))
	if err != nil {
		return err
	}
	shelf, err := demo.NewDiscShelf()
	if err != nil {
		return err
	}
	go shelf.Tend(cmd.Context())
	return ui.Run(cmd.Context(), b, set, ui.Options{ASCII: opt.ascii, Colours: prints.colours(), Rate: demoRate,
		Settings: config.Config{Saves: demoSaves},
		OwnDir:   filepath.Join(world.Dir, "own"), CacheFile: filepath.Join(world.Dir, "seen.sqlite"),
		CoversDir: world.CoverStore(), JournalFile: demoJournal(world), Ledger: ledger.Store{Dir: demoLedger},
		Discs: state.DiscAccess{Devices: shelf.Devices, Open: shelf.Open}})
}

// demoJournal is where the demo's runs are written down.
func demoJournal(world demo.World) string { return filepath.Join(world.Dir, "runs.sqlite") }

// fetchForDemo fetches covers from the simulated server, into the demo's own store.
func fetchForDemo(ctx context.Context, out io.Writer, world demo.World, b *bench.Bench, asJSON bool) error {
	set, err := loader.Shipped()
	if err != nil {
		return err
	}
	store, err := cover.OpenStore(world.CoverStore())
	if err != nil {
		return err
	}
	defer store.Close()
	f := cover.NewFinder(b, set, store)
	o := scan.For(b, set, nil)
	o.Covers = f
	r, err := scan.Scan(ctx, b.SourcePaths(), o)
	if err != nil {
		return errStopped
	}
	all := make([]int, len(r.Titles))
	for i := range all {
		all[i] = i
	}
	needs := append(cover.Needs(r.Titles, all, cover.Shown(b, set)), f.About(r.Titles, all)...)
	got := f.Fetch(ctx, r.Titles, needs, cover.FetchOptions{})
	if asJSON {
		return (&filling{out: out}).object(map[string]any{"covers": got})
	}
	fmt.Fprintf(out, "The simulated picture server sent %d, %s. %s\n", got.Fetched, size.Format(got.Bytes), got.Say())
	for _, o := range got.Outcomes {
		if o.State == cover.Refused || o.State == cover.Missing && o.Say != "" {
			fmt.Fprintf(out, "  %s, %s: %s\n", o.Label, o.Of, o.Say)
		}
	}
	fmt.Fprintln(out)
	return nil
}

// runDemo goes from the games to the check, and holds the check against the
// simulator.
func runDemo(ctx context.Context, out io.Writer, world demo.World, b *bench.Bench, asJSON bool) error {
	all, r, err := (&work{picked: -1, covers: world.CoverStore()}).surveys(ctx, b)
	if err != nil {
		return err
	}
	s := all[0]
	f := &filling{out: out, asJSON: asJSON, bench: b, progress: autoProgress(), journal: demoJournal(world)}
	if asJSON {
		if err := f.object(map[string]any{"scan": r}); err != nil {
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
	audit, err := s.Check(ctx, "")
	if err != nil {
		return err
	}
	listing, err := sim.Loaders[s.Profile.Name].List(os.DirFS(world.Stick))
	if err != nil {
		return err
	}
	if err := agree(audit, listing); err != nil {
		return err
	}
	if asJSON {
		return f.object(map[string]any{"simulate": listing})
	}
	fmt.Fprintf(out, "\nThe simulator for %s lists the same %s, in the same order.\n", s.Profile.Shown,
		size.Count(len(listing.Games), "title"))
	return nil
}

// agree holds what the check promises against what a simulated loader lists.
func agree(audit *check.Report, listing *sim.Listing) error {
	if len(audit.Listed) != len(listing.Games) {
		return fmt.Errorf("the check promises %d titles, but the simulator lists %d", len(audit.Listed),
			len(listing.Games))
	}
	for i, l := range audit.Listed {
		if g := listing.Games[i]; g.Path != l.Path || g.Title != l.Name || g.Starts != l.Starts {
			return fmt.Errorf("line %d: the check promises %s (%s), but the simulator lists %s (%s) %s", i+1, l.Name,
				l.Path, g.Title, g.Path, g.Why)
		}
	}
	return nil
}

// A viaRow is a line of the table that the demo ends with.
type viaRow struct {
	Target string        `json:"target"`
	Via    string        `json:"via"`
	Files  int           `json:"files"`
	Bytes  int64         `json:"bytes"`
	Took   time.Duration `json:"took"`
	Verify run.Verify    `json:"verify"`
	Lists  int           `json:"lists"`  // titles that the check promises
	Agrees bool          `json:"agrees"` // the simulator lists the same
}

// connectionsAtOnce fills a drive image, a console over FTP, a share over SMB and a console's own disk over NBD at the
// same time, checks them, and holds the checks against the simulators.
func connectionsAtOnce(ctx context.Context, out io.Writer, world demo.World, connections *demo.Connections,
	asJSON bool) error {
	b, err := connections.Each()
	if err != nil {
		return err
	}
	all, _, err := (&work{picked: -1}).surveys(ctx, b)
	if err != nil {
		return err
	}
	f := &filling{out: io.Discard, asJSON: asJSON, bench: b, progress: autoProgress(), journal: demoJournal(world)}
	if _, err := f.fill(ctx, all); err != nil {
		return err
	}
	// restart after new games
	if err := sim.Consoles["corvane"].Start(filepath.Dir(world.CorvaneVolume())); err != nil {
		return err
	}
	var rows []viaRow
	for n, s := range all {
		r := f.lanes[n].report
		audit, err := s.Check(ctx, "")
		if err != nil {
			return err
		}
		listed, err := listedBy(ctx, s, world)
		if err != nil {
			return err
		}
		rows = append(rows, viaRow{s.Config.Name, s.Config.Via, r.Put, r.Bytes, r.Elapsed, r.Verify, len(audit.Listed),
			listed == len(audit.Listed)})
	}
	if asJSON {
		return (&filling{out: out}).object(map[string]any{"connections": rows, "note": connections.Note})
	}
	fmt.Fprintf(out, "\nFour connections at once:\n  %-15s %-5s %6s  %11s  %9s  %-20s %s\n", "target", "via", "files",
		"bytes", "time", "checked", "its loader lists")
	for _, r := range rows {
		says := "and the simulator agrees"
		if !r.Agrees {
			says = "but the simulator disagrees"
		}
		fmt.Fprintf(out, "  %-15s %-5s %6d  %11s  %9s  %-20s %d titles, %s\n", r.Target, r.Via, r.Files,
			size.Format(r.Bytes), r.Took.Round(10*time.Millisecond), r.Verify.Words(), r.Lists, says)
	}
	if connections.Note != "" {
		fmt.Fprintln(out, connections.Note)
	}
	for _, r := range rows {
		if !r.Agrees {
			return fmt.Errorf("on %s, check and simulator disagree", r.Target)
		}
	}
	return nil
}

// byHand checks a stick that someone filled by hand, fixes a copy of it, and holds both checks against the simulators.
func byHand(ctx context.Context, out io.Writer, world demo.World, asJSON bool) (err error) {
	dir, err := os.MkdirTemp(world.Dir, "fixed-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	if err := os.CopyFS(dir, os.DirFS(world.Pocket())); err != nil {
		return fmt.Errorf("copying the stick that was filled by hand: %w", err)
	}
	set, err := loader.Shipped()
	if err != nil {
		return err
	}
	b := bench.New("")
	b.Targets = []bench.Target{{Name: "Hall pocket", At: dir, Loader: "bellows", Also: []string{"mica"}, Via: "usb",
		As: "fat32", Capacity: bench.Size(28 * size.GiB)}}
	look := func() (*survey.Survey, *check.Report, error) {
		s, err := survey.Take(ctx, b, 0, nil, survey.Options{Set: set, Vault: keptSaves()})
		if err != nil {
			return nil, nil, err
		}
		r, err := s.Check(ctx, check.Inside)
		if err != nil {
			return nil, nil, err
		}
		return s, r, agreeAll(s, r, os.DirFS(dir))
	}
	s, before, err := look()
	if err != nil {
		return err
	}
	b.Targets[0].Fix(before.Fixes()...)
	if err := s.Rejudge(ctx, b, 0); err != nil {
		return err
	}
	to, err := s.Open(ctx)
	if err != nil {
		return err
	}
	report := run.Run(ctx, s.Plan(), to, run.Options{}, func(run.Event) {})
	if err := to.Close(); err != nil {
		return err
	}
	if len(report.Failed) > 0 {
		return fmt.Errorf("fixing %s: %s", report.Failed[0].Path, report.Failed[0].Say)
	}
	_, after, err := look()
	if err != nil {
		return err
	}
	if asJSON {
		return (&filling{out: out}).object(map[string]any{"by-hand": before, "fixed": after})
	}
	fmt.Fprintf(out, "\nA stick that was filled by hand:\n")
	printCheck(out, s.Shown(), before)
	fmt.Fprintf(out, "\nA copy of it, after %s:\n", size.Count(report.Done, "step"))
	printCheck(out, s.Shown(), after)
	fmt.Fprintln(out, "The simulators list and start the same titles, before and after.")
	return nil
}

// agreeAll holds a check against the simulators of all loaders of a target, whatever the order.
func agreeAll(s *survey.Survey, r *check.Report, seen fs.FS) error {
	starts := map[string]bool{}
	for _, l := range r.Listed {
		starts[l.Loader+" "+l.Path] = l.Starts
	}
	n := 0
	for _, p := range s.Profiles {
		l, err := sim.Loaders[p.Name].List(sim.Volume{FS: seen, Filesystem: s.Facts.Filesystem.Name})
		if err != nil {
			return err
		}
		for _, g := range l.Games {
			n++
			if does, listed := starts[p.Name+" "+g.Path]; !listed || does != g.Starts {
				return fmt.Errorf("on %s, check and simulator disagree on %s: %s", s.Config.Name, g.Path, g.Why)
			}
		}
	}
	if n != len(r.Listed) {
		return fmt.Errorf("on %s, the check promises %d titles, but the simulators list %d", s.Config.Name,
			len(r.Listed), n)
	}
	return nil
}

// listedBy is how many titles the simulated loaders list on a target.
func listedBy(ctx context.Context, s *survey.Survey, world demo.World) (n int, err error) {
	var seen fs.FS
	switch s.Config.Via {
	case "ftp":
		seen = os.DirFS(world.CorvaneVolume())
	case "smb":
		seen = os.DirFS(world.TanagerShare())
	case "nbd":
		disk, err := os.Open(world.VesperDisk())
		if err != nil {
			return 0, err
		}
		defer disk.Close() // which was read from
		info, err := disk.Stat()
		if err != nil {
			return 0, err
		}
		on, err := sim.ListSlab(disk, info.Size())
		if err != nil {
			return 0, err
		}
		return len(on.Games), nil
	default:
		p, err := s.Open(ctx)
		if err != nil {
			return 0, err
		}
		defer p.Close() // which was read from
		seen = p.(*drive.Target).Volume().FS()
	}
	for _, p := range s.Profiles {
		l, err := sim.Loaders[p.Name].List(seen)
		if err != nil {
			return 0, err
		}
		n += len(l.Games)
	}
	return n, nil
}
