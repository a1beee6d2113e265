package main

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/config"
)

// configFile is where settings are kept.
func configFile() string { return filepath.Join(configDir(), "config.toml") }

func configCommand() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use:   "config [SETTING [VALUE]]",
		Short: "Show or change settings: the theme, ASCII, keys, and the bench that is opened",
		Long: `Config shows what is set, shows one setting, or changes it; an empty value takes it back. They are kept in
a text file of your settings folder, which can be edited as well.

theme   how the screen looks: ` + strings.Join(config.Themes, ", ") + `
ascii   yes: draw with ASCII characters only
blocks  yes: draw covers in coloured blocks, also where the terminal shows real pictures
bench   the bench that polytome opens when none is named
folders where the first start looks for games, besides the usual places; several as in PATH
keys    keys that stand for others on every screen: ctrl+d=pgdown ctrl+u=pgup
disc-offsets  by how many samples disc drives give sound too late: GULLWING TRAY 16=667, WRITER 8=-30
saves   the folder in which saves are kept, instead of one in your data folder
keep-saves  yes: keep the saves of a target whenever it was looked at on the screen`,
		Example: `  polytome config
  polytome config theme light
  polytome config bench ~/season.toml
  polytome config keys 'ctrl+d=pgdown ctrl+e=W'`,
		Args: mostArgs(2),
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) ([]cobra.Completion,
			cobra.ShellCompDirective) {
			if len(args) == 1 && args[0] == "theme" {
				return config.Themes, cobra.ShellCompDirectiveNoFileComp
			}
			if len(args) == 0 {
				return config.Keys, cobra.ShellCompDirectiveNoFileComp
			}
			return nil, cobra.ShellCompDirectiveDefault
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := config.Load(configFile())
			if err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			if len(args) == 2 {
				if err := c.Set(args[0], args[1]); err != nil {
					return usageError{err}
				}
				return c.Save(configFile())
			}
			keys := config.Keys
			if len(args) == 1 {
				keys = args
			}
			values := map[string]string{}
			for _, key := range keys {
				if values[key], err = c.Get(key); err != nil {
					return usageError{err}
				}
			}
			switch {
			case asJSON:
				return printJSON(out, values)
			case len(args) == 1:
				fmt.Fprintln(out, values[args[0]])
				return nil
			}
			for _, key := range keys {
				value := values[key]
				if key == "bench" && value == "" {
					value = ownBench()
				}
				fmt.Fprintf(out, "%-12s %s\n", key, clean(value))
			}
			fmt.Fprintf(out, "kept in %s\n", configFile())
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}
