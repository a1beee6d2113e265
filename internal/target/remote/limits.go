package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"polytome/internal/size"
)

// What a server may send at most. Whoever sends more is broken, or wants this computer to run out of memory.
const (
	mostReply   = 256 << 10 // bytes of the answer to one command
	mostLine    = 16 << 10  // bytes of one line of a listing
	mostListing = 64 << 20  // bytes of the listing of one folder
	mostDeep    = 64        // folders within each other
	mostEntries = 1_000_000 // files and folders in all
)

// A LimitError reports a server that sends more than its protocol reasonably needs.
type LimitError struct{ Say string }

func (e *LimitError) Error() string { return e.Say }

// A Bounds holds a walk through the folders of a server within bounds: some describe folders within folders for ever.
type Bounds struct{ entries int }

// Count takes in that a folder was listed. The error ends the walk.
func (b *Bounds) Count(entries int) error {
	if b.entries += entries; b.entries > mostEntries {
		return &LimitError{fmt.Sprintf("it has more than %d files and folders; use a subfolder", mostEntries)}
	}
	return nil
}

// Deep says why a folder is not gone into, nil where it can be.
func (b *Bounds) Deep(dir string) error {
	if strings.Count(dir, "/") >= mostDeep {
		return &LimitError{fmt.Sprintf("it is more than %d folders deep, so it is not read", mostDeep)}
	}
	return nil
}

// Replies is a connection for commands and their answers: what comes between two commands is limited.
type Replies struct {
	net.Conn
	mu  sync.Mutex
	got int
}

func (c *Replies) Read(b []byte) (int, error) {
	c.mu.Lock()
	over := c.got >= mostReply
	c.mu.Unlock()
	if over {
		return 0, &LimitError{"the server's answer does not end: " + size.Format(mostReply) + " came for one command"}
	}
	n, err := c.Conn.Read(b)
	c.mu.Lock()
	c.got += n
	c.mu.Unlock()
	return n, err
}

func (c *Replies) Write(b []byte) (int, error) {
	c.mu.Lock()
	c.got = 0
	c.mu.Unlock()
	return c.Conn.Write(b)
}

// Lines is a connection over which a listing comes: lines, each of a sensible length, and in all no more than any
// folder has.
type Lines struct {
	net.Conn
	line, all int
}

func (c *Lines) Read(b []byte) (int, error) {
	switch {
	case c.line > mostLine:
		return 0, &LimitError{fmt.Sprintf("the server sends a line of more than %d bytes where a file should be listed",
			mostLine)}
	case c.all > mostListing:
		return 0, &LimitError{"the listing of one folder does not end: " + size.Format(mostListing) + " came"}
	}
	n, err := c.Conn.Read(b[:min(len(b), mostLine)])
	c.all += n
	if i := strings.LastIndexByte(string(b[:n]), '\n'); i >= 0 {
		c.line = n - i - 1
	} else {
		c.line += n
	}
	return n, err
}

// Farewell is for how long a server is still spoken to after a context has ended: half files are removed, if that is
// quickly done.
const Farewell = 500 * time.Millisecond

// Parting is a context for what is done at the end of something, such as removing a half file. It lasts for a time at
// most, and only for a moment when the context that it comes after has ended.
func Parting(ctx context.Context, within time.Duration) (context.Context, context.CancelFunc) {
	out, cancel := context.WithTimeout(context.WithoutCancel(ctx), within)
	stop := context.AfterFunc(ctx, func() {
		select {
		case <-time.After(Farewell):
			cancel()
		case <-out.Done():
		}
	})
	return out, func() {
		stop()
		cancel()
	}
}

// Said is what an error of a connection adds to saying that it was interrupted, in brackets; "" for one that only says
// that.
func Said(err error) string {
	if errors.Is(err, net.ErrClosed) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, context.Canceled) {
		return ""
	}
	var oe *net.OpError
	if errors.As(err, &oe) {
		err = oe.Err
	}
	return " (" + err.Error() + ")"
}
