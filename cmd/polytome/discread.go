package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/config"
	"polytome/internal/core/bench"
	"polytome/internal/core/discread"
	"polytome/internal/core/discs"
	"polytome/internal/core/scan"
	"polytome/internal/optical"
	"polytome/internal/size"
	"polytome/internal/ui/state"
)

// discReadOptions are the flags of disc read and shelf.
type discReadOptions struct {
	out, into string
	bench     string
	target    string
	tries     int
	offset    int64
	twice     bool
	asJSON    bool
	eject     bool
	most      int // discs of a shelf; 0 for no end
}

func (opt *discReadOptions) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&opt.into, "into", "", "the folder of games to read into, under the name of what is on the disc")
	f.IntVar(&opt.tries, "tries", 0, "how often a block that cannot be read is tried (default: 8)")
	f.Int64Var(&opt.offset, "offset", 0,
		"by how many samples the drive gives sound too late, as its maker or a list says (default: what is "+
			"set: see polytome config)")
	f.BoolVar(&opt.twice, "twice", false, "read everything a second time, and compare")
	f.BoolVar(&opt.asJSON, "json", false, "print JSON")
}

func discReadCommand() *cobra.Command {
	var opt discReadOptions
	cmd := &cobra.Command{
		Use:   "read DRIVE",
		Short: "Read a disc into an image",
		Long: `Read reads every block of a disc into an image. First from front to back, past what cannot be read;
then what is missing, in single blocks, from both sides, slower each time. Until every block was
read, the image has the name NAME.reading, and NAME.reading.toml beside it says how each block was
read: the same command goes on where it ended, also with another copy of the disc, which gives what
this one lacks. An image that is whole gets its name, and its sums are printed. Exit status: 3 while
blocks are missing; the files that they are of are listed.

A disc of data becomes an image. One with sound, or with several tracks or sessions, becomes whole
sectors in a .bin file with a cue sheet; their data are checked by their own codes, and sound by the
marks that the drive sets, or by reading it twice where it sets none.

With --into, the image gets the name of the title on the disc; with --bench, it goes into the first
folder of games of the bench, and from there to its targets, or to the one that --target names.`,
		Example: `  polytome disc read /dev/sr0 --into ~/games --eject
  polytome disc read /dev/sr0 -o ~/games/tide.iso --twice
  polytome disc read /dev/sr0 --bench season.toml --target "North stick"`,
		Args: needArgs(1, "a disc drive, such as /dev/sr0"),
		RunE: opt.run,
	}
	f := cmd.Flags()
	f.StringVarP(&opt.out, "out", "o", "", "the image to write")
	f.StringVar(&opt.bench, "bench", "", "read into this bench's games, and fill its targets with the title")
	f.StringVar(&opt.target, "target", "", "with --bench: fill only the target of this name")
	f.BoolVar(&opt.eject, "eject", false, "open the tray at the end")
	opt.flags(cmd)
	return cmd
}

// options are what a disc is read with.
func (opt *discReadOptions) options(p *progress) (o discs.ReadOptions, err error) {
	if opt.tries < 0 {
		return o, usageError{errors.New("--tries is a number from 1 on")}
	}
	set, err := known()
	if err != nil {
		return o, err
	}
	c, err := config.Load(configFile())
	if err != nil {
		return o, err
	}
	o = discs.ReadOptions{Set: set, Offsets: c.DiscOffsets, File: state.Expand(opt.out), Dir: state.Expand(opt.into),
		Eject: opt.eject}
	o.Tries, o.Offset, o.Twice = opt.tries, opt.offset, opt.twice
	o.Progress = func(b *discread.Blocks, _ int64) { p.bytes(b.In(discread.Good)*b.Size, b.Count*b.Size) }
	o.Again = p.bytes
	return o, nil
}

