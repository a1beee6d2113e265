package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"polytome/internal/core/convert"
	"polytome/internal/target/folder"
)

// imagePiecesOptions are the flags of image pieces.
type imagePiecesOptions struct {
	loader, to string
}

func imagePieces() *cobra.Command {
	var opt imagePiecesOptions
	cmd := &cobra.Command{
		Use:   "pieces FILE --loader NAME --to FOLDER",
		Short: "Take a file apart that a loader wants joined of several",
		Long: `Pieces reads the header of a file into which a loader's profile has joined discs or files
([accept.join]), and writes every piece into a file of its own, named as the header says or by its number.`,
		Example: "  polytome image pieces 'Two Sails.box' --loader ./mine.toml --to ./discs",
		Args:    one("a joined file"),
		RunE:    opt.run,
	}
	cmd.Flags().StringVar(&opt.loader, "loader", "", "loader profile: a name, or a .toml file")
	cmd.Flags().StringVar(&opt.to, "to", "", "the folder to write into")
	return cmd
}

func (opt *imagePiecesOptions) run(cmd *cobra.Command, args []string) error {
	if opt.loader == "" || opt.to == "" {
		return usageError{errors.New("image pieces needs --loader NAME and --to FOLDER")}
	}
	set, err := known()
	if err != nil {
		return err
	}
	p, err := set.Profile(opt.loader)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(opt.to, 0o755); err != nil {
		return err
	}
	to, err := folder.Open(opt.to, folder.Options{Unsynced: true})
	if err != nil {
		return err
	}
	defer to.Close()
	emit := &progress{out: os.Stderr}
	names, err := convert.Pieces(cmd.Context(), args[0], p, to, emit.bytes)
	emit.end()
	for _, n := range names {
		fmt.Fprintln(cmd.OutOrStdout(), clean(filepath.Join(opt.to, n)))
	}
	return said(cmd.Context(), err)
}
