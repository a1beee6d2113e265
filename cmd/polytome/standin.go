package main

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/size"
	"polytome/internal/standin"
	"polytome/internal/standin/ftpd"
)

func standInCommand() *cobra.Command {
	var asJSON bool
	var dir, room string
	var port int
	consoles := slices.Sorted(maps.Keys(standin.Consoles))
	names := make([]string, 0, len(standin.Loaders))
	for n := range standin.Loaders {
		names = append(names, n)
	}
	slices.Sort(names)
	cmd := &cobra.Command{
		Use:   "stand-in LOADER FOLDER | stand-in CONSOLE --dir FOLDER",
		Short: "Show what a simulated loader lists for a filled folder, or be a simulated console",
		Long: `A stand-in is a simulated loader. It reads a filled folder as the console would, and
knows nothing of Polytome's own rules: it is there to check them. There are: ` + strings.Join(names, ", ") + `.

With --dir, it is a simulated console, with the habits of its FTP server, that serves the folder on this computer
until it is stopped. There are: ` + strings.Join(consoles, ", ") + ".",
		Example: `  polytome stand-in rowan ./north-stick
  polytome stand-in corvane --dir ./corvane-disk --port 2121 --room 4800MB`,
		Args: needArgs(1, "the name of a loader and a folder, or of a console and --dir"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if dir != "" {
				return serveConsole(cmd, args[0], dir, room, port)
			}
			if len(args) < 2 {
				return usageError{errors.New("missing: the folder to be looked at, or --dir for the one that a console serves")}
			}
			l, ok := standin.Loaders[args[0]]
			if !ok {
				return usageError{fmt.Errorf("there is no stand-in for the loader %q; there are: %s", args[0], strings.Join(names, ", "))}
			}
			listing, err := l.List(os.DirFS(args[1]))
			if err != nil {
				return fmt.Errorf("reading %s: %w", args[1], err)
			}
			if asJSON {
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
				fmt.Fprintf(cmd.OutOrStdout(), "passed over: %s: %s\n", p.Path, p.Why)
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	cmd.Flags().StringVar(&dir, "dir", "", "the folder that the console serves")
	cmd.Flags().IntVar(&port, "port", 0, "the port at which it serves (default: one that is free)")
	cmd.Flags().StringVar(&room, "room", "", "how much fits, such as 4800MB (default: no end)")
	return cmd
}

// serveConsole is a simulated console until it is stopped.
func serveConsole(cmd *cobra.Command, name, dir, room string, port int) error {
	h, ok := standin.Consoles[name]
	if !ok {
		return usageError{fmt.Errorf("there is no stand-in for the console %q; there are: %s", name, strings.Join(slices.Sorted(maps.Keys(standin.Consoles)), ", "))}
	}
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		return usageError{fmt.Errorf("--dir: there is no folder %s", dir)}
	}
	if room != "" {
		n, err := size.Parse(room)
		if err != nil {
			return usageError{fmt.Errorf("--room: %w", err)}
		}
		h.Room = n
	}
	s, err := ftpd.Serve(dir, port, h)
	if err != nil {
		return err
	}
	defer s.Close()
	who := "anybody"
	if h.User != "" {
		who = h.User
	}
	fmt.Fprintf(cmd.OutOrStdout(), "The stand-in for the console %s serves %s at ftp://127.0.0.1:%d/ for %s; ctrl+c stops it.\n", name, dir, s.Port(), who)
	<-cmd.Context().Done()
	return nil
}
