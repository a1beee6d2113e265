package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"polytome/internal/format/archive"
	"polytome/internal/format/container"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/folder"
	"polytome/internal/ui/style"
)

func imageCommand() *cobra.Command {
	var o container.Options
	cmd := &cobra.Command{
		Use:   "image",
		Short: "Examine, unpack, build and convert disc images, tracks and archives",
		Long: `Image lists and unpacks disc images (ISO 9660 with Joliet and Rock Ridge, UDF, raw sectors, packed
images), cue sheets and archives (zip, 7z, RAR, LHA). It also builds and packs images, splits and
joins files, and converts tracks.

Sources are never touched, and existing files are never overwritten. A file gets its name when it is complete.`,
		Example: "  polytome image ls game.iso\n  polytome image build ./disc -o disc.iso --udf\n  polytome image " +
			"pack game.skd -o game.pkd\n  polytome image check game.pkd",
	}
	cmd.PersistentFlags().StringArrayVar(&o.Passwords, "password", nil, "try this password (may be repeated)")
	cmd.PersistentFlags().BoolVar(&o.Allow, "allow-large", false,
		"also open archives that are suspiciously large inside")
	cmd.PersistentFlags().BoolVar(&o.UDF, "udf", false, "show the UDF side of an image that also has ISO 9660")
	cmd.PersistentFlags().StringVar(&o.In, "in", "", "look into this image inside the file (several with // between)")
	cmd.AddCommand(imageInfo(&o), imageLs(&o), imageCat(&o), imageExtract(&o), imageBuild(), imageSplit(), imageJoin(),
		imagePack(), imageUnpack(), imageTracks(), imagePieces(), imageCheck(&o))
	return cmd
}

// openContainer opens the file and says in words what is the matter with it.
func openContainer(file string, o container.Options) (*container.Container, error) {
	c, err := container.Open(file, o)
	if err != nil {
		return nil, hint(file, err)
	}
	for _, name := range c.Unsafe {
		fmt.Fprintf(stderr(), "skipped: %s: the name leads out of the archive\n", style.Clean(name))
	}
	return c, nil
}

// hint names the file that an error is about, and what can be done.
func hint(file string, err error) error {
	var large *archive.TooLarge
	switch {
	case errors.Is(err, archive.ErrPassword):
		err = fmt.Errorf("%w; give it with --password", err)
	case errors.As(err, &large):
		err = fmt.Errorf("%w; if you trust it, add --allow-large", err)
	}
	return fmt.Errorf("%s: %w", style.Clean(file), err)
}

// listed is one line of a listing.
type listed struct {
	Name     string    `json:"name"`
	Dir      bool      `json:"dir,omitempty"`
	Size     int64     `json:"size"` // in bytes
	Modified time.Time `json:"modified,omitzero"`
}

func imageLs(o *container.Options) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:     "ls FILE [PATH]",
		Short:   "List the files in an image or archive",
		Example: "  polytome image ls game.iso\n  polytome image ls games.7z --in disc/game.iso SOUND",
		Args:    oneOrTwo("the file to examine, and optionally a path in it"),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := openContainer(args[0], *o)
			if err != nil {
				return err
			}
			defer c.Close()
			var all []listed
			partial := false
			err = fs.WalkDir(c, inner(args), func(name string, d fs.DirEntry, err error) error {
				if err != nil && d == nil {
					return err
				}
				if err != nil {
					fmt.Fprintf(stderr(), "not read: %s: %v\n", style.Clean(name), err)
					partial = true
					return nil
				}
				info, err := d.Info()
				if err != nil || name == "." {
					return err
				}
				l := listed{Name: name, Dir: d.IsDir(), Modified: info.ModTime()}
				if !l.Dir {
					l.Size = info.Size()
				}
				all = append(all, l)
				return nil
			})
			if err != nil {
				return err
			}
			if asJSON {
				err = printJSON(cmd.OutOrStdout(), struct {
					Kind   string   `json:"kind"`
					Label  string   `json:"label,omitempty"`
					Damage string   `json:"damage,omitempty"`
					Files  []listed `json:"files"`
				}{c.Kind, c.Label, say(c.Damage), all})
			} else {
				printListing(cmd.OutOrStdout(), c, all)
			}
			if err == nil && (partial || c.Damage != nil) {
				err = errPartial
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func say(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}

func printListing(out io.Writer, c *container.Container, all []listed) {
	head := strings.TrimPrefix(c.Kind, ".")
	if c.Label != "" {
		head += fmt.Sprintf(", volume %q", c.Label)
	}
	fmt.Fprintln(out, head)
	var bytes int64
	files := 0
	for _, l := range all {
		when := "                "
		if !l.Modified.IsZero() {
			when = l.Modified.Format("2006-01-02 15:04")
		}
		if l.Dir {
			fmt.Fprintf(out, "%15s  %s  %s/\n", "", when, style.Clean(l.Name))
			continue
		}
		files++
		bytes += l.Size
		fmt.Fprintf(out, "%15s  %s  %s\n", size.Exact(l.Size), when, style.Clean(l.Name))
	}
	fmt.Fprintf(out, "%s, %s bytes\n", size.Count(files, "file"), size.Exact(bytes))
	if c.Damage != nil {
		fmt.Fprintf(out, "DAMAGED: %v\n", c.Damage)
	}
}

func imageCat(o *container.Options) *cobra.Command {
	return &cobra.Command{
		Use:     "cat FILE PATH",
		Short:   "Write one file of an image or archive to standard output",
		Example: "  polytome image cat game.iso VESPER.INF",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) != 2 {
				return usageError{fmt.Errorf("%s needs a file and a path inside it", cmd.CommandPath())}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := openContainer(args[0], *o)
			if err != nil {
				return err
			}
			defer c.Close()
			f, err := c.Open(inner(args))
			if err != nil {
				return hint(args[0], err)
			}
			defer f.Close()
			if _, err = io.Copy(cmd.OutOrStdout(), f); err != nil {
				return hint(args[0], err)
			}
			return nil
		},
	}
}

