package smb

import (
	"encoding/binary"
	"fmt"
	"net"
	"sync/atomic"

	"polytome/internal/size"
	"polytome/internal/target/remote"
)

// What a message of a server has at least and at most ([MS-SMB2] 2.1 and 2.2.1): the header that each has, and no more
// than what is asked for at once.
const (
	frameHeader = 4
	leastFrame  = 64 - 12 // those that are encrypted or packed begin otherwise
	mostFrame   = 9 << 20
)

// framed is a connection on which messages come, each with its length before it. A server that sends none that could be
// meant is not listened to any longer: empty ones would keep whoever waits for an answer waiting for ever.
type framed struct {
	net.Conn
	head  [frameHeader]byte
	have  int   // bytes of the head
	left  int64 // bytes of the message under way
	wrong atomic.Pointer[remote.LimitError]
}

func (f *framed) Read(b []byte) (int, error) {
	if e := f.wrong.Load(); e != nil {
		return 0, e
	}
	n, err := f.Conn.Read(b)
	for rest := b[:n]; len(rest) > 0; {
		if f.left > 0 {
			k := min(f.left, int64(len(rest)))
			f.left -= k
			rest = rest[k:]
			continue
		}
		k := copy(f.head[f.have:], rest)
		f.have += k
		rest = rest[k:]
		if f.have < frameHeader {
			break
		}
		f.have = 0
		length := int64(binary.BigEndian.Uint32(f.head[:]))
		switch {
		case f.head[0] != 0:
			return n, f.refuse("it does not speak SMB")
		case length < leastFrame:
			return n, f.refuse(fmt.Sprintf("it sends an invalid message of %d bytes", length))
		case length > mostFrame:
			return n, f.refuse(fmt.Sprintf("it sends a message of %s, more than was requested", size.Format(length)))
		}
		f.left = length
	}
	return n, err
}

func (f *framed) refuse(say string) error {
	e := &remote.LimitError{Say: say}
	f.wrong.CompareAndSwap(nil, e)
	return e
}
