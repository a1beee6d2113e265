package main

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/adrg/xdg"
	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/serve"
	"polytome/internal/core/survey"
	"polytome/internal/drives"
	"polytome/internal/format/virtual"
	"polytome/internal/nbd"
	"polytome/internal/size"
	"polytome/internal/wholefile"
)

// serving is what the flags of serve say.
type serving struct {
	w                               work
	listen, fs, name, volume, label string
	clients                         []string
	dry                             bool
}

func serveCommand() *cobra.Command {
	s := &serving{}
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Have a console read games over the network: they stay where they are",
		Long: `Serve exports a volume that is nowhere over NBD, an open protocol: folders and tables in memory, and
games read from where they lie when the console reads them. What is on it is what fill would write
to an empty target. It is read-only, stays as it is laid out when games are added, and ends with
ctrl+c.

The computer is kept awake while somebody is connected. A game whose file is away gives an error for
that game alone, and can be read again when it is back.`,
		Example: `  polytome serve --from ~/games --loader rowan --listen 192.168.77.1
  polytome serve --bench season.toml --target 'Hall export' --client 192.168.77.2
  polytome serve --from ~/games --loader rowan --dry-run`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return s.run(cmd) },
	}
	f := cmd.Flags()
	f.StringVar(&s.w.bench, "bench", "", "work on this bench file")
	f.StringVar(&s.w.target, "target", "", "with --bench: serve what is selected for the target of this name")
	f.StringArrayVar(&s.w.from, "from", nil, "folder with games (may be repeated)")
	f.StringVar(&s.w.loader, "loader", "", "loader profile: a name, or a .toml file")
	f.StringVar(&s.listen, "listen", "127.0.0.1",
		"the address of this computer at which to listen, with a port or without")
	f.StringVar(&s.fs, "fs", "", "filesystem of the volume: exfat or fat32 (default: what the loader reads)")
	f.StringVar(&s.name, "export", "", "name of the export (default: what the loader looks for)")
	f.StringVar(&s.volume, "size", "20TiB", "size of the volume; fixed once it was served")
	f.StringVar(&s.label, "label", "GAMES", "label of the volume; fixed once it was served")
	f.StringArrayVar(&s.clients, "client", nil,
		"an address, or a network such as 192.168.77.0/24, that may come (default: all)")
	f.BoolVar(&s.dry, "dry-run", false, "show what would be served, and end")
	f.BoolVar(&s.w.asJSON, "json", false, "with --dry-run: print JSON")
	return cmd
}

func (s *serving) run(cmd *cobra.Command) error {
	ctx, out := cmd.Context(), cmd.OutOrStdout()
	o := serve.Options{Name: s.name, Said: func(say string) {
		fmt.Fprintf(out, "%s  %s\n", time.Now().Format(time.TimeOnly), say)
	}}
	if err := s.options(&o); err != nil {
		return err
	}
	looked, key, err := s.survey(ctx, &o)
	if err != nil {
		return err
	}
	layout := filepath.Join(xdg.StateHome, "polytome", "served", key+".layout")
	e, err := s.export(ctx, o, layout)
	if err != nil {
		return err
	}
	if err := s.show(ctx, e, looked, out, layout); err != nil || s.dry {
		return err
	}
	at := s.listen
	if _, _, err := net.SplitHostPort(at); err != nil {
		at = net.JoinHostPort(at, nbd.Port)
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		return fmt.Errorf("listening at %s: %w", at, err)
	}
	fmt.Fprintf(out, "Serving at nbd://%s/%s; ctrl+c ends it.\n", l.Addr(), o.Name)
	return e.Serve(ctx, l)
}

