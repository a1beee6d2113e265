package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/discburn"
	"polytome/internal/core/discs"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/optical"
	"polytome/internal/size"
	"polytome/internal/ui/state"
)

// discBurnOptions are the flags of disc burn and verify.
type discBurnOptions struct {
	loader, model   string
	speed           string
	from            []string
	title, label    string
	test, testOnly  bool
	noVerify, stays bool
	anyway, asJSON  bool
	disc            int
}

func (opt *discBurnOptions) imageFlags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringArrayVar(&opt.from, "from", nil, "with --title: folder with games (may be repeated)")
	f.StringVar(&opt.title, "title", "", "the title to take out of the folders, by its ID or name, instead of a file")
	f.IntVar(&opt.disc, "disc", 1, "with --title: which of its discs")
	f.StringVar(&opt.label, "label", "", "the volume identifier of a folder that is built into an image")
	f.BoolVar(&opt.asJSON, "json", false, "print JSON")
}

func discBurnCommand() *cobra.Command {
	var opt discBurnOptions
	cmd := &cobra.Command{
		Use:   "burn DRIVE [IMAGE | FOLDER]",
		Short: "Burn an image, a title or a folder, and read it back",
		Long: `Burn writes an image to the empty disc in a drive, finishes the disc, reads it back and compares. A
folder is built into an image on the way. With --loader, the console's rules say which kinds of discs it
reads and how fast they are best written, and with --model for which of its drives, as its label calls it.

Nothing is written to a disc that would be spoilt: the whole image is read first, and it is refused if it
is bad or too large, if the disc is of the wrong kind, or has no such speed. --anyway burns an image
that is bad. --test goes through it with the laser off first, where the drive can. Exit status: 3 if
what was read back is not the same.`,
		Example: `  polytome disc burn /dev/sr0 tide.iso --loader rowan
  polytome disc burn /dev/sr0 --title VSP-20417 --from ~/games --loader rowan
  polytome disc burn /dev/sr0 ./homebrew --label TOOLS --speed 4x --test`,
		Args: takeArgs(1, 2, "a drive, and what is burnt"),
		RunE: opt.run,
	}
	f := cmd.Flags()
	f.StringVar(&opt.loader, "loader", "", "the loader of the console that the disc is for: a name, or a .toml file")
	f.StringVar(&opt.model, "model", "", "which of the console's drives it is for, as its label calls it")
	f.StringVar(&opt.speed, "speed", "", "the speed to write at, such as 6x (default: what the console reads best)")
	f.BoolVar(&opt.test, "test", false, "go through it with the laser off first")
	f.BoolVar(&opt.testOnly, "test-only", false, "go through it with the laser off, and write nothing")
	f.BoolVar(&opt.noVerify, "no-verify", false, "do not read the disc back")
	f.BoolVar(&opt.stays, "no-eject", false, "leave the tray shut at the end")
	f.BoolVar(&opt.anyway, "anyway", false, "burn an image that is bad")
	opt.imageFlags(cmd)
	return cmd
}

// open opens what is to be burnt.
func (opt *discBurnOptions) open(ctx context.Context, args []string) (*discs.Burnable, error) {
	if (len(args) == 2) == (opt.title != "") {
		return nil, usageError{errors.New("say what to burn: an image or a folder, or --title with --from")}
	}
	set, err := known()
	if err != nil {
		return nil, err
	}
	if len(args) == 2 {
		return discs.ToBurn(ctx, state.Expand(args[1]), opt.label, set, opt.anyway)
	}
	if len(opt.from) == 0 {
		return nil, usageError{errors.New("say in which folder the title lies: --from FOLDER")}
	}
	found, err := scan.Scan(ctx, opt.from, scan.Options{Set: set})
	if err != nil {
		return nil, err
	}
	t, err := discs.Find(found.Titles, opt.title)
	if errors.Is(err, discs.ErrAmbiguous) {
		return nil, usageError{err}
	}
	if err != nil {
		return nil, err
	}
	for i := range t.Discs {
		if t.Discs[i].Number == opt.disc {
			return discs.OfTitle(ctx, t, i, opt.anyway)
		}
	}
	return nil, usageError{fmt.Errorf("%s has %s, and no disc %d", discs.TitleWords(t), size.Count(len(t.Discs),
		"disc"), opt.disc)}
}

// discRules are those of a loader for what is burnt.
func discRules(name string, t *title.Title) ([]loader.DiscRule, error) {
	if name == "" {
		return nil, nil
	}
	set, err := known()
	if err != nil {
		return nil, err
	}
	p, err := set.Profile(name)
	if err != nil {
		return nil, usageError{err}
	}
	return discs.Rules(p, t)
}

// burnt is what became of a disc.
type burnt struct {
	*discburn.Result
	Image  string   `json:"image"`
	Title  string   `json:"title,omitempty"`
	Label  string   `json:"label-text"`
	Warned []string `json:"warnings,omitempty"`
}

