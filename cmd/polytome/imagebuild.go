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

func imageBuild() *cobra.Command {
	var out, order string
	var noJoliet, noRockRidge bool
	o := iso9660.Options{}
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
		RunE: func(cmd *cobra.Command, args []string) error {
			o.Joliet, o.RockRidge = !noJoliet, !noRockRidge
			if o.VolumeID == "" {
				abs, err := filepath.Abs(args[0])
				if err != nil {
					return err
				}
				o.VolumeID = strings.ToUpper(filepath.Base(abs))
			}
			if len(o.VolumeID) > 32 {
				o.VolumeID = o.VolumeID[:32]
			}
			if order != "" {
				text, err := os.ReadFile(order)
				if err != nil {
					return fmt.Errorf("--order: %w", err)
				}
				for l := range strings.Lines(string(text)) {
					if l = strings.TrimSpace(l); l != "" {
						o.Order = append(o.Order, l)
					}
				}
			}
			to, err := outputOf(cmd.Context(), out, cmd.OutOrStdout())
			if err != nil {
				return err
			}
			emit := &progress{out: os.Stderr}
			var made *iso9660.Image
			err = convert.Build(cmd.Context(), args[0], o, func(im *iso9660.Image) { made = im }, to.sink(), emit.bytes)
			emit.end()
			if err = to.end(err); err != nil {
				return said(cmd.Context(), err)
			}
			say := report(cmd, out)
			fmt.Fprintf(say, "%s, %s bytes\n", clean(out), size.Exact(made.Size()))
			if made.Renamed > 0 && !o.Joliet && !o.RockRidge {
				fmt.Fprintf(say, "%s have other names in the image: ISO 9660 alone has capital letters, digits and "+
					"underscores only\n", size.Count(made.Renamed, "file"))
			}
			if made.Notes != "" {
				fmt.Fprintln(say, made.Notes)
			}
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVarP(&out, "output", "o", "", "the image to write; - is standard output")
	f.StringVar(&o.VolumeID, "label", "", "volume identifier (default: the folder's name)")
	f.IntVar(&o.Level, "level", 3, "ISO 9660 interchange level: 1 (names of 8.3), 2, or 3 (files over 4 GiB)")
	f.BoolVar(&noJoliet, "no-joliet", false, "without Joliet names")
	f.BoolVar(&noRockRidge, "no-rock-ridge", false, "without Rock Ridge names")
	f.BoolVar(&o.UDF, "udf", false, "with UDF too")
	f.StringVar(&order, "order", "", "text file with the paths of the files that come first")
	return cmd
}
