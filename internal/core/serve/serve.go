// Package serve has consoles read an export of this computer over NBD: the games stay where they are. It says who is
// connected, what is being played, and why a read was slow.
package serve

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"polytome/internal/awake"
	"polytome/internal/format/virtual"
	"polytome/internal/nbd"
	"polytome/internal/target/served"
)

// Options say how an export is served.
type Options struct {
	Name string // that clients ask for
	// Clients are who may come; everybody where there are none.
	Clients []netip.Prefix
	// Rate is how many bytes a second are sent at most, to all together; 0 for no limit.
	Rate int64
	// Writes has clients write, apart from the volume; nil for not at all.
	Writes *virtual.Overlay
	// Said gets what happens, in sentences; nil for nobody. It must not wait.
	Said func(say string)
	// Left runs when the last client has gone; nil for nothing. It must not wait.
	Left func()
	// Card is how this computer reaches an address, with how fast its cable is; nil for not known.
	Card func(netip.Addr) (name string, megabits int)
}

// A Server has consoles read an export.
type Server struct {
	o     Options
	e     *served.Export
	v     *virtual.Volume
	ahead *ahead
	pace  *rate.Limiter // nil for no limit
	begun time.Time
	wake  chan bool // whether the computer is to stay awake

	mu      sync.Mutex // guards what follows
	at      string     // the address at which it listens
	clients map[string]*client
	failing map[string]Failing   // files that could not be read the last time, by their paths
	slow    []SlowRead           // the newest is the last
	last    map[string]time.Time // when a file was asked for last
	speeds  *history
	bytes   int64
}

// No read may be of two files ([virtual.Gap]).
const _ = uint64(virtual.Gap - nbd.MostRequest)

// New prepares to serve an export, which must stay open for as long.
func New(e *served.Export, o Options) *Server {
	s := &Server{o: o, e: e, v: e.Volume(), begun: time.Now(), clients: map[string]*client{},
		failing: map[string]Failing{}, last: map[string]time.Time{}, speeds: &history{}, wake: make(chan bool, 1)}
	if o.Said == nil {
		s.o.Said = func(string) {}
	}
	if o.Rate > 0 {
		s.pace = rate.NewLimiter(rate.Limit(o.Rate), nbd.MostRequest)
	}
	s.ahead = newAhead(s.v)
	return s
}

// Serve has clients read until the context ends, and returns when all have gone.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	s.mu.Lock()
	s.at = l.Addr().String()
	s.mu.Unlock()
	defer s.ahead.close()
	var beside sync.WaitGroup
	defer beside.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	beside.Go(func() { s.stayAwake(ctx) })
	x := &nbd.Export{Name: s.o.Name, Description: "games served by Polytome", Size: s.v.Size(), ReadOnly: true,
		Backend: &backend{s, ctx}}
	if s.o.Writes != nil {
		x.ReadOnly, x.Backend = false, &writes{&backend{s, ctx}, s.o.Writes}
	}
	n := &nbd.Server{Exports: []*nbd.Export{x}, May: s.may,
		Joined: func(from net.Addr, _ *nbd.Export) { s.joined(host(from)) },
		Left:   func(from net.Addr, _ *nbd.Export) { s.left(host(from)) },
		Read:   s.read}
	return n.Serve(ctx, l)
}

// backend is the volume as clients read it.
type backend struct {
	s   *Server
	ctx context.Context
}

func (b *backend) ReadAt(p []byte, off int64) (int, error) {
	if b.s.pace != nil {
		if err := b.s.pace.WaitN(b.ctx, len(p)); err != nil {
			return 0, err
		}
	}
	return b.s.ahead.ReadAt(p, off)
}

// Section is for long reads, which need no reading ahead.
func (b *backend) Section(off, n int64) (f *os.File, at int64, done func(), ok bool) {
	if b.s.pace != nil {
		return nil, 0, nil, false
	}
	return b.s.v.Section(off, n)
}

func (b *backend) Data(off int64) (start, end int64) { return b.s.v.Data(off) }

