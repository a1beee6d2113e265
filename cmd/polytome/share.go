package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/explain"
	"polytome/internal/core/loader"
	"polytome/internal/core/share"
	"polytome/internal/plainfile"
	"polytome/internal/ui/style"
)

func shareLoader() *cobra.Command {
	var out, notes string
	cmd := &cobra.Command{
		Use:   "share NAME -o FILE",
		Short: "Write a loader and its platforms to one text file, to give away",
		Long: `Share writes one text file with a loader's profile, the descriptions of the platforms that it needs and
that do not ship, an example that shows what comes out, and what you say of it. Remarks, and the
reasons that learning has written down, are left out: they name your own games. Look through the
file before you give it away: texts that the profile writes to a target are in it as they are.`,
		Example: `  polytome loaders share mine -o mine.loader
  polytome loaders share mine -o mine.loader --notes "For the red model. Tried with 40 games."`,
		Args: needArgs(1, "the name of a loader, or a profile's file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if out == "" {
				return usageError{errors.New("-o FILE is needed")}
			}
			set, err := known()
			if err != nil {
				return err
			}
			p, err := set.Profile(args[0])
			if err != nil {
				return err
			}
			parcel, err := share.Of(p, set, notes)
			if err != nil {
				return err
			}
			if _, err := parcel.Read(set); err != nil {
				return fmt.Errorf("it cannot be shared as it is: %w", err)
			}
			if err := loader.WriteNew(out, parcel.String()); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "written: %s\n", out)
			return nil
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the file to write; one that exists is not written over")
	cmd.Flags().StringVar(&notes, "notes", "", "what you say of it")
	return cmd
}

func addLoader() *cobra.Command {
	var yes, replace bool
	cmd := &cobra.Command{
		Use:   "add FILE",
		Short: "Take in a loader that somebody has shared, after showing what it does",
		Long: `Add reads a file that loaders share has written: strictly, as every description. It runs the examples in
it, says in sentences what the loader will do, and where it differs from one of the same name. Then it
asks, and writes the descriptions to your own ones. Nothing in such a file can do anything but
describe. One of yours with the same name stays as it is; with --replace it is kept beside the new
one, with .before behind its name.`,
		Example: `  polytome loaders add mine.loader
  polytome loaders add mine.loader --yes --replace`,
		Args: needArgs(1, "a file that was shared"),
		RunE: func(cmd *cobra.Command, args []string) error {
			set, err := known()
			if err != nil {
				return err
			}
			data, err := plainfile.Read(args[0], loader.MostText)
			if err != nil {
				return err
			}
			parcel, err := share.Parse(string(data))
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			r, err := parcel.Read(set)
			if err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			present(out, parcel, r, set)
			if len(r.Failed) > 0 {
				return fmt.Errorf("%s is not added: its examples do not hold", args[0])
			}
			if !yes {
				t := &talk{in: bufio.NewReader(cmd.InOrStdin()), out: cmd.ErrOrStderr()}
				if !t.yes("Add it?", false) {
					fmt.Fprintln(out, "Nothing was added.")
					return nil
				}
			}
			return take(out, parcel, replace)
		},
	}
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "do not ask")
	cmd.Flags().BoolVar(&replace, "replace", false,
		"replace your own descriptions of the same name, and keep them beside")
	return cmd
}

// present says what a parcel will do, and where it differs from what is there.
func present(out io.Writer, parcel *share.Parcel, r *share.Reading, set *loader.Set) {
	fmt.Fprintf(out, "%s, a loader of the %s.\n", style.Clean(r.Profile.Shown), style.Clean(r.Profile.Console))
	for line := range strings.SplitSeq(parcel.Notes, "\n") {
		if line != "" {
			fmt.Fprintf(out, "  %s\n", style.Clean(line))
		}
	}
	for _, p := range r.Platforms {
		fmt.Fprintf(out, "\nThe platform %s\n", p.Name)
		was := set.Platform(p.Name)
		if was == nil {
			printSections(out, explain.Platform(p))
			continue
		}
		differs(out, "a platform", share.Differences(explain.Platform(was), explain.Platform(p)))
	}
	for _, was := range set.Profiles {
		if was.Name == r.Profile.Name {
			fmt.Fprintln(out)
			differs(out, "a loader", share.Differences(was.Explain(), r.Profile.Explain()))
			return
		}
	}
	printSections(out, r.Profile.Explain())
	for _, s := range r.Failed {
		fmt.Fprintf(out, "wrong: %s\n", style.Clean(s.Say))
	}
}

func differs(out io.Writer, what string, all []string) {
	if len(all) == 0 {
		fmt.Fprintf(out, "There is %s of that name, which says the same.\n", what)
		return
	}
	fmt.Fprintf(out, "There is %s of that name. It differs:\n", what)
	for _, l := range all {
		fmt.Fprintf(out, "  %s\n", style.Clean(l))
	}
}

// take writes what a parcel describes to the user's own descriptions. Nothing is written where something of the same
// name would have to go that may not.
func take(out io.Writer, parcel *share.Parcel, replace bool) error {
	dir := configDir()
	for i := range parcel.Documents {
		file := parcel.Documents[i].FileOf(dir)
		if _, err := os.Lstat(file); err == nil && !replace {
			return fmt.Errorf("%s is there already: --replace keeps it beside the new one", file)
		}
	}
	for i := range parcel.Documents {
		d := &parcel.Documents[i]
		file := d.FileOf(dir)
		if _, err := os.Lstat(file); err == nil {
			before := file + ".before"
			for n := 2; ; n++ { // an earlier one is kept too
				if _, err := os.Lstat(before); errors.Is(err, fs.ErrNotExist) {
					break
				}
				before = fmt.Sprintf("%s.before-%d", file, n)
			}
			if err := os.Rename(file, before); err != nil {
				return err
			}
			fmt.Fprintf(out, "kept: %s\n", filepath.Base(before))
		}
		if err := loader.WriteNew(file, d.Text); err != nil {
			return err
		}
		fmt.Fprintf(out, "written: %s\n", file)
	}
	return nil
}
