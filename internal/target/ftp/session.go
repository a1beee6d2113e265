package ftp

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jlaffaye/ftp"

	"polytome/internal/target"
	"polytome/internal/target/remote"
)

// session is one connection that commands are given over.
type session struct {
	c       *ftp.ServerConn
	used    time.Time
	conn    net.Conn // that of the commands
	plain   bool     // what is written to it is what is sent
	listing bool     // what comes over the next connection for data is a listing

	mu   sync.Mutex
	all  map[net.Conn]bool // that are open: for commands, and for data
	dead bool
}

// kill ends the session at once, also what is being sent over it. It may be called from any goroutine.
func (s *session) kill() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.dead = true
	for c := range s.all {
		_ = c.Close()
	}
}

// quit says good-bye. A server that says nothing to that is not waited for.
func (s *session) quit() {
	soon := time.AfterFunc(remote.Farewell, s.kill)
	_ = s.c.Quit() // one that has hung up does not matter any longer
	soon.Stop()
	s.kill()
}

// opened takes in a connection that belongs to the session from now on.
func (s *session) opened(c net.Conn) net.Conn {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.dead {
		_ = c.Close()
	}
	if s.all == nil {
		s.all = map[net.Conn]bool{}
	}
	s.all[c] = true
	return &owned{c, s}
}

// owned is a connection of a session.
type owned struct {
	net.Conn
	s *session
}

func (o *owned) Close() error {
	o.s.mu.Lock()
	delete(o.s.all, o.Conn)
	o.s.mu.Unlock()
	return o.Conn.Close()
}

// ask gives a command that the client library does not know. Nothing else may be under way on the session.
func (s *session) ask(command string) (code int, say string, err error) {
	all, err := s.askAll(command)
	if err != nil {
		return 0, "", err
	}
	return all[0].Code, all[0].Msg, nil
}

// askAll gives commands in one go, and returns what the server says to each: that takes as long as one. Servers need
// not take it; see [traits].
func (s *session) askAll(commands ...string) (replies []*textproto.Error, err error) {
	if !s.plain {
		return nil, errors.ErrUnsupported
	}
	if _, err := io.WriteString(s.conn, strings.Join(commands, "\r\n")+"\r\n"); err != nil {
		return nil, err
	}
	r := textproto.NewReader(bufio.NewReaderSize(s.conn, 512))
	for range commands {
		code, say, err := r.ReadResponse(0)
		if err != nil {
			return nil, err
		}
		replies = append(replies, &textproto.Error{Code: code, Msg: say})
	}
	return replies, nil
}

// pool are the sessions of a target: those that no one uses, and how many there are in all.
type pool struct {
	mu    sync.Mutex
	idle  []*session
	open  int
	most  int
	freed chan struct{} // closed, and made again, when one may be had
	ended bool
	at    string // the address that answered
}

func (p *pool) init(most int) { p.most, p.freed = most, make(chan struct{}) }

// signal tells all who wait; mu is held.
func (p *pool) signal() {
	close(p.freed)
	p.freed = make(chan struct{})
}

// give puts a session back.
func (p *pool) give(s *session) {
	s.used = time.Now()
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.ended || p.open > p.most {
		s.kill()
		p.open--
	} else {
		p.idle = append(p.idle, s)
	}
	p.signal()
}

// drop gives a session up that is of no use any longer.
func (p *pool) drop(s *session) {
	s.kill()
	p.mu.Lock()
	p.open--
	p.signal()
	p.mu.Unlock()
}

func (p *pool) close() {
	p.mu.Lock()
	idle := p.idle
	p.idle, p.ended = nil, true
	p.open -= len(idle)
	p.mu.Unlock()
	for _, s := range idle {
		s.quit()
	}
}

