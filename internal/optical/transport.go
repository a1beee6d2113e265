// Package optical talks to disc drives in the open command sets: SPC-4 (primary commands), SBC-3 (blocks) and MMC-6
// (multi-media). It knows drives and media, and nothing of games.
package optical

import (
	"context"
	"time"
)

// A Command is one for a drive, as its bytes go over.
type Command struct {
	CDB     []byte        // the command descriptor block
	In      []byte        // room for what the drive sends; nil for nothing
	Out     []byte        // what it is sent; nil for nothing
	Timeout time.Duration // after which the system gives up
}

// A Transport brings commands to a drive. One command is carried out at a time.
type Transport interface {
	// Do carries a command out and reports how many bytes the drive has sent. What the drive answers other than that
	// all is well is a [*Sense].
	Do(ctx context.Context, c Command) (n int, err error)
	Close() error
}
