// Package nbd reads and writes block devices over a network, and serves them: the open NBD protocol with its fixed
// newstyle handshake, NBD_OPT_GO, structured replies and block status. The names are those of its specification,
// doc/proto.md of the NBD project.
package nbd

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"time"
)

// Port is the one that NBD servers have as a rule.
const Port = "10809"

var be = binary.BigEndian

// Marks ("Simple handshake", "Transmission").
const (
	initMagic       = 0x4e42444d41474943 // NBDMAGIC
	optMagic        = 0x49484156454F5054 // IHAVEOPT
	optReplyMagic   = 0x0003e889045565a9
	requestMagic    = 0x25609513
	simpleMagic     = 0x67446698
	structuredMagic = 0x668e33ef
)

// Flags of the handshake.
const (
	flagFixedNewstyle = 1 << 0
	flagNoZeroes      = 1 << 1
)

// Options, and what is replied to them.
const (
	optExportName      = 1
	optAbort           = 2
	optList            = 3
	optStartTLS        = 5
	optInfo            = 6
	optGo              = 7
	optStructuredReply = 8
	optListMeta        = 9
	optSetMeta         = 10

	repAck     = 1
	repServer  = 2
	repInfo    = 3
	repMeta    = 4
	repErr     = 1 << 31
	repUnsup   = repErr | 1
	repPolicy  = repErr | 2
	repInvalid = repErr | 3
	repTLS     = repErr | 5
	repUnknown = repErr | 6
	repTooBig  = repErr | 9

	infoExport    = 0
	infoBlockSize = 3
)

// Flags of an export ("Transmission flags").
const (
	hasFlags        = 1 << 0
	readOnly        = 1 << 1
	sendFlush       = 1 << 2
	sendFUA         = 1 << 3
	sendTrim        = 1 << 5
	sendWriteZeroes = 1 << 6
	sendDF          = 1 << 7
	canMultiConn    = 1 << 8
)

// Commands, and what may be asked of them.
const (
	cmdRead        = 0
	cmdWrite       = 1
	cmdDisc        = 2
	cmdFlush       = 3
	cmdTrim        = 4
	cmdWriteZeroes = 6
	cmdBlockStatus = 7

	flagFUA = 1 << 0
	flagDF  = 1 << 2

	chunkDone       = 1 << 0
	chunkNone       = 0
	chunkData       = 1
	chunkHole       = 2
	chunkStatus     = 5
	chunkError      = 1<<15 | 1
	chunkErrorAt    = 1<<15 | 2
	allocation      = "base:allocation"
	stateHole       = 1 << 0
	stateZero       = 1 << 1
	allocationID    = 1
	requestLength   = 28
	mostOption      = 64 << 10 // bytes of an option, and of what is replied to one
	mostName        = 4096
	preferredLength = 1 << 20
)

// MostRequest is the longest read or write that is taken, in bytes.
const MostRequest = 32 << 20

// An Errno is the error of a command, as the protocol has it.
type Errno uint32

// Errors of commands ("Error values").
const (
	EPERM     Errno = 1
	EIO       Errno = 5
	ENOMEM    Errno = 12
	EINVAL    Errno = 22
	ENOSPC    Errno = 28
	EOVERFLOW Errno = 75
	ENOTSUP   Errno = 95
	ESHUTDOWN Errno = 108
)

func (e Errno) Error() string {
	words := map[Errno]string{EPERM: "the server does not permit it", EIO: "the server cannot read or write there",
		ENOMEM: "the server has not enough memory", EINVAL: "the server finds that it makes no sense",
		ENOSPC: "the server has no space left", EOVERFLOW: "it is too long for the server",
		ENOTSUP: "the server does not support it", ESHUTDOWN: "the server is shutting down"}
	if w := words[e]; w != "" {
		return w
	}
	return fmt.Sprintf("the server reports error %d", uint32(e))
}

var (
	// ErrProtocol reports a peer that does not keep to the protocol.
	ErrProtocol = errors.New("it does not keep to the NBD protocol")
	// ErrNoExport reports that the server has no export of that name.
	ErrNoExport = errors.New("the server has no export of that name")
	// ErrBusy reports that the server lets nobody else use the export now.
	ErrBusy = errors.New("the export is in use: the server takes no further client")
	// ErrGone reports that the connection has ended.
	ErrGone = errors.New("the connection to the NBD server has ended")
	// ErrWantsTLS reports a server that takes no plain connection.
	ErrWantsTLS = errors.New("the NBD server wants TLS: use nbds:// in place of nbd://")
	// ErrReadOnly reports an export that is only read.
	ErrReadOnly = errors.New("the export is read-only")
)

// protocol says what a peer has done against the protocol.
func protocol(say string, args ...any) error {
	return fmt.Errorf("%s: %w", fmt.Sprintf(say, args...), ErrProtocol)
}

// A request is a command with its place.
type request struct {
	flags, command uint16
	cookie         uint64
	offset         int64
	length         uint32
	asked          time.Time // when the server had read it, which is in the order in which a client asks
}

func (r *request) put() []byte {
	b := make([]byte, requestLength)
	be.PutUint32(b, requestMagic)
	be.PutUint16(b[4:], r.flags)
	be.PutUint16(b[6:], r.command)
	be.PutUint64(b[8:], r.cookie)
	be.PutUint64(b[16:], uint64(r.offset))
	be.PutUint32(b[24:], r.length)
	return b
}

func readRequest(from io.Reader) (r request, err error) {
	b := make([]byte, requestLength)
	if _, err := io.ReadFull(from, b); err != nil {
		return r, err
	}
	if be.Uint32(b) != requestMagic {
		return r, protocol("a request begins with %x", b[:4])
	}
	return request{flags: be.Uint16(b[4:]), command: be.Uint16(b[6:]), cookie: be.Uint64(b[8:]),
		offset: int64(be.Uint64(b[16:])), length: be.Uint32(b[24:]), asked: time.Now()}, nil
}

// A chunk is the head of a structured reply.
type chunk struct {
	flags, kind uint16
	cookie      uint64
	length      uint32
}

func (c *chunk) put() []byte {
	b := make([]byte, 20)
	be.PutUint32(b, structuredMagic)
	be.PutUint16(b[4:], c.flags)
	be.PutUint16(b[6:], c.kind)
	be.PutUint64(b[8:], c.cookie)
	be.PutUint32(b[16:], c.length)
	return b
}
