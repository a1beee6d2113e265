package elevated

import (
	"context"
	"crypto/rand"
	"net"

	"github.com/Microsoft/go-winio"
)

// listen makes a named pipe with a name that cannot be guessed, which its owner and administrators reach.
func listen() (l net.Listener, address string, tidy func(), err error) {
	address = `\\.\pipe\polytome-` + rand.Text()
	l, err = winio.ListenPipe(address, &winio.PipeConfig{SecurityDescriptor: "D:P(A;;GA;;;OW)(A;;GA;;;BA)"})
	return l, address, func() {}, err
}

func dial(ctx context.Context, address string) (net.Conn, error) {
	return winio.DialPipeContext(ctx, address)
}
