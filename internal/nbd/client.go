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
