//go:build linux || windows

package optical

import (
	"context"
	"os"
)

// Reached reports whether disc drives are reached on this system.
const Reached = true

// device is a drive of this computer.
type device struct{ f *os.File }

func (d *device) Close() error { return d.f.Close() }

// Do hands a command to the system. When the context ends it returns at once; the drive ends the command by itself.
func (d *device) Do(ctx context.Context, c Command) (int, error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	type answer struct {
		n   int
		in  []byte
		err error
	}
	over := make(chan answer, 1)
	cmd := Command{CDB: append([]byte{}, c.CDB...), In: make([]byte, len(c.In)), Out: append([]byte{}, c.Out...),
		Timeout: c.Timeout}
	go func() { // with memory of its own, as it may go on when nobody waits any longer
		n, err := d.do(cmd)
		over <- answer{n, cmd.In, err}
	}()
	select {
	case a := <-over:
		copy(c.In, a.in[:a.n])
		return a.n, a.err
	case <-ctx.Done():
		return 0, ctx.Err()
	}
}
