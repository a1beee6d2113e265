package main

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/coreos/go-systemd/v22/activation"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"polytome/internal/core/bench"
	"polytome/internal/core/serve"
	"polytome/internal/core/source"
	"polytome/internal/netcards"
	"polytome/internal/size"
	"polytome/internal/target/protocols"
	"polytome/internal/target/served"
)

// serveOptions are the flags of serve.
type serveOptions struct {
	w                               work
	listen, fs, name, volume, label string
	push, limit, writes             string
	clients                         []string
	every                           time.Duration
	dry, once, unit                 bool
}

func serveCommand() *cobra.Command {
	s := &serveOptions{}
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Have a console play games over the network: they stay where they are",
		Long: `Serve exports a volume that is nowhere over NBD, an open protocol: folders and tables in memory, and
games read from where they lie when the console reads them. What is on it is what fill would write.
It is read-only, stays as it is laid out when games come and go, and ends with ctrl+c.

Games that come while it serves are shown, and so is another choice in the bench. Where the loader
reads its list and covers from a stick of the console's own, --push brings them there over FTP, as
does a target of the bench that carries the covers of this one. A new list is only pushed when
titles came or went.

Without --listen, it listens at this computer's end of the console's cable, or at the address from
which the console of --push is reached, and else for this computer alone. Only while somebody is
connected, the computer is kept awake. A game whose file is away gives an error for that game alone,
and can be read again when it is back.`,
		Example: `  polytome serve --from ~/games --loader rowan --listen 192.168.77.1
  polytome serve --bench season.toml --target 'Hall export' --client 192.168.77.2
  polytome serve --from ~/games --loader rowan --push ftp://192.168.77.2/stick
  polytome serve --bench season.toml --unit > ~/.config/systemd/user/games.service
  polytome serve status`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return s.run(cmd) },
	}
	f := cmd.Flags()
	s.which(f)
	f.StringVar(&s.listen, "listen", "", "the address of this computer at which to listen, with a port or without")
	f.StringVar(&s.push, "push", "", "where the console reads its list and covers, such as ftp://192.168.77.2/stick")
	f.StringArrayVar(&s.clients, "client", nil,
		"an address, or a network such as 192.168.77.0/24, that may come (default: all)")
	f.StringVar(&s.limit, "limit", "", "send at most this much per second, such as 20MiB")
	f.StringVar(&s.name, "export", "", "name of the export (default: what the loader looks for)")
	f.StringVar(&s.label, "label", served.Label, "label of the volume; fixed once it was served")
	f.DurationVar(&s.every, "look-every", time.Minute, "how often to look for games that came or went; 0 for never")
	f.StringVar(&s.writes, "writes", "",
		"let consoles write, apart from your games: into this file, or into memory with 'memory'")
	f.BoolVar(&s.once, "once", false, "end when the last client has left")
	f.BoolVar(&s.unit, "unit", false, "print a systemd unit that serves like this, and end")
	f.BoolVar(&s.dry, "dry-run", false, "show what would be served, and end")
	f.BoolVar(&s.w.asJSON, "json", false, "with --dry-run: print JSON")
	cmd.AddCommand(serveStatusCommand(), serveWritesCommand())
	return cmd
}

// which adds the flags that say which export is meant.
func (s *serveOptions) which(f *pflag.FlagSet) {
	f.StringVar(&s.w.bench, "bench", "", "work on this bench file")
	f.StringVar(&s.w.target, "target", "", "with --bench: serve what is selected for the target of this name")
	f.StringArrayVar(&s.w.from, "from", nil, "folder with games (may be repeated)")
	f.StringVar(&s.w.loader, "loader", "", "loader profile: a name, or a .toml file")
	f.StringVar(&s.fs, "fs", "", "filesystem of the volume: exfat or fat32 (default: what the loader reads)")
	f.StringVar(&s.volume, "size", "20TiB", "size of the volume; fixed once it was served")
}

func (s *serveOptions) run(cmd *cobra.Command) (err error) {
	ctx, out := cmd.Context(), cmd.OutOrStdout()
	if s.unit {
		return s.printUnit(out, os.Args)
	}
	g := &serving{o: s, out: out, said: map[string]bool{}}
	if err := s.options(&g.options); err != nil {
		return err
	}
	if g.bench, g.n, err = s.open(&g.options); err != nil {
		return err
	}
	at := g.bench.Resolve(g.bench.Targets[g.n].At)
	c := &g.bench.Targets[g.n]
	if g.e, err = served.Take(at, served.Options{Filesystem: c.As, Capacity: int64(c.Capacity), Label: s.label,
		Make: source.Referred}); err != nil {
		return err
	}
	defer g.e.Leave()
	if s.dry {
		return g.dryRun(ctx)
	}
	release, err := g.e.Hold()
	if err != nil {
		return fmt.Errorf("%s is served already: %w", c.Name, err)
	}
	defer release()
	defer source.CloseReferred()
	if s.writes != "" {
		if g.options.Writes, err = overlayOf(ctx, g.e, s.writes); err != nil {
			return err
		}
		defer func() { err = errors.Join(err, g.options.Writes.Sync(), g.options.Writes.Close()) }()
	}
	return g.serve(ctx)
}

