package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/config"
	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/core/saves"
	"polytome/internal/core/survey"
	"polytome/internal/nearest"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/drive"
	"polytome/internal/ui/state"
)

// savesOptions are the flags that say where saves are.
type savesOptions struct {
	bench, target string
	loader, vault string
	as, out       string
	asJSON        bool
}

func (opt *savesOptions) flags(cmd *cobra.Command, target bool) {
	f := cmd.Flags()
	if target {
		f.StringVar(&opt.bench, "bench", "", "all targets of this bench file")
		f.StringVar(&opt.target, "target", "", "with --bench: only the target of this name")
		f.StringVar(&opt.loader, "loader", "",
			"the loader of the target: a name, or a .toml file (default: whichever has "+
				"saves there)")
	}
	f.StringVar(&opt.vault, "vault", "",
		"the folder in which saves are kept (default: as polytome config saves says, or "+
			saves.Usual().Dir+")")
	f.BoolVar(&opt.asJSON, "json", false, "print JSON")
}

func (opt *savesOptions) kept() saves.Vault {
	if opt.vault == "" {
		return keptSaves()
	}
	return saves.Vault{Dir: state.Expand(opt.vault)}
}

// demoSaves is where saves are kept while the demo runs; "" while it does not.
var demoSaves string

// keptSaves is where saves are kept when no folder is named.
func keptSaves() saves.Vault {
	if demoSaves != "" {
		return saves.Vault{Dir: demoSaves}
	}
	if c, err := config.Load(configFile()); err == nil && c.Saves != "" { // mistakes in it are shown where it is set
		return saves.Vault{Dir: state.Expand(c.Saves)}
	}
	return saves.Usual()
}

func savesCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "saves",
		Short: "Find what players have reached, keep it on this computer, and put it back",
		Long: `Saves belong to the player. They are found by the rules of the loaders, on any target, and copied to a
vault: a folder of this computer with every version that was kept, and a list that can be read without
this program. Before a drive is prepared, the saves on it are kept by themselves.`,
		Example: `  polytome saves list /media/stick
  polytome saves keep --bench season.toml
  polytome saves restore 12 /media/stick
  polytome saves export 12 -o ~/Desktop`,
	}
	cmd.AddCommand(savesListCommand(), savesKeepCommand(), savesRestoreCommand(), savesCopyCommand(),
		savesExportCommand(), savesLinkCommand())
	return cmd
}

// each opens the targets that are meant, one after the other, with the saves on them.
func (opt *savesOptions) each(ctx context.Context, args []string, do func(p saves.Place,
	found []saves.Save) error) error {
	set, err := known()
	if err != nil {
		return err
	}
	if (len(args) > 0) == (opt.bench != "") {
		return usageError{errors.New("name a target, or a bench with --bench FILE")}
	}
	if len(args) > 0 {
		profiles := set.Profiles
		if opt.loader != "" {
			p, err := set.Profile(opt.loader)
			if err != nil {
				return usageError{err}
			}
			profiles = []*loader.Profile{p}
		}
		at := state.Expand(args[0])
		if info, err := os.Stat(at); err == nil && info.IsDir() {
			if at, err = filepath.Abs(at); err != nil {
				return err
			}
		}
		return opt.one(ctx, at, bench.Target{Name: args[0], At: at, Loader: opt.loader}, profiles, do)
	}
	b, err := bench.Load(state.Expand(opt.bench))
	if err != nil {
		return err
	}
	var names []string
	var all error
	looked := false
	for i := range b.Targets {
		t := b.Targets[i]
		names = append(names, t.Name)
		if opt.target != "" && t.Name != opt.target {
			continue
		}
		looked = true
		var profiles []*loader.Profile
		var err error
		for _, name := range t.Loaders() {
			if loader.IsFile(name) {
				name = b.Resolve(name)
			}
			p, bad := set.Profile(name)
			err = errors.Join(err, bad)
			profiles = append(profiles, p)
		}
		if err == nil {
			err = opt.one(ctx, b.Address(i), t, profiles, do)
		}
		if err != nil { // the others are looked at all the same
			all = errors.Join(all, fmt.Errorf("%s: %w", t.Name, err))
		}
	}
	if !looked {
		return usageError{nearest.Unknown("target", opt.target, names)}
	}
	return all
}

