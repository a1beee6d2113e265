package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/learn"
	"polytome/internal/core/loader"
	"polytome/internal/size"
)

func loadersCommand() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "loaders",
		Short: "List the loaders; show, check, try, write and learn their profiles",
		Long: `All rules of a loader are in its profile, a text file. Without a subcommand, loaders
lists those that ship and your own. Yours are in ` + "`profiles`" + ` and ` + "`platforms`" + ` below
` + configDir() + `; one of the same name replaces the shipped one. A file with a mistake is listed
with that mistake, and the rest works.`,
		Example: `  polytome loaders
  polytome loaders show rowan
  polytome loaders check ./mine.toml
  polytome loaders try ./mine.toml --from ~/games
  polytome loaders explain ./mine.toml ~/games/tide.iso
  polytome loaders learn /media/stick > mine.toml`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			set, err := loader.Known(configDir())
			if err != nil {
				return err
			}
			return listLoaders(cmd.OutOrStdout(), set, asJSON)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	cmd.AddCommand(showLoader(), checkLoaders(), tryLoader(), newLoader(), learnLoader(), explainLoader(), testLoader(),
		shareLoader(), addLoader(),
		schemaOfLoaders())
	return cmd
}

type listedLoader struct {
	Name        string   `json:"name"`
	Shown       string   `json:"shown"`
	Console     string   `json:"console,omitempty"`
	About       string   `json:"about,omitempty"`
	Connections []string `json:"connections,omitempty"`
	File        string   `json:"file"`
	Own         bool     `json:"own"`
	Broken      string   `json:"broken,omitempty"`
}

func listLoaders(out io.Writer, set *loader.Set, asJSON bool) error {
	all := []listedLoader{}
	for _, p := range set.Profiles {
		all = append(all, listedLoader{Name: p.Name, Shown: p.Shown, Console: p.Console, About: p.About,
			Connections: p.Connections(), File: p.File, Own: p.Own})
	}
	for _, b := range set.Broken {
		all = append(all, listedLoader{Name: strings.TrimSuffix(filepath.Base(b.File), ".toml"), File: b.File,
			Own: true, Broken: b.Err.Error()})
	}
	if asJSON {
		return printJSON(out, all)
	}
	for _, l := range all {
		if l.Broken != "" {
			continue
		}
		own := ""
		if l.Own {
			own = "  (yours: " + l.File + ")"
		}
		fmt.Fprintf(out, "%-12s %-12s %-22s %s%s\n", l.Name, l.Console, strings.Join(l.Connections, ", "), l.About, own)
	}
	for _, b := range set.Broken {
		fmt.Fprintf(out, "\nbroken: %s\n", b.File)
		for line := range strings.Lines(b.Err.Error()) {
			fmt.Fprintf(out, "  %s\n", strings.TrimRight(line, "\n"))
		}
	}
	return nil
}

func showLoader() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "show NAME|FILE",
		Short: "Explain a loader's rules in plain sentences",
		Example: `  polytome loaders show bellows
  polytome loaders show ./mine.toml --json`,
		Args: needArgs(1, "the name of a loader, or a profile's file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			set, err := known()
			if err != nil {
				return err
			}
			p, err := set.Profile(args[0])
			if err != nil {
				return err
			}
			if asJSON {
				return printJSON(cmd.OutOrStdout(), p.Explain())
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s, a loader of the %s: %s.\n", p.Shown, p.Console, p.About)
			printSections(cmd.OutOrStdout(), p.Explain())
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func checkLoaders() *cobra.Command {
	return &cobra.Command{
		Use:   "check FILE…",
		Short: "Check profiles and platforms, and show where a mistake is",
		Long: `Check reads profiles and platform descriptions strictly: an unknown key, a wrong word or type, a
field that cannot be used, a path that leaves the target or does not distinguish titles, and limits that
contradict each other are reported with file, line and column. Then the examples in it are run, and what was
understood is explained in sentences.`,
		Example: `  polytome loaders check mine.toml
  polytome loaders check ~/.config/polytome/profiles/*.toml`,
		Args: needArgs(1, "one or more files"),
		RunE: func(cmd *cobra.Command, args []string) error {
			set, err := known()
			if err != nil {
				return err
			}
			bad := 0
			for _, file := range args {
				d, err := readDescription(set, file)
				if err != nil {
					bad++
					fmt.Fprintln(cmd.OutOrStdout(), err)
					continue
				}
				if wrong := failed(d.examples()); len(wrong) > 0 {
					bad++
					for _, s := range wrong {
						fmt.Fprintf(cmd.OutOrStdout(), "%s: %s\n", file, s.Say)
					}
					continue
				}
				fmt.Fprintf(cmd.OutOrStdout(), "%s: %s is OK\n", file, d.what())
				if len(args) == 1 {
					printSections(cmd.OutOrStdout(), d.sentences())
				}
			}
			if bad > 0 {
				return fmt.Errorf("%s with mistakes", size.Count(bad, "file"))
			}
			return nil
		},
	}
}

func tryLoader() *cobra.Command {
	f := &treeFlags{}
	cmd := &cobra.Command{
		Use:     "try FILE --from DIR",
		Short:   "Check a profile, and show the tree it makes of your games",
		Example: `  polytome loaders try ./mine.toml --from ~/games`,
		Args:    needArgs(1, "a profile's file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(f.from) == 0 {
				return usageError{errors.New("--from DIR is needed")}
			}
			set, err := known()
			if err != nil {
				return err
			}
			p, err := set.Profile(args[0])
			if err != nil {
				return err
			}
			return f.print(cmd, p, set)
		},
	}
	f.add(cmd)
	return cmd
}

func newLoader() *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use:   "new",
		Short: "Ask a dozen questions, and write a profile from the answers",
		Long: `New asks how a loader gets its games, which ones it takes and how it needs them named, and writes a
profile with comments that passes check. Given a folder with some of its games, it shows what it reads
from them and asks whether that is right; at the end it shows where these would go. The answers come
from the terminal or, a line each, from a file. Without -o the profile is added to your own ones.
Interrupted with Ctrl-C, it keeps what was answered, and goes on from there the next time.`,
		Example: `  polytome loaders new
  polytome loaders new -o mine.toml`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			set, err := known()
			if err != nil {
				return err
			}
			t := &talk{ctx: cmd.Context(), in: bufio.NewReader(cmd.InOrStdin()), out: cmd.ErrOrStderr()}
			t.resume()
			d, try, err := t.interview(set)
			if err != nil {
				return t.interrupted(err)
			}
			t.over()
			if err := keep(cmd, d, set, out); err != nil || try == "" {
				return err
			}
			return tryDraft(cmd, d, out, try)
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "write the profile to this file")
	return cmd
}

// tryDraft shows where games would go by a draft that was written.
func tryDraft(cmd *cobra.Command, d *learn.Draft, file, games string) error {
	set, err := known() // with the platforms that were written
	if err != nil {
		return err
	}
	name := d.Name
	if file != "" {
		name = file
	}
	p, err := set.Profile(name)
	if err != nil {
		return err
	}
	f := &treeFlags{from: []string{games}}
	return f.print(cmd, p, set)
}

// keep writes a draft, and the platforms that it needs. It never writes over a file.
func keep(cmd *cobra.Command, d *learn.Draft, set *loader.Set, out string) error {
	file := out
	if file == "" {
		file = loader.OwnFile(configDir(), d.Name)
	}
	wrote, err := d.Save(file, configDir(), set)
	for _, f := range wrote {
		fmt.Fprintf(cmd.OutOrStdout(), "written: %s\n", f)
	}
	return err
}
