package nbd

import (
	"net"

	"golang.org/x/sys/unix"
)

// acknowledging returns what has the system acknowledge at once what came on a connection. Servers that wait with a
// small answer until the one before was acknowledged else stand still for 40 ms at a time. The system forgets it again
// and again (tcp(7), TCP_QUICKACK).
func acknowledging(conn net.Conn) func() {
	tcp, ok := conn.(*net.TCPConn)
	if !ok {
		return func() {}
	}
	raw, err := tcp.SyscallConn()
	if err != nil {
		return func() {}
	}
	return func() {
		_ = raw.Control(func(fd uintptr) { // a closed one says so where it is read from
			_ = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_QUICKACK, 1)
		})
	}
}