// one opens a target with the saves that loaders keep there.
func (opt *savesOptions) one(ctx context.Context, at string, c bench.Target, profiles []*loader.Profile,
	do func(p saves.Place, found []saves.Save) error) (err error) {
	var t target.Target
	var profile *loader.Profile
	if len(profiles) == 1 || c.Loader != "" {
		profile = profiles[0]
	}
	err = letIn(func() (err error) {
		t, err = survey.OpenTarget(ctx, drive.AddressOf(at), c, profile, false)
		return err
	})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, t.Close()) }()
	var bad error
	entries, err := t.List(ctx, func(path string, err error) {
		bad = errors.Join(bad, fmt.Errorf("%s: %w", path,
			err))
	})
	if err != nil {
		return err
	}
	if bad != nil {
		fmt.Fprintf(stderr(), "polytome: not all of it can be read: %v\n", bad)
	}
	facts, err := t.Facts(ctx, entries)
	if err != nil {
		return err
	}
	found := saves.FindAll(profiles, func(p *loader.Profile) string {
		if c.Via != "" {
			if a := p.Attachment(c.Via, facts.Filesystem.Name); a != nil {
				return a.Name
			}
		}
		return ""
	}, entries)
	return do(saves.Place{Target: t, Name: c.Name, ID: survey.PlaceID(&c, at)}, found)
}

// listedSave is a save as it is shown.
type listedSave struct {
	Target string `json:"target"`
	saves.Save
	State string `json:"state"` // kept, newer than kept, or not kept
	Kept  int    `json:"kept-as,omitempty"`
}

// stateOf compares a save with what is kept: by lengths and times, and where these differ in the time alone, by the
// bytes.
func stateOf(ctx context.Context, p saves.Place, s *saves.Save, kept []saves.Version) (string, int) {
	for i := len(kept) - 1; i >= 0; i-- {
		if v := &kept[i]; v.ID == p.ID && v.Path == s.Path {
			if saves.Same(ctx, p.Target, s, v) {
				return "kept", v.Number
			}
			return "changed since", v.Number
		}
	}
	return "not kept", 0
}

func savesListCommand() *cobra.Command {
	var opt savesOptions
	cmd := &cobra.Command{
		Use:   "list [TARGET]",
		Short: "Show the saves on targets, or with none named, those that are kept",
		Example: `  polytome saves list /media/stick
  polytome saves list --bench season.toml
  polytome saves list`,
		Args: mostArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			out := cmd.OutOrStdout()
			kept, err := opt.kept().Versions()
			if err != nil {
				return err
			}
			if len(args) == 0 && opt.bench == "" {
				return printVersions(out, kept, opt.kept(), opt.asJSON)
			}
			all := []listedSave{}
			err = opt.each(cmd.Context(), args, func(p saves.Place, found []saves.Save) error {
				for _, s := range found {
					x := listedSave{Target: p.Name, Save: s}
					x.State, x.Kept = stateOf(cmd.Context(), p, &s, kept)
					all = append(all, x)
				}
				return nil
			})
			if opt.asJSON {
				return errors.Join(err, printJSON(out, all))
			}
			if len(all) == 0 && err == nil {
				fmt.Fprintln(out, "No saves were found.")
			}
			for i := range all {
				s := &all[i]
				of := s.Of
				if s.Shared {
					of = "shared"
				}
				fmt.Fprintf(out, "%-14s %-12s %10s  %s  %-13s  %s\n", s.Target, of, size.Format(s.Bytes),
					s.Modified.Local().Format("2006-01-02 15:04"), s.State, s.Path)
				if s.Odd != "" {
					fmt.Fprintf(out, "%14s %s\n", "", s.Odd)
				}
			}
			return err
		},
	}
	opt.flags(cmd, true)
	return cmd
}

func printVersions(out io.Writer, kept []saves.Version, v saves.Vault, asJSON bool) error {
	if asJSON {
		if kept == nil {
			kept = []saves.Version{}
		}
		return printJSON(out, kept)
	}
	if len(kept) == 0 {
		fmt.Fprintf(out, "No saves are kept yet. They would be in %s.\n", v.Dir)
		return nil
	}
	for i := range kept {
		x := &kept[i]
		of := x.Of
		if x.Shared {
			of = "shared"
		}
		fmt.Fprintf(out, "%4d  %-12s %10s  %s  %s, %s\n", x.Number, of, size.Format(x.Bytes()),
			x.Kept.Local().Format("2006-01-02 15:04"), x.Target, x.Path)
	}
	return nil
}

