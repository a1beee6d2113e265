package nbd

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"os"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"
)

// A Backend is what an export is made of. One that is also an [io.WriterAt] with Sync can be written to, one with Zero
// and Data knows holes.
type Backend interface {
	io.ReaderAt
}

// An Export is one that a server has.
type Export struct {
	Name        string
	Description string
	Size        int64
	ReadOnly    bool
	Backend     Backend
	// Clients is how many may use it at once; 0 for any number.
	Clients int
}

type writable interface {
	io.WriterAt
	Sync() error
}

type zeroing interface{ Zero(off, n int64) error }

// sectioned is a backend of which some bytes lie in a file of this computer: then they can be handed on without being
// read into the program. The file stays open until done.
type sectioned interface {
	Section(off, n int64) (f *os.File, at int64, done func(), ok bool)
}

// passFrom is from how many bytes on they are handed on so. What consoles read is less, and is read first: of a file
// that is cut short while it is on its way, zeros may arrive.
const passFrom = 128 << 10

type holes interface {
	Data(off int64) (start, end int64)
}

// writes reports whether it can be written to.
func (e *Export) writes() (writable, bool) {
	w, ok := e.Backend.(writable)
	return w, ok && !e.ReadOnly
}

func (e *Export) flags() uint16 {
	f := uint16(hasFlags | sendDF)
	if _, ok := e.writes(); !ok {
		return f | readOnly | canMultiConn
	}
	f |= sendFlush | sendFUA | sendTrim | sendWriteZeroes
	if e.Clients != 1 {
		f |= canMultiConn // a flush on one connection is one for all
	}
	return f
}

// A Server serves exports. Its zero value has none.
type Server struct {
	Exports []*Export
	// Joined and Left run when a client begins to use an export, and when it ends; nil for nothing.
	Joined, Left func(from net.Addr, e *Export)
	// May says who may come; nil for everybody. Others are hung up on.
	May func(from net.Addr) bool
	// Read runs after bytes were read for a client, or could not be; nil for nothing.
	Read func(r Reading)
	// TLS has clients that ask for it be served encrypted, and no others; nil for plain connections.
	TLS *tls.Config

	begin sync.Once
	room  *semaphore.Weighted // bytes that may be read and not sent yet

	mu    sync.Mutex // guards what follows
	users map[*Export]int
}

// A Reading is what was read for a client.
type Reading struct {
	From   net.Addr
	Export *Export
	Offset int64
	Bytes  int
	Asked  time.Time     // when it was asked for: what is asked one after another may be reported the other way round
	Took   time.Duration // reading it
	Sent   time.Duration // until the client's network had taken it, with waiting for what was sent before
	Err    error
}

// What clients may take of this computer.
const (
	mostClients    = 256       // connections at a time
	mostAtOnce     = 512 << 20 // bytes of long reads that were read for all of them and were not sent yet
	mostOfOne      = MostRequest
	smallRead      = 256 << 10 // bytes up to which a read waits for nobody's room
	patienceToSend = 30 * time.Second
)

// Serve takes clients on a listener until the context ends, and returns when all have gone.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	s.begin.Do(func() { s.room = semaphore.NewWeighted(mostAtOnce) })
	stop := context.AfterFunc(ctx, func() { _ = l.Close() })
	defer stop()
	var all sync.WaitGroup
	defer all.Wait()
	places := make(chan struct{}, mostClients)
	for {
		conn, err := l.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		select {
		case places <- struct{}{}:
		default: // there are too many, and it may come again
			_ = conn.Close()
			continue
		}
		all.Go(func() {
			defer func() { <-places }()
			ended := context.AfterFunc(ctx, func() { _ = conn.Close() })
			defer ended()
			if tcp, is := conn.(*net.TCPConn); is { // one that was switched off does not say so
				_ = tcp.SetKeepAliveConfig(net.KeepAliveConfig{Enable: true, Idle: 15 * time.Second,
					Interval: 5 * time.Second, Count: 3})
			}
			_ = s.client(ctx, conn) // whoever does not keep to the protocol is left
			_ = conn.Close()
		})
	}
}

// ServeOn serves the one client at the other end of a connection, and returns when it has gone.
func (s *Server) ServeOn(ctx context.Context, conn net.Conn) error {
	s.begin.Do(func() { s.room = semaphore.NewWeighted(mostAtOnce) })
	ended := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer ended()
	return errors.Join(s.client(ctx, conn), conn.Close())
}

// take has a client use an export, if it may.
func (s *Server) take(e *Export) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.users == nil {
		s.users = map[*Export]int{}
	}
	if e.Clients > 0 && s.users[e] >= e.Clients {
		return false
	}
	s.users[e]++
	return true
}

func (s *Server) leave(e *Export) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.users[e]--
}

func (s *Server) named(name string) *Export {
	for _, e := range s.Exports {
		if e.Name == name || name == "" && len(s.Exports) == 1 {
			return e
		}
	}
	return nil
}

// talk is a client in the handshake.
type talk struct {
	s        *Server
	conn     net.Conn
	r        *bufio.Reader
	chunks   bool
	status   *Export // of which block status was asked for
	noZeroes bool
	secure   bool
}

// client serves one connection from beginning to end.
func (s *Server) client(ctx context.Context, conn net.Conn) error {
	if s.May != nil && !s.May(conn.RemoteAddr()) {
		return nil
	}
	_ = conn.SetDeadline(time.Now().Add(handshake))
	t := &talk{s: s, conn: conn, r: bufio.NewReaderSize(conn, 256<<10)}
	hello := make([]byte, 18)
	be.PutUint64(hello, initMagic)
	be.PutUint64(hello[8:], optMagic)
	be.PutUint16(hello[16:], flagFixedNewstyle|flagNoZeroes)
	if _, err := conn.Write(hello); err != nil {
		return err
	}
	var flags [4]byte
	if _, err := io.ReadFull(t.r, flags[:]); err != nil {
		return err
	}
	if be.Uint32(flags[:])&^(flagFixedNewstyle|flagNoZeroes) != 0 {
		return protocol("a client has the flags %x", flags)
	}
	t.noZeroes = be.Uint32(flags[:])&flagNoZeroes != 0
	e, err := t.options()
	if err != nil || e == nil {
		return err
	}
	_ = conn.SetDeadline(time.Time{})
	if s.Joined != nil {
		s.Joined(conn.RemoteAddr(), e)
	}
	err = t.serve(ctx, e)
	s.leave(e)
	if s.Left != nil {
		s.Left(conn.RemoteAddr(), e)
	}
	return err
}

// handled is how many requests of a client are worked on at once.
const handled = 8

// buffers are those that answers were read into before.
var buffers sync.Pool

// mostStates is how many runs are reported at once.
const mostStates = 512
