package nbd

import (
	"bufio"
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"
)

// Options are how a client behaves.
type Options struct {
	// Patience is how long an answer may take; 30 s where it is zero. After that the connection has ended.
	Patience time.Duration
	// TLS has the connection be encrypted, whatever the server wants; nil for plain.
	TLS *tls.Config
}

// A Client is a connection to an export. Its methods may be called from any goroutine: requests are on their way at the
// same time.
type Client struct {
	conn     net.Conn
	size     int64
	flags    uint16
	most     int64 // bytes of a request
	chunks   bool  // replies are structured
	status   bool  // block status can be asked for
	patience time.Duration

	writing sync.Mutex // one request at a time is written
	mu      sync.Mutex // guards what follows
	next    uint64
	waiting map[uint64]*call
	err     error         // why the connection has ended
	stopped chan struct{} // nothing is taken in any longer

	hurry    chan struct{} // closed when answers must come at once
	hurrying sync.Once

	beside []*Client // further connections, where the server takes several as one; pieces go over all of them
}

// A call is a request whose answer is awaited.
type call struct {
	command uint16
	into    []byte // of a read
	offset  int64
	got     int64
	states  []state
	err     error
	done    chan struct{}
}

// A state is what a run of bytes holds.
type state struct {
	length int64
	flags  uint32
}

// List asks a server for the names of its exports.
func List(ctx context.Context, address string) ([]string, error) {
	conn, r, err := connect(ctx, address)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Now()) })
	defer stop()
	if err := sendOption(conn, optList, nil); err != nil {
		return nil, err
	}
	var out []string
	for {
		kind, data, err := readOptionReply(r, optList)
		switch {
		case err != nil:
			return nil, err
		case kind == repAck:
			_ = sendOption(conn, optAbort, nil) // a farewell
			return out, nil
		case kind == repServer && len(data) >= 4 && int(be.Uint32(data)) <= len(data)-4:
			out = append(out, string(data[4:4+be.Uint32(data)]))
		case kind&repErr != 0:
			return nil, optionError(kind, data)
		default:
			return nil, protocol("a list is answered with %d", kind)
		}
		if len(out) > 10_000 {
			return nil, protocol("it lists more than 10,000 exports")
		}
	}
}

// connect goes through the beginning of the handshake.
func connect(ctx context.Context, address string) (net.Conn, *bufio.Reader, error) {
	ctx, cancel := context.WithTimeout(ctx, handshake)
	defer cancel()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, nil, err
	}
	r, err := greeted(ctx, conn)
	if err != nil {
		return nil, nil, errors.Join(fmt.Errorf("greeting %s: %w", address, err), conn.Close())
	}
	return conn, r, nil
}

// greeted takes the greeting of a server.
func greeted(ctx context.Context, conn net.Conn) (*bufio.Reader, error) {
	_ = conn.SetDeadline(time.Now().Add(handshake))
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Now()) })
	defer stop()
	r := bufio.NewReaderSize(conn, 64<<10)
	b := make([]byte, 18)
	_, err := io.ReadFull(r, b)
	switch {
	case err != nil:
	case be.Uint64(b) != initMagic || be.Uint64(b[8:]) != optMagic:
		err = protocol("it greets with %x", b[:16])
	case be.Uint16(b[16:])&flagFixedNewstyle == 0:
		err = errors.New("the NBD server is too old: it has no fixed newstyle handshake")
	default:
		var flags [4]byte
		be.PutUint32(flags[:], flagFixedNewstyle|uint32(be.Uint16(b[16:])&flagNoZeroes))
		_, err = conn.Write(flags[:])
	}
	return r, err
}

// handshake is how long all until the first request may take.
const handshake = 15 * time.Second

func sendOption(w io.Writer, option uint32, data []byte) error {
	b := make([]byte, 16, 16+len(data))
	be.PutUint64(b, optMagic)
	be.PutUint32(b[8:], option)
	be.PutUint32(b[12:], uint32(len(data)))
	_, err := w.Write(append(b, data...))
	return err
}

func readOptionReply(r io.Reader, option uint32) (kind uint32, data []byte, err error) {
	b := make([]byte, 20)
	if _, err := io.ReadFull(r, b); err != nil {
		return 0, nil, err
	}
	n := be.Uint32(b[16:])
	if be.Uint64(b) != optReplyMagic || be.Uint32(b[8:]) != option || n > mostOption {
		return 0, nil, protocol("option %d is answered with %x", option, b)
	}
	data = make([]byte, n)
	_, err = io.ReadFull(r, data)
	return be.Uint32(b[12:]), data, err
}