func savesKeepCommand() *cobra.Command {
	var opt savesOptions
	cmd := &cobra.Command{
		Use:   "keep [TARGET]",
		Short: "Copy the saves on targets to the vault",
		Long: `Keep copies every save on a target to the vault, and reads it back there. What is there as it is makes no
new version.`,
		Example: `  polytome saves keep /media/stick
  polytome saves keep --bench season.toml --target "North stick"`,
		Args: mostArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			out := cmd.OutOrStdout()
			all := []saves.Version{}
			err := opt.each(cmd.Context(), args, func(p saves.Place, found []saves.Save) error {
				kept, fresh, err := opt.kept().Keep(cmd.Context(), p, found)
				all = append(all, kept...)
				if !opt.asJSON {
					fmt.Fprintf(out, "%s: %s, %d of them new or changed, kept in %s.\n", p.Name,
						size.Count(len(kept), "save"),
						fresh, opt.kept().Dir)
				}
				return err
			})
			if opt.asJSON {
				return errors.Join(err, printJSON(out, all))
			}
			return err
		},
	}
	opt.flags(cmd, true)
	return cmd
}

// version is the kept one that is meant.
func (opt *savesOptions) version(number string) (*saves.Version, error) {
	n, err := strconv.Atoi(number)
	if err != nil {
		return nil, usageError{fmt.Errorf("%q is no number of a kept save: see polytome saves list", number)}
	}
	return opt.kept().Version(n)
}

func savesRestoreCommand() *cobra.Command {
	var opt savesOptions
	cmd := &cobra.Command{
		Use:   "restore NUMBER [TARGET]",
		Short: "Put a kept save back, on any target",
		Long: `Restore puts a version of a save on a target. What is there now is kept first, so that nothing is
lost; if that fails, nothing is written. Every file is read back before it takes the place of the old one.`,
		Example: `  polytome saves restore 12 /media/stick
  polytome saves restore 12 --bench season.toml --target "Ferry share"
  polytome saves restore 12 /media/stick --as ROWAN/cards/shared-2.crd`,
		Args: takeArgs(1, 2, "a number, and a target"),
		RunE: func(cmd *cobra.Command, args []string) error {
			x, err := opt.version(args[0])
			if err != nil {
				return err
			}
			if opt.bench != "" && opt.target == "" {
				return usageError{errors.New("say to which target of the bench: --target NAME")}
			}
			return opt.each(cmd.Context(), args[1:], func(p saves.Place, _ []saves.Save) error {
				p.Why = "before another version was put back"
				r, err := opt.kept().Restore(cmd.Context(), p, x, opt.as)
				if err != nil {
					return err
				}
				return opt.sayRestored(cmd.OutOrStdout(), p, x, r)
			})
		},
	}
	opt.flags(cmd, true)
	cmd.Flags().StringVar(&opt.as, "as", "", "the path on the target (default: where it was)")
	return cmd
}

func (opt *savesOptions) sayRestored(out io.Writer, p saves.Place, x *saves.Version, r saves.Restored) error {
	if opt.asJSON {
		return printJSON(out, r)
	}
	fmt.Fprintf(out, "%s: %s of number %d written", p.Name, size.Count(r.Written, "file"), x.Number)
	if r.Same > 0 {
		fmt.Fprintf(out, ", %d there already", r.Same)
	}
	fmt.Fprintln(out, ".")
	if r.Before != nil && (r.Written > 0 || r.Removed > 0) {
		fmt.Fprintf(out, "What was there is kept as number %d.\n", r.Before.Number)
	}
	return nil
}

