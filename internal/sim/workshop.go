package sim

import (
	"context"
	"net"
	"sync/atomic"
	"time"

	"polytome/internal/medium"
	"polytome/internal/nbd"
)

// VesperExport is the name under which the Vesper exports its disk.
const VesperExport = "vesper-disk"

// A Workshop is the workshop menu of a Vesper: it exports the console's whole disk to one client at a time, and reads
// its table again when that leaves.
type Workshop struct {
	Disk *medium.File
	// Slow is how long each command takes at least.
	Slow time.Duration
	// DropAfter cuts the connection once after this many bytes that came; 0 for never. DropEvery cuts each.
	DropAfter, DropEvery int64
	// Left gets what the console lists after a client has left, or why it lists nothing.
	Left func(d *SlabDisk, err error)
}

// Serve exports the disk on a listener until the context ends.
func (w *Workshop) Serve(ctx context.Context, l net.Listener) error {
	e := &nbd.Export{Name: VesperExport, Description: "the disk of a Vesper", Size: w.Disk.Size(), Clients: 1,
		Backend: slowDisk{w.Disk, w.Slow}}
	s := &nbd.Server{Exports: []*nbd.Export{e}, Left: func(net.Addr, *nbd.Export) {
		if w.Left != nil {
			w.Left(ListSlab(w.Disk, w.Disk.Size()))
		}
	}}
	left := &atomic.Int64{}
	left.Store(w.DropAfter)
	return s.Serve(ctx, &dropping{l, left, w.DropEvery})
}

// slowDisk takes its time.
type slowDisk struct {
	*medium.File
	slow time.Duration
}

func (d slowDisk) ReadAt(b []byte, off int64) (int, error) {
	time.Sleep(d.slow)
	return d.File.ReadAt(b, off)
}

func (d slowDisk) WriteAt(b []byte, off int64) (int, error) {
	time.Sleep(d.slow)
	return d.File.WriteAt(b, off)
}

// dropping cuts a connection once, after so many bytes, and each after every so many.
type dropping struct {
	net.Listener
	left  *atomic.Int64
	every int64
}

func (d *dropping) Accept() (net.Conn, error) {
	c, err := d.Listener.Accept()
	if err != nil {
		return nil, err
	}
	left := d.left
	if d.every > 0 {
		left = &atomic.Int64{}
		left.Store(d.every)
	}
	return &dropped{c, left}, nil
}

type dropped struct {
	net.Conn
	left *atomic.Int64
}

func (d *dropped) Read(b []byte) (int, error) {
	n, err := d.Conn.Read(b)
	if before := d.left.Add(-int64(n)) + int64(n); before > 0 && before <= int64(n) {
		_ = d.Close()
		return 0, net.ErrClosed
	}
	return n, err
}
