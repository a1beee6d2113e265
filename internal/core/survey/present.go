package survey

import (
	"context"
	"net"
	"os"
	"slices"
	"strconv"
	"time"

	"polytome/internal/core/bench"
	"polytome/internal/core/ledger"
	"polytome/internal/drives"
	"polytome/internal/target"
	"polytome/internal/target/drive"
	"polytome/internal/target/folder"
	"polytome/internal/target/protocols"
	"polytome/internal/target/served"
)

// knock is how long a server has to answer when somebody asks whether it is there.
const knock = 2 * time.Second

// Present finds out quickly whether target number n of a bench is there, without reading it: a folder or drive that is
// plugged in, a server that takes connections. The identity is another one when another volume is plugged in, "" where
// that is not known. Past are the volumes of the ledger: an empty folder in which a stick is mounted at other times is
// no target.
func Present(ctx context.Context, b *bench.Bench, n int, past []ledger.Volume) (id string, ok bool) {
	at := b.Address(n)
	if a, is := drive.ParseAddress(at); is {
		return drives.Here.Presence(ctx, a.Drive)
	}
	if served.Is(at) {
		return "", false
	}
	protocol, a, err := protocols.Parse(at)
	if err != nil {
		return "", false
	}
	if protocol != nil {
		port := a.Port
		if port == 0 {
			port = protocol.Port
		}
		ctx, cancel := context.WithTimeout(ctx, knock)
		defer cancel()
		c, err := (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort(a.Host, strconv.Itoa(port)))
		if err != nil {
			return "", false
		}
		_ = c.Close()
		return "", true
	}
	if info, err := os.Stat(at); err != nil || !info.IsDir() {
		return "", false
	}
	t, err := folder.Open(at, folder.Options{})
	if err != nil {
		return "", false
	}
	defer t.Close()
	f, err := t.Facts(ctx, []target.Entry{})
	if err != nil || otherStick(b.Targets[n], f) != nil {
		return "", false
	}
	unmounted := !f.Plugged() && slices.ContainsFunc(past, func(v ledger.Volume) bool {
		return v.Kind == ledger.Drive && v.Address == at
	})
	return f.Volume, !unmounted
}
