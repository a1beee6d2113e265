package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"polytome/internal/core/convert"
	"polytome/internal/core/loader"
	"polytome/internal/size"
	"polytome/internal/target/folder"
)

// imageSplitOptions are the flags of image split.
type imageSplitOptions struct {
	part, to, name, manifest string
	asJSON                   bool
}

func imageSplit() *cobra.Command {
	var opt imageSplitOptions
	cmd := &cobra.Command{
		Use:   "split FILE --size SIZE",
		Short: "Split a file into parts",
		Long: `Split writes the parts in order, and their list last: the length and CRC-32 of each part and of the
whole. Names are made of {base}, {ext} and {index}, as in loader profiles: {index|pad:3} is 001.`,
		Example: "  polytome image split game.iso --size 2GiB\n  polytome image split game.iso --size '2GiB - 64KiB' " +
			"--name '{index|pad:3}.rwn' --to ./LONG/VSP-20417",
		Args: one("the file to split"),
		RunE: opt.run,
	}
	f := cmd.Flags()
	f.StringVar(&opt.part, "size", "", "the size of a part, such as 2GiB or '2GiB - 64KiB'")
	f.StringVar(&opt.name, "name", "{base}.{index|pad:3}{ext}", "the name of each part")
	f.StringVar(&opt.to, "to", "", "the folder to write into (default: that of the file)")
	f.StringVar(&opt.manifest, "manifest", "", "the name of the list of parts (default: made of the file's; - for none)")
	f.BoolVar(&opt.asJSON, "json", false, "print JSON")
	return cmd
}

func (opt *imageSplitOptions) run(cmd *cobra.Command, args []string) error {
	var n loader.Size
	if opt.part == "" {
		return usageError{errors.New("--size is needed: the size of a part, such as 2GiB")}
	}
	if err := n.UnmarshalText([]byte(opt.part)); err != nil {
		return usageError{fmt.Errorf("--size: %w", err)}
	}
	tpl, err := loader.ParseTemplate(opt.name)
	if err != nil {
		return usageError{fmt.Errorf("--name: %w", err)}
	}
	if opt.to == "" {
		opt.to = filepath.Dir(args[0])
	}
	if err := os.MkdirAll(opt.to, 0o755); err != nil {
		return err
	}
	p, err := folder.Open(opt.to, folder.Options{Unsynced: true})
	if err != nil {
		return err
	}
	defer p.Close()
	if opt.manifest == "" {
		opt.manifest = strings.TrimSuffix(filepath.Base(args[0]), filepath.Ext(args[0])) + ".parts.toml"
	}
	if opt.manifest == "-" {
		opt.manifest = ""
	}
	emit := &progress{out: os.Stderr}
	m, err := convert.Split(cmd.Context(), args[0], p, convert.SplitOptions{Size: int64(n), Name: tpl,
		Manifest: opt.manifest}, emit.bytes)
	emit.end()
	if err != nil {
		return said(cmd.Context(), err)
	}
	if opt.asJSON {
		return printJSON(cmd.OutOrStdout(), m)
	}
	for _, p := range m.Parts {
		fmt.Fprintf(cmd.OutOrStdout(), "%s  %15s  %s\n", p.CRC32, size.Exact(p.Length),
			clean(filepath.Join(opt.to, p.File)))
	}
	if opt.manifest != "" {
		fmt.Fprintf(cmd.OutOrStdout(), "their list: %s\n", clean(filepath.Join(opt.to, opt.manifest)))
	}
	return nil
}

func imageJoin() *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use:   "join LIST | PART... -o FILE",
		Short: "Join parts",
		Long: `Join takes the list of parts from split or a loader's folder, and checks the length and checksum of
each; or the parts themselves, in order. Missing, short or damaged parts are named.`,
		Example: "  polytome image join game.parts.toml -o game.iso\n  polytome image join LONG/VSP-20417/parts.toml " +
			"-o game.iso\n  polytome image join game.001 game.002 -o - | sha1sum",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usageError{fmt.Errorf("%s needs the list of parts, or the parts in order", cmd.CommandPath())}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := (*convert.Manifest)(nil), error(nil)
			if len(args) == 1 && strings.EqualFold(filepath.Ext(args[0]), ".toml") {
				m, err = convert.ReadManifest(args[0])
			} else {
				m, err = convert.PartsOf(args)
			}
			if err != nil {
				return err
			}
			to, err := outputOf(cmd.Context(), out, cmd.OutOrStdout())
			if err != nil {
				return err
			}
			emit := &progress{out: os.Stderr}
			err = convert.Join(cmd.Context(), m, to.sink(), emit.bytes)
			emit.end()
			if err = to.end(err); err != nil {
				return said(cmd.Context(), err)
			}
			fmt.Fprintf(report(cmd, out), "%s, of %s\n", clean(out), size.Count(len(m.Parts), "part"))
			return nil
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the file to write; - is standard output")
	return cmd
}
