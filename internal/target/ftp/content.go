package ftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sync"
	"time"

	"github.com/jlaffaye/ftp"

	"polytome/internal/target"
)

// content is a file that is read. The server sends from a byte on to the end; what is read in order comes out of one
// transfer, which has a session to itself.
type content struct {
	p    *Target
	ctx  context.Context
	name string
	size int64

	mu   sync.Mutex
	s    *session
	stop func() bool
	resp *ftp.Response // nil for no transfer under way
	at   int64         // the byte that comes next
}

// Open opens a file for reading.
func (p *Target) Open(ctx context.Context, name string) (target.Content, error) {
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

// Data is all of it: a server does not describe holes.
func (c *content) Data(off int64) (start, end int64) { return min(off, c.size), c.size }

// skip is up to how many bytes are read and dropped rather than begun again behind them.
const skip = 4 << 20

// ReadAt reads; going back, or far ahead, begins another transfer.
func (c *content) ReadAt(b []byte, off int64) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
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
		c.end(true)
		if !broken(err) || try > 0 {
			if broken(err) {
				err = fmt.Errorf("%w: the connection to %s was interrupted: %w", target.ErrGone, c.p.addr.Host, err)
			}
			return done, c.p.explain("reading", c.name, err)
		}
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
	if c.resp == nil || off < c.at || off > c.at+skip {
		c.end(false)
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
	if err == nil && c.at == c.size { // its session is free for others
		c.end(false)
	}
	return n, err
}

// begin begins a transfer at a byte, or at the first one where the server knows no other way.
func (c *content) begin(off int64) error {
	if off > 0 && !c.p.traits.noRestart.Load() {
		err := c.start(off)
		if err == nil || broken(err) || c.ctx.Err() != nil || errors.Is(err, target.ErrGone) ||
			errors.Is(err, target.ErrBusy) {
			return err
		}
		c.p.traits.noRestart.Store(true)
	}
	return c.start(0)
}

func (c *content) start(at int64) error {
	p := c.p
	for try := 0; ; try++ {
		s, _, err := p.take(c.ctx)
		if err != nil {
			return err
		}
		stop := context.AfterFunc(c.ctx, s.kill)
		resp, err := s.c.RetrFrom(p.full(c.name), uint64(at))
		if err == nil {
			c.s, c.stop, c.resp, c.at = s, stop, resp, at
			p.mu.Lock()
			p.readers[c] = true
			p.mu.Unlock()
			return nil
		}
		stop()
		if broken(err) {
			p.pool.drop(s)
			return err
		}
		p.pool.give(s)
		if !noData(err) || try >= busyTries {
			return err
		}
		p.stopReadersBut(c)
		select {
		case <-c.ctx.Done():
			return c.ctx.Err()
		case <-time.After(busyWait):
		}
	}
}

// end ends the transfer under way; mu is held.
func (c *content) end(broke bool) {
	if c.resp == nil {
		return
	}
	p := c.p
	whole := c.at == c.size
	_ = c.resp.SetDeadline(time.Now().Add(p.opts.Timeout))
	err := c.resp.Close()
	killed := !c.stop()
	// What the server answers to a transfer that is interrupted differs; a connection of which that is not known is not
	// used again.
	if broke || killed || err != nil && !whole {
		p.pool.drop(c.s)
	} else {
		p.pool.give(c.s)
	}
	c.resp, c.s = nil, nil
	p.mu.Lock()
	delete(p.readers, c)
	p.mu.Unlock()
}

// Close ends reading.
func (c *content) Close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.end(false)
	return nil
}

// stopReaders ends transfers that no one reads from just now: they begin again where they were. It reports whether
// there were any.
func (p *Target) stopReaders() bool { return p.stopReadersBut(nil) }

func (p *Target) stopReadersBut(not *content) (some bool) {
	p.mu.Lock()
	var all []*content
	for c := range p.readers {
		if c != not {
			all = append(all, c)
		}
	}
	p.mu.Unlock()
	for _, c := range all {
		if c.mu.TryLock() {
			some = some || c.resp != nil
			c.end(false)
			c.mu.Unlock()
		}
	}
	return some
}
