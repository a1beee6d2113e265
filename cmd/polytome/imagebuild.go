package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/convert"
	"polytome/internal/format/iso9660"
	"polytome/internal/size"
)

// imageBuildOptions are the flags of image build.
type imageBuildOptions struct {
	out, order            string
	noJoliet, noRockRidge bool
	image                 iso9660.Options
}

func imageBuild() *cobra.Command {
	var opt imageBuildOptions
	cmd := &cobra.Command{
		Use:   "build FOLDER -o FILE",
		Short: "Make a disc image of a folder",
		Long: `Build makes an ISO 9660 image with Joliet and Rock Ridge names; --udf makes a bridge image with UDF
too. Files over 4 GiB need level 3. The size is known before the first byte is written, and the same
folder always gives the same bytes.

--order names a text file with one path a line: these files come first, in this order.`,
		Example: "  polytome image build ./disc -o disc.iso\n  polytome image build ./disc -o disc.iso --udf --label " +
			"COPPER_TIDE --order order.txt\n  polytome image build ./disc -o - | gzip > disc.iso.gz",
		Args: one("the folder"),
		RunE: opt.run,
	}
	f := cmd.Flags()
	f.StringVarP(&opt.out, "output", "o", "", "the image to write; - is standard output")
	f.StringVar(&opt.image.VolumeID, "label", "", "volume identifier (default: the folder's name)")
	f.IntVar(&opt.image.Level, "level", 3, "ISO 9660 interchange level: 1 (names of 8.3), 2, or 3 (files over 4 GiB)")
	f.BoolVar(&opt.noJoliet, "no-joliet", false, "without Joliet names")
	f.BoolVar(&opt.noRockRidge, "no-rock-ridge", false, "without Rock Ridge names")
	f.BoolVar(&opt.image.UDF, "udf", false, "with UDF too")
	f.StringVar(&opt.order, "order", "", "text file with the paths of the files that come first")
	return cmd
}

func (opt *imageBuildOptions) run(cmd *cobra.Command, args []string) error {
	opt.image.Joliet, opt.image.RockRidge = !opt.noJoliet, !opt.noRockRidge
	if opt.image.VolumeID == "" {
		abs, err := filepath.Abs(args[0])
		if err != nil {
			return err
		}
		opt.image.VolumeID = strings.ToUpper(filepath.Base(abs))
	}
	if len(opt.image.VolumeID) > 32 {
		opt.image.VolumeID = opt.image.VolumeID[:32]
	}
	if opt.order != "" {
		text, err := os.ReadFile(opt.order)
		if err != nil {
			return fmt.Errorf("--order: %w", err)
		}
		for l := range strings.Lines(string(text)) {
			if l = strings.TrimSpace(l); l != "" {
				opt.image.Order = append(opt.image.Order, l)
			}
		}
	}
	to, err := outputOf(cmd.Context(), opt.out, cmd.OutOrStdout())
	if err != nil {
		return err
	}
	emit := &progress{out: os.Stderr}
	var made *iso9660.Image
	err = convert.Build(cmd.Context(), args[0], opt.image, func(im *iso9660.Image) { made = im }, to.sink(), emit.bytes)
	emit.end()
	if err = to.end(err); err != nil {
		return said(cmd.Context(), err)
	}
	say := report(cmd, opt.out)
	fmt.Fprintf(say, "%s, %s bytes\n", clean(opt.out), size.Exact(made.Size()))
	if made.Renamed > 0 && !opt.image.Joliet && !opt.image.RockRidge {
		fmt.Fprintf(say, "%s have other names in the image: ISO 9660 alone has capital letters, digits and "+
			"underscores only\n", size.Count(made.Renamed, "file"))
	}
	if made.Notes != "" {
		fmt.Fprintln(say, made.Notes)
	}
	return nil
}