// writes is the volume with what clients write.
type writes struct {
	below *backend
	*virtual.Overlay
}

func (w *writes) ReadAt(p []byte, off int64) (int, error) {
	if w.Wrote(off, int64(len(p))) {
		return w.Overlay.ReadAt(p, off)
	}
	return w.below.ReadAt(p, off)
}

func host(a net.Addr) string {
	h, _, err := net.SplitHostPort(a.String())
	if err != nil {
		return a.String()
	}
	return h
}

func (s *Server) say(format string, args ...any) { s.o.Said(fmt.Sprintf(format, args...)) }

// may says whether a client may come.
func (s *Server) may(from net.Addr) bool {
	if len(s.o.Clients) == 0 {
		return true
	}
	a, err := netip.ParseAddr(host(from))
	if err == nil && slices.ContainsFunc(s.o.Clients, func(p netip.Prefix) bool { return p.Contains(a.Unmap()) }) {
		return true
	}
	s.say("%s was turned away: it is not among those that may come.", host(from))
	return false
}

func (s *Server) joined(name string) {
	if err := s.e.Connect(); err != nil {
		s.say("The volume cannot be shown as it is now: %v.", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.clients[name]
	if c == nil {
		c = &client{since: time.Now(), speeds: &history{}}
		s.clients[name] = c
		s.say("%s is connected.", name)
	}
	if c.connections++; len(s.clients) == 1 {
		s.keepAwake(true)
	}
}

func (s *Server) left(name string) {
	if err := s.e.Disconnect(); err != nil {
		s.say("The volume cannot be shown as it is now: %v.", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.clients[name]
	if c == nil {
		return
	}
	if c.connections--; c.connections > 0 {
		return
	}
	delete(s.clients, name)
	s.say("%s has left after %s.", name, time.Since(c.since).Round(time.Second))
	if len(s.clients) == 0 {
		s.keepAwake(false)
		if s.o.Left != nil {
			s.o.Left()
		}
	}
}

// keepAwake has the computer stay awake, or not any longer, without waiting for it. The caller holds the lock.
func (s *Server) keepAwake(yes bool) {
	select {
	case <-s.wake: // the newest counts
	default:
	}
	s.wake <- yes
}

// stayAwake does what is asked of [Server.keepAwake] until the context ends.
func (s *Server) stayAwake(ctx context.Context) {
	release := func() {}
	for {
		select {
		case yes := <-s.wake:
			if release(); yes {
				release = awake.Keep("a console plays games from this computer")
			}
		case <-ctx.Done():
			release()
			return
		}
	}
}

// read takes in what was read for a client. Reads are reported when they are over, so that one may come behind another
// that was asked for later: what was asked for last counts.
func (s *Server) read(r nbd.Reading) {
	file, _, is := s.v.At(r.Offset)
	now := time.Now()
	s.mu.Lock()
	defer s.mu.Unlock()
	name := host(r.From)
	s.bytes += int64(r.Bytes)
	s.speeds.add(now, int64(r.Bytes))
	if c := s.clients[name]; c != nil {
		c.took(now, &r)
		if is && !r.Asked.Before(c.asked) {
			c.asked = r.Asked
			if file != c.plays {
				c.plays, c.played = file, r.Asked
				s.say("%s reads %s.", name, file)
			}
		}
	}
	if r.Took+r.Sent > slow {
		s.slowly(now, name, file, &r)
	}
	if r.Asked.Before(s.last[file]) {
		return // what is known of the file is newer
	}
	var wrong *virtual.ReadError
	switch {
	case errors.As(r.Err, &wrong):
		if _, known := s.failing[wrong.Path]; !known {
			s.failing[wrong.Path] = Failing{wrong.Path, wrong.Err.Error(), now}
			s.say("%v. It is tried again whenever somebody reads it.", wrong)
		}
	case is && r.Err == nil:
		if _, was := s.failing[file]; was {
			delete(s.failing, file)
			s.say("%s can be read again.", file)
		}
	}
	if is {
		s.last[file] = r.Asked
	}
}