// imageExtractOptions are the flags of image extract.
type imageExtractOptions struct {
	to, as string
	asJSON bool
	opened *container.Options // how images and archives are opened
}

func imageExtract(o *container.Options) *cobra.Command {
	opt := imageExtractOptions{opened: o}
	cmd := &cobra.Command{
		Use:   "extract FILE [PATH] --to DIR",
		Short: "Unpack an image or archive, or one file or folder of it, into a folder",
		Long: `Extract writes inside the given folder and nowhere else, whatever the names in the archive say.
Existing files are never overwritten. Names that the folder's filesystem cannot hold or tell apart
are changed, and listed; --as gives the filesystem that the folder stands for.`,
		Example: "  polytome image extract game.iso --to ./game\n  polytome image extract game.iso SOUND --to ./game",
		Args:    oneOrTwo("the file to unpack, and optionally a path in it"),
		RunE:    opt.run,
	}
	cmd.Flags().StringVar(&opt.to, "to", "", "the folder to write into")
	cmd.Flags().StringVar(&opt.as, "as", "",
		"make names legal on fat32, exfat, ntfs or ext4 (default: the folder's own filesystem)")
	cmd.Flags().BoolVar(&opt.asJSON, "json", false, "print JSON")
	return cmd
}

func (opt *imageExtractOptions) run(cmd *cobra.Command, args []string) error {
	if opt.to == "" {
		return usageError{errors.New("--to DIR is needed: the folder to write to")}
	}
	c, err := openContainer(args[0], *opt.opened)
	if err != nil {
		return err
	}
	defer c.Close()
	holds, err := filesystemOf(cmd.Context(), opt.to, opt.as)
	if err != nil {
		return err
	}
	renamed := map[string]string{}
	type failure struct {
		Name string `json:"name"`
		Say  string `json:"say"`
	}
	failed := []failure{}
	for _, name := range c.Unsafe {
		failed = append(failed, failure{name, "its name leads out of the folder"})
	}
	for _, r := range c.Renamed {
		renamed[r.From] = r.To
		fmt.Fprintf(stderr(), "renamed: %s is %s there: %s\n", style.Clean(r.From), style.Clean(r.To), r.Why)
	}
	files, bytes, err := container.Extract(cmd.Context(), c, inner(args), opt.to, func(names []string) []string {
		out, _ := holds.Inside(names, nil)
		for i := range names {
			if out[i] != names[i] {
				renamed[names[i]] = out[i]
				fmt.Fprintf(stderr(), "renamed: %s is %s there\n", style.Clean(names[i]), style.Clean(out[i]))
			}
		}
		return out
	}, func(name string, err error) {
		failed = append(failed, failure{name, err.Error()})
		fmt.Fprintf(stderr(), "not unpacked: %s: %v\n", style.Clean(name), err)
	})
	if errors.Is(err, cmd.Context().Err()) && err != nil {
		return errStopped
	}
	if err != nil {
		return err
	}
	if opt.asJSON {
		err = printJSON(cmd.OutOrStdout(), struct {
			Files  int       `json:"files"`
			Bytes  int64     `json:"bytes"`
			To     string    `json:"to"`
			Failed []failure `json:"failed"`
			// Renamed are files that are named otherwise there.
			Renamed map[string]string `json:"renamed,omitempty"`
		}{files, bytes, opt.to, failed, renamed})
	} else {
		fmt.Fprintf(cmd.OutOrStdout(), "%s, %s bytes, in %s\n", size.Count(files, "file"), size.Exact(bytes),
			style.Clean(opt.to))
	}
	if err == nil && (len(failed) > 0 || c.Damage != nil) {
		err = errPartial
	}
	return err
}

// filesystemOf is the one that a folder, which need not be there yet, is on or stands for.
func filesystemOf(ctx context.Context, dir, as string) (target.Filesystem, error) {
	if as != "" {
		return target.FilesystemNamed(as)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return target.Filesystem{}, err
	}
	p, err := folder.Open(dir, folder.Options{})
	if err != nil {
		return target.Filesystem{}, err
	}
	defer p.Close()
	f, err := p.Facts(ctx, []target.Entry{})
	return f.Filesystem, err
}

// inner is the path in a container, as one for [io/fs].
func inner(args []string) string {
	if len(args) < 2 {
		return "."
	}
	return path.Clean(strings.Trim(args[1], "/"))
}

func oneOrTwo(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) < 1 || len(args) > 2 {
			return usageError{fmt.Errorf("%s needs %s", cmd.CommandPath(), what)}
		}
		return nil
	}
}
