package main

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"polytome/internal/core/convert"
	"polytome/internal/target/folder"
)

// imageTracksOptions are the flags of image tracks.
type imageTracksOptions struct {
	as, to string
}

func imageTracks() *cobra.Command {
	var opt imageTracksOptions
	cmd := &cobra.Command{
		Use:   "tracks FILE --as WHAT --to FOLDER",
		Short: "Convert the tracks of a disc",
		Long: `Tracks reads a cue sheet and its files, and makes of them

  one-file   all tracks in one file, with its cue sheet; music in WAVE files too
  wav        every track in a file of its own, music as WAVE, with their cue sheet
  plain      the plain image (ISO) in the data track

and of a plain image

  raw        a track of full mode 1 sectors with error codes (ECMA-130), with its cue sheet`,
		Example: "  polytome image tracks game.cue --as one-file --to ./one\n  polytome image tracks game.cue --as " +
			"wav --to ./music\n  polytome image tracks game.iso --as raw --to ./tracks",
		Args: one("a cue sheet, or a plain image"),
		RunE: opt.run,
	}
	cmd.Flags().StringVar(&opt.as, "as", "", "what to make: one-file, wav, plain or raw")
	cmd.Flags().StringVar(&opt.to, "to", "", "the folder to write into")
	return cmd
}

func (opt *imageTracksOptions) run(cmd *cobra.Command, args []string) error {
	if opt.as == "" || opt.to == "" {
		return usageError{fmt.Errorf("%s needs --as (one of %v) and --to FOLDER", cmd.CommandPath(),
			convert.Ways)}
	}
	if err := os.MkdirAll(opt.to, 0o755); err != nil {
		return err
	}
	p, err := folder.Open(opt.to, folder.Options{Unsynced: true})
	if err != nil {
		return err
	}
	defer p.Close()
	emit := &progress{out: os.Stderr}
	names, err := convert.Tracks(cmd.Context(), args[0], convert.As(opt.as), p, emit.bytes)
	emit.end()
	for _, n := range names {
		fmt.Fprintln(cmd.OutOrStdout(), clean(filepath.Join(opt.to, n)))
	}
	return said(cmd.Context(), err)
}
