package elevated

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"sync"
	"time"

	"polytome/internal/drives"
	"polytome/internal/medium"
	"polytome/internal/nbd"
)

// A Starter starts this program again with the rights of an administrator and some arguments: the system asks the user
// for that. It returns what waits for its end; ctx ends the waiting for the user.
type Starter func(ctx context.Context, args []string) (wait func() error, err error)

// Helpers are the helpers of this process, one a drive.
type Helpers struct {
	start Starter
	args  []string // of the command that calls [Help], in front of an address and a path
	say   func(text string)

	turn chan struct{} // has room for the one who uses all: it may wait for the user, and others stop waiting for it
	all  map[string]*helper
}

// New makes helpers that are started by a starter. say gets what the user is asked for, and why, before the system
// asks.
func New(start Starter, say func(text string), args ...string) *Helpers {
	return &Helpers{start: start, args: args, say: say, turn: make(chan struct{}, 1),
		all: map[string]*helper{}}
}

// Running is the helper of the drive at a path, if one runs.
func (h *Helpers) Running(path string) (drives.Helper, bool) {
	select {
	case h.turn <- struct{}{}:
		defer func() { <-h.turn }()
	default: // the user is asked just now
		return nil, false
	}
	is := h.all[path]
	if is == nil || is.ended() {
		return nil, false
	}
	return is, true
}

// Start is for [drives.System.Elevate]. A drive has one helper as long as the program runs.
func (h *Helpers) Start(ctx context.Context, d *drives.Drive) (drives.Helper, error) {
	select {
	case h.turn <- struct{}{}:
		defer func() { <-h.turn }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if is := h.all[d.Path]; is != nil && !is.ended() {
		return is, nil
	}
	h.say("Polytome asks for the rights of an administrator, to open " + d.Describe() + ", and nothing else.")
	is, err := h.begin(ctx, d)
	if err != nil {
		return nil, &drives.RefusedError{Drive: d.Name(), Say: "only an administrator may open it, and " + err.Error()}
	}
	h.all[d.Path] = is
	return is, nil
}

// Close ends all helpers.
func (h *Helpers) Close() {
	h.turn <- struct{}{}
	defer func() { <-h.turn }()
	for _, is := range h.all {
		is.end()
	}
}

// helper is the near side of one.
type helper struct {
	listener net.Listener
	conns    chan net.Conn
	over     chan struct{} // closed when the helper has ended, or is to
	end      func()        // has it end, when what it has open is closed
}

func (h *Helpers) begin(ctx context.Context, d *drives.Drive) (*helper, error) {
	l, address, tidy, err := listen()
	if err != nil {
		return nil, fmt.Errorf("its pipe cannot be made: %w", err)
	}
	is := &helper{listener: l, conns: make(chan net.Conn), over: make(chan struct{})}
	is.end = sync.OnceFunc(func() {
		close(is.over)
		_ = l.Close()
		tidy()
	})
	wait, err := h.start(ctx, append(append([]string{}, h.args...), address, d.Path))
	if err != nil {
		is.end()
		return nil, err
	}
	go is.accept()
	failed := make(chan error, 1)
	go func() {
		failed <- wait()
		is.end()
	}()
	select { // its first connection tells that it runs
	case conn := <-is.conns:
		go is.offer(conn)
		return is, nil
	case err := <-failed:
		if err == nil {
			err = errors.New("the helper ended at once")
		}
		return nil, err
	case <-ctx.Done():
		is.end()
		return nil, ctx.Err()
	}
}

// accept takes the connections of the helper. There is one at a time that nobody uses yet.
func (is *helper) accept() {
	for {
		conn, err := is.listener.Accept()
		if err != nil {
			return
		}
		is.offer(conn)
	}
}

// offer has a connection be for whoever asks next.
func (is *helper) offer(conn net.Conn) {
	select {
	case is.conns <- conn:
	case <-is.over:
		_ = conn.Close() // over which nothing went
	}
}

func (is *helper) ended() bool {
	select {
	case <-is.over:
		return true
	default:
		return false
	}
}

// ask has the helper do something. The connection is the caller's where there is no error.
func (is *helper) ask(ctx context.Context, r request) (net.Conn, *answer, error) {
	var conn net.Conn
	select {
	case conn = <-is.conns:
	case <-is.over:
		return nil, nil, errEnded
	case <-ctx.Done():
		return nil, nil, ctx.Err()
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Now()) })
	defer stop()
	var a answer
	err := send(conn, r)
	if err == nil {
		err = receive(conn, &a)
	}
	switch {
	case ctx.Err() != nil:
		err = ctx.Err()
	case err != nil:
		err = fmt.Errorf("%w: %w", errEnded, err)
	default:
		err = a.err()
	}
	if err != nil {
		_ = conn.Close()
		return nil, nil, err
	}
	return conn, &a, nil
}

