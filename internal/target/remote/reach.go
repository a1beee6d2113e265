package remote

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"sync"
	"time"

	"polytome/internal/target"
)

// A LoginError reports that a server refuses a user.
type LoginError struct {
	Address Address
	User    string // who tried; "" for no one in particular
	Given   bool   // a password was given; without one, none can be wrong
	Err     error  // what the server says, in words of its own; nil where it says nothing
}

func (e *LoginError) Error() string {
	if e.User == "" {
		a := e.Address
		a.User = "user"
		return fmt.Sprintf("%s needs a user name and password: put the user name into the target's address, as in %s",
			e.Address.Host, a)
	}
	if !e.Given {
		return fmt.Sprintf("%s needs the password of %s", e.Address.Host, e.User)
	}
	say := fmt.Sprintf("%s refuses %s: the user name or the password is wrong", e.Address.Host, e.User)
	if e.Err != nil {
		say += fmt.Sprintf(" (%v)", e.Err)
	}
	return say
}

func (e *LoginError) Unwrap() error { return target.ErrReadOnly }

// A RefusedError reports a server that cannot be used with its settings, or with this address, as they are.
type RefusedError struct {
	Say string // who, why, and what to do
	Err error
}

func (e *RefusedError) Error() string { return e.Say }

// Unwrap makes it a [target.ErrReadOnly]: trying again does not help.
func (e *RefusedError) Unwrap() []error { return []error{target.ErrReadOnly, e.Err} }

// Unreachable says in words why there is no connection to a server; what is its kind, such as "FTP server". It returns
// nil for an error that says nothing of that.
func Unreachable(host string, port int, what string, err error) error {
	at := net.JoinHostPort(host, strconv.Itoa(port))
	var dns *net.DNSError
	var ne net.Error
	say := ""
	switch {
	case errors.As(err, &dns):
		say = fmt.Sprintf("no computer or console is named %s", host)
	case errors.Is(err, errRefused):
		say = fmt.Sprintf("%s is on, but no %s answers on port %d: start it there, or correct the port", host, what,
			port)
	case errors.Is(err, errNoRoute):
		say = fmt.Sprintf("no route to %s from this computer: check the cable and both addresses", host)
	case errors.As(err, &ne) && ne.Timeout():
		say = fmt.Sprintf("%s does not answer: it is off, or a firewall blocks the connection", at)
	default:
		return nil
	}
	return fmt.Errorf("%w: %s (%w)", target.ErrGone, say, err)
}

// IsRefused reports whether a machine is there on which nothing listens at a port.
func IsRefused(err error) bool { return errors.Is(err, errRefused) }

// IsNoRoute reports whether no one answered in the network of an address, or a router said that it knows no way.
func IsNoRoute(err error) bool { return errors.Is(err, errNoRoute) }

// IsNoWay reports whether this computer has no network at all in which an address would be.
func IsNoWay(err error) bool { return errors.Is(err, errNoNet) }

// A Deadlined is a connection on which nothing may stall: what is read or written has to come on within a time.
type Deadlined struct {
	net.Conn
	Limit time.Duration
}

func (d *Deadlined) Read(b []byte) (int, error) {
	_ = d.SetReadDeadline(time.Now().Add(d.Limit))
	return d.Conn.Read(b)
}

func (d *Deadlined) Write(b []byte) (int, error) {
	_ = d.SetWriteDeadline(time.Now().Add(d.Limit))
	return d.Conn.Write(b)
}

// A Watched is a connection that someone reads from all the time, also when nothing is to come. It is closed when
// something is waited for, and nothing comes for a time.
type Watched struct {
	net.Conn
	limit time.Duration

	mu      sync.Mutex
	waiting int
	last    time.Time // that something came, or was waited for first
	stalled bool
}

// Watch watches a connection until the context ends.
func Watch(ctx context.Context, c net.Conn, limit time.Duration) *Watched {
	w := &Watched{Conn: c, limit: limit, last: time.Now()}
	go func() {
		tick := time.NewTicker(max(limit/4, 5*time.Millisecond))
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			w.mu.Lock()
			stalled := w.waiting > 0 && time.Since(w.last) > limit
			w.stalled = w.stalled || stalled
			w.mu.Unlock()
			if stalled {
				_ = c.Close()
				return
			}
		}
	}()
	return w
}

// Dial connects to an address whose port is known; what is the server's kind, such as "SSH server".
func Dial(ctx context.Context, a Address, what string, timeout time.Duration) (net.Conn, error) {
	at := net.JoinHostPort(a.Host, strconv.Itoa(a.Port))
	c, err := (&net.Dialer{Timeout: timeout}).DialContext(ctx, "tcp", at)
	if err == nil {
		return c, nil
	}
	if say := Unreachable(a.Host, a.Port, what, err); say != nil {
		return nil, say
	}
	return nil, fmt.Errorf("%w: connecting to %s: %w", target.ErrGone, at, err)
}

// WatchUntil watches a connection that ends with the context: at once until begun is named, as libraries do not always
// ask the context while they log in, and a moment later from then on, for what is done at the end. stop ends the
// watching, and leaves the connection.
func WatchUntil(ctx context.Context, c net.Conn, limit time.Duration) (w *Watched, begun, stop func()) {
	watching, cancel := context.WithCancel(context.Background())
	hurry := context.AfterFunc(ctx, func() { _ = c.Close() })
	parting := context.AfterFunc(ctx, func() {
		select {
		case <-time.After(Farewell):
			_ = c.Close()
		case <-watching.Done():
		}
	})
	return Watch(watching, c, limit), func() { hurry() }, func() { parting(); cancel() }
}

// Wait says that something is waited for, until the function that it returns is named.
func (w *Watched) Wait() func() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.waiting == 0 {
		w.last = time.Now()
	}
	w.waiting++
	return func() {
		w.mu.Lock()
		w.waiting--
		w.mu.Unlock()
	}
}

// Stalled reports whether it was closed as nothing came.
func (w *Watched) Stalled() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.stalled
}

func (w *Watched) Read(b []byte) (int, error) {
	n, err := w.Conn.Read(b)
	w.mu.Lock()
	w.last = time.Now()
	w.mu.Unlock()
	return n, err
}

func (w *Watched) Write(b []byte) (int, error) {
	_ = w.SetWriteDeadline(time.Now().Add(w.limit))
	return w.Conn.Write(b)
}

// A HostKeyError reports a server that shows a key which nobody has accepted: another machine may answer in its place.
type HostKeyError struct {
	Address     Address
	Fingerprint string // SHA-256, as OpenSSH writes it
	// Changed says that another key was accepted earlier, and At where that is written down: a file and a line.
	Changed bool
	At      string
	// Accept writes the key down, so that it counts from now on. It replaces no other one.
	Accept func() error
}

func (e *HostKeyError) Error() string {
	if e.Changed {
		return fmt.Sprintf("%s shows another host key than the accepted one (%s): another machine may answer in its "+
			"place. If it was reinstalled, remove line %s", e.Address.Host, e.Fingerprint, e.At)
	}
	return fmt.Sprintf("the host key of %s is not accepted yet (%s): compare it with what the machine itself shows, and "+
		"accept it with: polytome connections trust %s", e.Address.Host, e.Fingerprint, e.Address)
}

func (e *HostKeyError) Unwrap() error { return target.ErrReadOnly }
