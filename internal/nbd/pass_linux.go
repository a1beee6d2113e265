package nbd

import (
	"errors"
	"io"
	"net"
	"os"

	"golang.org/x/sys/unix"
)

// cached reports whether a run of bytes of a file can be had at once, as far as its ends tell: then handing it on
// hardly
// ever fails, and does not wait for a disk.
func cached(f *os.File, at, n int64) bool {
	var b [1]byte
	for _, off := range []int64{at, at + n - 1} {
		if k, err := unix.Preadv2(int(f.Fd()), [][]byte{b[:]}, off, unix.RWF_NOWAIT); k != 1 || err != nil {
			return false
		}
	}
	return true
}

// pass sends a head and n bytes of a file without reading them into the program (sendfile(2)). It returns how many of
// the bytes went. Where the head did not go, the error is the connection's, and else the file's or the connection's.
func pass(conn net.Conn, head []byte, f *os.File, at, n int64) (sent int64, err error) {
	raw, err := conn.(*net.TCPConn).SyscallConn()
	if err != nil {
		return 0, err
	}
	var failed error
	again := func(err error) bool { return errors.Is(err, unix.EAGAIN) || errors.Is(err, unix.EINTR) }
	err = raw.Write(func(fd uintptr) bool {
		for len(head) > 0 {
			k, err := unix.SendmsgN(int(fd), head, nil, nil, unix.MSG_MORE)
			if again(err) {
				return false
			}
			if failed = err; err != nil {
				return true
			}
			head = head[k:]
		}
		for sent < n {
			k, err := unix.Sendfile(int(fd), int(f.Fd()), &at, int(n-sent))
			if again(err) {
				return false
			}
			if err == nil && k == 0 { // it was cut short meanwhile
				err = io.ErrUnexpectedEOF
			}
			if failed = err; err != nil {
				return true
			}
			sent += int64(k)
		}
		return true
	})
	return sent, errors.Join(err, failed)
}
