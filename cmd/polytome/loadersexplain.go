package main

import (
	"fmt"
	"io"
	"slices"

	"github.com/spf13/cobra"

	"polytome/internal/core/explain"
	"polytome/internal/core/loader"
	"polytome/internal/nearest"
	"polytome/internal/plainfile"
	"polytome/internal/size"
	"polytome/internal/ui/style"
)

// description is what a file describes: a loader or a platform, and the set that knows it.
type description struct {
	set      *loader.Set
	profile  *loader.Profile  // nil for a platform
	platform *loader.Platform // nil for a loader
}

// readDescription reads a loader by its name, or the file of a profile or of a platform.
func readDescription(set *loader.Set, name string) (description, error) {
	if !loader.IsFile(name) {
		if p := set.Platform(name); p != nil {
			return description{set: set, platform: p}, nil
		}
		p, err := set.Profile(name)
		return description{set: set, profile: p}, err
	}
	data, err := plainfile.Read(name, loader.MostText)
	if err != nil {
		return description{}, err
	}
	if loader.DescribesPlatform(data) {
		p, err := loader.ParsePlatform(name, data)
		if err != nil {
			return description{}, err
		}
		p.Own = true
		return description{set: set.With(p), platform: p}, nil
	}
	p, err := set.ReadProfile(name)
	return description{set: set, profile: p}, err
}

func (d description) what() string {
	if d.platform != nil {
		return "the platform " + d.platform.Name
	}
	return "the profile of " + d.profile.Shown
}

// examples runs those that stand in the file.
func (d description) examples() []explain.Step {
	if d.platform != nil {
		return explain.Games(d.platform)
	}
	return explain.Examples(d.profile, d.set)
}

// sentences say what was understood.
func (d description) sentences() []loader.Section {
	if d.platform != nil {
		return explain.Platform(d.platform)
	}
	return d.profile.Explain()
}

func failed(all []explain.Step) (out []explain.Step) {
	for _, s := range all {
		if !s.OK {
			out = append(out, s)
		}
	}
	return out
}

func printSections(out io.Writer, all []loader.Section) {
	for _, s := range all {
		fmt.Fprintf(out, "\n%s\n", s.Title)
		for _, l := range s.Lines {
			fmt.Fprintf(out, "  %s\n", style.Clean(l))
		}
	}
}

// explainOptions are the flags of loaders explain.
type explainOptions struct {
	to       explain.Where
	capacity string
	asJSON   bool
}

func explainLoader() *cobra.Command {
	var opt explainOptions
	cmd := &cobra.Command{
		Use:   "explain NAME|FILE GAME",
		Short: "Walk one game through a description, step by step",
		Long: `Explain shows why a game is known or not, which value was read where, which rule of the loader holds
and which do not, and what comes out: the paths of its files, what belongs to it, its line in lists.
NAME or FILE is a loader's profile or the description of a platform; GAME is a game's file or
folder. Nothing is written. The exit status is 3 where no platform knows the game or the loader does
not take it.`,
		Example: `  polytome loaders explain rowan ~/games/tide.iso --as fat32
  polytome loaders explain ./pelican.toml ~/games/ledger`,
		Args: needArgs(2, "a loader or the file of a description, and a game"),
		RunE: opt.run,
	}
	f := cmd.Flags()
	f.StringVar(&opt.to.Via, "via", "", "how the target is connected (default: the loader's usual one)")
	f.StringVar(&opt.to.Filesystem, "as", "", "the target's filesystem (default: the first that the loader reads)")
	f.StringVar(&opt.to.Volume, "volume", "", "which of the console's volumes it is")
	f.StringVar(&opt.capacity, "capacity", "", "how much the volume holds, such as 58GiB")
	f.BoolVar(&opt.asJSON, "json", false, "print JSON")
	return cmd
}

func (opt *explainOptions) run(cmd *cobra.Command, args []string) (err error) {
	if opt.to.Capacity, err = asBytes("--capacity", opt.capacity); err != nil {
		return err
	}
	if len(args) != 2 {
		return usageError{fmt.Errorf("explain takes a loader or the file of a description, and one game")}
	}
	set, err := known()
	if err != nil {
		return err
	}
	d, err := readDescription(set, args[0])
	if err != nil {
		return err
	}
	a, err := explain.Game(args[1], d.set, d.profile, opt.to)
	if err != nil {
		return err
	}
	if opt.asJSON {
		err = printJSON(cmd.OutOrStdout(), a)
	} else {
		for i, s := range a.Sections {
			if i > 0 {
				fmt.Fprintln(cmd.OutOrStdout())
			}
			fmt.Fprintln(cmd.OutOrStdout(), s.Title)
			printSteps(cmd.OutOrStdout(), s.Steps)
		}
	}
	if err == nil && (a.Platform == "" || d.profile != nil && len(a.Paths) == 0) {
		err = errPartial
	}
	return err
}

func printSteps(out io.Writer, all []explain.Step) {
	for _, s := range all {
		mark := "yes"
		if !s.OK {
			mark = "no "
		}
		fmt.Fprintf(out, "  %s  %s\n", mark, style.Clean(s.Say))
	}
}

func testLoader() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "test NAME|FILE…",
		Short: "Run the examples that stand in descriptions",
		Long: `Test runs every [[example]] of profiles and platforms: a game's facts, and the paths, companions and
list entries that must come out of them; or what is in a game, and the values that must be read. It
says what came out instead. The exit status is 3 where an example fails.`,
		Example: `  polytome loaders test rowan
  polytome loaders test ./mine.toml ./pelican.toml`,
		Args: needArgs(1, "loaders or files of descriptions"),
		RunE: func(cmd *cobra.Command, args []string) error {
			set, err := known()
			if err != nil {
				return err
			}
			results := map[string][]explain.Step{}
			bad, count := 0, 0
			for _, name := range args {
				d, err := readDescription(set, name)
				if err != nil {
					return err
				}
				results[name] = d.examples()
				count += len(results[name])
				bad += len(failed(results[name]))
				if !asJSON {
					fmt.Fprintf(cmd.OutOrStdout(), "%s: %s\n", name, size.Count(len(results[name]), "example"))
					printSteps(cmd.OutOrStdout(), results[name])
				}
			}
			if asJSON {
				if err := printJSON(cmd.OutOrStdout(), results); err != nil {
					return err
				}
			}
			if bad > 0 {
				return errPartial
			}
			if count == 0 && !asJSON {
				fmt.Fprintln(cmd.OutOrStdout(), "None of them has an [[example]]; see docs/profile-format.md.")
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func schemaOfLoaders() *cobra.Command {
	return &cobra.Command{
		Use:   "schema profile|platform",
		Short: "Print the JSON Schema of profiles or platforms, for editors",
		Long: `Schema prints a JSON Schema (draft 2020-12) with every key of profiles or platforms, and the words
that it may have. Editors that know TOML complete keys by it and mark mistakes while you write.
See docs/write-a-profile.md.`,
		Example:   "  polytome loaders schema profile > profile.schema.json",
		Args:      one("profile or platform"),
		ValidArgs: loader.Schemas,
		RunE: func(cmd *cobra.Command, args []string) error {
			if !slices.Contains(loader.Schemas, args[0]) {
				return usageError{nearest.Unknown("kind of file", args[0], loader.Schemas)}
			}
			text, err := loader.Schema(args[0])
			if err == nil {
				_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s\n", text)
			}
			return err
		},
	}
}
