package ftp

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"time"

	"github.com/jlaffaye/ftp"

	"polytome/internal/place"
)

// content is a file that is read. The server sends from a byte on to the end; what is read in order comes out of one transfer.
type content struct {
	p    *Place
	ctx  context.Context
	name string
	size int64

	resp *ftp.Response // nil for no transfer under way
	at   int64         // the byte that comes next
}

// Open opens a file for reading.
func (p *Place) Open(ctx context.Context, name string) (place.Content, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	e, ok, err := p.find(ctx, name)
	switch {
	case err != nil:
	case !ok:
		err = fs.ErrNotExist
	case e.Folder:
		err = errors.New("it is a folder")
	}
	if err != nil {
		return nil, p.explain("opening", name, err)
	}
	return &content{p: p, ctx: ctx, name: name, size: e.Size}, nil
}

func (c *content) Size() int64 { return c.size }

// Data is all of it: a server does not tell of holes.
func (c *content) Data(off int64) (start, end int64) { return min(off, c.size), c.size }

// passOver is up to how many bytes are read and dropped rather than begun anew behind them.
const passOver = 4 << 20

// ReadAt reads; going back, or far ahead, begins another transfer.
func (c *content) ReadAt(b []byte, off int64) (int, error) {
	c.p.mu.Lock()
	defer c.p.mu.Unlock()
	if off >= c.size {
		return 0, io.EOF
	}
	want := min(int64(len(b)), c.size-off)
	done := 0
	for try := 0; ; try++ {
		n, err := c.read(b[done:want], off+int64(done))
		done += n
		if err == nil || c.ctx.Err() != nil {
			break
		}
		c.stop()
		if !broken(err) || try > 0 {
			return done, c.p.explain("reading", c.name, err)
		}
		c.p.drop()
	}
	if err := c.ctx.Err(); err != nil {
		return done, err
	}
	if done < len(b) {
		return done, io.EOF
	}
	return done, nil
}

func (c *content) read(b []byte, off int64) (int, error) {
	if c.resp == nil || off < c.at || off > c.at+passOver {
		if err := c.begin(off); err != nil {
			return 0, err
		}
	}
	if skip := off - c.at; skip > 0 {
		n, err := io.CopyN(io.Discard, c.resp, skip)
		c.at += n
		if err != nil {
			return 0, err
		}
	}
	n, err := io.ReadFull(c.resp, b)
	c.at += int64(n)
	return n, err
}

// begin begins a transfer at a byte, or at the first one where the server knows no other way.
func (c *content) begin(off int64) error {
	p := c.p
	start := func(at int64) error {
		return p.locked(c.ctx, "reading", c.name, true, func(conn *ftp.ServerConn) error {
			resp, err := conn.RetrFrom(p.full(c.name), uint64(at))
			if err == nil {
				c.resp, c.at, p.reading = resp, at, c
			}
			return err
		})
	}
	if off > 0 && !p.noRest {
		err := start(off)
		if err == nil || broken(err) || c.ctx.Err() != nil || errors.Is(err, place.ErrGone) {
			return err
		}
		p.noRest = true
	}
	return start(0)
}

// stop ends the transfer under way.
func (c *content) stop() {
	if c.resp == nil {
		return
	}
	whole := c.at == c.size
	_ = c.resp.SetDeadline(time.Now().Add(c.p.opts.Timeout))
	if err := c.resp.Close(); err != nil && !whole {
		// What the server answers to a transfer that is broken off differs; a connection of which that is not known is not used again.
		c.p.drop()
	}
	c.resp = nil
	if c.p.reading == c {
		c.p.reading = nil
	}
}

func (c *content) Close() error {
	c.p.mu.Lock()
	defer c.p.mu.Unlock()
	c.stop()
	return nil
}

// writer is a file under its temporary name. It is sent while it is written, over a session of its own, so that others things can be
// looked at meanwhile; what is small is sent in one go when it is flushed.
type writer struct {
	p     *Place
	ctx   context.Context
	temp  string
	name  string
	over  bool
	date  time.Time
	small bytes.Buffer // nothing was sent yet
	pipe  *io.PipeWriter
	done  chan error
	s     *session
	wrote int64
	sent  bool
	ended bool
}

// smallFile is up to how many bytes wait for the flush.
const smallFile = 256 << 10

// Create begins a file.
func (p *Place) Create(ctx context.Context, name string, _ int64) (place.Writer, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	_, there, err := p.find(ctx, name)
	if err == nil && there {
		err = place.ErrExists
	}
	if err != nil {
		return nil, p.explain("beginning", name, err)
	}
	return p.begin(ctx, name, false), nil
}

// Replace begins a file that takes the place of another one.
func (p *Place) Replace(ctx context.Context, name string, _ int64) (place.Writer, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	e, there, err := p.find(ctx, name)
	switch {
	case err != nil:
	case !there:
		err = fs.ErrNotExist
	case e.Folder:
		err = errors.New("it is a folder")
	}
	if err != nil {
		return nil, p.explain("replacing", name, err)
	}
	return p.begin(ctx, name, true), nil
}

func (p *Place) begin(ctx context.Context, name string, over bool) *writer {
	return &writer{p: p, ctx: ctx, temp: place.TemporaryName(name), name: name, over: over}
}

// start begins to send.
func (w *writer) start() error {
	s, err := w.p.dial(w.ctx)
	if err != nil {
		return w.p.explain("sending", w.name, err)
	}
	w.s = s
	r, pipe := io.Pipe()
	w.pipe, w.done = pipe, make(chan error, 1)
	stop := context.AfterFunc(w.ctx, s.kill)
	go func() {
		err := s.c.Stor(w.p.full(w.temp), r)
		stop()
		_ = r.CloseWithError(err) // who still writes is told
		w.done <- err
	}()
	w.sent = true
	_, err = pipe.Write(w.small.Bytes())
	w.small.Reset()
	return err
}