func (s *serving) options(o *serve.Options) (err error) {
	if o.Size, err = size.Parse(s.volume); err != nil {
		return usageError{fmt.Errorf("--size: %w", err)}
	}
	o.Label, o.Serial = s.label, uint32(time.Now().Unix())
	for _, text := range s.clients {
		p, err := netip.ParsePrefix(text)
		if a, bad := netip.ParseAddr(text); bad == nil {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		if err != nil {
			return usageError{fmt.Errorf("--client: %q is no address and no network", text)}
		}
		o.Clients = append(o.Clients, p)
	}
	return nil
}

// survey judges the games for an empty volume like the one that is served. The key tells this export from others.
func (s *serving) survey(ctx context.Context, o *serve.Options) (v *survey.Survey, key string, err error) {
	if s.w.bench == "" && (len(s.w.from) == 0 || s.w.loader == "") {
		return nil, "", usageError{errors.New("give --from DIR and --loader NAME, or --bench FILE")}
	}
	empty, err := os.MkdirTemp("", "polytome-served-")
	if err != nil {
		return nil, "", err
	}
	defer func() { err = errors.Join(err, os.Remove(empty)) }()
	if s.w.bench == "" {
		s.w.to = empty
	}
	b, err := s.w.open(true)
	if err != nil {
		return nil, "", err
	}
	n := max(0, s.w.picked)
	c := b.Targets[n]
	from := []string{}
	for _, dir := range append([]string{s.w.bench}, s.w.from...) {
		if dir != "" {
			dir, _ = filepath.Abs(dir) // without a working folder it is another key
		}
		from = append(from, dir)
	}
	key = fmt.Sprintf("%q %s %s %s %s", from, s.w.target, s.w.loader, s.fs, s.volume)
	sum := sha256.Sum256([]byte(key))
	set, err := known()
	if err != nil {
		return nil, "", err
	}
	p, err := set.Profile(c.Loader)
	if err != nil {
		return nil, "", err
	}
	at := p.NetworkDisk(s.fs)
	if at == nil {
		return nil, "", usageError{fmt.Errorf("%s reads no volume over the network%s", p.Shown, map[bool]string{
			true: " with " + s.fs}[s.fs != ""])}
	}
	if o.Filesystem = s.fs; s.fs == "" {
		o.Filesystem = at.DefaultFilesystem()
	}
	if o.Name == "" {
		o.Name = at.Server.Export
	}
	o.Cluster = clusterOf(o.Size)
	o.Passwords = b.Passwords
	c.At, c.Via, c.As, c.Capacity, c.Cluster = empty, at.Via, o.Filesystem, bench.Size(o.Size), bench.Size(o.Cluster)
	b.Targets = []bench.Target{c}
	s.w.picked = -1
	all, _, err := s.w.surveys(ctx, b)
	if err != nil {
		return nil, "", err
	}
	return all[0], hex.EncodeToString(sum[:8]), nil
}

// clusterOf is the size of clusters for a volume: large ones, as the tables are in memory.
func clusterOf(volume int64) int64 {
	cluster := int64(32 * size.KiB)
	for volume/cluster > 1<<24 {
		cluster *= 2
	}
	return cluster
}

// export makes the export, or takes up the layout that it had before.
func (s *serving) export(ctx context.Context, o serve.Options, layout string) (*serve.Export, error) {
	f, err := os.Open(layout)
	if errors.Is(err, os.ErrNotExist) {
		return serve.New(ctx, o, nil)
	}
	if err != nil {
		return nil, err
	}
	defer f.Close() // which was read from
	e, err := serve.New(ctx, o, f)
	if err != nil { // it is made again: a console reads it again then
		fmt.Fprintf(stderr(), "polytome: %v: it is laid out again\n", err)
		return serve.New(ctx, o, nil)
	}
	return e, nil
}

// show has the export show the games, and keeps how it is laid out.
func (s *serving) show(ctx context.Context, e *serve.Export, looked *survey.Survey, out io.Writer,
	layout string) error {
	p := looked.Plan()
	err := e.Show(ctx, p)
	var refused *virtual.ChangeError
	if err != nil && !errors.As(err, &refused) {
		return err
	}
	info := e.Volume().Info()
	if s.w.asJSON && s.dry {
		return errors.Join(printJSON(out, map[string]any{"volume": info, "plan": p}), err)
	}
	titles := looked.Sheet.Count
	fmt.Fprintf(out, "%s: %s on a volume with %s of %s\n", looked.Profile.Shown, size.Count(titles, "title"),
		drives.FilesystemShown(info.Filesystem), size.Format(info.Size))
	printLeft(out, p.Left)
	if err != nil {
		for line := range strings.SplitSeq(err.Error(), "\n") {
			fmt.Fprintf(out, "  not served: %s\n", line)
		}
	}
	if s.dry {
		return nil
	}
	var b strings.Builder
	if err := e.Volume().Save(&b); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(layout), 0o700); err != nil {
		return err
	}
	return wholefile.Write(layout, []byte(b.String()), wholefile.Private)
}
