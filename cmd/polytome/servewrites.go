package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"polytome/internal/core/serve"
	"polytome/internal/core/source"
	"polytome/internal/format/virtual"
	"polytome/internal/format/volume"
	"polytome/internal/size"
	"polytome/internal/target/served"
)

// inMemory is what is said for an overlay that is in no file.
const inMemory = "memory"

// overlayOf opens what consoles write on an export, in a file or in memory.
func overlayOf(ctx context.Context, e *served.Export, file string) (*virtual.Overlay, error) {
	v := e.Volume()
	if file == inMemory {
		file = ""
	}
	o, err := virtual.OpenOverlay(v, v.Size(), file, func() (uint64, error) { return v.Sum(ctx) })
	if errors.Is(err, virtual.ErrOtherVolume) {
		err = fmt.Errorf("%w; keep it, and give another file", err)
	}
	return o, err
}

func serveWritesCommand() *cobra.Command {
	s := &serveOptions{}
	to := ""
	cmd := &cobra.Command{
		Use:   "writes OVERLAY",
		Short: "List the files that consoles have written on an export, or copy them out",
		Long: `Writes lists the files in which consoles have written something, from the overlay that serve --writes
keeps, and copies them to a folder with --to. Nothing is changed. Name the export as for serve.`,
		Example: `  polytome serve writes saves.overlay --bench season.toml --target 'Hall export' --to ./saves`,
		Args:    needArgs(1, "the file of an overlay"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return s.showWrites(cmd.Context(), cmd.OutOrStdout(), args[0], to)
		},
	}
	s.which(cmd.Flags())
	cmd.Flags().StringVar(&to, "to", "", "copy them to this folder")
	return cmd
}

func (s *serveOptions) showWrites(ctx context.Context, out io.Writer, file, to string) (err error) {
	if _, err := os.Stat(file); err != nil {
		return err
	}
	b, n, err := s.open(&serve.Options{})
	if err != nil {
		return err
	}
	c := &b.Targets[n]
	e, err := served.Take(b.Resolve(c.At), served.Options{Filesystem: c.As, Capacity: int64(c.Capacity),
		Make: source.Referred})
	if err != nil {
		return err
	}
	defer e.Leave()
	o, err := overlayOf(ctx, e, file)
	if err != nil {
		return err
	}
	defer o.Close() // which was read from
	v, err := virtual.Open(overlaid{o}, e.Volume().Size())
	if err != nil {
		return err
	}
	written, err := writtenFiles(ctx, v, e.Volume(), o)
	if err != nil {
		return err
	}
	for _, p := range written {
		fmt.Fprintf(out, "%s  %s\n", size.Format(p.Size), p.Path)
		if to != "" {
			if err := copyOut(v, p.Path, filepath.Join(to, filepath.FromSlash(p.Path))); err != nil {
				return fmt.Errorf("copying %s out: %w", p.Path, err)
			}
		}
	}
	if len(written) == 0 {
		fmt.Fprintln(out, "No file was written.")
	}
	return nil
}

// overlaid is an export with what was written on it, as a device that is only read.
type overlaid struct{ *virtual.Overlay }

func (overlaid) WriteAt([]byte, int64) (int, error) { return 0, errors.New("it is only read") }

// writtenFiles are the files that are not on the volume below, or of which some bytes were written.
func writtenFiles(ctx context.Context, v *volume.Volume, below *virtual.Volume, o *virtual.Overlay) (out []volume.Piece,
	err error) {
	all, err := v.Files(ctx)
	if err != nil {
		return nil, err
	}
	info := v.Info()
	for _, p := range all {
		if p.Folder {
			continue
		}
		n, err := below.Stat(p.Path)
		is := err != nil || n.Size != p.Size
		for _, r := range p.Runs {
			is = is || o.Wrote(info.Heap+int64(r.First-2)*info.Cluster, int64(r.Count)*info.Cluster)
		}
		if is {
			out = append(out, p)
		}
	}
	return out, nil
}

// copyOut copies a file of a volume to a new file of this computer.
func copyOut(v *volume.Volume, name, to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	from, err := v.OpenFile(name)
	if err != nil {
		return err
	}
	defer from.Close() // which was read from
	f, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, from)
	return errors.Join(err, f.Close())
}
