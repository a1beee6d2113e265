package main

import (
	"bufio"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	sim "polytome/internal/sim/optical"
)

// commandNames are the names of a drive's commands, by their first byte.
var commandNames = map[byte]string{0x00: "TEST UNIT READY", 0x12: "INQUIRY", 0x1B: "START STOP UNIT",
	0x1E: "PREVENT ALLOW MEDIUM REMOVAL", 0x25: "READ CAPACITY", 0x28: "READ(10)", 0x2A: "WRITE(10)",
	0x35: "SYNCHRONIZE CACHE", 0x43: "READ TOC/PMA/ATIP", 0x46: "GET CONFIGURATION", 0x51: "READ DISC INFORMATION",
	0x52: "READ TRACK INFORMATION", 0x53: "RESERVE TRACK", 0x54: "SEND OPC INFORMATION", 0x55: "MODE SELECT(10)",
	0x5A: "MODE SENSE(10)", 0x5B: "CLOSE TRACK/SESSION", 0x5C: "READ BUFFER CAPACITY", 0xA8: "READ(12)",
	0xAA: "WRITE(12)", 0xAC: "GET PERFORMANCE", 0xB6: "SET STREAMING", 0xBB: "SET CD SPEED", 0xBE: "READ CD"}

// serveDrive is a simulated disc drive until it is stopped.
func serveDrive(cmd *cobra.Command, opt *simulatorOptions) error {
	if opt.image == "" {
		return usageError{errors.New("say what lies in the tray: simulate drive --image FILE, an image, " +
			"a cue sheet, or one to be burnt, FILE#blank=dvd-r")}
	}
	m, done, err := sim.FromAddress(opt.image)
	if err != nil {
		return err
	}
	defer done()
	at := opt.at
	if at == "" {
		dir, err := os.MkdirTemp("", "polytome-drive-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(dir)
		at = filepath.Join(dir, "drive")
	}
	l, err := net.Listen("unix", at)
	if err != nil {
		return err
	}
	out := cmd.OutOrStdout()
	fmt.Fprintf(out, `A simulated disc drive is at %s
Try, in another terminal: polytome disc info %s
Here: open, shut, put FILE, trace, and ctrl+c to end.
`, at, at)
	var mu sync.Mutex // guards what follows, and what is printed
	counted, trace := map[byte]int{}, opt.trace
	heard := func(cdb []byte) {
		mu.Lock()
		defer mu.Unlock()
		counted[cdb[0]]++
		if trace {
			fmt.Fprintf(out, "%-28s % X\n", commandNames[cdb[0]], cdb)
		}
	}
	go func() {
		lines := bufio.NewScanner(cmd.InOrStdin())
		for lines.Scan() {
			word, rest, _ := strings.Cut(strings.TrimSpace(lines.Text()), " ")
			mu.Lock()
			switch word {
			case "open":
				m.Pull()
			case "shut":
				m.Put(m.Disc())
			case "put":
				other, _, err := sim.FromAddress(strings.TrimSpace(rest)) // it stays open until the program ends
				if err != nil {
					fmt.Fprintln(out, err)
				} else {
					m.Put(other.Disc())
				}
			case "trace":
				trace = !trace
			case "":
			default:
				fmt.Fprintln(out, "known are: open, shut, put FILE, trace")
			}
			mu.Unlock()
		}
	}()
	err = m.Serve(cmd.Context(), l, heard)
	n := 0
	mu.Lock()
	defer mu.Unlock()
	for _, k := range counted {
		n += k
	}
	fmt.Fprintf(out, "%d commands were answered.\n", n)
	return err
}