var errEnded = errors.New("the helper with the rights of an administrator has ended")

// Look is the drive as the helper sees it.
func (is *helper) Look(ctx context.Context) (*drives.Drive, error) {
	conn, a, err := is.ask(ctx, request{Do: "look"})
	if err != nil {
		return nil, err
	}
	_ = conn.Close()
	if a.Drive == nil {
		return nil, errEnded
	}
	return a.Drive.Marked(a.Is.Table), nil
}

// Read opens the drive for reading.
func (is *helper) Read(ctx context.Context, d *drives.Drive) (*medium.File, error) {
	return is.open(ctx, d, request{Do: "read"})
}

// Open opens the drive for writing, through the guard of the helper.
func (is *helper) Open(
	ctx context.Context,
	shown *drives.Drive,
	purpose drives.Purpose,
	c drives.Consent,
) (*medium.File,
	error) {
	return is.open(ctx, shown, request{Do: "open", Shown: shown.Identity(), Purpose: purpose, Consent: c})
}

// patience is how long an answer of the drive may take: a stick that is full of data to write may need minutes.
const patience = 10 * time.Minute

func (is *helper) open(ctx context.Context, d *drives.Drive, r request) (*medium.File, error) {
	conn, a, err := is.ask(ctx, r)
	if err != nil {
		return nil, err
	}
	c, err := nbd.On(ctx, conn, nbd.Options{Patience: patience})
	if err != nil {
		return nil, fmt.Errorf("opening %s: %w: %w", d.Name(), errEnded, err)
	}
	return medium.On(device{c, d, is, a.ID}, d.Path), nil
}

// device is a drive that a helper has opened.
type device struct {
	*nbd.Client
	d  *drives.Drive
	is *helper
	id int
}

// Close has the helper close the drive, and waits for that: then others may open it, and the system has looked at it.
func (d device) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	err := d.Client.Close()
	conn, _, closing := d.is.ask(ctx, request{Do: "closed", ID: d.id})
	if closing != nil {
		return errors.Join(err, closing)
	}
	return errors.Join(err, conn.Close())
}

// refused has the guard's verdict just before the first write be said as what it is.
func (d device) refused(err error) error {
	var code nbd.Errno
	if errors.As(err, &code) && code == nbd.EPERM {
		return &drives.RefusedError{Drive: d.d.Name(), Say: "it changed just before the first write",
			Do: "list the drives again"}
	}
	return err
}

// WriteAt writes.
func (d device) WriteAt(b []byte, off int64) (int, error) {
	n, err := d.Client.WriteAt(b, off)
	return n, d.refused(err)
}

// Zero makes bytes zeros.
func (d device) Zero(off, n int64) error { return d.refused(d.Client.Zero(off, n)) }

// LetGo has the helper eject the drive, or unmount it.
func (is *helper) LetGo(ctx context.Context, d *drives.Drive, off bool, emit func(string)) (*drives.Release, error) {
	do := "unmount"
	if off {
		do = "eject"
	}
	emit("unmounting " + d.Name() + " as administrator")
	conn, a, err := is.ask(ctx, request{Do: do})
	if err != nil {
		return nil, err
	}
	_ = conn.Close()
	return a.Release, nil
}

// executable is this program.
func executable() (string, error) {
	exe, err := os.Executable()
	if err != nil {
		return "", fmt.Errorf("this program is not found: %w", err)
	}
	return exe, nil
}