func savesCopyCommand() *cobra.Command {
	var opt savesOptions
	cmd := &cobra.Command{
		Use:   "copy TITLE FROM TO",
		Short: "Copy the save of a title from one target to another",
		Long: `Copy brings the saves of a title, by its ID or name as the save's path has it, from one target to
another of the same loader, through the vault. What is on the other one is kept first.`,
		Example: `  polytome saves copy VSP-20417 /media/north /media/south`,
		Args:    needArgs(3, "the title, and the two targets"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var kept []saves.Version
			err := opt.each(cmd.Context(), args[1:2], func(p saves.Place, found []saves.Save) (err error) {
				found = slices.DeleteFunc(found, func(s saves.Save) bool { return !strings.EqualFold(s.Of, args[0]) })
				if len(found) == 0 {
					return fmt.Errorf("there is no save of %s on %s", args[0], p.Name)
				}
				p.Why = "to be copied to " + args[2]
				kept, _, err = opt.kept().Keep(cmd.Context(), p, found)
				return err
			})
			if err != nil {
				return err
			}
			return opt.each(cmd.Context(), args[2:], func(p saves.Place, _ []saves.Save) error {
				p.Why = "before a save from " + args[1] + " was put there"
				for i := range kept {
					r, err := opt.kept().Restore(cmd.Context(), p, &kept[i], "")
					if err == nil {
						err = opt.sayRestored(cmd.OutOrStdout(), p, &kept[i], r)
					}
					if err != nil {
						return err
					}
				}
				return nil
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&opt.loader, "loader", "", "the loader of both targets (default: whichever has saves there)")
	opt.flags(cmd, false)
	return cmd
}

func savesExportCommand() *cobra.Command {
	var opt savesOptions
	cmd := &cobra.Command{
		Use:     "export NUMBER -o FOLDER",
		Short:   "Write a kept save to a folder of this computer",
		Example: `  polytome saves export 12 -o ~/Desktop`,
		Args:    needArgs(1, "the number of a kept save"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if opt.out == "" {
				return usageError{errors.New("say into which folder: -o FOLDER")}
			}
			x, err := opt.version(args[0])
			if err != nil {
				return err
			}
			to, err := opt.kept().Export(x, state.Expand(opt.out))
			if err != nil {
				return err
			}
			if opt.asJSON {
				return printJSON(cmd.OutOrStdout(), map[string]string{"written": to})
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s: %s.\n", to, size.Count(len(x.Files), "file"))
			return nil
		},
	}
	cmd.Flags().StringVarP(&opt.out, "output", "o", "", "the folder to write to")
	opt.flags(cmd, false)
	return cmd
}

func savesLinkCommand() *cobra.Command {
	var opt savesOptions
	own := false
	cmd := &cobra.Command{
		Use:   "link TITLE [CARD]",
		Short: "Have a title use a card that several titles share",
		Long: `Link writes into the settings of a title which card it uses, by the rule of its loader, and leaves the
rest of them. A card that is not there yet begins with what was reached in the title. With --own, the title
has a card of its own again. What is on the target is kept first.`,
		Example: `  polytome saves link VSP-20417 shared-1 --bench season.toml --target "Ferry share"
  polytome saves link VSP-20417 --own --bench season.toml --target "Ferry share"`,
		Args: takeArgs(1, 2, "a title, and a card"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if own == (len(args) == 2) {
				return usageError{errors.New("name a card, or say --own")}
			}
			if opt.bench == "" || opt.target == "" {
				return usageError{errors.New("say on which target of which bench: --bench FILE --target NAME")}
			}
			card := ""
			if !own {
				card = args[1]
			}
			w := work{bench: opt.bench, target: opt.target}
			_, all, _, err := w.look(cmd.Context())
			if err != nil {
				return err
			}
			for _, s := range all {
				if s == nil {
					continue
				}
				i, err := titleNamed(s, args[0])
				if err != nil {
					return err
				}
				say, err := s.LinkCard(cmd.Context(), i, card)
				if err != nil {
					return err
				}
				if opt.asJSON {
					did := linked{s.Config.Name, s.Titles[i].Key, card, say}
					if err := printJSON(cmd.OutOrStdout(), did); err != nil {
						return err
					}
					continue
				}
				fmt.Fprintln(cmd.OutOrStdout(), say)
			}
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&opt.bench, "bench", "", "the bench file")
	f.StringVar(&opt.target, "target", "", "the target of the bench")
	f.BoolVar(&opt.asJSON, "json", false, "print JSON")
	f.BoolVar(&own, "own", false, "a card of its own again")
	return cmd
}

// linked is what "saves link" has done, as JSON.
type linked struct {
	Target string `json:"target"`
	Title  string `json:"title"` // its key on the bench
	Card   string `json:"card"`  // "" for one of its own
	Say    string `json:"say"`
}

// titleNamed is the number of a title, by its ID or name.
func titleNamed(s *survey.Survey, name string) (int, error) {
	var all []string
	for i := range s.Titles {
		t := &s.Titles[i]
		if strings.EqualFold(t.ID, name) || strings.EqualFold(t.Label(), name) {
			return i, nil
		}
		all = append(all, t.Label())
	}
	return 0, usageError{nearest.Unknown("title", name, all)}
}
