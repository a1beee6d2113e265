// Package serve shows what a target would hold as a volume that is nowhere, and has consoles read it over NBD: the
// games stay where they are.
package serve

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"polytome/internal/awake"
	"polytome/internal/core/plan"
	"polytome/internal/format/virtual"
	"polytome/internal/nbd"
)

// Options say how an export is made.
type Options struct {
	Name       string // of the export
	Filesystem string // exfat or fat32, for a new one
	Label      string
	Serial     uint32
	Size       int64 // bytes of the volume, for a new one
	Cluster    int64 // bytes, for a new one
	Passwords  []string
	// Clients are who may come; everybody where there are none.
	Clients []netip.Prefix
	// Said gets what happens, in sentences; nil for nobody.
	Said func(say string)
}

// An Export is a volume that is served.
type Export struct {
	o     Options
	v     *virtual.Volume
	shelf *shelf

	mu      sync.Mutex // guards what follows
	clients map[string]*Client
	failing map[string]bool // files that could not be read the last time
	sleep   func()          // lets the computer sleep again; nil while nobody is connected
}

// A Client is a console that is connected.
type Client struct {
	From  string    `json:"from"` // its address
	Since time.Time `json:"since"`
	Bytes int64     `json:"bytes"` // that it has read
	Plays string    `json:"plays"` // the file that it has read of last; "" for none
	Slow  int       `json:"slow"`  // reads that took longer than 50 ms

	connections int
}

// slow is how long a read may take before it counts as slow: consoles give up after some seconds, and stutter long
// before.
const slow = 50 * time.Millisecond

// New makes an export, or takes up the layout that one had before; nil for a new one. The context is that of its
// sources.
func New(ctx context.Context, o Options, layout io.Reader) (e *Export, err error) {
	e = &Export{o: o, shelf: &shelf{ctx: ctx, passwords: o.Passwords}, clients: map[string]*Client{},
		failing: map[string]bool{}}
	if layout != nil {
		e.v, err = virtual.Load(layout)
	} else {
		e.v, err = virtual.New(virtual.Options{Filesystem: o.Filesystem, Label: o.Label, Serial: o.Serial, Size: o.Size,
			Cluster: o.Cluster})
	}
	if err != nil {
		return nil, err
	}
	return e, nil
}

// Volume is what is served.
func (e *Export) Volume() *virtual.Volume { return e.v }

// Show has the export show what a plan would write to an empty target. While somebody is connected, what goes stays
// until nobody is. What cannot be served comes back as [*virtual.ChangeError]s, joined; the rest is served.
func (e *Export) Show(ctx context.Context, p *plan.Plan) error {
	var files []virtual.File
	var failed []error
	for i := range p.Steps {
		step := &p.Steps[i]
		if !step.Writes() {
			continue
		}
		src, err := e.shelf.source(step)
		if err != nil {
			failed = append(failed, &virtual.ChangeError{Path: step.Path, Err: err})
			continue
		}
		files = append(files, virtual.File{Path: step.Path, Source: src})
	}
	e.mu.Lock()
	alone := len(e.clients) == 0
	e.mu.Unlock()
	return errors.Join(append(failed, e.v.Show(ctx, files, alone))...)
}

// Clients are who is connected, in the order in which they came.
func (e *Export) Clients() []Client {
	e.mu.Lock()
	defer e.mu.Unlock()
	out := []Client{}
	for _, c := range e.clients {
		out = append(out, *c)
	}
	slices.SortFunc(out, func(a, b Client) int { return a.Since.Compare(b.Since) })
	return out
}

func (e *Export) say(format string, args ...any) {
	if e.o.Said != nil {
		e.o.Said(fmt.Sprintf(format, args...))
	}
}

func host(a net.Addr) string {
	h, _, err := net.SplitHostPort(a.String())
	if err != nil {
		return a.String()
	}
	return h
}

// Serve has clients read the volume until the context ends, and returns when all have gone.
func (e *Export) Serve(ctx context.Context, l net.Listener) error {
	x := &nbd.Export{Name: e.o.Name, Description: "games served by Polytome", Size: e.v.Size(), ReadOnly: true,
		Backend: e.v}
	s := &nbd.Server{Exports: []*nbd.Export{x}, Joined: e.joined, Left: e.left, Read: e.read, May: e.may}
	err := s.Serve(ctx, l)
	e.shelf.close()
	return err
}

// may says whether a client may come.
func (e *Export) may(from net.Addr) bool {
	if len(e.o.Clients) == 0 {
		return true
	}
	a, err := netip.ParseAddr(host(from))
	if err == nil && slices.ContainsFunc(e.o.Clients, func(p netip.Prefix) bool { return p.Contains(a.Unmap()) }) {
		return true
	}
	e.say("%s was turned away: it is not among those that may come.", host(from))
	return false
}

func (e *Export) joined(from net.Addr, _ *nbd.Export) {
	e.mu.Lock()
	defer e.mu.Unlock()
	name := host(from)
	c := e.clients[name]
	if c == nil {
		if len(e.clients) == 0 {
			e.sleep = awake.Keep("a console reads games from this computer")
		}
		c = &Client{From: name, Since: time.Now()}
		e.clients[name] = c
		e.say("%s is connected.", name)
	}
	c.connections++
}

func (e *Export) left(from net.Addr, _ *nbd.Export) {
	e.mu.Lock()
	defer e.mu.Unlock()
	name := host(from)
	c := e.clients[name]
	if c == nil {
		return
	}
	if c.connections--; c.connections > 0 {
		return
	}
	delete(e.clients, name)
	e.say("%s has left after %s.", name, time.Since(c.Since).Round(time.Second))
	if len(e.clients) == 0 {
		e.sleep()
		e.sleep = nil
	}
}

func (e *Export) read(r nbd.Reading) {
	file, _, is := e.v.At(r.Offset)
	e.mu.Lock()
	defer e.mu.Unlock()
	if c := e.clients[host(r.From)]; c != nil {
		c.Bytes += int64(r.Bytes)
		if r.Took > slow {
			c.Slow++
		}
		if is && file != c.Plays {
			c.Plays = file
			e.say("%s reads %s.", c.From, file)
		}
	}
	var wrong *virtual.ReadError
	switch {
	case errors.As(r.Err, &wrong):
		if !e.failing[wrong.Path] {
			e.failing[wrong.Path] = true
			e.say("%v. It is tried again whenever somebody reads it.", wrong)
		}
	case is && r.Err == nil && e.failing[file]:
		delete(e.failing, file)
		e.say("%s can be read again.", file)
	}
}