// optionError is what a server says against an option.
func optionError(kind uint32, data []byte) error {
	say := ""
	if len(data) > 0 {
		say = ": " + string(data[:min(len(data), 200)])
	}
	switch kind {
	case repUnknown:
		return ErrNoExport
	case repPolicy:
		return fmt.Errorf("%w%s", ErrBusy, say)
	case repTLS:
		return ErrWantsTLS
	case repUnsup:
		return errors.New("the NBD server does not support it")
	}
	return fmt.Errorf("the NBD server refuses it (%d)%s", kind&^repErr, say)
}

// beside is how many further connections an export gets whose server takes several as one ("NBD_FLAG_CAN_MULTI_CONN").
const beside = 3

// join opens further connections where the server allows it. Nothing depends on them: where one cannot be had, there
// are fewer.
func (c *Client) join(ctx context.Context, address, export string, o Options) {
	if c.flags&canMultiConn == 0 {
		return
	}
	for range beside {
		more, err := Dial(ctx, address, export, o)
		if err != nil {
			return
		}
		if more.size != c.size || more.flags != c.flags {
			_ = more.Close() // another export by now
			return
		}
		c.beside = append(c.beside, more)
	}
}

// Dial connects to an export of a server at host:port. It returns [ErrNoExport] and [ErrBusy] as the server says so.
func Dial(ctx context.Context, address, export string, o Options) (*Client, error) {
	conn, r, err := connect(ctx, address)
	if err != nil {
		return nil, err
	}
	plain := conn
	stop := context.AfterFunc(ctx, func() { _ = plain.SetDeadline(time.Now()) })
	if o.TLS != nil {
		if conn, r, err = encrypt(ctx, conn, r, o.TLS); err != nil {
			stop()
			return nil, errors.Join(fmt.Errorf("connecting to %s with TLS: %w", address, err), plain.Close())
		}
	}
	c, err := join(ctx, conn, r, plain, export, o)
	if !stop() && err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("connecting to the export %q of %s: %w", export, address, err), conn.Close())
	}
	return c, nil
}

// On connects to the one export of a server at the other end of a connection, which it takes over.
func On(ctx context.Context, conn net.Conn, o Options) (*Client, error) {
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Now()) })
	defer stop()
	r, err := greeted(ctx, conn)
	var c *Client
	if err == nil {
		c, err = join(ctx, conn, r, conn, "", o)
	}
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return c, nil
}

// join has a server that has greeted serve an export.
func join(ctx context.Context, conn net.Conn, r *bufio.Reader, plain net.Conn, export string, o Options) (*Client,
	error) {
	c := &Client{conn: conn, hurry: make(chan struct{}), most: MostRequest, patience: o.Patience,
		waiting: map[uint64]*call{},
		stopped: make(chan struct{})}
	if c.patience == 0 {
		c.patience = 30 * time.Second
	}
	if err := cmp.Or(c.negotiate(r, export), ctx.Err()); err != nil {
		return nil, err
	}
	_ = conn.SetDeadline(time.Time{})
	go c.receive(r, acknowledging(plain))
	return c, nil
}

func (c *Client) negotiate(r io.Reader, export string) error {
	if len(export) > mostName {
		return ErrNoExport
	}
	kind, err := c.option(r, optStructuredReply, nil, nil)
	if err != nil {
		return err
	}
	if c.chunks = kind == repAck; c.chunks {
		name := func(s string) []byte { return append(be.AppendUint32(nil, uint32(len(s))), s...) }
		data := append(name(export), 0, 0, 0, 1)
		kind, err = c.option(r, optSetMeta, append(data, name(allocation)...), func(kind uint32, b []byte) error {
			if kind == repMeta && len(b) >= 4 && string(b[4:]) == allocation {
				c.status = true
			}
			return nil
		})
		if err != nil {
			return err
		}
		c.status = c.status && kind == repAck
	}
	data := append(be.AppendUint32(nil, uint32(len(export))), export...)
	data = be.AppendUint16(data, 1)
	data = be.AppendUint16(data, infoBlockSize)
	sized := false
	var last []byte
	kind, err = c.option(r, optGo, data, func(kind uint32, b []byte) error {
		last = b
		if kind != repInfo || len(b) < 2 {
			return nil
		}
		switch {
		case be.Uint16(b) == infoExport && len(b) >= 12:
			c.size, c.flags, sized = int64(be.Uint64(b[2:])), be.Uint16(b[10:]), true
		case be.Uint16(b) == infoBlockSize && len(b) >= 14:
			if most := int64(be.Uint32(b[10:])); most > 0 {
				c.most = min(c.most, most)
			}
		}
		return nil
	})
	switch {
	case err != nil:
		return err
	case kind&repErr != 0:
		return optionError(kind, last)
	case !sized || c.size < 0 || c.most < 512:
		return protocol("it says no size that can be, or takes no requests of 512 bytes")
	}
	return nil
}