// take has a session be used by the caller only, until it is given back or dropped. fresh is set for one that was made
// just now.
func (p *Target) take(ctx context.Context) (s *session, fresh bool, err error) {
	late := time.NewTimer(p.opts.Timeout)
	defer late.Stop()
	for try := 0; ; try++ {
		if err := ctx.Err(); err != nil {
			return nil, false, err
		}
		p.pool.mu.Lock()
		if n := len(p.pool.idle); n > 0 {
			s, p.pool.idle = p.pool.idle[n-1], p.pool.idle[:n-1]
			p.pool.mu.Unlock()
			if p.opts.Idle > 0 && time.Since(s.used) > p.opts.Idle*3/4 {
				p.pool.drop(s) // it is gone by now, or will be in the middle of something
				continue
			}
			return s, false, nil
		}
		freed := p.pool.freed
		if p.pool.open < p.pool.most {
			p.pool.open++
			p.pool.mu.Unlock()
			s, err = p.dial(ctx)
			if err == nil {
				return s, true, nil
			}
			p.pool.mu.Lock()
			p.pool.open--
			others := p.pool.open
			if others > 0 && tooMany(err) { // it bears no more than there are
				p.pool.most = others
				p.traits.connections.Store(int32(others))
				p.pool.mu.Unlock()
				continue
			}
			p.pool.signal()
			p.pool.mu.Unlock()
			if tooMany(err) && try < busyTries { // it has not quite noticed that the last one has gone
				select {
				case <-ctx.Done():
				case <-time.After(busyWait):
				}
				continue
			}
			return nil, false, err
		}
		p.pool.mu.Unlock()
		if p.stopReaders() {
			continue
		}
		select {
		case <-freed:
		case <-ctx.Done():
			return nil, false, ctx.Err()
		case <-late.C:
			return nil, false, fmt.Errorf("%w: %s allows no further connection", target.ErrBusy, p.addr.Host)
		}
	}
}

// tooMany reports whether a server lets no one else in, as there are so many.
func tooMany(err error) bool {
	var te *textproto.Error
	if !errors.As(err, &te) {
		return false
	}
	say := strings.ToLower(te.Msg)
	return te.Code == ftp.StatusNotAvailable || te.Code == ftp.StatusNotLoggedIn && (strings.Contains(say, "many") ||
		strings.Contains(say, "maximum") || strings.Contains(say, "limit"))
}

// busyTries is how often it is tried again when a server has no data connection to give, and busyWait how long is
// waited before.
const (
	busyTries = 10
	busyWait  = 100 * time.Millisecond
)

// dial makes a new session.
func (p *Target) dial(ctx context.Context) (*session, error) {
	s := &session{used: time.Now(), plain: !p.secure()}
	host := net.JoinHostPort(p.addr.Host, strconv.Itoa(p.addr.Port))
	dialer := net.Dialer{Timeout: p.opts.Timeout}
	stop := context.AfterFunc(ctx, s.kill)
	defer stop()
	secret := &tls.Config{ServerName: p.addr.Host, MinVersion: tls.VersionTLS12,
		InsecureSkipVerify: p.opts.Unchecked, //nolint:gosec // on the user's word
		// some servers want the data connection to take the session up
		ClientSessionCache: tls.NewLRUClientSessionCache(8)}
	options := []ftp.DialOption{
		ftp.DialWithTimeout(p.opts.Timeout), ftp.DialWithDisabledMLSD(p.opts.NoListing),
		ftp.DialWithShutTimeout(p.opts.Timeout), ftp.DialWithDisabledUTF8(p.names.enc != nil),
		ftp.DialWithDialFunc(func(network, address string) (net.Conn, error) {
			within, cancel := context.WithCancel(context.Background()) // the session outlives who has asked for it
			defer cancel()
			if s.conn == nil {
				within = ctx
			} else {
				defer s.whenKilled(cancel)()
			}
			c, err := dialer.DialContext(within, network, address)
			if err != nil && s.conn != nil {
				return nil, &blockedError{address, err}
			}
			if err != nil {
				return nil, err
			}
			d := s.opened(&remote.Deadlined{Conn: c, Limit: p.opts.Timeout})
			if s.conn == nil { // the first one is that for commands
				s.conn = &remote.Replies{Conn: d}
				return s.conn, nil
			}
			if p.secure() {
				d = &sending{Conn: tls.Client(d, secret)}
			}
			if s.listing {
				d = &remote.Lines{Conn: d}
			}
			return d, nil
		}),
	}
	if p.secure() {
		options = append(options, ftp.DialWithExplicitTLS(secret))
	}
	c, err := ftp.Dial(host, options...)
	if err != nil {
		s.kill()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if tooMany(err) {
			return nil, err
		}
		return nil, p.unreachable(err)
	}
	user, password := p.opts.User, p.opts.Password
	if user == "" {
		user, password = "anonymous", "anonymous"
	}
	if err := c.Login(user, password); err != nil {
		if s.c = c; ctx.Err() != nil {
			s.kill()
			return nil, ctx.Err()
		}
		s.quit()
		if tooMany(err) {
			return nil, err
		}
		return nil, p.refused(user, err)
	}
	s.c = c
	p.pool.mu.Lock()
	p.pool.at = s.conn.RemoteAddr().String()
	p.pool.mu.Unlock()
	return s, nil
}

