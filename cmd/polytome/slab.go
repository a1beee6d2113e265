package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/slabdisk"
	"polytome/internal/format/slab"
	"polytome/internal/size"
)

func slabCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "slab",
		Short:   "Work with a console's own disk: a slab disk in an image file",
		Example: "  polytome slab format vesper.img --size 500GB\n  polytome slab add vesper.img ~/games/*.iso",
		Long: `A slab disk has titles with a record each, and no folders. Every change is whole or not made at all,
whatever happens meanwhile. docs/formats/slab.md describes the format. The disk is in an image file,
or is exported by the console: nbd://192.168.0.20/vesper-disk.`,
	}
	cmd.AddCommand(slabFormat(), slabLs(), slabAdd(), slabOut(), slabRename(), slabSet(), slabRemove(), slabPut(),
		slabCheck(), slabRepair(), slabCompact(), slabClone())
	return cmd
}

// atLeast asks for so many arguments, described in words.
func atLeast(n int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) < n {
			return usageError{fmt.Errorf("%s needs %s", cmd.CommandPath(), what)}
		}
		return nil
	}
}

// changing has a function change the disk in a file.
func changing(ctx context.Context, file string, do func(im *slabdisk.Image) error) error {
	im, err := slabdisk.Open(ctx, file, true)
	if err != nil {
		return err
	}
	return errors.Join(do(im), im.Close())
}

// counting shows how far work of so many bytes is; end ends that.
func counting(total int64) (count func(n int64), end func()) {
	p, done := &progress{out: os.Stderr}, int64(0)
	return func(n int64) { done += n; p.bytes(done, max(done, total)) }, p.end
}

// slabFormatOptions are the flags of slab format.
type slabFormatOptions struct {
	size, label, sector string
	yes                 bool
}

func slabFormat() *cobra.Command {
	var opt slabFormatOptions
	cmd := &cobra.Command{
		Use:   "format FILE [--size SIZE]",
		Short: "Make an empty slab disk in an image file",
		Long: `Format makes an empty disk in a new file, or in one that is there. What is on that is lost: it is listed by
name, and nothing happens without --yes.`,
		Example: "  polytome slab format vesper.img --size 500GB --label FERRY\n  polytome slab format vesper.img --yes",
		Args:    one("the image file"),
		RunE:    opt.run,
	}
	f := cmd.Flags()
	f.StringVar(&opt.size, "size", "", "the size of a new file, such as 500GB")
	f.StringVar(&opt.label, "label", "", "the disk's label")
	f.StringVar(&opt.sector, "sector", "512", "bytes of a sector: 512 or 4096")
	f.BoolVar(&opt.yes, "yes", false, "lose what is on it")
	return cmd
}

func (opt *slabFormatOptions) run(cmd *cobra.Command, args []string) error {
	o, n := slab.Options{Label: opt.label}, int64(0)
	var err error
	if opt.size != "" {
		if n, err = size.Parse(opt.size); err != nil {
			return usageError{fmt.Errorf("--size: %w", err)}
		}
	}
	if o.Sector, err = size.Parse(opt.sector); err != nil {
		return usageError{fmt.Errorf("--sector: %w", err)}
	}
	on, err := slabdisk.OnIt(cmd.Context(), args[0])
	if err != nil {
		return err
	}
	out := cmd.OutOrStdout()
	if len(on) > 0 {
		fmt.Fprintf(out, "This would be lost from %s:\n", args[0])
		for _, say := range on {
			fmt.Fprintf(out, "  %s\n", say)
		}
		if !opt.yes {
			return fmt.Errorf("%s was not changed: --yes formats it, and loses this", args[0])
		}
	}
	if info, err := os.Stat(args[0]); n == 0 && !slabdisk.Remote(args[0]) && (err != nil || info.Size() == 0) {
		return usageError{errors.New("--size is needed for a new file, such as 500GB")}
	}
	im, err := slabdisk.Format(cmd.Context(), args[0], n, o)
	if err != nil {
		return err
	}
	i := im.Info()
	fmt.Fprintf(out, "%s: a slab disk of %s, %s free\n", args[0], size.Format(i.Slabs*slab.Slab), size.Format(i.Free))
	return im.Close()
}