// option sends an option, hands each reply on, and returns the kind of the last one.
func (c *Client) option(r io.Reader, option uint32, data []byte, each func(kind uint32, b []byte) error) (uint32,
	error) {
	if err := sendOption(c.conn, option, data); err != nil {
		return 0, err
	}
	for range 1000 {
		kind, b, err := readOptionReply(r, option)
		if err != nil {
			return 0, err
		}
		if each != nil {
			if err := each(kind, b); err != nil {
				return 0, err
			}
		}
		if kind == repAck || kind&repErr != 0 {
			return kind, nil
		}
	}
	return 0, protocol("option %d is answered without an end", option)
}

// Size is how many bytes the export has.
func (c *Client) Size() int64 { return c.size }

// ReadOnly reports whether the export is only read.
func (c *Client) ReadOnly() bool { return c.flags&readOnly != 0 }

// end ends the connection, with the reason, and everything that waits for it.
func (c *Client) end(err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.err != nil {
		return
	}
	c.err = err
	for _, w := range c.waiting {
		w.err = err
		close(w.done)
	}
	c.waiting = nil
	_ = c.conn.Close() // it is of no use any longer
}

// Close says farewell and ends the connection. What was not flushed may be lost.
func (c *Client) Close() error {
	for _, more := range c.beside {
		_ = more.Close() // which never fails
	}
	c.writing.Lock()
	_ = c.conn.SetWriteDeadline(time.Now().Add(time.Second))
	r := request{command: cmdDisc}
	_, _ = c.conn.Write(r.put()) // who does not hear it sees the connection end
	c.writing.Unlock()
	c.end(ErrGone)
	return nil
}

// do sends a request with its payload, and waits for the answer.
func (c *Client) do(r request, payload []byte, w *call) error {
	c.mu.Lock()
	if c.err != nil {
		c.mu.Unlock()
		return c.err
	}
	c.next++
	r.cookie = c.next
	w.command, w.offset, w.done = r.command, r.offset, make(chan struct{})
	c.waiting[r.cookie] = w
	c.mu.Unlock()
	c.writing.Lock()
	_ = c.conn.SetWriteDeadline(time.Now().Add(c.patience))
	buffers := net.Buffers{r.put()}
	if len(payload) > 0 {
		buffers = append(buffers, payload)
	}
	_, err := buffers.WriteTo(c.conn)
	c.writing.Unlock()
	if err != nil {
		c.end(fmt.Errorf("%w: %w", ErrGone, err))
	}
	if !c.await(w) {
		c.end(fmt.Errorf("%w: no answer for %s", ErrGone, c.patience))
		<-w.done
	}
	if w.err != nil && errors.Is(w.err, ErrGone) {
		<-c.stopped // nobody writes to what was to be read into
	}
	return w.err
}

// await waits for a call to end, and reports whether it did in time.
func (c *Client) await(w *call) bool {
	patience, hurry := time.NewTimer(c.patience), c.hurry
	defer patience.Stop()
	for {
		select {
		case <-w.done:
			return true
		case <-patience.C:
			return false
		case <-hurry:
			patience.Reset(hurried)
			hurry = nil
		}
	}
}

// hurried is how long an answer may take of which nobody wants to wait for.
const hurried = 700 * time.Millisecond

// Hurry has every answer from now on be awaited for less than a second: what was begun can be ended in order where the
// server answers, and nobody waits for one that does not.
func (c *Client) Hurry() {
	c.hurrying.Do(func() { close(c.hurry) })
	for _, more := range c.beside {
		more.Hurry()
	}
}

// encrypt has the rest of a connection be encrypted ("NBD_OPT_STARTTLS").
func encrypt(ctx context.Context, conn net.Conn, r *bufio.Reader, o *tls.Config) (net.Conn, *bufio.Reader, error) {
	if err := sendOption(conn, optStartTLS, nil); err != nil {
		return nil, nil, err
	}
	kind, data, err := readOptionReply(r, optStartTLS)
	switch {
	case err != nil:
		return nil, nil, err
	case kind == repUnsup:
		return nil, nil, errors.New("the NBD server has no TLS: use nbd:// in place of nbds://")
	case kind != repAck:
		return nil, nil, optionError(kind, data)
	case r.Buffered() > 0: // nothing that came in plain may be taken for something that was encrypted
		return nil, nil, protocol("it sends more before TLS has begun")
	}
	secure := tls.Client(conn, o)
	if err := secure.HandshakeContext(ctx); err != nil {
		return nil, nil, err
	}
	return secure, bufio.NewReaderSize(secure, 64<<10), nil
}

