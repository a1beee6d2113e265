package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"polytome/internal/core/convert"
	"polytome/internal/core/loader"
	"polytome/internal/format/packed"
	"polytome/internal/size"
)

// imagePackOptions are the flags of image pack.
type imagePackOptions struct {
	out, block, most string
	dry, asJSON      bool
	how              convert.PackOptions
}

func imagePack() *cobra.Command {
	var opt imagePackOptions
	cmd := &cobra.Command{
		Use:   "pack FILE -o FILE.pkd",
		Short: "Pack a disc image: leave out blocks that hold nothing",
		Long: `Pack leaves out blocks of zeros, and blocks that the disc itself says it does not use. What such
blocks hold becomes zeros: how much that can be is shown before, and how much it was afterwards.
With --keep-unused only zeros are left out, and unpacking restores the image bit for bit.`,
		Example: "  polytome image pack game.skd -o game.pkd\n  polytome image pack game.skd -o game.pkd --compress " +
			"--largest 3GiB\n  polytome image pack game.skd --dry-run",
		Args: one("the image"),
		RunE: opt.run,
	}
	f := cmd.Flags()
	f.StringVarP(&opt.out, "output", "o", "", "the packed image to write; - is standard output")
	f.BoolVar(&opt.how.Compress, "compress", false, "compress blocks with Zstandard; not every loader reads that")
	f.BoolVar(&opt.how.KeepUnused, "keep-unused", false, "also keep what the disc does not use")
	f.StringVar(&opt.block, "block", "", "bytes in a block, a power of two from 4KiB to 1MiB (default 32KiB)")
	f.StringVar(&opt.most, "largest", "", "split into further files (.2.pkd, .3.pkd) of at most this size, such as 3GiB")
	f.BoolVar(&opt.dry, "dry-run", false, "only show what packing would do")
	f.BoolVar(&opt.asJSON, "json", false, "print JSON")
	return cmd
}

func (opt *imagePackOptions) run(cmd *cobra.Command, args []string) error {
	if opt.out == "" && !opt.dry {
		return usageError{errors.New("-o FILE is needed; - is standard output")}
	}
	var limit loader.Size
	for flag, v := range map[string]struct {
		text string
		into *int64
	}{"block": {opt.block, &opt.how.Block}, "largest": {opt.most, (*int64)(&limit)}} {
		if v.text == "" {
			continue
		}
		n, err := size.Parse(v.text)
		if err != nil || n <= 0 {
			return usageError{fmt.Errorf("--%s: %q is not a size", flag, v.text)}
		}
		*v.into = n
	}
	if opt.out == "-" && limit > 0 {
		return usageError{errors.New("standard output cannot be split: omit --largest")}
	}
	set, err := known()
	if err != nil {
		return err
	}
	in, done, err := fromInput(args[0], cmd.InOrStdin(), cmd.ErrOrStderr())
	if err != nil {
		return err
	}
	defer done()
	p, err := convert.ProspectOf(in, set, opt.how)
	if err != nil {
		return err
	}
	say := report(cmd, opt.out)
	if !opt.asJSON {
		printProspect(say, p)
	}
	if opt.dry {
		if opt.asJSON {
			return printJSON(cmd.OutOrStdout(), p)
		}
		return nil
	}
	emit := &progress{out: os.Stderr}
	var r packed.Report
	names := []string{opt.out}
	if opt.out == "-" {
		r, err = convert.Pack(cmd.Context(), in, p, convert.Stream{Writer: cmd.OutOrStdout()}, opt.how, emit.bytes)
	} else {
		to, name, openErr := convert.Destination(opt.out)
		if openErr != nil {
			return openErr
		}
		defer to.Close()
		c := convert.NewCutter(cmd.Context(), to, int64(limit),
			func(n int) string { return packed.PartName(name, n) })
		r, err = convert.Pack(cmd.Context(), in, p, c, opt.how, emit.bytes)
		err = c.End(err)
		names = names[:0]
		for _, n := range c.Names {
			names = append(names, filepath.Join(filepath.Dir(opt.out), n))
		}
	}
	emit.end()
	if err != nil {
		return said(cmd.Context(), err)
	}
	if opt.asJSON {
		return printJSON(say, struct {
			Files []string `json:"files"`
			convert.Prospect
			packed.Report
			Exact bool `json:"exact"`
		}{names, p, r, r.Exact()})
	}
	fmt.Fprintf(say, "%s, %s bytes, %.0f %% of the image", clean(names[0]), size.Exact(r.Packed),
		percent(r.Packed, max(1, r.Image)))
	if len(names) > 1 {
		fmt.Fprintf(say, ", in %d files", len(names))
	}
	fmt.Fprintln(say)
	if r.Exact() {
		fmt.Fprintln(say, "Only zeros were left out: unpacking restores it bit for bit.")
	} else {
		fmt.Fprintf(say, "%s that the disc does not use held data; they become zeros.\n", size.Format(r.Lost))
	}
	return nil
}

func imageUnpack() *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use:     "unpack FILE.pkd -o FILE",
		Short:   "Restore a packed image",
		Long:    "Unpack finds further parts (.2.pkd, .3.pkd) beside the file, and checks every block.",
		Example: "  polytome image unpack game.pkd -o game.skd\n  polytome image unpack game.pkd -o - | cmp - game.skd",
		Args:    one("the packed image"),
		RunE: func(cmd *cobra.Command, args []string) error {
			im, err := packed.OpenFile(args[0])
			if err != nil {
				return hint(args[0], err)
			}
			defer im.Close()
			to, err := outputOf(cmd.Context(), out, cmd.OutOrStdout())
			if err != nil {
				return err
			}
			emit := &progress{out: os.Stderr}
			err = convert.Unpack(cmd.Context(), im, to.sink(), emit.bytes)
			emit.end()
			if err = to.end(err); err != nil {
				if cmd.Context().Err() != nil {
					return errStopped
				}
				return hint(args[0], err)
			}
			fmt.Fprintf(report(cmd, out), "%s, %s bytes, CRC-32 %08x\n", clean(out), size.Exact(im.Size()), im.Sum())
			if im.Lost() > 0 {
				fmt.Fprintf(report(cmd, out), "%s that the disc did not use held data and are zeros now.\n",
					size.Format(im.Lost()))
			}
			return nil
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the image to write; - is standard output")
	return cmd
}

func printProspect(out io.Writer, p convert.Prospect) {
	what := "unknown game, so only zeros are left out"
	if p.Platform != "" {
		what = "of the platform " + p.Platform + ", which does not say what it uses, so only zeros are left out"
	}
	if p.Used.Unit > 0 {
		what = fmt.Sprintf("of the platform %s; %s of it are not used and become zeros", p.Platform,
			size.Format(p.Unused))
	}
	fmt.Fprintf(out, "An image of %s, %s. Packed, it takes at most %s.\n", size.Format(p.Image), what,
		size.Format(p.AtMost))
}