func slabLs() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use:     "ls FILE",
		Short:   "List what is on a slab disk",
		Example: "  polytome slab ls vesper.img",
		Args:    one("the image file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			im, err := slabdisk.Open(cmd.Context(), args[0], false)
			if err != nil {
				return err
			}
			defer im.Close() // which was read from
			i, titles, files := im.Info(), im.Titles(), im.Files()
			out := cmd.OutOrStdout()
			if asJSON {
				return printJSON(out, map[string]any{"disk": i, "titles": titles, "files": files})
			}
			for _, t := range titles {
				fmt.Fprintf(out, "%-12s %-8s %10s  %s%s\n", t.ID, t.Kind, size.Format(t.Size), t.Name, more(&t))
			}
			for _, f := range files {
				fmt.Fprintf(out, "%-12s %-8s %10s  %s\n", "", "file", size.Format(f.Size), f.Name)
			}
			fmt.Fprintf(out, "%s: %s, %s, %s free of %s\n", orNone(i.Label), size.Count(i.Titles, "title"),
				size.Count(i.Files, "small file"), size.Format(i.Free), size.Format(i.Slabs*slab.Slab))
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func orNone(label string) string {
	if label == "" {
		return "without a label"
	}
	return label
}

// more is what a line of a title says besides: its settings, and that it lies in pieces.
func more(t *slab.Title) string {
	var b strings.Builder
	for _, key := range slices.Sorted(maps.Keys(t.Settings)) {
		fmt.Fprintf(&b, "  %s=%s", key, t.Settings[key])
	}
	if len(t.Extents) > 1 {
		fmt.Fprintf(&b, "  in %d pieces", len(t.Extents))
	}
	return b.String()
}

// settingsOf reads key=value words; a key without a value is taken away.
func settingsOf(words []string) (map[string]string, error) {
	out := map[string]string{}
	for _, w := range words {
		key, value, ok := strings.Cut(w, "=")
		if !ok || key == "" {
			return nil, usageError{fmt.Errorf("%q is no setting: key=value", w)}
		}
		out[key] = value
	}
	return out, nil
}

func slabAdd() *cobra.Command {
	var as slabdisk.As
	var set []string
	cmd := &cobra.Command{
		Use:   "add FILE GAME…",
		Short: "Add titles to a slab disk",
		Long: `Add takes images, and archives with an image, and adds each under its own ID and name. What was written
is read back and compared. Cut off at any moment, the disk has the title whole or not at all.`,
		Example: "  polytome slab add vesper.img ~/games/*.iso\n  polytome slab add vesper.img tide.iso --set " +
			"timing=b --replace",
		Args: atLeast(2, "the image file, and a game"),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if as.Settings, err = settingsOf(set); err != nil {
				return err
			}
			if as.ID != "" && len(args) > 2 {
				return usageError{errors.New("--id is for one game")}
			}
			platforms, err := known()
			if err != nil {
				return err
			}
			return changing(cmd.Context(), args[0], func(im *slabdisk.Image) error {
				var failed []error
				for _, game := range args[1:] {
					total := int64(0)
					if info, err := os.Stat(game); err == nil {
						total = info.Size()
					}
					count, end := counting(total)
					t, err := im.Add(cmd.Context(), platforms, game, as, count)
					if end(); err == nil {
						fmt.Fprintf(cmd.OutOrStdout(), "added: %s %s, %s\n", t.ID, t.Name, size.Format(t.Size))
					}
					if err = said(cmd.Context(), err); errors.Is(err, errStopped) {
						return err
					}
					failed = append(failed, err) // the others go on
				}
				return errors.Join(failed...)
			})
		},
	}
	f := cmd.Flags()
	f.StringVar(&as.ID, "id", "", "its ID, instead of its own")
	f.StringVar(&as.Name, "name", "", "its name, instead of its own")
	f.StringVar(&as.Kind, "kind", "", "its kind, instead of its own")
	f.StringVar(&as.Cover, "cover", "", "the small file on the disk that is its cover")
	f.StringArrayVar(&set, "set", nil, "a setting, key=value; may be given again")
	f.BoolVar(&as.Replace, "replace", false, "replace one with the same ID, when the new one is whole")
	return cmd
}

func slabOut() *cobra.Command {
	to := "."
	cmd := &cobra.Command{
		Use:     "out FILE ID…",
		Short:   "Take titles out of a slab disk, as images",
		Long:    `Out writes the image of each title to a folder, when its checksum is right. The disk stays as it is.`,
		Example: "  polytome slab out vesper.img VSP-20417 --to ~/games",
		Args:    atLeast(2, "the image file, and the ID of a title"),
		RunE: func(cmd *cobra.Command, args []string) error {
			im, err := slabdisk.Open(cmd.Context(), args[0], false)
			if err != nil {
				return err
			}
			defer im.Close() // which was read from
			var failed []error
			for _, id := range args[1:] {
				count, end := counting(0)
				file, err := im.Out(cmd.Context(), id, to, count)
				end()
				if err = said(cmd.Context(), err); errors.Is(err, errStopped) {
					return err
				}
				if err == nil {
					fmt.Fprintf(cmd.OutOrStdout(), "written: %s\n", file)
				}
				failed = append(failed, err)
			}
			return errors.Join(failed...)
		},
	}
	cmd.Flags().StringVar(&to, "to", ".", "the folder to write to")
	return cmd
}