// receive takes answers in until the connection ends, and has each be acknowledged at once.
func (c *Client) receive(r *bufio.Reader, acknowledge func()) {
	defer close(c.stopped)
	for {
		acknowledge()
		if err := c.answer(r); err != nil {
			var op *net.OpError
			switch {
			case errors.Is(err, io.EOF):
				err = ErrGone
			case errors.As(err, &op):
				err = fmt.Errorf("%w: %w", ErrGone, op.Err)
			case !errors.Is(err, ErrProtocol):
				err = fmt.Errorf("%w: %w", ErrGone, err)
			}
			c.end(err)
			return
		}
	}
}

// waitingFor is the call with a cookie; nil for none.
func (c *Client) waitingFor(cookie uint64) *call {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.waiting[cookie]
}

// finish ends a call.
func (c *Client) finish(cookie uint64, w *call, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.waiting[cookie] != w {
		return
	}
	delete(c.waiting, cookie)
	if err != nil && w.err == nil {
		w.err = err
	}
	if w.err == nil && w.command == cmdRead && w.got != int64(len(w.into)) {
		w.err = protocol("a read of %d bytes is answered with %d", len(w.into), w.got)
	}
	close(w.done)
}

// answer takes one answer in.
func (c *Client) answer(r *bufio.Reader) error {
	b := make([]byte, 20)
	if _, err := io.ReadFull(r, b[:16]); err != nil {
		return err
	}
	switch be.Uint32(b) {
	case simpleMagic:
		w := c.waitingFor(be.Uint64(b[8:]))
		if w == nil {
			return protocol("it answers what was not asked")
		}
		if code := be.Uint32(b[4:]); code != 0 {
			c.finish(be.Uint64(b[8:]), w, Errno(code))
			return nil
		}
		if w.command == cmdRead {
			if c.chunks {
				return protocol("a read is answered with a simple reply")
			}
			n, err := io.ReadFull(r, w.into)
			if w.got = int64(n); err != nil {
				return err
			}
		}
		c.finish(be.Uint64(b[8:]), w, nil)
		return nil
	case structuredMagic:
		if _, err := io.ReadFull(r, b[16:]); err != nil {
			return err
		}
		return c.chunk(r, chunk{be.Uint16(b[4:]), be.Uint16(b[6:]), be.Uint64(b[8:]), be.Uint32(b[16:])})
	}
	return protocol("an answer begins with %x", b[:4])
}

// chunk takes a piece of a structured reply in.
func (c *Client) chunk(r *bufio.Reader, k chunk) error {
	w := c.waitingFor(k.cookie)
	if w == nil || k.length > MostRequest+8 {
		return protocol("it answers what was not asked, or with %d bytes", k.length)
	}
	switch k.kind {
	case chunkNone:
		if k.length != 0 {
			return protocol("an empty piece has %d bytes", k.length)
		}
	case chunkData, chunkHole:
		if w.command != cmdRead || k.length < 8 || k.kind == chunkHole && k.length != 12 {
			return protocol("data come for command %d", w.command)
		}
		head := make([]byte, 8)
		if _, err := io.ReadFull(r, head); err != nil {
			return err
		}
		at, n := int64(be.Uint64(head))-w.offset, int64(k.length)-8
		if k.kind == chunkHole {
			if _, err := io.ReadFull(r, head[:4]); err != nil {
				return err
			}
			n = int64(be.Uint32(head))
		}
		if at < 0 || n < 0 || at+n > int64(len(w.into)) || w.got+n > int64(len(w.into)) {
			return protocol("data come that were not asked for")
		}
		if k.kind == chunkHole {
			clear(w.into[at : at+n])
		} else if _, err := io.ReadFull(r, w.into[at:at+n]); err != nil {
			return err
		}
		w.got += n
	case chunkStatus:
		if w.command != cmdBlockStatus || k.length < 12 || k.length%8 != 4 || k.length > mostOption {
			return protocol("a block status has %d bytes", k.length)
		}
		b := make([]byte, k.length)
		if _, err := io.ReadFull(r, b); err != nil {
			return err
		}
		for b = b[4:]; len(b) > 0; b = b[8:] {
			w.states = append(w.states, state{int64(be.Uint32(b)), be.Uint32(b[4:])})
		}
	case chunkError, chunkErrorAt:
		if k.length < 6 || k.length > mostOption {
			return protocol("an error has %d bytes", k.length)
		}
		b := make([]byte, k.length)
		if _, err := io.ReadFull(r, b); err != nil {
			return err
		}
		if w.err == nil {
			w.err = Errno(be.Uint32(b))
		}
	default:
		if _, err := io.CopyN(io.Discard, r, int64(k.length)); err != nil {
			return err
		}
		if k.kind&(1<<15) != 0 && w.err == nil {
			w.err = EIO
		}
	}
	if k.flags&chunkDone != 0 {
		c.finish(k.cookie, w, nil)
	}
	return nil
}