func (opt *discReadOptions) run(cmd *cobra.Command, args []string) error {
	given := 0
	for _, x := range []string{opt.out, opt.into, opt.bench} {
		if x != "" {
			given++
		}
	}
	if given != 1 {
		return usageError{errors.New("say where the image goes: -o FILE, --into FOLDER or --bench FILE")}
	}
	if opt.bench != "" {
		b, err := bench.Load(state.Expand(opt.bench))
		if err != nil {
			return err
		}
		if len(b.SourcePaths()) == 0 {
			return fmt.Errorf("%s has no folder of games to read into", opt.bench)
		}
		opt.into = b.SourcePaths()[0]
	}
	ctx := cmd.Context()
	p := &progress{out: os.Stderr}
	o, err := opt.options(p)
	if err != nil {
		return err
	}
	var r *discs.Read
	err = onDisc(args[0], func(d *optical.Drive) (err error) {
		r, err = discs.ReadDisc(ctx, d, o)
		return err
	})
	p.end()
	if ctx.Err() != nil {
		return errStopped
	}
	if err != nil {
		return err
	}
	if opt.asJSON {
		err = printJSON(cmd.OutOrStdout(), r)
	} else {
		printReading(cmd.OutOrStdout(), r)
	}
	switch {
	case err != nil:
		return err
	case !r.Result.Blocks.Whole():
		return errPartial
	case opt.bench != "":
		return opt.fill(cmd, r.File)
	}
	return nil
}

// fill brings what was read to the targets of the bench.
func (opt *discReadOptions) fill(cmd *cobra.Command, file string) error {
	set, err := known()
	if err != nil {
		return err
	}
	t, err := scan.One(file, set)
	if err != nil || t == nil || t.Platform == "" {
		return errors.Join(err,
			fmt.Errorf("%s was read, but nothing says for which console it is: see polytome scan", file))
	}
	b, err := bench.Open(state.Expand(opt.bench), stateDir())
	if err != nil {
		return err
	}
	key := cmp.Or(t.ID, file)
	for n := range b.Targets {
		if opt.target == "" || b.Targets[n].Name == opt.target {
			b.Targets[n].Want(true, key)
		}
	}
	if err := b.Save(); err != nil {
		return err
	}
	b.Release()
	fill := fillCommand()
	fill.SilenceErrors, fill.SilenceUsage = true, true
	fill.SetOut(cmd.OutOrStdout())
	args := []string{"--bench", opt.bench, "--target", opt.target, "--only",
		`file:"` + strings.ReplaceAll(filepath.Base(file), `"`, "") + `"`}
	if opt.asJSON {
		args = append(args, "--json")
	}
	fill.SetArgs(args)
	return fill.ExecuteContext(cmd.Context())
}

func discShelfCommand() *cobra.Command {
	var opt discReadOptions
	cmd := &cobra.Command{
		Use:   "shelf DRIVE",
		Short: "Read one disc after the other into a folder",
		Long: `Shelf reads the disc in the drive into a folder, under the name of the title on it, opens the tray, and
waits for the next disc, until you end it with ctrl+c. A disc that was read before comes out again at
once. One that cannot be read whole stays unfinished in the folder: put another copy in, or the same
one again on another day, and it goes on where it ended. Exit status: 3 if some stayed unfinished.`,
		Example: `  polytome disc shelf /dev/sr0 --into ~/games
  polytome disc shelf /dev/sr0 --into ~/games --discs 10`,
		Args: needArgs(1, "a disc drive, such as /dev/sr0"),
		RunE: opt.shelf,
	}
	cmd.Flags().IntVar(&opt.most, "discs", 0, "end after so many discs")
	opt.flags(cmd)
	return cmd
}

