package nbd

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
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

// reply answers an option.
func (t *talk) reply(option, kind uint32, data []byte) error {
	b := make([]byte, 20, 20+len(data))
	be.PutUint64(b, optReplyMagic)
	be.PutUint32(b[8:], option)
	be.PutUint32(b[12:], kind)
	be.PutUint32(b[16:], uint32(len(data)))
	_, err := t.conn.Write(append(b, data...))
	return err
}

// options answers options until the client uses an export, which is taken then, or ends; nil for that.
func (t *talk) options() (*Export, error) {
	for range 1000 {
		b := make([]byte, 16)
		if _, err := io.ReadFull(t.r, b); err != nil {
			return nil, err
		}
		option, n := be.Uint32(b[8:]), be.Uint32(b[12:])
		if be.Uint64(b) != optMagic || n > 10*mostOption {
			return nil, protocol("an option begins with %x", b)
		}
		data := make([]byte, n)
		if _, err := io.ReadFull(t.r, data); err != nil {
			return nil, err
		}
		e, end, err := t.option(option, data)
		if err != nil || end {
			return e, err
		}
	}
	return nil, protocol("a client has more than 1,000 options")
}

// encrypt answers a client that wants TLS.
func (t *talk) encrypt() error {
	switch {
	case t.s.TLS == nil:
		return t.reply(optStartTLS, repUnsup, nil)
	case t.secure:
		return t.reply(optStartTLS, repInvalid, nil)
	}
	if err := t.reply(optStartTLS, repAck, nil); err != nil {
		return err
	}
	if t.r.Buffered() > 0 { // nothing that came in plain may be taken for something that was encrypted
		return protocol("a client sends more before TLS has begun")
	}
	secure := tls.Server(t.conn, t.s.TLS)
	if err := secure.HandshakeContext(context.Background()); err != nil { // the connection has a deadline
		return err
	}
	t.conn, t.r, t.secure = secure, bufio.NewReaderSize(secure, 256<<10), true
	t.chunks, t.status = false, nil // as if nothing had been said before
	return nil
}

// option answers one option.
func (t *talk) option(option uint32, data []byte) (e *Export, end bool, err error) {
	if t.s.TLS != nil && !t.secure && option != optStartTLS && option != optAbort {
		if option == optExportName {
			return nil, true, nil // the protocol has no answer for that
		}
		return nil, false, t.reply(option, repTLS, nil)
	}
	switch option {
	case optStartTLS:
		return nil, false, t.encrypt()
	case optAbort:
		return nil, true, t.reply(option, repAck, nil)
	case optList:
		for _, e := range t.s.Exports {
			b := append(be.AppendUint32(nil, uint32(len(e.Name))), e.Name...)
			if err := t.reply(option, repServer, append(b, e.Description...)); err != nil {
				return nil, false, err
			}
		}
		return nil, false, t.reply(option, repAck, nil)
	case optStructuredReply:
		t.chunks = true
		return nil, false, t.reply(option, repAck, nil)
	case optListMeta, optSetMeta:
		return nil, false, t.meta(option, data)
	case optInfo, optGo:
		return t.info(option, data)
	case optExportName:
		e := t.s.named(string(data))
		if e == nil || !t.s.take(e) {
			return nil, true, nil // the protocol has no answer for that
		}
		b := be.AppendUint16(be.AppendUint64(nil, uint64(e.Size)), e.flags())
		if !t.noZeroes {
			b = append(b, make([]byte, 124)...)
		}
		if _, err := t.conn.Write(b); err != nil {
			t.s.leave(e)
			return nil, true, err
		}
		return e, true, nil
	}
	return nil, false, t.reply(option, repUnsup, nil)
}

// nameIn takes a name with its length from the beginning of data.
func nameIn(data []byte) (name string, rest []byte, ok bool) {
	if len(data) < 4 || be.Uint32(data) > mostName || int(be.Uint32(data)) > len(data)-4 {
		return "", nil, false
	}
	n := be.Uint32(data)
	return string(data[4 : 4+n]), data[4+n:], true
}

