package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"polytome/internal/nearest"
)

// A usageError reports a command that was typed wrongly.
type usageError struct{ error }

// printUsage shows what was typed wrongly, an example of the command, and where all of its flags are listed.
func printUsage(to io.Writer, cmd *cobra.Command, err error) {
	fmt.Fprintf(to, "polytome: %v\n", err)
	if first, _, _ := strings.Cut(strings.TrimSpace(cmd.Example), "\n"); first != "" {
		fmt.Fprintf(to, "Example: %s\n", first)
	}
	fmt.Fprintf(to, "See also: %s --help\n", cmd.CommandPath())
}

// noArgs refuses arguments. For a command that has others below it, an argument is one of them that does not exist.
func noArgs(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	var names []string
	for _, c := range cmd.Commands() {
		if c.IsAvailableCommand() {
			names = append(names, c.Name())
		}
	}
	if len(names) > 0 {
		return usageError{nearest.Unknown("command", args[0], names)}
	}
	return usageError{fmt.Errorf("unexpected argument %q: %s takes none", args[0], cmd.CommandPath())}
}

// needArgs asks for at least n arguments, named what in the message.
func needArgs(n int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) < n {
			return usageError{fmt.Errorf("%s needs %s", cmd.CommandPath(), what)}
		}
		return nil
	}
}

// takeArgs takes so many arguments, which are what it says.
func takeArgs(least, most int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if err := needArgs(least, what)(cmd, args); err != nil {
			return err
		}
		if len(args) > most {
			return usageError{fmt.Errorf("unexpected argument %q: %s takes %s", args[most], cmd.CommandPath(), what)}
		}
		return nil
	}
}

// mostArgs takes up to n arguments. A word that is nearly one of the command's own, and no file, was meant as that.
func mostArgs(n int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) > n {
			return usageError{fmt.Errorf("unexpected argument %q: %s takes up to %d", args[n], cmd.CommandPath(), n)}
		}
		for _, word := range args {
			if _, err := os.Stat(word); err != nil {
				if err := noArgs(cmd, []string{word}); cmd.HasSubCommands() && strings.Contains(err.Error(),
					"did you mean") {
					return err
				}
			}
		}
		return nil
	}
}

// wrongFlag puts into words what is wrong with a flag.
func wrongFlag(cmd *cobra.Command, err error) error {
	var unknown *pflag.NotExistError
	if !errors.As(err, &unknown) {
		return usageError{err}
	}
	name := unknown.GetSpecifiedName()
	if unknown.GetSpecifiedShortnames() != "" {
		return usageError{fmt.Errorf("unknown flag -%s", name)}
	}
	var names []string
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		if !f.Hidden {
			names = append(names, f.Name)
		}
	})
	if meant := nearest.Word(name, names); meant != "" {
		return usageError{fmt.Errorf("unknown flag --%s: did you mean --%s?", name, meant)}
	}
	return usageError{fmt.Errorf("unknown flag --%s", name)}
}

// onlyGroups has every command that only holds others show its help, and name the nearest of them for a wrong word.
func onlyGroups(cmd *cobra.Command) {
	if !cmd.Runnable() {
		cmd.Args = noArgs
		cmd.RunE = func(cmd *cobra.Command, _ []string) error { return cmd.Help() }
	}
	for _, c := range cmd.Commands() {
		onlyGroups(c)
	}
}
