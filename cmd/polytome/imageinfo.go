package main

import (
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"polytome/internal/core/convert"
	"polytome/internal/format/container"
	"polytome/internal/size"
)

func imageInfo(o *container.Options) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "info FILE",
		Short: "Show what a file is and how it is structured",
		Long: "Info reads headers only. For a packed image, a list of parts or a cue sheet it covers all the " +
			"files that belong to it.",
		Example: "  polytome image info game.iso\n  polytome image info game.pkd --json",
		Args:    one("the file to examine"),
		RunE: func(cmd *cobra.Command, args []string) error {
			set, err := known()
			if err != nil {
				return err
			}
			info, err := convert.InfoOf(args[0], set, *o)
			if err != nil {
				return hint(args[0], err)
			}
			if asJSON {
				return printJSON(cmd.OutOrStdout(), info)
			}
			printInfo(cmd.OutOrStdout(), info)
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

func printInfo(out io.Writer, i *convert.Info) {
	fmt.Fprintf(out, "%s, %s (%s bytes)\n", clean(i.What), size.Format(i.Bytes), size.Exact(i.Bytes))
	line := func(what, format string, args ...any) {
		fmt.Fprintf(out, "  %-12s %s\n", what, clean(fmt.Sprintf(format, args...)))
	}
	if i.Game != nil {
		line("game", "%s  %s  (%s)", i.Game.ID, i.Game.Label(), i.Game.Platform)
	}
	for _, v := range i.Volumes {
		line("volume", "%s, %q, %s", v.Kind, v.Label, size.Format(v.Bytes))
		if v.Damage != "" {
			line("", "%s", v.Damage)
		}
	}
	if p := i.Packed; p != nil {
		line("unpacked", "%s (%s bytes), CRC-32 %08x", size.Format(p.Image), size.Exact(p.Image), p.Sum)
		line("blocks", "%s of %s: %s zeros, %s not used, %s compressed", size.Exact(p.Blocks), size.Format(p.Block),
			size.Exact(p.Zeros), size.Exact(p.Unused), size.Exact(p.Compressed))
		if p.Lost > 0 {
			line("left out", "%s that held something: they come back as zeros", size.Format(p.Lost))
		} else {
			line("left out", "only zeros: unpacking restores it bit for bit")
		}
	}
	for _, t := range i.Tracks {
		line(fmt.Sprintf("track %d", t.Number), "%s, %s, in %s", t.Mode, size.Format(t.Bytes), t.File)
	}
	for n, p := range i.Parts {
		line(fmt.Sprintf("part %d", n+1), "%s, %s", p.File, size.Format(p.Length))
	}
	for _, p := range i.Problems {
		line("PROBLEM", "%s", p)
	}
}

func imageCheck(o *container.Options) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "check FILE",
		Short: "Read all of a file, and report whether it is OK",
		Long: `Check reads everything: the blocks of a packed image and their checksums, the parts in a list, the
sectors of a raw track and their error detection codes, all files of an image or archive.`,
		Example: "  polytome image check game.pkd\n  polytome image check parts.toml\n  polytome image check game.cue",
		Args:    one("the file to check"),
		RunE: func(cmd *cobra.Command, args []string) error {
			emit := &progress{out: os.Stderr}
			c, err := convert.Check(cmd.Context(), args[0], *o, emit.bytes)
			emit.end()
			if err != nil {
				if cmd.Context().Err() != nil {
					return errStopped
				}
				return hint(args[0], err)
			}
			if asJSON {
				err = printJSON(cmd.OutOrStdout(), c)
			} else {
				for _, p := range c.Problems {
					fmt.Fprintf(cmd.OutOrStdout(), "BAD: %s\n", clean(p))
				}
				if len(c.Problems) == 0 {
					fmt.Fprintf(cmd.OutOrStdout(), "%s is OK: %s, %s read\n", clean(args[0]), c.What,
						size.Format(c.Bytes))
				}
				if c.Unchecked != "" {
					fmt.Fprintf(cmd.OutOrStdout(), "not checked: %s\n", c.Unchecked)
				}
			}
			if err == nil && len(c.Problems) > 0 {
				err = errPartial
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}