// atOnce is how many pieces of one read or write are on their way.
const atOnce = 8

// pieces does something for pieces of so many bytes of a range, several at once, and returns the bytes in front of the
// first that failed.
func (c *Client) pieces(off int64, b []byte, do func(on *Client, off int64, b []byte) error) (int, error) {
	length := int(min(c.most, preferredLength))
	if len(b) <= length {
		if err := do(c, off, b); err != nil {
			return 0, err
		}
		return len(b), nil
	}
	count := (len(b) + length - 1) / length
	errs := make([]error, count)
	var wait sync.WaitGroup
	slots := make(chan struct{}, atOnce)
	for k := range count {
		slots <- struct{}{}
		wait.Go(func() {
			defer func() { <-slots }()
			on := c
			if i := k % (1 + len(c.beside)); i > 0 {
				on = c.beside[i-1]
			}
			errs[k] = do(on, off+int64(k*length), b[k*length:min(len(b), (k+1)*length)])
		})
	}
	wait.Wait()
	for k, err := range errs {
		if err != nil {
			return k * length, err
		}
	}
	return len(b), nil
}

// ReadAt reads.
func (c *Client) ReadAt(b []byte, off int64) (n int, err error) {
	if off < 0 || off >= c.size {
		return 0, io.EOF
	}
	short := int64(len(b)) > c.size-off
	if short {
		b = b[:c.size-off]
	}
	if len(b) == 0 {
		return 0, nil
	}
	n, err = c.pieces(off, b, func(on *Client, off int64, b []byte) error {
		return on.do(request{command: cmdRead, offset: off, length: uint32(len(b))}, nil, &call{into: b})
	})
	if err == nil && short {
		err = io.EOF
	}
	return n, err
}

// WriteAt writes. What is written is on the server's medium after [Client.Sync].
func (c *Client) WriteAt(b []byte, off int64) (int, error) {
	switch {
	case c.ReadOnly():
		return 0, ErrReadOnly
	case off < 0 || off+int64(len(b)) > c.size:
		return 0, fmt.Errorf("byte %d is beyond the end of the export", off+int64(len(b)))
	case len(b) == 0:
		return 0, nil
	}
	return c.pieces(off, b, func(on *Client, off int64, b []byte) error {
		return on.do(request{command: cmdWrite, offset: off, length: uint32(len(b))}, b, &call{})
	})
}

// Sync has the server bring everything to its medium that was written. Where it has no command for that, every write
// is.
func (c *Client) Sync() error {
	if c.flags&sendFlush == 0 {
		return nil
	}
	return c.do(request{command: cmdFlush}, nil, &call{})
}

// Zero makes n bytes zeros, without sending them where the server can do that.
func (c *Client) Zero(off, n int64) error {
	if c.ReadOnly() {
		return ErrReadOnly
	}
	zeros := make([]byte, min(n, preferredLength))
	for n > 0 {
		k := min(n, 1<<30)
		var err error
		if c.flags&sendWriteZeroes != 0 {
			err = c.do(request{command: cmdWriteZeroes, offset: off, length: uint32(k)}, nil, &call{})
		} else {
			k = min(k, int64(len(zeros)))
			_, err = c.WriteAt(zeros[:k], off)
		}
		if err != nil {
			return err
		}
		off, n = off+k, n-k
	}
	return nil
}

// Data is the first run of data at or after off, as far as the server says; what is between is zeros. At the end it is
// the size twice.
func (c *Client) Data(off int64) (start, end int64) {
	for off < c.size {
		if !c.status {
			return off, c.size
		}
		w := &call{}
		n := min(c.size-off, 1<<30)
		if err := c.do(request{command: cmdBlockStatus, offset: off, length: uint32(n)}, nil, w); err != nil ||
			len(w.states) == 0 {
			return off, c.size // it may be anything
		}
		for _, s := range w.states {
			if s.length <= 0 {
				return off, c.size
			}
			if s.flags&stateZero == 0 {
				return off, min(c.size, off+s.length)
			}
			off += s.length
		}
	}
	return c.size, c.size
}