func (w *writer) Write(b []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	if w.ended {
		return 0, fs.ErrClosed
	}
	if w.pipe == nil {
		if int64(w.small.Len()+len(b)) <= smallFile {
			w.wrote += int64(len(b))
			return w.small.Write(b)
		}
		if err := w.start(); err != nil {
			return 0, w.failed(err)
		}
	}
	n, err := w.pipe.Write(b)
	w.wrote += int64(n)
	if err != nil {
		return n, w.failed(err)
	}
	return n, nil
}

// failed finds out why sending broke off.
func (w *writer) failed(err error) error {
	if ctxErr := w.ctx.Err(); ctxErr != nil {
		return ctxErr
	}
	if w.done != nil {
		select {
		case sent := <-w.done:
			w.done <- sent
			if sent != nil {
				err = sent
			}
		case <-time.After(w.p.opts.Timeout):
		}
	}
	if broken(err) {
		err = fmt.Errorf("%w: the connection to %s broke off: %w", place.ErrGone, w.p.addr.Host, err)
	}
	return w.p.explain("sending", w.name, err)
}

var zeros [128 << 10]byte

func (w *writer) Skip(n int64) error {
	for n > 0 {
		k, err := w.Write(zeros[:min(n, int64(len(zeros)))])
		if err != nil {
			return err
		}
		n -= int64(k)
	}
	return nil
}

// finish sends what is left, and waits until the server has all of it.
func (w *writer) finish() error {
	if w.pipe == nil && w.sent {
		return nil
	}
	if w.pipe == nil {
		if w.small.Len() == 0 {
			return w.once(nil)
		}
		return w.once(w.small.Bytes())
	}
	_ = w.pipe.Close()
	err := <-w.done
	w.done <- err
	w.pipe = nil
	if err != nil {
		w.s.kill()
		return w.failed(err)
	}
	_ = w.s.c.Quit()
	w.noted()
	return nil
}

// once sends a small file over the session that there is.
func (w *writer) once(b []byte) error {
	p := w.p
	p.mu.Lock()
	defer p.mu.Unlock()
	err := p.locked(w.ctx, "sending", w.name, true, func(c *ftp.ServerConn) error { return c.Stor(p.full(w.temp), bytes.NewReader(b)) })
	if err == nil {
		w.sent = true
		p.note(w.temp, &place.Entry{Path: w.temp, Size: w.wrote, Modified: time.Now()})
	}
	return err
}

func (w *writer) noted() {
	w.p.mu.Lock()
	w.p.note(w.temp, &place.Entry{Path: w.temp, Size: w.wrote, Modified: time.Now()})
	w.p.mu.Unlock()
}

// Flush has the server get all of it.
func (w *writer) Flush() error { return w.finish() }

// ReadBack reads what the server has got. Whether that comes from its disk, the server decides.
func (w *writer) ReadBack() (place.Content, error) {
	size := w.wrote
	err := w.p.do(w.ctx, "reading back", w.temp, true, func(c *ftp.ServerConn) error {
		n, err := c.FileSize(w.p.full(w.temp))
		if err == nil {
			size = n
		}
		return nil // not every server tells
	})
	if err != nil {
		return nil, err
	}
	return &content{p: w.p, ctx: w.ctx, name: w.temp, size: size}, nil
}

// Date sets the date when the file gets its name, where the server can.
func (w *writer) Date(t time.Time) error {
	w.date = t
	return nil
}

// Commit gives the file its name.
func (w *writer) Commit() error {
	if err := w.finish(); err != nil {
		return err
	}
	p := w.p
	p.mu.Lock()
	defer p.mu.Unlock()
	e, there, err := p.find(w.ctx, w.name)
	if err != nil {
		return p.explain("naming", w.name, err)
	}
	if there && !w.over {
		return p.explain("naming", w.name, place.ErrExists)
	}
	if there {
		if err := p.locked(w.ctx, "replacing", w.name, false, func(c *ftp.ServerConn) error { return c.Delete(p.full(e.Path)) }); err != nil {
			return err
		}
	}
	if err := p.rename(w.ctx, w.temp, w.name); err != nil {
		return err
	}
	w.ended = true
	p.note(w.temp, nil)
	p.note(w.name, &place.Entry{Path: w.name, Size: w.wrote, Modified: time.Now()})
	if !w.date.IsZero() {
		_ = p.locked(w.ctx, "dating", w.name, true, func(c *ftp.ServerConn) error {
			if c.IsSetTimeSupported() {
				return c.SetTime(p.full(w.name), w.date)
			}
			return nil
		})
	}
	return nil
}

// Abort removes what was sent.
func (w *writer) Abort() error {
	if w.ended {
		return nil
	}
	w.ended = true
	if w.pipe != nil {
		_ = w.pipe.CloseWithError(errors.New("given up"))
		w.s.kill()
		<-w.done
		w.pipe = nil
	}
	if !w.sent {
		return nil
	}
	ctx := context.WithoutCancel(w.ctx) // also of a run that was stopped nothing half is left
	p := w.p
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.folders, p.opts.Filesystem.Fold(path.Dir(w.temp)))
	_, there, err := p.find(ctx, w.temp)
	if err != nil || !there {
		return err
	}
	err = p.locked(ctx, "removing", w.temp, true, func(c *ftp.ServerConn) error { return c.Delete(p.full(w.temp)) })
	p.note(w.temp, nil)
	return err
}