// whenKilled calls a function when the session is killed, until the function that it returns is named.
func (s *session) whenKilled(do func()) (stop func()) {
	c := &watcher{do: do}
	s.opened(c)
	return func() {
		s.mu.Lock()
		delete(s.all, net.Conn(c))
		s.mu.Unlock()
	}
}

// watcher stands for a connection that does not exist yet.
type watcher struct {
	net.Conn
	do func()
}

func (w *watcher) Close() error {
	w.do()
	return nil
}

// sending is a TLS connection for data. Where it was only written to, closing it waits for the other end to have read
// all: servers of TLS 1.3 send something that no one reads, and closing at once would break the connection off.
type sending struct {
	*tls.Conn
	read bool
}

func (s *sending) Read(b []byte) (int, error) {
	s.read = true
	return s.Conn.Read(b)
}

func (s *sending) Close() error {
	if !s.read && s.CloseWrite() == nil {
		_ = s.SetReadDeadline(time.Now().Add(2 * time.Second))
		_, _ = io.Copy(io.Discard, s.Conn)
	}
	return s.Conn.Close()
}

// A blockedError reports a server that answers commands, but whose data connection cannot be opened.
type blockedError struct {
	at  string
	err error
}

func (e *blockedError) Error() string {
	return fmt.Sprintf("commands get through, but the data connection to %s fails: a firewall or router blocks it, "+
		"or the server's passive mode is set up wrongly (%v)", e.at, e.err)
}

func (e *blockedError) Unwrap() error { return e.err }

func (p *Target) refused(user string, err error) error {
	var cert *tls.CertificateVerificationError
	if errors.As(err, &cert) { // it is looked at with the first command
		return p.unreachable(err)
	}
	var te *textproto.Error
	if errors.As(err, &te) && te.Code >= 400 && te.Code < 500 && !broken(err) {
		return fmt.Errorf("%w: logging in to %s: the server says %d %s", target.ErrBusy, p.addr.Host, te.Code, te.Msg)
	}
	if !broken(err) && !p.secure() && wantsTLS(err.Error()) {
		return &remote.RefusedError{Say: fmt.Sprintf("%s requires TLS: write ftps:// instead of ftp:// (it says %s)",
			p.addr.Host, strings.TrimSpace(err.Error())), Err: err}
	}
	if !broken(err) {
		if user == "anonymous" {
			user = ""
		}
		return &remote.LoginError{Address: p.addr, User: user, Given: p.opts.Password != "", Err: err}
	}
	return fmt.Errorf("%w: logging in to %s: %w", target.ErrGone, p.addr.Host, err)
}

// wantsTLS reports whether what a server says to a login is that it wants TLS.
func wantsTLS(say string) bool {
	say = strings.ToLower(say)
	return slices.ContainsFunc([]string{"tls", "ssl", "encrypt", "auth first", "use auth", "secure connection"},
		func(word string) bool { return strings.Contains(say, word) })
}

