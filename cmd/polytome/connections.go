package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"polytome/internal/core/bench"
	"polytome/internal/core/connections"
	"polytome/internal/core/loader"
	"polytome/internal/core/survey"
	"polytome/internal/nbd"
	"polytome/internal/secret"
	"polytome/internal/size"
	"polytome/internal/target/protocols"
	"polytome/internal/target/remote"
)

func connectionsCommand() *cobra.Command {
	w := &work{picked: -1}
	cmd := &cobra.Command{
		Use:   "connections",
		Short: "Show how targets are connected; test servers, plan a direct cable, list shares, store passwords",
		Long: `With a bench, connections shows how each target is connected to this computer: by what, through
which interface, at which address and port, what must be on, and whether anything answers there. It
tells apart a console that is off, a server that is not running, another program on the port, and a
firewall that blocks the connection. It does not log in, and writes nothing.

A console is given by its address, such as ftp://192.168.0.20/hd1 (ftps:// uses TLS), a share by
smb://192.168.0.30/games, with a user name in front if the loader's profile has none:
ftp://odile@192.168.0.20/, smb://HALL;odile@192.168.0.30/games. Passwords do not belong in
addresses.`,
		Example: `  polytome connections --bench season.toml
  polytome connections test ftp://192.168.0.20/hd1 --loader gantry
  polytome connections cable --bench season.toml --target 'Meridian disk'
  polytome connections shares smb://192.168.0.30
  polytome connections login smb://odile@192.168.0.30/games`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if w.bench == "" {
				return cmd.Help()
			}
			return connectionsOf(cmd, w)
		},
	}
	cmd.Flags().StringVar(&w.bench, "bench", "", "show how the targets of this bench are connected")
	cmd.Flags().StringVar(&w.target, "target", "", "with --bench: only the target of this name")
	cmd.Flags().BoolVar(&w.asJSON, "json", false, "print JSON")
	cmd.AddCommand(connectionsTest(), connectionsCable(), connectionsShares(), connectionsLogin(),
		connectionsTrust())
	return cmd
}

// host takes an address apart.
func host(text string) (*remote.Protocol, remote.Address, error) {
	p, a, err := protocols.Parse(text)
	if err != nil {
		return p, a, usageError{err}
	}
	if p == nil {
		return p, a, usageError{fmt.Errorf("%q is not the address of a console or share; write it like %s", text,
			protocols.Examples("or"))}
	}
	return p, a, nil
}

// hostTest is the testing of one address.
type hostTest struct {
	loader string
	server serverTraits
	asJSON bool
}

func connectionsTest() *cobra.Command {
	t := &hostTest{}
	cmd := &cobra.Command{
		Use:   "test ADDRESS",
		Short: "Connect, log in, and find out what the server supports and how fast it is",
		Long: `Connects to a console or share, logs in, writes a small file into its root, reads it back,
interrupts and resumes it, and removes it; then lists what the server supports. If something is
wrong it names the cause: no answer, no server on that port, no route, a wrong password, no
anonymous login, blocked data connections, a full volume.`,
		Example: `  polytome connections test ftp://192.168.0.20/hd1 --loader gantry
  polytome connections test smb://odile@192.168.0.30/games
  polytome connections test nbd://192.168.0.20/vesper-disk`,
		Args: needArgs(1, "the address of a console or share"),
		RunE: func(cmd *cobra.Command, args []string) error {
			protocol, a, err := host(args[0])
			if err != nil && !nbd.IsAddress(args[0]) {
				return err
			}
			var profile *loader.Profile
			if t.loader != "" {
				set, err := known()
				if err != nil {
					return err
				}
				if profile, err = set.Profile(t.loader); err != nil {
					return err
				}
			}
			c := bench.Target{Name: args[0], At: args[0]}
			t.server.set(&c)
			var r *remote.Probe
			err = letIn(func() (err error) {
				r, err = connections.Test(cmd.Context(), args[0], c,
					profile)
				return err
			})
			if err != nil {
				return err
			}
			if t.asJSON {
				err = printJSON(cmd.OutOrStdout(), r)
			} else {
				printProbe(cmd.OutOrStdout(), protocol, a, r)
			}
			if err == nil && len(r.Wrong) > 0 {
				return errPartial
			}
			return err
		},
	}
	cmd.Flags().StringVar(&t.loader, "loader", "", "the loader whose profile describes the server and its login")
	t.server.flags(cmd.Flags())
	cmd.Flags().BoolVar(&t.asJSON, "json", false, "print JSON")
	return cmd
}

// logins is how often a password is asked for.
const logins = 3

// letIn does something for which a server has to let us in, and asks for the password until it does.
func letIn(do func() error) error {
	err := do()
	for n := 0; n < logins && askFor(err); n++ {
		err = do()
	}
	return err
}

// givePassword has the password that scripts have written down in a file be the one of the first server that needs one.
func givePassword(file string) {
	secret.Give(func() (string, bool) {
		text, err := secret.File(file, os.Stdin)
		if err != nil {
			fmt.Fprintf(stderr(), "polytome: %v\n", err)
		}
		return text, err == nil
	})
}

// givePasswordIn takes the password from a variable of the environment.
func givePasswordIn(variable string) {
	secret.Give(func() (string, bool) {
		text, ok := os.LookupEnv(variable)
		if !ok {
			fmt.Fprintf(stderr(), "polytome: there is no environment variable %s with a password\n", variable)
		}
		return text, ok
	})
}

