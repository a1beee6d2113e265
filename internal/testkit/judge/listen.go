package judge

import (
	"net"
	"testing"
)

// Listen takes connections on a port of the loopback until the test ends, and has each served by a function of its own
// goroutine, which closes it.
func Listen(t testing.TB, serve func(net.Conn)) (port int) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go serve(c)
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}
