package nbd

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"
)

// serve answers requests until the client says farewell.
func (t *talk) serve(ctx context.Context, e *Export) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var answering sync.Mutex
	var all sync.WaitGroup
	defer all.Wait()
	slots := make(chan struct{}, handled)
	own := semaphore.NewWeighted(mostOfOne)
	for {
		r, err := readRequest(t.r)
		if err != nil {
			return err
		}
		if r.command == cmdDisc {
			return nil
		}
		var payload []byte
		if r.command == cmdWrite {
			if r.length > MostRequest {
				return protocol("a client writes %d bytes at once", r.length)
			}
			payload = make([]byte, r.length)
			if _, err := io.ReadFull(t.r, payload); err != nil {
				return err
			}
		}
		room := int64(0)
		if r.command == cmdRead && r.length > smallRead && r.length <= MostRequest {
			room = int64(r.length)
			if err := own.Acquire(ctx, room); err != nil {
				return err
			}
			if err := t.s.room.Acquire(ctx, room); err != nil {
				return err
			}
		}
		slots <- struct{}{}
		all.Go(func() {
			defer func() {
				<-slots
				t.s.room.Release(room)
				own.Release(room)
			}()
			if t.passes(e, &r, &answering, cancel) {
				return
			}
			a := t.do(e, &r, payload)
			defer func() {
				if a.data != nil {
					buffers.Put(&a.data)
				}
			}()
			begun := time.Now()
			answering.Lock()
			err := a.send(t.conn, &r, t.chunks)
			answering.Unlock()
			if err != nil {
				_ = t.conn.Close() // which ends the reading too
				cancel()
			}
			if a.reading != nil && t.s.Read != nil {
				a.reading.Sent = time.Since(begun)
				t.s.Read(*a.reading)
			}
		})
	}
}

// passes answers a long read with bytes that lie in a file and are in memory. It reports whether it did. What goes
// wrong with the file on the way is said behind the bytes, as the protocol allows it where answers come in chunks.
func (t *talk) passes(e *Export, r *request, answering *sync.Mutex, hangUp func()) bool {
	b, can := e.Backend.(sectioned)
	if !can || !t.chunks || r.command != cmdRead || r.length < passFrom || r.length > MostRequest || t.secure ||
		r.flags != 0 || r.offset < 0 || r.offset > e.Size-int64(r.length) {
		return false
	}
	if _, tcp := t.conn.(*net.TCPConn); !tcp {
		return false
	}
	n := int64(r.length)
	f, at, done, ok := b.Section(r.offset, n)
	if !ok {
		return false
	}
	defer done()
	if !cached(f, at, n) {
		return false
	}
	k := chunk{0, chunkData, r.cookie, 8 + r.length}
	begun := time.Now()
	answering.Lock()
	_ = t.conn.SetWriteDeadline(time.Now().Add(patienceToSend))
	sent, wrongFile := pass(t.conn, be.AppendUint64(k.put(), uint64(r.offset)), f, at, n)
	end := answer{}
	if wrongFile != nil {
		end = wrong(EIO, "reading byte %d: %v", r.offset+sent, wrongFile)
	}
	_, err := io.CopyN(t.conn, zeros{}, n-sent) // the chunk has to become as long as was said
	if err == nil {
		err = end.send(t.conn, &request{cookie: r.cookie, command: cmdFlush}, true) // which has nothing else to say
	}
	answering.Unlock()
	if err != nil {
		_ = t.conn.Close() // which ends the reading too
		hangUp()
	}
	if t.s.Read != nil {
		t.s.Read(Reading{From: t.conn.RemoteAddr(), Export: e, Offset: r.offset, Bytes: int(sent),
			Asked: r.asked, Sent: time.Since(begun), Err: wrongFile})
	}
	return true
}

// zeros is as many as are asked for.
type zeros struct{}

func (zeros) Read(b []byte) (int, error) {
	clear(b)
	return len(b), nil
}

// simple is the head of a simple reply.
func simple(cookie uint64, code Errno) []byte {
	b := make([]byte, 16)
	be.PutUint32(b, simpleMagic)
	be.PutUint32(b[4:], uint32(code))
	be.PutUint64(b[8:], cookie)
	return b
}

// An answer is what is replied to a request.
type answer struct {
	data   []byte
	states []state
	code   Errno
	say    string
	// reading is what was read for it; nil for another command.
	reading *Reading
}