func (opt *discReadOptions) shelf(cmd *cobra.Command, args []string) error {
	if opt.into == "" {
		return usageError{errors.New("say into which folder: --into FOLDER")}
	}
	opt.eject = true
	ctx, out := cmd.Context(), cmd.OutOrStdout()
	p := &progress{out: os.Stderr}
	o, err := opt.options(p)
	if err != nil {
		return err
	}
	read, lacking := 0, 0
	var all []*discs.Read
	err = onDisc(args[0], func(d *optical.Drive) error {
		for opt.most == 0 || read < opt.most {
			if read > 0 && !opt.asJSON {
				fmt.Fprintln(out, "Put the next disc in; ctrl+c ends.")
			}
			if err := discs.NextDisc(ctx, d); err != nil {
				return err
			}
			r, err := discs.ReadDisc(ctx, d, o)
			p.end()
			*p = progress{out: p.out}
			read++
			switch {
			case errors.Is(err, discread.ErrTaken):
				fmt.Fprintf(stderr(), "polytome: %v: this disc was read before\n", err)
			case errors.Is(err, discs.ErrBlank):
				fmt.Fprintln(stderr(), "polytome: this disc is empty")
				err = discs.Eject(ctx, d)
				if err != nil {
					return err
				}
			case err != nil && r == nil || ctx.Err() != nil:
				return err
			case err != nil: // this one cannot be read: the next ones may
				lacking++
				fmt.Fprintf(stderr(), "polytome: %s: %v\n", r.File, err)
				if err := discs.Eject(ctx, d); err != nil {
					return err
				}
			default:
				if !r.Result.Blocks.Whole() {
					lacking++
				}
				if all = append(all, r); !opt.asJSON {
					printReading(out, r)
				}
			}
		}
		return nil
	})
	p.end()
	if errors.Is(err, context.Canceled) {
		err = nil // which is how a shelf ends
	}
	if opt.asJSON {
		err = errors.Join(err, printJSON(out, all))
	}
	if err == nil && lacking > 0 {
		err = errPartial
	}
	return err
}

// mostSpans is how many bad places are listed, and mostHit how many files.
const (
	mostSpans = 20
	mostHit   = 20
)

func printReading(out io.Writer, read *discs.Read) {
	r, b := read.Result, read.Result.Blocks
	if t := read.Title; t != nil {
		fmt.Fprintf(out, "%s: ", discs.TitleWords(t))
	}
	if b.Whole() {
		fmt.Fprintf(out, "%s: all %s read", read.File, size.Count(int(b.Count), "block"))
		if r.Before > 0 {
			fmt.Fprintf(out, ", %s of them before", size.Exact(r.Before))
		}
		fmt.Fprintf(out, "\n  CRC-32 %s\n  SHA-1  %s\n", r.CRC32, r.SHA1)
		if r.RunOut {
			fmt.Fprintln(out, "  two blocks behind the end, which a burnt disc counts, are none and were left out")
		}
		return
	}
	if r.Differed > 0 {
		fmt.Fprintf(out, "%s: %s other ones at the second reading; the same command reads them again.\n",
			filepath.Base(r.File), map[bool]string{true: "1 block was", false: fmt.Sprintf("%d blocks were",
				r.Differed)}[r.Differed == 1])
		return
	}
	fmt.Fprintf(out, "%s: %s of %s could not be read. Read another copy of the disc, or this one again, with the same "+
		"command.\n", filepath.Base(r.File), size.Count(int(b.Count-b.In(discread.Good)), "block"), size.Exact(b.Count))
	bad := b.Of(discread.Bad)
	for i, s := range bad {
		if i == mostSpans {
			fmt.Fprintf(out, "  and %d more places\n", len(bad)-i)
			break
		}
		fmt.Fprintf(out, "  %s from block %s on, tried %s\n", size.Count(int(s.Count), "block"), size.Exact(s.First),
			size.Count(s.Tries, "time"))
	}
	if len(r.Hit) > 0 {
		names := r.Hit[:min(len(r.Hit), mostHit)]
		fmt.Fprintf(out, "  of these files: %s", strings.Join(names, ", "))
		if more := len(r.Hit) - len(names); more > 0 {
			fmt.Fprintf(out, " and %d more", more)
		}
		fmt.Fprintln(out)
	}
}
