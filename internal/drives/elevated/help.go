package elevated

import (
	"context"
	"fmt"
	"net"
	"sync"

	"polytome/internal/drives"
	"polytome/internal/medium"
	"polytome/internal/nbd"
)

// Help is what the helper does until nobody asks any longer: it opens one drive, by its path, for the process that
// listens at an address.
func Help(ctx context.Context, sys drives.System, address, path string) error {
	sys.Elevate = nil // it has the rights, or there are none
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	h := &help{sys: sys, path: path, opened: map[int]chan error{}}
	var all sync.WaitGroup
	defer all.Wait()
	for n := 0; ; n++ {
		conn, err := dial(ctx, address)
		if err != nil {
			if n > 0 { // nobody listens any longer
				return nil
			}
			return err
		}
		idle := context.AfterFunc(ctx, func() { _ = conn.Close() })
		var r request
		err = receive(conn, &r)
		idle()
		if err != nil { // whoever was to ask has thought better of it, or nobody is there any longer
			_ = conn.Close()
			continue
		}
		all.Go(func() {
			defer conn.Close()
			h.do(ctx, conn, &r)
		})
	}
}

// help answers requests.
type help struct {
	sys  drives.System
	path string

	mu     sync.Mutex         // guards what follows; nothing is waited for while it is held
	last   int                // the number of what was opened last
	opened map[int]chan error // how closing goes, by number, until somebody has asked
}

func (h *help) do(ctx context.Context, conn net.Conn, r *request) {
	if r.Do == "closed" {
		h.closed(ctx, conn, r.ID)
		return
	}
	d, err := h.sys.Look(ctx, h.path)
	if err != nil {
		_ = send(conn, failed(err)) // whoever asked has gone where it does not arrive
		return
	}
	switch r.Do {
	case "look":
		_ = send(conn, answer{Drive: d, Is: d.Identity()})
	case "read":
		m, err := d.Read(ctx)
		h.serve(ctx, conn, m, true, err)
	case "open":
		shown := *d
		shown.Path, shown.Serial, shown.Size = r.Shown.Path, r.Shown.Serial, r.Shown.Size
		if r.Shown.Table != "" { // else nobody has read it yet
			shown.Marked(r.Shown.Table)
		}
		m, err := h.sys.Open(ctx, &shown, r.Purpose, r.Consent)
		h.serve(ctx, conn, m, false, err)
	case "eject", "unmount":
		do := h.sys.Eject
		if r.Do == "unmount" {
			do = h.sys.Unmount
		}
		release, err := do(ctx, d, nil)
		if err != nil {
			_ = send(conn, failed(err))
			return
		}
		_ = send(conn, answer{Release: release})
	default:
		_ = send(conn, answer{Error: "the helper does not know " + r.Do})
	}
}

// backend has the verdict of the guard arrive as one.
type backend struct{ *medium.File }

func verdict(err error) error {
	if drives.IsRefused(err) {
		return fmt.Errorf("%w: %w", nbd.EPERM, err)
	}
	return err
}

// WriteAt writes.
func (b backend) WriteAt(p []byte, off int64) (int, error) {
	n, err := b.File.WriteAt(p, off)
	return n, verdict(err)
}

// Zero makes bytes zeros.
func (b backend) Zero(off, n int64) error { return verdict(b.File.Zero(off, n)) }

// serve has the other side read or write an opened drive, until it hangs up.
func (h *help) serve(ctx context.Context, conn net.Conn, m *medium.File, readOnly bool, err error) {
	if err != nil {
		_ = send(conn, failed(err))
		return
	}
	h.mu.Lock()
	h.last++
	id, over := h.last, make(chan error, 1)
	h.opened[id] = over
	h.mu.Unlock()
	if send(conn, answer{ID: id}) == nil {
		s := &nbd.Server{Exports: []*nbd.Export{{Size: m.Size(), ReadOnly: readOnly, Backend: backend{m}, Clients: 1}}}
		_ = s.ServeOn(ctx, conn) // an end of the connection is the end
	}
	over <- m.Close()
}

// closed waits until what was opened is closed.
func (h *help) closed(ctx context.Context, conn net.Conn, id int) {
	h.mu.Lock()
	over := h.opened[id]
	delete(h.opened, id)
	h.mu.Unlock()
	if over == nil { // it was asked before
		_ = send(conn, answer{})
		return
	}
	select {
	case err := <-over:
		if err != nil {
			_ = send(conn, failed(err))
			return
		}
		_ = send(conn, answer{})
	case <-ctx.Done():
	}
}
