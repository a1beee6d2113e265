package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/core/survey"
	"polytome/internal/place/ftp"
	"polytome/internal/place/remote"
	"polytome/internal/secret"
	"polytome/internal/size"
)

func hostsCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "hosts",
		Short: "Test the connection to a console, and keep its password",
		Long: `A console is named by its address, such as ftp://192.168.0.20/hd1 (ftps:// asks for TLS), with a user in front where
the loader's profile names none: ftp://odile@192.168.0.20/. Passwords do not stand in addresses.`,
		Example: `  polytome hosts test ftp://192.168.0.20/hd1 --loader gantry
  polytome hosts login ftp://odile@192.168.0.20/`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(hostsTest(), hostsLogin())
	return cmd
}

// console takes an address apart, and the loader that says what its server is like.
func console(text, name string) (ftp.Address, *loader.Profile, error) {
	a, ok, err := ftp.ParseAddress(text)
	if err != nil {
		return a, nil, usageError{err}
	}
	if !ok {
		return a, nil, usageError{fmt.Errorf("%q is no address of a console; write it like ftp://192.168.0.20/hd1", text)}
	}
	if name == "" {
		return a, nil, nil
	}
	set, err := known()
	if err != nil {
		return a, nil, err
	}
	p, err := set.Profile(name)
	return a, p, err
}

func hostsTest() *cobra.Command {
	var name string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "test ADDRESS",
		Short: "Connect, log in, and find out what the console's server can and how fast it is",
		Long: `Connects to a console, logs in, writes a small file into the place's root, reads it back and removes it, and says
what the server can. What is wrong is said in plain words: no console there, no server on that port, a wrong
password, a full volume.`,
		Example: `  polytome hosts test ftp://192.168.0.20/hd1 --loader gantry`,
		Args:    needArgs(1, "the address of a console"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, profile, err := console(args[0], name)
			if err != nil {
				return err
			}
			o, err := survey.Console(a, bench.Place{Name: args[0], At: args[0]}, profile)
			if err != nil {
				return err
			}
			began := time.Now()
			p, err := ftp.Open(cmd.Context(), a, o)
			var denied *remote.LoginError
			if errors.As(err, &denied) && a.User != "" && isTerminal(os.Stdin) {
				if o.Password, err = askPassword(cmd.InOrStdin(), cmd.ErrOrStderr(), a); err != nil {
					return err
				}
				p, err = ftp.Open(cmd.Context(), a, o)
			}
			if err != nil {
				return err
			}
			defer p.Close()
			connected := time.Since(began)
			r, err := p.Try(cmd.Context())
			if err != nil {
				return err
			}
			if asJSON {
				err = printJSON(cmd.OutOrStdout(), r)
			} else {
				printProbe(cmd.OutOrStdout(), a, r, connected)
			}
			if err == nil && len(r.Wrong) > 0 {
				return errPartial
			}
			return err
		},
	}
	cmd.Flags().StringVar(&name, "loader", "", "the loader whose profile says what the server is like and who may log in")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func printProbe(out io.Writer, a ftp.Address, r *ftp.Probe, connected time.Duration) {
	yes := map[bool]string{true: "yes", false: "no"}
	fmt.Fprintf(out, "%s answers, and lets %s in (%d ms, then %.1f ms a command).\n", a.Host, r.Login, connected.Milliseconds(), float64(r.RoundTrip.Microseconds())/1000)
	if !r.Secure {
		fmt.Fprintln(out, "The connection is plain: what is sent, and the password, can be read by others in the same network.")
	}
	fmt.Fprintf(out, "  entries in its root        %d\n", r.Entries)
	if r.Up > 0 {
		fmt.Fprintf(out, "  sending                    %s/s\n  receiving                  %s/s\n", size.Format(r.Up), size.Format(r.Down))
		fmt.Fprintf(out, "  renames                    %s\n  tells lengths              %s\n  begins within a file       %s\n", yes[r.Renames], yes[r.Sizes], yes[r.Resumes])
	}
	for _, w := range r.Wrong {
		fmt.Fprintf(out, "  %s\n", w)
	}
}

func hostsLogin() *cobra.Command {
	var forget bool
	cmd := &cobra.Command{
		Use:   "login ADDRESS",
		Short: "Keep the password of a console in the system's keyring",
		Long: `Asks for the password of the user in the address, and keeps it in the keyring of the system. Passwords
stand on no bench and in no log. The password that every console of a kind has, stands in its loader's profile.`,
		Example: `  polytome hosts login ftp://odile@192.168.0.20/
  polytome hosts login ftp://odile@192.168.0.20/ --forget`,
		Args: needArgs(1, "the address of a console, with a user in it"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, _, err := console(args[0], "")
			if err != nil {
				return err
			}
			if a.User == "" {
				return usageError{fmt.Errorf("%s names no user; write it like ftp://odile@%s/", args[0], a.Host)}
			}
			if forget {
				return secret.Forget(a.Host, a.User)
			}
			p, err := askPassword(cmd.InOrStdin(), cmd.ErrOrStderr(), a)
			if err != nil {
				return err
			}
			return secret.Keep(a.Host, a.User, p)
		},
	}
	cmd.Flags().BoolVar(&forget, "forget", false, "remove it from there")
	return cmd
}

// askPassword asks for a password, without showing it.
func askPassword(in io.Reader, out io.Writer, a ftp.Address) (string, error) {
	fmt.Fprintf(out, "Password of %s on %s: ", a.User, a.Host)
	if f, ok := in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(out)
		return string(b), err
	}
	line, err := bufio.NewReader(in).ReadString('\n')
	if err != nil && line == "" {
		return "", usageError{errors.New("nobody is there to give the password")}
	}
	return strings.TrimRight(line, "\r\n"), nil
}
