// Polytome lays out and fills the drives of modded consoles, and checks that
// their loaders will list what is on them.
package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/signal"
	"syscall"

	"polytome/internal/logbook"
)

// The exit statuses.
const (
	statusDone    = 0
	statusFailed  = 1
	statusUsage   = 2
	statusPartial = 3
	statusStopped = 130 // as shells describe what Ctrl-C ended
)

// errPartial ends a command that did its work, but has to leave something to
// the user. What it is has been printed.
var errPartial = errors.New("done, but not everything fitted")

// errStopped ends a command that the user interrupted.
var errStopped = errors.New("stopped; what was finished stays, and the same command continues")

func main() {
	// SIGHUP comes when the terminal is closed: what goes on ends in order then too.
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	context.AfterFunc(ctx, stop) // a second one ends the program at once
	status := execute(ctx, os.Args[1:])
	stop()
	os.Exit(status)
}

func execute(ctx context.Context, args []string) int {
	defer elevating()()
	root, end := rootCommand()
	defer end()
	root.SetArgs(args)
	cmd, err := root.ExecuteContextC(ctx)
	logbook.Note("end", "error", err)
	var usage usageError
	switch {
	case err == nil:
		return statusDone
	case errors.Is(err, errPartial):
		return statusPartial
	case errors.As(err, &usage):
		printUsage(stderr(), cmd, err)
		return statusUsage
	}
	if ctx.Err() != nil && !errors.Is(err, errStopped) && (errors.Is(err, context.Canceled) ||
		errors.Is(err, net.ErrClosed)) {
		err = errStopped // whatever it was that noticed
	}
	fmt.Fprintf(stderr(), "polytome: %v\n", err)
	if errors.Is(err, errStopped) {
		return statusStopped
	}
	return statusFailed
}
