package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/adrg/xdg"
	"github.com/spf13/cobra"

	"polytome/internal/core/serve"
	"polytome/internal/size"
)

// statusDir is where those that serve answer how they are.
func statusDir() string { return filepath.Join(xdg.RuntimeDir, "polytome") }

// listenForStatus answers everybody who connects with how it is served now.
func listenForStatus(s *serve.Server) (io.Closer, error) {
	dir := statusDir()
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	file := filepath.Join(dir, fmt.Sprintf("serve-%d.sock", os.Getpid()))
	_ = os.Remove(file) // of an earlier program that had the number
	l, err := net.Listen("unix", file)
	if err != nil {
		return nil, fmt.Errorf("answering how it is served: %w", err)
	}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			_ = conn.SetDeadline(time.Now().Add(statusPatience))
			_ = json.NewEncoder(conn).Encode(s.Status())
			_ = conn.Close()
		}
	}()
	return l, nil
}

const statusPatience = 5 * time.Second

func serveStatusCommand() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use:   "status",
		Short: "Show what is served on this computer: who plays what, how fast, and what is wrong",
		Long: `Status shows each export that is served on this computer now: who is connected and plays what, how fast
games are read, which of them cannot be read, and which reads were slow, with the reason. The exit
status is 1 if nothing is served, and 3 if a game that is served cannot be read.`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return serveStatus(cmd.Context(), cmd.OutOrStdout(), asJSON)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func serveStatus(ctx context.Context, out io.Writer, asJSON bool) error {
	found, err := filepath.Glob(filepath.Join(statusDir(), "serve-*.sock"))
	if err != nil {
		return err
	}
	slices.Sort(found)
	all := []serve.Status{}
	for _, file := range found {
		if st, err := askStatus(ctx, file); err == nil {
			all = append(all, *st)
		}
	}
	if asJSON {
		if err := printJSON(out, all); err != nil {
			return err
		}
	}
	if len(all) == 0 {
		return errors.New("nothing is served on this computer by you")
	}
	wrong := false
	for i := range all {
		wrong = wrong || len(all[i].Failing) > 0
		if !asJSON {
			printStatus(out, &all[i])
		}
	}
	if wrong {
		return errPartial
	}
	return nil
}

func askStatus(ctx context.Context, file string) (*serve.Status, error) {
	d := net.Dialer{Timeout: statusPatience}
	conn, err := d.DialContext(ctx, "unix", file)
	if err != nil {
		return nil, err
	}
	defer conn.Close() // which was read from
	_ = conn.SetDeadline(time.Now().Add(statusPatience))
	st := &serve.Status{}
	return st, json.NewDecoder(conn).Decode(st)
}

// printedSlow is how many slow reads are shown.
const printedSlow = 5

func printStatus(out io.Writer, st *serve.Status) {
	fmt.Fprintf(out, "%s at nbd://%s/%s, for %s: %s read, %s a second\n", st.Name, st.At, st.Name,
		ago(st.Since), size.Format(st.Bytes), size.Format(int64(st.Speed)))
	if len(st.Clients) == 0 {
		fmt.Fprintln(out, "  nobody is connected")
	}
	for i := range st.Clients {
		c := &st.Clients[i]
		plays := "has read no game yet"
		if c.Plays != "" {
			plays = "plays " + c.Plays
		}
		fmt.Fprintf(out, "  %s %s; connected for %s, %s read", c.From, plays, ago(c.Since), size.Format(c.Bytes))
		if c.Slow > 0 {
			fmt.Fprintf(out, ", %s of %d", size.Count(c.Slow, "slow read"), c.Reads)
		}
		fmt.Fprintln(out)
	}
	for _, f := range st.Failing {
		fmt.Fprintf(out, "  cannot be read: %s: %s\n", f.Path, f.Say)
	}
	for _, r := range st.Slow[:min(len(st.Slow), printedSlow)] {
		fmt.Fprintf(out, "  slow at %s: %s, %s of %s for %s: %s\n", r.At.Local().Format(time.TimeOnly),
			r.Took.Round(time.Millisecond), size.Format(int64(r.Bytes)), shownPath(r.Path), r.From, r.Why)
	}
}

func shownPath(path string) string {
	if path == "" {
		return "folders"
	}
	return path
}

func ago(t time.Time) string { return time.Since(t).Round(time.Second).String() }

// printUnit prints a unit that serves as this command does.
func (s *serveOptions) printUnit(out io.Writer, args []string) error {
	if s.w.bench == "" && (len(s.w.from) == 0 || s.w.loader == "") {
		return usageError{errors.New("give --from DIR and --loader NAME, or --bench FILE")}
	}
	line := []string{quoted(executable())}
	for i, arg := range args[1:] {
		if arg == "--unit" || arg == "--unit=true" {
			continue
		}
		line = append(line, quoted(absoluteArgument(args[i], arg)))
	}
	_, err := fmt.Fprintf(out, `[Unit]
Description=Games for a console over the network
After=network-online.target
Wants=network-online.target

[Service]
Type=notify
ExecStart=%s
Restart=on-failure
RestartSec=5
# serve keeps the computer awake while somebody is connected, and has to be asked to end
KillSignal=SIGTERM

[Install]
WantedBy=default.target
`, strings.Join(line, " "))
	return err
}

// absoluteArgument is an argument with a path in it as it holds in another folder.
func absoluteArgument(before, arg string) string {
	flag, value, with := strings.Cut(arg, "=")
	path := func(p string) string {
		if abs, err := filepath.Abs(p); err == nil {
			return abs
		}
		return p
	}
	paths := []string{"--bench", "--from", "--covers"}
	isFile := func(flag, value string) bool {
		return slices.Contains(paths, flag) || flag == "--loader" && strings.HasSuffix(value, ".toml")
	}
	switch {
	case with && isFile(flag, value):
		return flag + "=" + path(value)
	case isFile(before, arg):
		return path(arg)
	}
	return arg
}
