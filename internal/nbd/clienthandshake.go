package nbd

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"time"
)

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
