package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/bench"
	"polytome/internal/core/learn"
	"polytome/internal/core/loader"
	"polytome/internal/core/survey"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/drive"
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
profile with comments that passes check. The answers come from the terminal or, a line each, from a
file. Without -o it is added to your own profiles.`,
		Example: `  polytome loaders new
  polytome loaders new -o mine.toml`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			set, err := known()
			if err != nil {
				return err
			}
			d, err := interview(bufio.NewReader(cmd.InOrStdin()), cmd.ErrOrStderr(), set)
			if err != nil {
				return err
			}
			return keep(cmd, d, set, out)
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "write the profile to this file")
	return cmd
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

// learnLoaderOptions are the flags of loaders learn.
type learnLoaderOptions struct {
	out, as string
	asJSON  bool
}

func learnLoader() *cobra.Command {
	var opt learnLoaderOptions
	cmd := &cobra.Command{
		Use:   "learn TARGET",
		Short: "Draft a profile from a drive that a console or a person has prepared",
		Long: `Learn reads a target with empty folders as the console made them, or with games in it, and drafts a
profile: which folder is for which platform, how names are made, which files are beside the games,
how large images are split. Games of no known platform are described too: by what they are known,
and where their ID and name stand, with a file of its own beside the profile. Each finding is a
comment in the draft, with its evidence and how certain it is, and so are open questions. Without -o
the draft is printed. Nothing on the target is changed.`,
		Example: `  polytome loaders learn /media/stick
  polytome loaders learn ./stick --as fat32 -o mine.toml`,
		Args: needArgs(1, "the folder of a prepared target"),
		RunE: opt.run,
	}
	cmd.Flags().StringVarP(&opt.out, "output", "o", "", "write the draft to this file, and print what was found")
	cmd.Flags().StringVar(&opt.as, "as", "", "declare the target's filesystem: "+strings.Join(target.FilesystemNames(),
		", "))
	cmd.Flags().BoolVar(&opt.asJSON, "json", false, "print JSON")
	return cmd
}

func (opt *learnLoaderOptions) run(cmd *cobra.Command, args []string) error {
	set, err := known()
	if err != nil {
		return err
	}
	d, err := learnFrom(cmd.Context(), args[0], opt.as, set)
	if err != nil {
		return err
	}
	switch {
	case opt.asJSON:
		return printJSON(cmd.OutOrStdout(), map[string]any{"findings": d.Findings, "open": d.Open, "against": d.Against,
			"titles": d.Titles, "profile": d.TOML()})
	case opt.out == "":
		_, err = io.WriteString(cmd.OutOrStdout(), d.TOML())
		return err
	}
	wrote, err := d.Save(opt.out, configDir(), set) // what cannot be used yet is among what is open
	if err != nil {
		return err
	}
	for _, f := range d.Findings {
		fmt.Fprintf(cmd.OutOrStdout(), "%s\n    %s: %s\n", f.Say, f.Confidence, f.Evidence)
	}
	fmt.Fprintln(cmd.OutOrStdout(), "Open:")
	for _, o := range d.Open {
		fmt.Fprintf(cmd.OutOrStdout(), "  %s\n", o.Say)
	}
	if len(d.Against) > 0 {
		fmt.Fprintln(cmd.OutOrStdout(), "Against it:")
		for _, say := range d.Against {
			fmt.Fprintf(cmd.OutOrStdout(), "  %s\n", say)
		}
	}
	for _, f := range wrote {
		fmt.Fprintf(cmd.OutOrStdout(), "written: %s\n", f)
	}
	return nil
}

// learnFrom looks at a folder and drafts a profile from it.
func learnFrom(ctx context.Context, dir, as string, set *loader.Set) (*learn.Draft, error) {
	p, err := survey.OpenTarget(ctx, drive.AddressOf(dir), bench.Target{Name: dir, At: dir, As: as}, nil, false)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	return learn.FromTarget(ctx, dir, p, set)
}