// send writes an answer.
func (a *answer) send(conn net.Conn, r *request, chunks bool) error {
	var out net.Buffers
	switch {
	case !chunks:
		if out = append(out, simple(r.cookie, a.code)); a.code == 0 && len(a.data) > 0 {
			out = append(out, a.data)
		}
	case a.code != 0:
		k := chunk{chunkDone, chunkError, r.cookie, uint32(6 + len(a.say))}
		b := be.AppendUint16(be.AppendUint32(k.put(), uint32(a.code)), uint16(len(a.say)))
		out = append(out, append(b, a.say...))
	case r.command == cmdRead:
		k := chunk{chunkDone, chunkData, r.cookie, uint32(8 + len(a.data))}
		out = append(out, be.AppendUint64(k.put(), uint64(r.offset)), a.data)
	case r.command == cmdBlockStatus:
		k := chunk{chunkDone, chunkStatus, r.cookie, uint32(4 + 8*len(a.states))}
		b := be.AppendUint32(k.put(), allocationID)
		for _, s := range a.states {
			b = be.AppendUint32(be.AppendUint32(b, uint32(s.length)), s.flags)
		}
		out = append(out, b)
	default:
		k := chunk{chunkDone, chunkNone, r.cookie, 0}
		out = append(out, k.put())
	}
	_ = conn.SetWriteDeadline(time.Now().Add(patienceToSend))
	_, err := out.WriteTo(conn)
	return err
}

func wrong(code Errno, say string, args ...any) answer {
	return answer{code: code, say: fmt.Sprintf(say, args...)}
}

func buffer(n int) []byte {
	if b, _ := buffers.Get().(*[]byte); b != nil && cap(*b) >= n {
		return (*b)[:n]
	}
	return make([]byte, n)
}

// do carries a request out.
func (t *talk) do(e *Export, r *request, payload []byte) answer {
	within := r.offset >= 0 && r.offset <= e.Size-int64(r.length)
	w, writes := e.writes()
	switch r.command {
	case cmdRead:
		switch {
		case r.length > MostRequest:
			return wrong(EOVERFLOW, "at most %d bytes are read at once", MostRequest)
		case !within || r.length == 0 || r.flags&^(flagDF) != 0:
			return wrong(EINVAL, "there is nothing at byte %d", r.offset)
		}
		b := buffer(int(r.length))
		begun := time.Now()
		n, err := e.Backend.ReadAt(b, r.offset)
		if n == len(b) {
			err = nil
		}
		was := &Reading{From: t.conn.RemoteAddr(), Export: e, Offset: r.offset, Bytes: n, Asked: r.asked,
			Took: time.Since(begun), Err: err}
		a := answer{data: b, reading: was}
		if n < len(b) {
			buffers.Put(&b)
			a = wrong(EIO, "reading byte %d: %v", r.offset, err)
			a.reading = was
		}
		return a
	case cmdBlockStatus:
		if t.status != e || !within || r.length == 0 {
			return wrong(EINVAL, "there is no status of byte %d", r.offset)
		}
		return answer{states: statesOf(e, r.offset, int64(r.length))}
	case cmdWrite, cmdTrim, cmdWriteZeroes, cmdFlush:
		switch {
		case !writes:
			return wrong(EPERM, "it is read-only")
		case r.command != cmdFlush && !within:
			return wrong(ENOSPC, "byte %d is beyond the end", r.offset+int64(r.length))
		}
		if err := change(e, w, r, payload); err != nil {
			code := EIO
			_ = errors.As(err, &code) // a backend may say what it is
			return wrong(code, "%v", err)
		}
		return answer{}
	}
	return wrong(EINVAL, "command %d is unknown", r.command)
}

// change writes, makes zeros or flushes.
func change(e *Export, w writable, r *request, payload []byte) error {
	var err error
	switch r.command {
	case cmdFlush:
		return w.Sync()
	case cmdWrite:
		_, err = w.WriteAt(payload, r.offset)
	case cmdWriteZeroes:
		err = zero(e.Backend, w, r.offset, int64(r.length))
	case cmdTrim: // nothing has to become of it
	}
	if err == nil && r.flags&flagFUA != 0 {
		err = w.Sync()
	}
	return err
}

// zero makes bytes zeros, by itself where the backend cannot.
func zero(b Backend, w io.WriterAt, off, n int64) error {
	if z, ok := b.(zeroing); ok {
		if err := z.Zero(off, n); !errors.Is(err, errors.ErrUnsupported) {
			return err
		}
	}
	zeros := make([]byte, min(n, preferredLength))
	for n > 0 {
		k := min(n, int64(len(zeros)))
		if _, err := w.WriteAt(zeros[:k], off); err != nil {
			return err
		}
		off, n = off+k, n-k
	}
	return nil
}

// statesOf are the runs of data and holes from a byte on.
func statesOf(e *Export, off, n int64) (out []state) {
	h, ok := e.Backend.(holes)
	if !ok {
		return []state{{n, 0}}
	}
	for at := off; at < off+n && len(out) < mostStates; {
		start, end := h.Data(at)
		if start > at {
			k := min(start, off+n) - at
			out = append(out, state{k, stateHole | stateZero})
			at += k
			continue
		}
		k := min(end, off+n) - at
		if k <= 0 {
			k = off + n - at
		}
		out = append(out, state{k, 0})
		at += k
	}
	return out
}
