package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"

	"github.com/spf13/cobra"

	"polytome/internal/core/convert"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/ui/style"
)

// An output is a file that a command writes, or standard output.
type output struct {
	convert.Sink
	w  target.Writer // nil for standard output
	to target.Target
}

// outputOf begins a file; "-" is standard output.
func outputOf(ctx context.Context, file string, stdout io.Writer) (*output, error) {
	switch file {
	case "":
		return nil, usageError{errors.New("-o FILE is needed; - is standard output")}
	case "-":
		return &output{Sink: convert.Stream{Writer: stdout}}, nil
	}
	to, name, err := convert.Destination(file)
	if err != nil {
		return nil, err
	}
	w, err := to.Create(ctx, name, 0)
	if err != nil {
		return nil, errors.Join(err, to.Close())
	}
	return &output{w, w, to}, nil
}

// sink is where the bytes go.
func (o *output) sink() convert.Sink { return o.Sink }

// end gives the file its name, or takes it away when something failed.
func (o *output) end(failed error) error {
	if o.w == nil {
		return failed
	}
	if failed == nil {
		failed = o.w.Commit()
	}
	if failed != nil {
		failed = errors.Join(failed, o.w.Abort())
	}
	return errors.Join(failed, o.to.Close())
}

// report is where a command says what it did: standard error when standard output has the bytes.
func report(cmd *cobra.Command, file string) io.Writer {
	if file == "-" {
		return cmd.ErrOrStderr()
	}
	return cmd.OutOrStdout()
}

// said names the file that an error is about, and what stopping leaves behind.
func said(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return errStopped
	}
	return err
}

// fromInput is the file that a command reads: standard input is kept in a temporary file, as it has to be read at any
// offset. Where the system can, that has no name, so that it is gone with the program however that ends.
func fromInput(file string, stdin io.Reader, say io.Writer) (name string, done func(), err error) {
	if file != "-" {
		return file, func() {}, nil
	}
	f, err := os.CreateTemp("", "polytome-*")
	if err != nil {
		return "", nil, err
	}
	name = f.Name()
	if runtime.GOOS == "linux" && os.Remove(name) == nil {
		name = fmt.Sprintf("/proc/self/fd/%d", f.Fd())
	}
	done = func() {
		_ = f.Close()
		_ = os.Remove(name)
	}
	n, err := io.Copy(f, stdin)
	if err != nil {
		done()
		return "", nil, fmt.Errorf("reading standard input after %d bytes: %w", n, err)
	}
	fmt.Fprintf(say, "Standard input was stored in a temporary file of %s, which has been deleted.\n", size.Format(n))
	return name, done, nil
}

func one(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != 1 {
			return usageError{fmt.Errorf("%s needs %s", cmd.CommandPath(), what)}
		}
		return nil
	}
}

// clean is text of files, made harmless for a terminal.
func clean(s string) string { return style.Clean(s) }