// meta answers which contexts of block status there are: one.
func (t *talk) meta(option uint32, data []byte) error {
	name, rest, ok := nameIn(data)
	if !ok || len(rest) < 4 {
		return t.reply(option, repInvalid, nil)
	}
	e := t.s.named(name)
	if e == nil {
		return t.reply(option, repUnknown, nil)
	}
	count := be.Uint32(rest)
	rest = rest[4:]
	wanted := option == optListMeta && count == 0
	for range count {
		query, more, ok := nameIn(rest)
		if !ok {
			return t.reply(option, repInvalid, nil)
		}
		rest = more
		wanted = wanted || query == allocation || option == optListMeta && query == "base:"
	}
	if option == optSetMeta {
		if t.status = nil; wanted && t.chunks {
			t.status = e
		}
	}
	if wanted {
		if err := t.reply(option, repMeta, append(be.AppendUint32(nil, allocationID), allocation...)); err != nil {
			return err
		}
	}
	return t.reply(option, repAck, nil)
}

// info says what an export is like, and has it be used where that was asked for.
func (t *talk) info(option uint32, data []byte) (e *Export, end bool, err error) {
	name, rest, ok := nameIn(data)
	if !ok || len(rest) < 2 || len(rest) != 2+2*int(be.Uint16(rest)) {
		return nil, false, t.reply(option, repInvalid, nil)
	}
	if e = t.s.named(name); e == nil {
		return nil, false, t.reply(option, repUnknown, []byte("there is no export of that name"))
	}
	if option == optGo && !t.s.take(e) {
		return nil, false, t.reply(option, repPolicy, []byte("somebody else uses it"))
	}
	b := be.AppendUint16(nil, infoExport)
	b = be.AppendUint16(be.AppendUint64(b, uint64(e.Size)), e.flags())
	err = t.reply(option, repInfo, b)
	if err == nil {
		b = be.AppendUint16(nil, infoBlockSize)
		b = be.AppendUint32(be.AppendUint32(be.AppendUint32(b, 1), 4096), MostRequest)
		err = t.reply(option, repInfo, b)
	}
	if err == nil {
		err = t.reply(option, repAck, nil)
	}
	if option == optInfo {
		return nil, false, err
	}
	if err != nil {
		t.s.leave(e)
		return nil, true, err
	}
	return e, true, nil
}

// handled is how many requests of a client are worked on at once.
const handled = 8

// serve answers requests until the client says farewell.
func (t *talk) serve(ctx context.Context, e *Export) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var answering sync.Mutex
	var all sync.WaitGroup
	defer all.Wait()
	slots := make(chan struct{}, handled)
	own := semaphore.NewWeighted(mostOfOne)
	for {
		r, err := readRequest(t.r)
		if err != nil {
			return err
		}
		if r.command == cmdDisc {
			return nil
		}
		var payload []byte
		if r.command == cmdWrite {
			if r.length > MostRequest {
				return protocol("a client writes %d bytes at once", r.length)
			}
			payload = make([]byte, r.length)
			if _, err := io.ReadFull(t.r, payload); err != nil {
				return err
			}
		}
		room := int64(0)
		if r.command == cmdRead && r.length > smallRead && r.length <= MostRequest {
			room = int64(r.length)
			if err := own.Acquire(ctx, room); err != nil {
				return err
			}
			if err := t.s.room.Acquire(ctx, room); err != nil {
				return err
			}
		}
		slots <- struct{}{}
		all.Go(func() {
			defer func() {
				<-slots
				t.s.room.Release(room)
				own.Release(room)
			}()
			if t.passes(e, &r, &answering, cancel) {
				return
			}
			a := t.do(e, &r, payload)
			defer func() {
				if a.data != nil {
					buffers.Put(&a.data)
				}
			}()
			begun := time.Now()
			answering.Lock()
			err := a.send(t.conn, &r, t.chunks)
			answering.Unlock()
			if err != nil {
				_ = t.conn.Close() // which ends the reading too
				cancel()
			}
			if a.reading != nil && t.s.Read != nil {
				a.reading.Sent = time.Since(begun)
				t.s.Read(*a.reading)
			}
		})
	}
}