// wantsSession reports whether a server refuses data as their connection does not take up the TLS session of the one
// for commands. That is done with session tickets (RFC 5077, RFC 8446, 2.2) and, as this program's TLS knows no others,
// not with session numbers (RFC 5246, 7.3).
func wantsSession(te *textproto.Error) bool {
	say := strings.ToLower(te.Msg)
	return strings.Contains(say, "reuse") || te.Code == ftp.StatusCanNotOpenDataConnection && strings.Contains(say,
		"not permitted")
}

// unreachable says in words why there is no connection.
func (p *Target) unreachable(err error) error {
	if say := remote.Unreachable(p.addr.Host, p.addr.Port, "FTP server", err); say != nil {
		return say
	}
	host := net.JoinHostPort(p.addr.Host, strconv.Itoa(p.addr.Port))
	var te *textproto.Error
	var cert *tls.CertificateVerificationError
	var limit *remote.LimitError
	switch {
	case errors.As(err, &limit):
		return fmt.Errorf("%s is not a usable FTP server: %w", host, limit)
	case errors.As(err, &cert):
		return &remote.RefusedError{Say: fmt.Sprintf(
			"the certificate of %s is not trusted (%v); if it is the console's own, set unchecked-certificate on the "+
				"target", host, cert.Err), Err: err}
	case errors.As(err, &te) && p.secure():
		return &remote.RefusedError{Say: fmt.Sprintf("%s has no TLS (it answers %s); write ftp:// to connect without",
			host, te.Error()), Err: err}
	case errors.As(err, &te) && te.Code >= 400 && te.Code < 500:
		return fmt.Errorf("%w: %s answers: %s", target.ErrBusy, host, te.Error())
	case errors.As(err, &te):
		return fmt.Errorf("%w: %s answers: %s (%w)", target.ErrGone, host, te.Error(), err)
	}
	return fmt.Errorf("%w: the connection to %s was interrupted at once%s", target.ErrGone, host, remote.Said(err))
}

// do gives commands over a session. again says that the commands may be given a second time when the connection breaks.
func (p *Target) do(ctx context.Context, doing, name string, again bool, commands func(s *session) error) error {
	if name != "" {
		if err := p.check(name); err != nil {
			return p.explain(doing, name, err)
		}
	}
	for try, broke := 0, 0; ; try++ {
		s, fresh, err := p.take(ctx)
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return p.explain(doing, name, err)
		}
		stop := context.AfterFunc(ctx, s.kill)
		err = commands(s)
		killed := !stop()
		if err == nil && !killed {
			p.pool.give(s)
			return nil
		}
		if killed {
			p.pool.drop(s)
			if err == nil {
				return nil
			}
			return ctx.Err()
		}
		var te *textproto.Error
		if again && try < busyTries && errors.As(err, &te) && te.Code == ftp.StatusCanNotOpenDataConnection {
			p.pool.give(s)
			p.stopReaders()
			select { // it takes one at a time, and has not quite ended the last one
			case <-ctx.Done():
			case <-time.After(busyWait):
			}
			continue
		}
		var limit *remote.LimitError
		if errors.As(err, &limit) { // whatever comes behind it is of no use
			p.pool.drop(s)
			return p.explain(doing, name, limit)
		}
		if !broken(err) {
			p.pool.give(s)
			return p.explain(doing, name, err)
		}
		p.pool.drop(s)
		var blocked *blockedError
		if errors.As(err, &blocked) {
			return p.explain(doing, name, fmt.Errorf("%w: %w", target.ErrGone, blocked))
		}
		if broke++; !again || broke > 1 || fresh {
			return p.explain(doing, name, fmt.Errorf("%w: the connection to %s was interrupted%s", target.ErrGone,
				p.addr.Host, remote.Said(err)))
		}
	}
}
