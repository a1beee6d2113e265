package main

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/charmbracelet/colorprofile"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"polytome/internal/core/bench"
	"polytome/internal/core/journal"
	"polytome/internal/core/loader"
	"polytome/internal/core/scancache"
	"polytome/internal/drives"
	"polytome/internal/secret"
	"polytome/internal/size"
)

// A diagnosis is what of this computer was looked at, and how it is.
type diagnosis struct {
	What string `json:"what"`
	OK   bool   `json:"ok"`
	Say  string `json:"say"`
	Do   string `json:"do,omitempty"` // what to do about it
}

func doctorCommand() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use:   "doctor",
		Short: "Look whether everything on this computer is as Polytome needs it, and what to do where it is not",
		Long: `Doctor looks at the terminal, the folders in which things are kept, your own loaders, the drives and who
may write to them, and the keyring. It says what works and, where something does not, what to do. Nothing
is changed. The exit status is 3 where something needs you.`,
		Example: `  polytome doctor
  polytome doctor --json`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			all := diagnose(cmd.Context())
			good := true
			for _, d := range all {
				good = good && d.OK
			}
			if asJSON {
				if err := printJSON(cmd.OutOrStdout(), all); err != nil {
					return err
				}
			} else {
				for _, d := range all {
					word := "ok"
					if !d.OK {
						word = "PROBLEM"
					}
					fmt.Fprintf(cmd.OutOrStdout(), "%-8s %-12s %s\n", word, d.What, clean(d.Say))
					if d.Do != "" {
						fmt.Fprintf(cmd.OutOrStdout(), "%22s-> %s\n", "", clean(d.Do))
					}
				}
			}
			if !good {
				return errPartial
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func diagnose(ctx context.Context) []diagnosis {
	out := []diagnosis{{"program", true, fmt.Sprintf("Polytome %s, %s on %s", version(), runtime.GOOS,
		runtime.GOARCH), ""},
		terminalHealth()}
	for _, x := range []struct{ what, dir, holds string }{
		{"bench", filepath.Dir(ownBench()), "your own bench"}, {"settings", configDir(), "your own loaders"},
		{"state", filepath.Dir(stateDir()), "past runs, the log, and copies of benches"},
		{"cache", filepath.Dir(cacheFile()), "what scans and covers remember"},
	} {
		out = append(out, folderHealth(x.what, x.dir, x.holds))
	}
	return append(out, storesHealth(), loadersHealth(), drivesHealth(ctx), keyringHealth())
}

// terminalHealth is whether the full screen can be shown.
func terminalHealth() diagnosis {
	d := diagnosis{What: "terminal", OK: true}
	fd := int(os.Stdout.Fd())
	if !term.IsTerminal(fd) {
		d.Say = "the output is no terminal: commands work, the full screen does not"
		return d
	}
	w, h, err := term.GetSize(fd)
	if err != nil {
		d.OK, d.Say = false, fmt.Sprintf("its size is unknown: %v", err)
		return d
	}
	d.Say = fmt.Sprintf("%d x %d, colours: %s", w, h, colorprofile.Detect(os.Stdout, os.Environ()))
	locale := cmp.Or(os.Getenv("LC_ALL"), os.Getenv("LC_CTYPE"), os.Getenv("LANG"))
	switch {
	case w < 80 || h < 24:
		d.OK, d.Do = false, "make the window at least 80 x 24"
	case runtime.GOOS != "windows" && !strings.Contains(strings.ToLower(strings.ReplaceAll(locale, "-", "")), "utf8"):
		d.Do = "lines and blocks may look wrong, as no UTF-8 is set: LC_ALL=C.UTF-8, or polytome --ascii"
	}
	return d
}

// folderHealth is whether something can be kept in a folder. It is not made where it is not there yet.
func folderHealth(what, dir, holds string) diagnosis {
	d := diagnosis{What: what, OK: true, Say: dir + ": " + holds}
	at := dir
	for {
		if _, err := os.Stat(at); err == nil || at == filepath.Dir(at) {
			break
		}
		at = filepath.Dir(at)
	}
	f, err := os.CreateTemp(at, ".polytome-")
	if err != nil {
		d.OK, d.Say, d.Do = false, fmt.Sprintf("%s cannot be written to: %v", dir, err),
			"fix its permissions, or set another place with the XDG_ variables"
		return d
	}
	_ = f.Close()
	_ = os.Remove(f.Name())
	return d
}

// storesHealth is whether what is kept there can be read.
func storesHealth() diagnosis {
	d := diagnosis{What: "kept", OK: true}
	var say []string
	if _, err := os.Stat(cacheFile()); err == nil {
		store, err := scancache.Open(cacheFile())
		if err != nil {
			return diagnosis{"kept", false, fmt.Sprintf("the cache cannot be read: %v", err),
				"remove it: it is made again"}
		}
		_ = store.Close()
		say = append(say, "the cache is fine")
	}
	if _, err := os.Stat(journalFile()); err == nil {
		j, err := journal.Open(journalFile())
		if err != nil {
			return diagnosis{"kept", false, fmt.Sprintf("past runs cannot be read: %v", err),
				"move " + journalFile() + " away: a new record is begun"}
		}
		_ = j.Close()
		say = append(say, "past runs can be read")
	}
	if _, err := os.Stat(ownBench()); err == nil {
		if _, err := bench.Load(ownBench()); err != nil {
			return diagnosis{"kept", false, err.Error(), "put that line right, or open another one with --bench"}
		}
		say = append(say, "your bench is fine")
	}
	if d.Say = strings.Join(say, ", "); d.Say == "" {
		d.Say = "nothing yet"
	}
	return d
}

func loadersHealth() diagnosis {
	set, err := loader.Known(configDir())
	switch {
	case err != nil:
		return diagnosis{"loaders", false, err.Error(), "fix the permissions of " + configDir()}
	case len(set.Broken) > 0:
		return diagnosis{"loaders", false, size.Count(len(set.Broken),
			"file") + " with a mistake: " + set.Broken[0].File,
			"polytome loaders check " + set.Broken[0].File}
	}
	return diagnosis{"loaders", true, size.Count(len(set.Profiles), "loader") + ", " + size.Count(len(set.Platforms),
		"platform"), ""}
}

// drivesHealth is whether drives are seen, and may be written to.
func drivesHealth(ctx context.Context) diagnosis {
	all, err := drives.Here.List(ctx)
	if err != nil {
		return diagnosis{"drives", true, err.Error(), "image files and mounted folders work"}
	}
	var barred []string
	for _, d := range all {
		if d.Refusal() != nil {
			continue
		}
		f, err := os.OpenFile(d.Path, os.O_RDWR, 0)
		if err != nil {
			barred = append(barred, d.Name())
			continue
		}
		_ = f.Close()
	}
	if len(barred) > 0 {
		return diagnosis{"drives", false, strings.Join(barred, ", ") + ": you may not write to it directly",
			"start Polytome with sudo, or add yourself to the group that owns the device, often \"disk\"; " +
				"mounted folders work"}
	}
	return diagnosis{"drives", true, size.Count(len(all), "drive") + " seen", ""}
}

func keyringHealth() diagnosis {
	if err := secret.Keyring(); err != nil {
		return diagnosis{"keyring", true, fmt.Sprintf("none (%v): passwords of servers are asked for at each start",
			err), ""}
	}
	return diagnosis{"keyring", true, "passwords of servers are kept in it", ""}
}
