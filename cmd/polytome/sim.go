package main

import (
	"bufio"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"polytome/internal/nearest"
	"polytome/internal/sim"
	"polytome/internal/sim/ftpd"
	"polytome/internal/sim/optical"
	"polytome/internal/sim/samba"
	"polytome/internal/size"
)

// simulatorOptions are the flags of simulate.
type simulatorOptions struct {
	asJSON     bool
	dir, space string
	disk       string
	image, at  string
	trace      bool
	play       string
	stick      string
	pieces     int
	pause      time.Duration
	port       int
	faults     faultFlags
}

func simulatorCommand() *cobra.Command {
	var opt simulatorOptions
	consoles := slices.Sorted(maps.Keys(sim.Consoles))
	names := make([]string, 0, len(sim.Loaders))
	for n := range sim.Loaders {
		names = append(names, n)
	}
	slices.Sort(names)
	cmd := &cobra.Command{
		Use:   "simulate LOADER FOLDER | CONSOLE --dir FOLDER | drive --image FILE",
		Short: "Run a simulated loader on a filled folder, or a simulated console",
		Long: `A simulated loader reads a filled folder as the console would, and
knows nothing of Polytome's own rules: it is there to test them. Loaders: ` + strings.Join(names, ", ") + `.

With --dir it is a simulated console that serves the folder on this computer until you stop it: with the habits of its
FTP server and faults that you can switch on, or as a share, which needs Samba. When it starts, and when enter
is pressed, it creates the folders that the console creates; enter also prints what it lists.
Consoles: ` + strings.Join(consoles, ", ") + `.

With --disk the Vesper is in its workshop menu, and exports its own disk, a slab disk in an image file, over the network
to one client at a time. When that leaves, it prints what it lists.

With --play the Vesper mounts a network disk that is served at an address, lists what stands in the list on its stick,
and reads one title after another as a game that is played does. It prints what it lists and how quick the answers
were; the exit status is 3 if a title does not start, or stops.

With drive it is a simulated disc drive with an image or a cue sheet in its tray, for polytome disc and the screen. What
is wrong with the disc stands behind a number sign: ` + strings.Join(strings.Fields(optical.Words), " ") + `.`,
		Example: `  polytome simulate rowan ./north-stick
  polytome simulate corvane --dir ./corvane-disk --port 2121 --capacity 4800MB --drop-after 20MiB
  polytome simulate tanager --dir ./share --port 4450
  polytome simulate vesper --disk vesper.img --drop-after 20MiB
  polytome simulate drive --image game.iso#hard=3000+3 --at ./drive
  polytome simulate vesper --play nbd://192.168.77.1/rowan --stick ./vesper-stick`,
		Args: needArgs(1, "the name of a loader and a folder, or of a console and --dir"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if args[0] == "drive" {
				return serveDrive(cmd, &opt)
			}
			if opt.play != "" {
				return playNetworkDisk(cmd, args[0], &opt)
			}
			if opt.disk != "" {
				return serveWorkshop(cmd, args[0], &opt)
			}
			if opt.dir != "" {
				return serveConsole(cmd, args[0], opt.dir, opt.space, opt.port, opt.faults)
			}
			if len(args) < 2 {
				return usageError{errors.New("a folder to read is needed, or --dir for the one that a console serves")}
			}
			l, ok := sim.Loaders[args[0]]
			if !ok {
				return usageError{nearest.Unknown("loader", args[0], names)}
			}
			listing, err := l.List(os.DirFS(args[1]))
			if err != nil {
				return fmt.Errorf("reading %s: %w", args[1], err)
			}
			if opt.asJSON {
				return printJSON(cmd.OutOrStdout(), listing)
			}
			for _, g := range listing.Games {
				why := ""
				if !g.Starts {
					why = "   does not start: " + g.Why
				}
				fmt.Fprintf(cmd.OutOrStdout(), "%-10s %s%s\n", g.ID, g.Title, why)
			}
			for _, p := range listing.Passed {
				fmt.Fprintf(cmd.OutOrStdout(), "skipped: %s: %s\n", p.Path, p.Why)
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&opt.asJSON, "json", false, "print JSON")
	cmd.Flags().StringVar(&opt.play, "play", "", "the address of a network disk that is played from")
	cmd.Flags().StringVar(&opt.stick, "stick", "", "with --play: the folder that stands for the console's own stick")
	cmd.Flags().IntVar(&opt.pieces, "pieces", 500, "with --play: how many pieces of each title are read")
	cmd.Flags().DurationVar(&opt.pause, "pause", 5*time.Millisecond, "with --play: the time between two of them")
	cmd.Flags().StringVar(&opt.dir, "dir", "", "the folder that the console serves")
	cmd.Flags().StringVar(&opt.image, "image", "", "with drive: what lies in the tray")
	cmd.Flags().StringVar(&opt.at, "at", "",
		"with drive: the socket to be found at (default: one in a folder of its own)")
	cmd.Flags().BoolVar(&opt.trace, "trace", false, "with drive: print every command that it gets")
	cmd.Flags().StringVar(&opt.disk, "disk", "", "the image of the Vesper's own disk")
	cmd.Flags().IntVar(&opt.port, "port", 0, "the port to listen on (default: a free one)")
	cmd.Flags().StringVar(&opt.space, "capacity", "", "capacity, such as 4800MB (default: unlimited)")
	opt.faults.flags(cmd)
	return cmd
}

// serveConsole is a simulated console until it is stopped.
func serveConsole(cmd *cobra.Command, name, dir, space string, port int, faults faultFlags) error {
	c, ok := sim.Consoles[name]
	if !ok {
		return usageError{nearest.Unknown("console", name, slices.Sorted(maps.Keys(sim.Consoles)))}
	}
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		return usageError{fmt.Errorf("--dir: there is no folder %s", dir)}
	}
	n := int64(0)
	if space != "" {
		var err error
		if n, err = size.Parse(space); err != nil {
			return usageError{fmt.Errorf("--capacity: %w", err)}
		}
	}
	if c.Share != "" {
		return serveShare(cmd, name, c, dir, port)
	}
	s, err := c.Serve(dir, port, n)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := faults.set(&s.Faults); err != nil {
		return err
	}
	who := "anybody"
	if c.Habits.User != "" {
		who = c.Habits.User
	}
	fmt.Fprintf(cmd.OutOrStdout(),
		"The simulated console %s serves %s at ftp://127.0.0.1:%d/ for %s; ctrl+c stops it.\n", name, dir, s.Port(),
		who)
	return waitAndRescan(cmd, c, dir)
}

// serveShare is a console whose disk is a share: Samba shows the folder, where it is installed.
func serveShare(cmd *cobra.Command, name string, c sim.Console, dir string, port int) error {
	if err := c.Start(dir); err != nil {
		return err
	}
	s, err := samba.Serve(cmd.Context(), c.Share, dir, samba.Options{Port: port})
	if errors.Is(err, samba.ErrNotInstalled) {
		fmt.Fprintf(cmd.OutOrStdout(),
			"Samba is not installed, so the share of %s is the folder %s itself; ctrl+c stops it.\n", name, dir)
		return waitAndRescan(cmd, c, dir)
	}
	if err != nil {
		return err
	}
	defer s.Close()
	fmt.Fprintf(cmd.OutOrStdout(),
		"The simulated console %s shares %s at smb://127.0.0.1:%d/%s to guests; ctrl+c stops it.\n", name, dir, s.Port,
		c.Share)
	return waitAndRescan(cmd, c, dir)
}

// waitAndRescan waits until the command is stopped. Enter switches the console off and on: it makes its folders, and
// reports what it lists.
func waitAndRescan(cmd *cobra.Command, c sim.Console, dir string) error {
	fmt.Fprintln(cmd.OutOrStdout(), "Enter restarts the console and has it rescan its disk.")
	lines := make(chan struct{})
	go func() {
		in := bufio.NewScanner(cmd.InOrStdin())
		for in.Scan() {
			select {
			case lines <- struct{}{}:
			case <-cmd.Context().Done():
				return
			}
		}
	}()
	for {
		select {
		case <-cmd.Context().Done():
			return nil
		case <-lines:
		}
		if err := c.Start(dir); err != nil {
			return err
		}
		all, err := c.Rescan(dir)
		if err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "It lists %s.\n", size.Count(len(all), "title"))
		for _, l := range all {
			fmt.Fprintf(cmd.OutOrStdout(), "  %s\n", l)
		}
	}
}

// faultFlags are faults of a simulated console that are switched on.
type faultFlags struct {
	dropAfter string
	refuse    int
	corrupt   bool
	stall     bool
}

func (f *faultFlags) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.dropAfter, "drop-after", "",
		"cut all connections once after this many bytes, such as 20MiB")
	cmd.Flags().IntVar(&f.refuse, "refuse-every", 0, "refuse one in this many commands")
	cmd.Flags().BoolVar(&f.corrupt, "corrupt", false, "corrupt one byte read, once")
	cmd.Flags().BoolVar(&f.stall, "stall", false, "stop answering")
}

func (f *faultFlags) set(to *ftpd.Faults) error {
	if f.dropAfter != "" {
		n, err := size.Parse(f.dropAfter)
		if err != nil {
			return usageError{fmt.Errorf("--drop-after: %w", err)}
		}
		to.DropAfter.Store(n)
	}
	to.RefuseEvery.Store(int64(f.refuse))
	to.Corrupt.Store(f.corrupt)
	to.Stall.Store(f.stall)
	return nil
}