func slabRename() *cobra.Command {
	return &cobra.Command{
		Use: "rename FILE ID NAME", Short: "Give a title of a slab disk another name",
		Example: "  polytome slab rename vesper.img VSP-20417 Copper Tide",
		Args:    atLeast(3, "the image file, a title's ID, and its new name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return changing(cmd.Context(), args[0], func(im *slabdisk.Image) error {
				return im.Rename(args[1], strings.Join(args[2:], " "))
			})
		},
	}
}

func slabSet() *cobra.Command {
	all := false
	cmd := &cobra.Command{
		Use: "set FILE [ID…] key=value…", Short: "Change settings of titles on a slab disk",
		Long: `Set changes settings of the titles that are named, or of all; key= takes one away. The others stay.`,
		Example: "  polytome slab set vesper.img VSP-20417 timing=c tray=\n  polytome slab set vesper.img --all " +
			"tray=open",
		Args: atLeast(2, "the image file, and a setting key=value"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ids, words := []string{}, []string{}
			for _, w := range args[1:] {
				if strings.Contains(w, "=") {
					words = append(words, w)
				} else {
					ids = append(ids, w)
				}
			}
			settings, err := settingsOf(words)
			if err != nil {
				return err
			}
			if len(words) == 0 || all == (len(ids) > 0) {
				return usageError{errors.New("name titles by their IDs or give --all, and a setting key=value")}
			}
			return changing(cmd.Context(), args[0], func(im *slabdisk.Image) error {
				if all {
					for _, t := range im.Titles() {
						ids = append(ids, t.ID)
					}
				}
				var failed []error
				for _, id := range ids {
					failed = append(failed, im.Set(id, settings))
				}
				return errors.Join(failed...)
			})
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "of all titles")
	return cmd
}

func slabRemove() *cobra.Command {
	file := false
	cmd := &cobra.Command{
		Use: "rm FILE ID…", Short: "Remove titles from a slab disk",
		Example: "  polytome slab rm vesper.img VSP-20417\n  polytome slab rm vesper.img --file rowan-net.lst",
		Args:    atLeast(2, "the image file, and the ID of a title"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return changing(cmd.Context(), args[0], func(im *slabdisk.Image) error {
				var failed []error
				for _, id := range args[1:] {
					remove := im.Remove
					if file {
						remove = im.RemoveFile
					}
					err := remove(id)
					if err == nil {
						fmt.Fprintf(cmd.OutOrStdout(), "removed: %s\n", id)
					}
					failed = append(failed, err)
				}
				return errors.Join(failed...)
			})
		},
	}
	cmd.Flags().BoolVar(&file, "file", false, "remove small files, by their names")
	return cmd
}

func slabPut() *cobra.Command {
	cover := ""
	cmd := &cobra.Command{
		Use: "put FILE SOURCE NAME", Short: "Put a small file on a slab disk: a cover, a list, the loader's own",
		Example: "  polytome slab put vesper.img tide.jpg faces/front/VSP-20417.jpg --cover-of VSP-20417",
		Args:    atLeast(3, "the image file, the file to put there, and its name on the disk"),
		RunE: func(cmd *cobra.Command, args []string) error {
			info, err := os.Stat(args[1])
			if err != nil {
				return err
			}
			if info.Size() > largestSmall {
				return fmt.Errorf("%s has %s, and a small file at most %s", args[1], size.Format(info.Size()),
					size.Format(largestSmall))
			}
			b, err := os.ReadFile(args[1])
			if err != nil {
				return err
			}
			return changing(cmd.Context(), args[0], func(im *slabdisk.Image) error {
				if err := im.PutFile(cmd.Context(), args[2], b, info.ModTime()); err != nil || cover == "" {
					return err
				}
				return im.SetCover(cover, args[2])
			})
		},
	}
	cmd.Flags().StringVar(&cover, "cover-of", "", "make it the cover of the title with this ID")
	return cmd
}

// largestSmall is how many bytes are read at once for a small file.
const largestSmall = 256 << 20

func slabCheck() *cobra.Command {
	deep, asJSON := false, false
	cmd := &cobra.Command{
		Use: "check FILE", Short: "Look for what is wrong on a slab disk",
		Example: "  polytome slab check vesper.img --deep",
		Args:    one("the image file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			im, err := slabdisk.Open(cmd.Context(), args[0], false)
			if err != nil {
				return err
			}
			defer im.Close() // which was read from
			total := int64(0)
			for _, t := range im.Titles() {
				total += t.Size
			}
			count, end := counting(total)
			problems, err := im.Check(cmd.Context(), deep, count)
			if end(); err != nil {
				return said(cmd.Context(), err)
			}
			out := cmd.OutOrStdout()
			if asJSON {
				err = printJSON(out, map[string]any{"problems": append([]slab.Problem{}, problems...)})
			} else {
				printProblems(out, problems)
				if len(problems) == 0 {
					fmt.Fprintln(out, "Nothing is wrong"+map[bool]string{true: ".",
						false: "; --deep also reads every title."}[deep])
				}
			}
			if len(problems) > 0 && err == nil {
				err = errProblems
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&deep, "deep", false, "read every title, and compare its checksum")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

var errProblems = errors.New("there are problems: slab repair fixes what can be fixed")

func printProblems(out io.Writer, all []slab.Problem) {
	for _, p := range all {
		fmt.Fprintf(out, "%s: %s\n", p.Of, p.Say)
	}
}

func slabRepair() *cobra.Command {
	dry := false
	cmd := &cobra.Command{
		Use: "repair FILE", Short: "Repair a slab disk",
		Example: "  polytome slab repair vesper.img --dry-run",
		Long: `Repair says what it will do before it does it. A damaged header or table is written again; where both tables
are lost, the titles are found by what stands in front of them, and kept if they are whole.`,
		Args: one("the image file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			count, end := counting(0)
			r, done, err := slabdisk.Repair(cmd.Context(), args[0], count)
			if end(); err != nil {
				return said(cmd.Context(), err)
			}
			out := cmd.OutOrStdout()
			for _, say := range r.Do {
				fmt.Fprintln(out, say)
			}
			printProblems(out, r.Lost)
			switch {
			case len(r.Do) == 0:
				fmt.Fprintln(out, "Nothing has to be repaired.")
			case dry:
				fmt.Fprintln(out, "Nothing was changed.")
			default:
				if _, err := r.Apply(); err != nil {
					return errors.Join(err, done())
				}
				fmt.Fprintln(out, "Repaired.")
			}
			return done()
		},
	}
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only show what would be done")
	return cmd
}

func slabCompact() *cobra.Command {
	return &cobra.Command{
		Use: "compact FILE", Example: "  polytome slab compact vesper.img",
		Short: "Move titles so that each and the free space are in one piece",
		Long:  `Compact moves one title after another. It can be stopped at any moment, and goes on where it was.`,
		Args:  one("the image file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return changing(cmd.Context(), args[0], func(im *slabdisk.Image) error {
				count, end := counting(0)
				n, err := im.Compact(cmd.Context(), count)
				end()
				fmt.Fprintf(cmd.OutOrStdout(), "moved: %s\n", size.Count(n, "title"))
				return said(cmd.Context(), err)
			})
		},
	}
}

func slabClone() *cobra.Command {
	bytes := ""
	cmd := &cobra.Command{
		Use: "clone FILE NEW --size SIZE", Short: "Copy a slab disk to a larger one",
		Long: `Clone makes a new disk in a new file with all that is on the old one, each title in one piece. Every title is
compared with its checksum on the way.`,
		Example: "  polytome slab clone vesper.img larger.img --size 2TB",
		Args:    atLeast(2, "the image file, and the new one"),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := size.Parse(bytes)
			if err != nil && !slabdisk.Remote(args[1]) {
				return usageError{fmt.Errorf("--size: %w", err)}
			}
			im, err := slabdisk.Open(cmd.Context(), args[0], false)
			if err != nil {
				return err
			}
			defer im.Close() // which was read from
			count, end := counting(0)
			err = im.Clone(cmd.Context(), args[1], n, count)
			if end(); err != nil {
				return said(cmd.Context(), err)
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s: %s\n", args[1], size.Count(im.Info().Titles, "title"))
			return nil
		},
	}
	cmd.Flags().StringVar(&bytes, "size", "", "the size of the new disk, such as 2TB")
	return cmd
}
