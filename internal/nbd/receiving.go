package nbd

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
)

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
