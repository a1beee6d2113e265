//go:build unix

package elevated

import (
	"context"
	"net"
	"os"
	"path/filepath"
)

// listen makes a socket in a folder that nobody else may look into, as os.MkdirTemp makes it.
func listen() (l net.Listener, address string, tidy func(), err error) {
	dir, err := os.MkdirTemp("", "polytome-")
	if err != nil {
		return nil, "", nil, err
	}
	tidy = func() { _ = os.RemoveAll(dir) } // an empty folder is all that may be left
	address = filepath.Join(dir, "helper")
	if l, err = net.Listen("unix", address); err != nil {
		tidy()
	}
	return l, address, tidy, err
}

func dial(ctx context.Context, address string) (net.Conn, error) {
	return (&net.Dialer{}).DialContext(ctx, "unix", address)
}
