package nbd

import (
	"bufio"
	"context"
	"crypto/tls"
	"io"
)

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