// askFor asks for what a server wants, where someone is there to answer: a password, or that its key is accepted. It
// reports whether trying again may help.
func askFor(err error) bool {
	if !isTerminal(os.Stdin) {
		return false
	}
	var key *remote.HostKeyError
	if errors.As(err, &key) && !key.Changed {
		return askKey(os.Stdin, os.Stderr, key) == nil
	}
	var denied *remote.LoginError
	if !errors.As(err, &denied) || denied.User == "" {
		return false
	}
	if denied.Given {
		fmt.Fprintf(stderr(), "polytome: %v\n", err)
	}
	p, err := askPassword(os.Stdin, os.Stderr, denied.User, denied.Address.Host)
	if err != nil || p == "" {
		return false
	}
	secret.Remember(denied.Address.Host, denied.User, p)
	return true
}

func connectionsShares() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "shares ADDRESS",
		Short: "List the shares of a computer or network box",
		Example: `  polytome connections shares smb://192.168.0.30
  polytome connections shares smb://odile@192.168.0.30`,
		Args: needArgs(1, "an address such as smb://192.168.0.30"),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, a, err := host(args[0])
			if err != nil {
				return err
			}
			if p.Shares == nil {
				return usageError{fmt.Errorf("%s is not a computer with shares; write it like smb://%s", args[0],
					a.Host)}
			}
			var all []remote.Share
			err = letIn(func() error {
				o, err := survey.Settings(p, a, bench.Target{}, nil)
				if err == nil {
					all, err = p.Shares(cmd.Context(), a, o)
				}
				return err
			})
			if err != nil {
				return err
			}
			if asJSON {
				return printJSON(cmd.OutOrStdout(), all)
			}
			a.Root = ""
			for _, s := range all {
				x := a
				x.Root = s.Name
				fmt.Fprintf(cmd.OutOrStdout(), "%-40s %s\n", x, s.Comment)
			}
			if len(all) == 0 {
				fmt.Fprintf(cmd.OutOrStdout(), "%s has no file shares that this user may see.\n", a.Host)
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func printProbe(out io.Writer, p *remote.Protocol, a remote.Address, r *remote.Probe) {
	yes := map[bool]string{true: "yes", false: "no"}
	how := fmt.Sprintf("(%d ms, then %.1f ms per command)", r.Connect.Milliseconds(),
		float64(r.RoundTrip.Microseconds())/1000)
	if p == nil {
		fmt.Fprintf(out, "The export answers %s.\n", how)
	} else {
		fmt.Fprintf(out, "%s answers and logs in %s %s.\n", a.Host, r.Login, how)
	}
	if p != nil && p.Plain(a) {
		fmt.Fprintln(out, "The connection is not encrypted: anyone in the same network can read the files and the "+
			"password.")
	}
	fmt.Fprintf(out, "  entries in its root        %d\n", r.Entries)
	if r.Capacity > 0 {
		fmt.Fprintf(out, "  space                       %s of %s free\n", size.Format(r.Free), size.Format(r.Capacity))
	}
	if r.Up > 0 {
		fmt.Fprintf(out, "  sending                    %s/s\n  receiving                  %s/s\n", size.Format(r.Up),
			size.Format(r.Down))
		fmt.Fprintf(out, "  renames files              %s\n  resumes files              %s\n", yes[r.Renames],
			yes[r.Resumes])
		fmt.Fprintf(out, "  case-sensitive             %s\n  files at once              %d\n", yes[r.Case], r.AtOnce)
	}
	if !r.Flushes {
		fmt.Fprintf(out, "  flushes files to its disk  %s\n", connections.NoFlush)
	}
	if len(r.Knows) > 0 {
		fmt.Fprintf(out, "  announces                  %s\n", strings.Join(r.Knows, "; "))
	}
	for _, w := range r.Wrong {
		fmt.Fprintf(out, "  %s\n", w)
	}
}

func connectionsLogin() *cobra.Command {
	var forget bool
	cmd := &cobra.Command{
		Use:   "login ADDRESS",
		Short: "Store the password of a console or share in the system's keyring",
		Long: `Asks for the password of the user in the address, and stores it in the system's keyring. Passwords
are never written to a bench or a log. A password that every console of a kind has is part of its
loader's profile.`,
		Example: `  polytome connections login ftp://odile@192.168.0.20/
  polytome connections login ftp://odile@192.168.0.20/ --forget`,
		Args: needArgs(1, "the address of a console or share, with a user in it"),
		RunE: func(cmd *cobra.Command, args []string) error {
			_, a, err := host(args[0])
			if err != nil {
				return err
			}
			if a.User == "" {
				return usageError{fmt.Errorf("%s has no user name; write it like %s://odile@%s/", args[0], a.Scheme,
					a.Host)}
			}
			if forget {
				return secret.Forget(a.Host, a.User)
			}
			p, err := askPassword(cmd.InOrStdin(), cmd.ErrOrStderr(), a.User, a.Host)
			if err != nil {
				return err
			}
			return secret.Keep(a.Host, a.User, p)
		},
	}
	cmd.Flags().BoolVar(&forget, "forget", false, "delete it from the keyring")
	return cmd
}

// askPassword asks for a password, without showing it.
func askPassword(in io.Reader, out io.Writer, user, host string) (string, error) {
	fmt.Fprintf(out, "Password of %s on %s: ", user, host)
	if f, ok := in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(out)
		return string(b), err
	}
	line, err := bufio.NewReader(in).ReadString('\n')
	if err != nil && line == "" {
		return "", usageError{errors.New("no terminal to ask for the password; use --password-file")}
	}
	return strings.TrimRight(line, "\r\n"), nil
}
