package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/survey"
	"polytome/internal/target/remote"
)

// trusting is the accepting of a server's key.
type trusting struct{ fingerprint string }

func connectionsTrust() *cobra.Command {
	t := &trusting{}
	cmd := &cobra.Command{
		Use:   "trust ADDRESS",
		Short: "Accept the host key of a machine that is reached over SFTP",
		Long: `Shows the host key of a machine and accepts it when you say so. Compare it first with what the
machine itself shows: the key is how Polytome notices that another machine answers in its place.
Keys that you accepted with ssh count too. --fingerprint accepts that one key only, and asks nothing.`,
		Example: `  polytome connections trust sftp://odile@192.168.0.40
  polytome connections trust sftp://odile@192.168.0.40 --fingerprint SHA256:…`,
		Args: needArgs(1, "an address such as sftp://odile@192.168.0.40"),
		RunE: func(cmd *cobra.Command, args []string) error { return t.run(cmd, args[0]) },
	}
	cmd.Flags().StringVar(&t.fingerprint, "fingerprint", "", "accept the key with this fingerprint, without asking")
	return cmd
}

func (t *trusting) run(cmd *cobra.Command, address string) error {
	p, a, err := host(address)
	if err != nil {
		return err
	}
	o, err := survey.Settings(p, a, bench.Target{}, nil)
	if err != nil {
		return err
	}
	if o.User == "" {
		o.User = "polytome" // keys are shown before anybody logs in
	}
	to, err := p.Open(cmd.Context(), a, o)
	if err == nil {
		err = to.Close()
	}
	var key *remote.HostKeyError
	var denied *remote.LoginError
	var refused *remote.RefusedError
	switch {
	case errors.As(err, &key) && key.Changed:
		return key
	case errors.As(err, &key) && t.fingerprint == "":
		return askKey(cmd.InOrStdin(), cmd.ErrOrStderr(), key)
	case errors.As(err, &key) && t.fingerprint != key.Fingerprint:
		return fmt.Errorf("the host key of %s has the fingerprint %s and not %s: nothing was accepted", a.Host,
			key.Fingerprint, t.fingerprint)
	case errors.As(err, &key):
		return key.Accept()
	case err == nil, errors.As(err, &denied), errors.As(err, &refused):
		_, err := fmt.Fprintf(cmd.OutOrStdout(), "%s shows no key that would have to be accepted.\n", a.Host)
		return err
	}
	return err
}

// askKey asks whether a server's key is accepted.
func askKey(in io.Reader, out io.Writer, key *remote.HostKeyError) error {
	fmt.Fprintf(out, "The host key of %s is new here. Its fingerprint is\n  %s\nCompare it with what the machine itself "+
		"shows. Accept it (yes or no)? ", key.Address.Host, key.Fingerprint)
	line, err := bufio.NewReader(in).ReadString('\n')
	if err != nil && line == "" {
		return usageError{errors.New("there is no terminal to ask on; use --fingerprint")}
	}
	if answer := strings.ToLower(strings.TrimSpace(line)); answer != "yes" && answer != "y" {
		return fmt.Errorf("the host key of %s was not accepted", key.Address.Host)
	}
	return key.Accept()
}