func (opt *discBurnOptions) run(cmd *cobra.Command, args []string) (err error) {
	ctx, out := cmd.Context(), cmd.OutOrStdout()
	var speed loader.Speed
	if opt.speed != "" {
		if err := speed.UnmarshalText([]byte(opt.speed)); err != nil {
			return usageError{fmt.Errorf("--speed: %w", err)}
		}
	}
	image, err := opt.open(ctx, args)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, image.Close()) }()
	rules, err := discRules(opt.loader, image.Title)
	if err != nil {
		return err
	}
	test := opt.test || opt.testOnly
	b := burnt{Image: strings.Join(args[1:], ""), Label: image.Label(opt.label)}
	if image.Title != nil {
		b.Title = discs.TitleWords(image.Title)
	}
	p := &stages{bar: progress{out: os.Stderr}}
	err = onDisc(args[0], func(d *optical.Drive) error {
		tray, err := discburn.Look(ctx, d)
		if err != nil {
			return err
		}
		s, err := tray.Settle(discburn.Wanted{Bytes: image.Size, Speed: speed, Test: test, Rules: rules,
			Drive: opt.model})
		if err != nil {
			return fmt.Errorf("nothing was written: %w", err)
		}
		b.Warned = s.Warn
		for _, w := range s.Warn {
			fmt.Fprintf(stderr(), "polytome: note: %s\n", w)
		}
		b.Result, err = tray.Burn(ctx, d, image, image.Size, s, discburn.Options{Test: test, Only: opt.testOnly,
			NoVerify: opt.noVerify, Progress: p.show})
		if err == nil && !opt.stays && !opt.testOnly {
			err = d.Eject(ctx)
		}
		return err
	})
	p.bar.end()
	if b.Result != nil && opt.asJSON {
		err = errors.Join(err, printJSON(out, b))
	}
	if err != nil {
		if b.Result != nil && b.Spoilt {
			err = fmt.Errorf("%w; the disc is spoilt", err)
		}
		if ctx.Err() != nil {
			return errors.Join(errStopped, err)
		}
		return err
	}
	if !opt.asJSON {
		b.print(out, opt)
	}
	if !b.Verified && !opt.noVerify && !opt.testOnly {
		return errPartial
	}
	return nil
}

func (b *burnt) print(out io.Writer, opt *discBurnOptions) {
	what := b.Image
	if b.Title != "" {
		what = b.Title
	}
	if opt.testOnly {
		fmt.Fprintf(out, "%s: the test went well, and nothing was written.\n", what)
		return
	}
	fmt.Fprintf(out, "%s: %s written", what, size.Count(int(b.Written), "block"))
	if b.Speed != "" {
		fmt.Fprintf(out, " at %s", b.Speed)
	}
	printBack(out, b.Result, opt.noVerify)
	fmt.Fprintf(out, "  For the label: %s\n", b.Label)
}

func printBack(out io.Writer, r *discburn.Result, not bool) {
	bad := len(r.Differ) + len(r.Unread)
	switch {
	case not:
		fmt.Fprintln(out, ", not read back.")
	case bad == 0:
		fmt.Fprintln(out, ", all of them read back and the same.")
	default:
		fmt.Fprintf(out, ". Read back, %s bad: burn it again on another disc, at a lower speed.\n",
			map[bool]string{true: "1 block is", false: fmt.Sprintf("%d blocks are", bad)}[bad == 1])
		for _, x := range []struct {
			what string
			at   []int64
		}{{"cannot be read", r.Unread}, {"not the same", r.Differ}} {
			if len(x.at) > 0 {
				fmt.Fprintf(out, "  %s: %s, the first one at %s\n", x.what, size.Count(len(x.at), "block"),
					size.Exact(x.at[0]))
			}
		}
	}
	if r.Slowly > 0 {
		fmt.Fprintf(out, "  %s read only slowly: the disc may not last.\n", map[bool]string{true: "1 block was",
			false: fmt.Sprintf("%d blocks were", r.Slowly)}[r.Slowly == 1])
	}
	fmt.Fprintf(out, "  SHA-1  %s\n", r.SHA1)
}

// stages shows how far a disc is.
type stages struct {
	bar  progress
	last discburn.Stage
}

func (s *stages) show(stage discburn.Stage, done, of int64) {
	if stage != s.last {
		s.bar.end()
		s.bar, s.last = progress{out: s.bar.out}, stage
		if isTerminal(s.bar.out) && !prints.quiet {
			fmt.Fprintf(s.bar.out, "%s\n", map[discburn.Stage]string{discburn.Reading: "Reading the image",
				discburn.Testing: "Testing with the laser off", discburn.Writing: "Writing",
				discburn.Finishing: "Finishing, which takes a while", discburn.Verifying: "Reading back"}[stage])
		}
	}
	if of > 0 {
		s.bar.bytes(done*2048, of*2048)
	}
}

func discVerifyCommand() *cobra.Command {
	var opt discBurnOptions
	cmd := &cobra.Command{
		Use:   "verify DRIVE [IMAGE | FOLDER]",
		Short: "Compare a disc with an image, a title or a folder",
		Long: `Verify reads a disc and compares it with the image that it was burnt from. Blocks that cannot be read
are tried again, slowly. Exit status: 3 if it is not the same.`,
		Example: `  polytome disc verify /dev/sr0 tide.iso
  polytome disc verify /dev/sr0 --title VSP-20417 --from ~/games`,
		Args: takeArgs(1, 2, "a drive, and what it is compared with"),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			opt.anyway = true
			ctx, out := cmd.Context(), cmd.OutOrStdout()
			image, err := opt.open(ctx, args)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, image.Close()) }()
			p := &stages{bar: progress{out: os.Stderr}}
			var r *discburn.Result
			err = onDisc(args[0], func(d *optical.Drive) (err error) {
				r, err = discburn.Verify(ctx, d, image, image.Size, p.show)
				return err
			})
			p.bar.end()
			if err != nil {
				return err
			}
			if opt.asJSON {
				err = printJSON(out, r)
			} else {
				fmt.Fprint(out, size.Count(int((image.Size+2047)/2048), "block"))
				printBack(out, r, false)
			}
			if err == nil && !r.Verified {
				err = errPartial
			}
			return err
		},
	}
	opt.imageFlags(cmd)
	return cmd
}