// options takes over what does not depend on the bench.
func (s *serveOptions) options(o *serve.Options) (err error) {
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
	if o.Rate, err = asBytes("--limit", s.limit); err != nil {
		return err
	}
	if s.push != "" && !protocols.IsRemote(s.push) {
		return usageError{fmt.Errorf("--push: %q is no address such as %s", s.push, protocols.Examples("or"))}
	}
	o.Card = serve.Card
	return nil
}

// open opens the bench, with the target of number n being an export.
func (s *serveOptions) open(o *serve.Options) (b *bench.Bench, n int, err error) {
	volume, err := size.Parse(s.volume)
	if err != nil {
		return nil, 0, usageError{fmt.Errorf("--size: %w", err)}
	}
	if s.w.bench == "" {
		if len(s.w.from) == 0 || s.w.loader == "" {
			return nil, 0, usageError{errors.New("give --from DIR and --loader NAME, or --bench FILE")}
		}
		s.w.to = served.Scheme + s.key()
	}
	if b, err = s.w.open(true); err != nil {
		return nil, 0, err
	}
	if n, err = s.chosen(b); err != nil {
		return nil, 0, err
	}
	set, err := known()
	if err != nil {
		return nil, 0, err
	}
	c := &b.Targets[n]
	p, err := set.Profile(c.Loader)
	if err != nil {
		return nil, 0, err
	}
	on := p.NetworkDisk(cmp.Or(s.fs, c.As))
	if on == nil {
		return nil, 0, usageError{fmt.Errorf("%s reads no volume over the network%s", p.Shown, map[bool]string{
			true: " with " + s.fs}[s.fs != ""])}
	}
	if !served.Is(c.At) { // what is chosen for another target can be served as well
		c.At, c.Capacity, c.Cluster = served.Scheme+s.key(), 0, 0
	}
	c.Via, c.As = on.Via, cmp.Or(s.fs, c.As, on.DefaultFilesystem())
	c.Capacity = cmp.Or(c.Capacity, bench.Size(volume))
	c.DeleteOthers = true // it shows what is selected, and nothing is lost
	if s.w.bench == "" {
		c.Name = p.Shown + " export"
	}
	if s.push != "" {
		b.Targets = append(b.Targets, bench.Target{Name: "The console's own stick", At: s.push, Loader: c.Loader,
			Carries: c.Name})
	}
	o.Name = cmp.Or(s.name, on.Server.Export, "games")
	b.Identify()
	s.w.picked = -1
	return b, n, nil
}

// chosen is the target of a bench that is served.
func (s *serveOptions) chosen(b *bench.Bench) (int, error) {
	if s.w.picked >= 0 {
		return s.w.picked, nil
	}
	exports := []int{}
	for i := range b.Targets {
		if served.Is(b.Targets[i].At) {
			exports = append(exports, i)
		}
	}
	switch {
	case len(b.Targets) == 1:
		return 0, nil
	case len(exports) == 1:
		return exports[0], nil
	}
	return 0, usageError{errors.New("the bench has several targets: choose the one to serve with --target NAME")}
}

// key tells an export that no bench names from others.
func (s *serveOptions) key() string {
	from := []string{}
	for _, dir := range append([]string{s.w.bench}, s.w.from...) {
		if dir != "" {
			dir, _ = filepath.Abs(dir) // without a working folder it is another key
		}
		from = append(from, dir)
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%q %s %s %s %s", from, s.w.target, s.w.loader, s.fs, s.volume))
	return hex.EncodeToString(sum[:8])
}

// listener listens where it was asked to, or for the console alone.
func (g *serving) listener() (net.Listener, error) {
	if all, err := activation.Listeners(); err == nil && len(all) > 0 { // systemd has opened it
		return all[0], nil
	}
	at, why := g.o.listen, ""
	if at == "" {
		cards, _ := netcards.Here.Cards() // without them, it is the loopback
		if at, why = serve.Address(g.bench, g.n, cards); why != "" {
			why = ", " + why
		}
	}
	at = serve.WithPort(at)
	l, err := net.Listen("tcp", at)
	if err != nil {
		return nil, fmt.Errorf("listening at %s%s: %w", at, why, err)
	}
	return l, nil
}

// dryRun shows what would be served.
func (g *serving) dryRun(ctx context.Context) error {
	s, _, err := g.survey(ctx)
	if err != nil {
		return err
	}
	if g.o.w.asJSON {
		return printJSON(g.out, map[string]any{"volume": g.e.Volume().Info(), "plan": s.Plan()})
	}
	g.say(s)
	return nil
}

// executable is the file of this program.
func executable() string {
	name, err := os.Executable()
	if err != nil {
		return "polytome"
	}
	return name
}

// quoted is an argument as a systemd unit has it (systemd.service(5), "Command lines").
func quoted(arg string) string {
	plain := func(r rune) bool {
		return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
			strings.ContainsRune("-_./:=,@", r)
	}
	if arg != "" && !slices.ContainsFunc([]rune(arg), func(r rune) bool { return !plain(r) }) {
		return arg
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, `%`, `%%`, `$`, `$$`).Replace(arg) + `"`
}