// passes answers a long read with bytes that lie in a file and are in memory. It reports whether it did. What goes
// wrong with the file on the way is said behind the bytes, as the protocol allows it where answers come in chunks.
func (t *talk) passes(e *Export, r *request, answering *sync.Mutex, hangUp func()) bool {
	b, can := e.Backend.(sectioned)
	if !can || !t.chunks || r.command != cmdRead || r.length < passFrom || r.length > MostRequest || t.secure ||
		r.flags != 0 || r.offset < 0 || r.offset > e.Size-int64(r.length) {
		return false
	}
	if _, tcp := t.conn.(*net.TCPConn); !tcp {
		return false
	}
	n := int64(r.length)
	f, at, done, ok := b.Section(r.offset, n)
	if !ok {
		return false
	}
	defer done()
	if !cached(f, at, n) {
		return false
	}
	k := chunk{0, chunkData, r.cookie, 8 + r.length}
	begun := time.Now()
	answering.Lock()
	_ = t.conn.SetWriteDeadline(time.Now().Add(patienceToSend))
	sent, wrongFile := pass(t.conn, be.AppendUint64(k.put(), uint64(r.offset)), f, at, n)
	end := answer{}
	if wrongFile != nil {
		end = wrong(EIO, "reading byte %d: %v", r.offset+sent, wrongFile)
	}
	_, err := io.CopyN(t.conn, zeros{}, n-sent) // the chunk has to become as long as was said
	if err == nil {
		err = end.send(t.conn, &request{cookie: r.cookie, command: cmdFlush}, true) // which has nothing else to say
	}
	answering.Unlock()
	if err != nil {
		_ = t.conn.Close() // which ends the reading too
		hangUp()
	}
	if t.s.Read != nil {
		t.s.Read(Reading{From: t.conn.RemoteAddr(), Export: e, Offset: r.offset, Bytes: int(sent),
			Asked: r.asked, Sent: time.Since(begun), Err: wrongFile})
	}
	return true
}

// zeros is as many as are asked for.
type zeros struct{}

func (zeros) Read(b []byte) (int, error) {
	clear(b)
	return len(b), nil
}

// simple is the head of a simple reply.
func simple(cookie uint64, code Errno) []byte {
	b := make([]byte, 16)
	be.PutUint32(b, simpleMagic)
	be.PutUint32(b[4:], uint32(code))
	be.PutUint64(b[8:], cookie)
	return b
}

// An answer is what is replied to a request.
type answer struct {
	data   []byte
	states []state
	code   Errno
	say    string
	// reading is what was read for it; nil for another command.
	reading *Reading
}

// send writes an answer.
func (a *answer) send(conn net.Conn, r *request, chunks bool) error {
	var out net.Buffers
	switch {
	case !chunks:
		if out = append(out, simple(r.cookie, a.code)); a.code == 0 && len(a.data) > 0 {
			out = append(out, a.data)
		}
	case a.code != 0:
		k := chunk{chunkDone, chunkError, r.cookie, uint32(6 + len(a.say))}
		b := be.AppendUint16(be.AppendUint32(k.put(), uint32(a.code)), uint16(len(a.say)))
		out = append(out, append(b, a.say...))
	case r.command == cmdRead:
		k := chunk{chunkDone, chunkData, r.cookie, uint32(8 + len(a.data))}
		out = append(out, be.AppendUint64(k.put(), uint64(r.offset)), a.data)
	case r.command == cmdBlockStatus:
		k := chunk{chunkDone, chunkStatus, r.cookie, uint32(4 + 8*len(a.states))}
		b := be.AppendUint32(k.put(), allocationID)
		for _, s := range a.states {
			b = be.AppendUint32(be.AppendUint32(b, uint32(s.length)), s.flags)
		}
		out = append(out, b)
	default:
		k := chunk{chunkDone, chunkNone, r.cookie, 0}
		out = append(out, k.put())
	}
	_ = conn.SetWriteDeadline(time.Now().Add(patienceToSend))
	_, err := out.WriteTo(conn)
	return err
}

