package main

import (
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"

	"github.com/spf13/cobra"

	"polytome/internal/medium"
	"polytome/internal/sim"
	"polytome/internal/size"
)

// serveWorkshop is a simulated Vesper in its workshop menu until it is stopped.
func serveWorkshop(cmd *cobra.Command, console string, opt *simulatorOptions) error {
	if console != "vesper" {
		return usageError{errors.New("only the vesper exports its disk: simulate vesper --disk FILE")}
	}
	w := &sim.Workshop{}
	if opt.faults.dropAfter != "" {
		n, err := size.Parse(opt.faults.dropAfter)
		if err != nil {
			return usageError{fmt.Errorf("--drop-after: %w", err)}
		}
		w.DropAfter = n
	}
	f, err := os.OpenFile(opt.disk, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	if w.Disk, err = medium.Of(f); err != nil {
		return errors.Join(err, f.Close())
	}
	defer w.Disk.Close() // every change was flushed
	if w.Disk.Device() {
		return fmt.Errorf("%s is a device: the simulated console takes image files only", opt.disk)
	}
	out := cmd.OutOrStdout()
	w.Left = func(d *sim.SlabDisk, err error) {
		if err != nil {
			fmt.Fprintf(out, "The console lists nothing: %v\n", err)
			return
		}
		fmt.Fprintf(out, "The console lists %s:\n", size.Count(len(d.Games), "title"))
		for _, g := range d.Games {
			fmt.Fprintf(out, "  %-12s %s\n", g.ID, g.Name)
		}
	}
	l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(opt.port)))
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "The simulated Vesper exports %s at nbd://%s/%s; ctrl+c stops it.\n", opt.disk, l.Addr(),
		sim.VesperExport)
	return w.Serve(cmd.Context(), l)
}
