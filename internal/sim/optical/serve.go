package optical

import (
	"context"
	"encoding/gob"
	"errors"
	"io"
	"net"
	"sync"

	"polytome/internal/optical"
)

// request and reply are what goes over the socket of a drive that another process simulates.
type request struct {
	CDB, Out []byte
	In       int // bytes of room
}

type reply struct {
	In, Sense []byte
}

// mostAtOnce is how many bytes a command has at most.
const mostAtOnce = 64 << 20

// Serve answers the commands of other processes until the context ends. Heard runs with each of them.
func (d *Drive) Serve(ctx context.Context, l net.Listener, heard func(cdb []byte)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		<-ctx.Done()
		_ = l.Close()
	}()
	var all sync.WaitGroup
	defer all.Wait()
	for {
		conn, err := l.Accept()
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		all.Go(func() {
			stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
			defer stop()
			defer conn.Close()
			in, out := gob.NewDecoder(conn), gob.NewEncoder(conn)
			for {
				var r request
				if in.Decode(&r) != nil || len(r.CDB) == 0 || r.In < 0 || r.In > mostAtOnce {
					return
				}
				b := make([]byte, r.In)
				n, sense := d.Command(append(r.CDB, make([]byte, 16)...), b, r.Out)
				heard(r.CDB)
				if out.Encode(reply{b[:n], sense}) != nil {
					return
				}
			}
		})
	}
}

// Dial is the transport to a drive that another process simulates at a socket.
func Dial(socket string) (optical.Transport, error) {
	conn, err := net.Dial("unix", socket)
	if err != nil {
		return nil, err
	}
	return &wire{conn: conn, in: gob.NewDecoder(conn), out: gob.NewEncoder(conn)}, nil
}

// wire is a drive at a socket.
type wire struct {
	mu   sync.Mutex
	conn net.Conn
	in   *gob.Decoder
	out  *gob.Encoder
}

func (w *wire) Do(ctx context.Context, c optical.Command) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	stop := context.AfterFunc(ctx, func() { _ = w.conn.Close() })
	defer stop()
	var r reply
	err := w.out.Encode(request{c.CDB, c.Out, len(c.In)})
	if err == nil {
		err = w.in.Decode(&r)
	}
	if err != nil {
		if ctx.Err() != nil {
			return 0, ctx.Err()
		}
		if errors.Is(err, io.EOF) {
			err = io.ErrUnexpectedEOF
		}
		return 0, err
	}
	n := copy(c.In, r.In)
	if r.Sense == nil {
		return n, nil
	}
	s, ok := optical.ParseSense(r.Sense)
	if !ok {
		return n, errors.New("the drive answers with a sense of an unknown kind")
	}
	return n, s
}

func (w *wire) Close() error { return w.conn.Close() }