func wrong(code Errno, say string, args ...any) answer {
	return answer{code: code, say: fmt.Sprintf(say, args...)}
}

// buffers are those that answers were read into before.
var buffers sync.Pool

func buffer(n int) []byte {
	if b, _ := buffers.Get().(*[]byte); b != nil && cap(*b) >= n {
		return (*b)[:n]
	}
	return make([]byte, n)
}

// do carries a request out.
func (t *talk) do(e *Export, r *request, payload []byte) answer {
	within := r.offset >= 0 && r.offset <= e.Size-int64(r.length)
	w, writes := e.writes()
	switch r.command {
	case cmdRead:
		switch {
		case r.length > MostRequest:
			return wrong(EOVERFLOW, "at most %d bytes are read at once", MostRequest)
		case !within || r.length == 0 || r.flags&^(flagDF) != 0:
			return wrong(EINVAL, "there is nothing at byte %d", r.offset)
		}
		b := buffer(int(r.length))
		begun := time.Now()
		n, err := e.Backend.ReadAt(b, r.offset)
		if n == len(b) {
			err = nil
		}
		was := &Reading{From: t.conn.RemoteAddr(), Export: e, Offset: r.offset, Bytes: n, Asked: r.asked,
			Took: time.Since(begun), Err: err}
		a := answer{data: b, reading: was}
		if n < len(b) {
			buffers.Put(&b)
			a = wrong(EIO, "reading byte %d: %v", r.offset, err)
			a.reading = was
		}
		return a
	case cmdBlockStatus:
		if t.status != e || !within || r.length == 0 {
			return wrong(EINVAL, "there is no status of byte %d", r.offset)
		}
		return answer{states: statesOf(e, r.offset, int64(r.length))}
	case cmdWrite, cmdTrim, cmdWriteZeroes, cmdFlush:
		switch {
		case !writes:
			return wrong(EPERM, "it is read-only")
		case r.command != cmdFlush && !within:
			return wrong(ENOSPC, "byte %d is beyond the end", r.offset+int64(r.length))
		}
		if err := change(e, w, r, payload); err != nil {
			code := EIO
			_ = errors.As(err, &code) // a backend may say what it is
			return wrong(code, "%v", err)
		}
		return answer{}
	}
	return wrong(EINVAL, "command %d is unknown", r.command)
}

// change writes, makes zeros or flushes.
func change(e *Export, w writable, r *request, payload []byte) error {
	var err error
	switch r.command {
	case cmdFlush:
		return w.Sync()
	case cmdWrite:
		_, err = w.WriteAt(payload, r.offset)
	case cmdWriteZeroes:
		err = zero(e.Backend, w, r.offset, int64(r.length))
	case cmdTrim: // nothing has to become of it
	}
	if err == nil && r.flags&flagFUA != 0 {
		err = w.Sync()
	}
	return err
}

// zero makes bytes zeros, by itself where the backend cannot.
func zero(b Backend, w io.WriterAt, off, n int64) error {
	if z, ok := b.(zeroing); ok {
		if err := z.Zero(off, n); !errors.Is(err, errors.ErrUnsupported) {
			return err
		}
	}
	zeros := make([]byte, min(n, preferredLength))
	for n > 0 {
		k := min(n, int64(len(zeros)))
		if _, err := w.WriteAt(zeros[:k], off); err != nil {
			return err
		}
		off, n = off+k, n-k
	}
	return nil
}

// mostStates is how many runs are reported at once.
const mostStates = 512

// statesOf are the runs of data and holes from a byte on.
func statesOf(e *Export, off, n int64) (out []state) {
	h, ok := e.Backend.(holes)
	if !ok {
		return []state{{n, 0}}
	}
	for at := off; at < off+n && len(out) < mostStates; {
		start, end := h.Data(at)
		if start > at {
			k := min(start, off+n) - at
			out = append(out, state{k, stateHole | stateZero})
			at += k
			continue
		}
		k := min(end, off+n) - at
		if k <= 0 {
			k = off + n - at
		}
		out = append(out, state{k, 0})
		at += k
	}
	return out
}
