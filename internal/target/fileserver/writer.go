package fileserver

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"polytome/internal/target"
	"polytome/internal/target/remote"
)

// So many writes of such a length are under way at a time.
const (
	writeChunk = 1 << 20
	inFlight   = 8
)

// flushEvery is after how many bytes the server is asked to bring them to its disk, while more is sent: else all of it
// would be waited for at the end.
const flushEvery = 96 << 20

// buffers are used again, also by the next file.
var buffers = sync.Pool{New: func() any {
	b := make([]byte, 0, writeChunk)
	return &b
}}

// writer is a file under its temporary name.
type writer struct {
	p    *Target
	ctx  context.Context
	f    File
	name string
	temp string
	over bool
	at   int64 // where the next byte goes
	date time.Time

	buf       *[]byte // what was not sent yet; it ends at at
	slots     chan struct{}
	wait      sync.WaitGroup
	mu        sync.Mutex
	err       error // of a write that was under way
	unflushed int64 // bytes since the server was asked to flush
	flushing  atomic.Bool
	open      bool // the last bytes were skipped, and the file does not reach there yet
	ended     bool
}

var (
	_ target.Resumed   = (*writer)(nil)
	_ target.Suspender = (*writer)(nil)
	_ target.Measured  = (*writer)(nil)
)

// smallFile is up to how many bytes a file is sent first and asked about when it gets its name, where
// [Options.LateCheck] says so. Samba reads the whole folder to find out that there is no such name, in any letter case:
// in a folder of thousands that takes longer than the file.
const smallFile = 1 << 20

// Create begins a file under a temporary name beside its final one.
func (p *Target) Create(ctx context.Context, name string, size int64) (target.Writer, error) {
	if size > smallFile || !p.opts.LateCheck {
		if err := p.absent(ctx, name); err != nil {
			return nil, err
		}
	}
	return p.begin(ctx, name, size, false)
}

// Replace begins a file that takes the place of another one.
func (p *Target) Replace(ctx context.Context, name string, size int64) (target.Writer, error) {
	err := p.do(ctx, "replacing", name, func() error {
		i, err := p.s.Stat(ctx, name)
		if err == nil && i.IsDir() {
			err = errors.New("it is a folder")
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	return p.begin(ctx, name, size, true)
}

// absent fails with target.ErrExists when there is something of that name.
func (p *Target) absent(ctx context.Context, name string) error {
	return p.do(ctx, "beginning", name, func() error {
		_, err := p.s.Stat(ctx, name)
		switch {
		case err == nil:
			return target.ErrExists
		case errors.Is(err, fs.ErrNotExist), errors.Is(p.s.Classify(err), fs.ErrNotExist):
			return nil
		}
		return err
	})
}

func (p *Target) begin(ctx context.Context, name string, size int64, over bool) (target.Writer, error) {
	flags := os.O_RDWR | os.O_CREATE | os.O_TRUNC
	temp, beside := p.beginning(ctx, name, size), target.TemporaryName(name)
	w, err := p.file(ctx, "beginning", name, temp, flags)
	if temp != beside && errors.Is(err, fs.ErrNotExist) { // somebody tidied up
		w, err = p.file(ctx, "beginning", name, beside, flags)
	}
	if err != nil {
		return nil, err
	}
	w.over = over
	return w, nil
}

// file opens the file under its temporary name.
func (p *Target) file(ctx context.Context, doing, name, temp string, flags int) (*writer, error) {
	w := &writer{p: p, ctx: ctx, name: name, temp: temp, slots: make(chan struct{}, inFlight)}
	p.mu.Lock()
	p.wrote = true
	before := p.writers[w.temp]
	p.mu.Unlock()
	if before != nil {
		_ = before.Leave() // no one can give a file its name that someone has open
	}
	err := p.do(ctx, doing, name, func() (err error) {
		w.f, err = p.s.OpenFile(ctx, w.temp, flags)
		return err
	})
	if err == nil {
		p.mu.Lock()
		p.writers[w.temp] = w
		p.mu.Unlock()
	}
	return w, err
}

// close closes the file on the server.
func (w *writer) close() error {
	w.wait.Wait()
	w.p.mu.Lock()
	if w.p.writers[w.temp] == w {
		delete(w.p.writers, w.temp)
	}
	w.p.mu.Unlock()
	return w.f.Close()
}

// Resume takes up what an interrupted run has left of a file.
func (p *Target) Resume(ctx context.Context, name string, size int64, over bool) (target.Resumed, error) {
	if !over {
		if err := p.absent(ctx, name); err != nil {
			return nil, err
		}
	}
	w, err := p.file(ctx, "resuming", name, target.TemporaryName(name), os.O_RDWR)
	if err != nil {
		return nil, err
	}
	i, err := w.f.Stat()
	if err == nil && (i.IsDir() || i.Size() == 0 || i.Size() > size) {
		err = fs.ErrNotExist // nothing of ours, or of another file
	}
	if err != nil {
		_ = w.close()
		return nil, p.explain("resuming", name, err)
	}
	w.over, w.at = over, i.Size()
	return w, nil
}

// Write sends in chunks, several of which are under way.
func (w *writer) Write(b []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	if err := w.failed(); err != nil {
		return 0, err
	}
	done := 0
	for done < len(b) {
		if w.buf == nil {
			w.buf = buffers.Get().(*[]byte)
			*w.buf = (*w.buf)[:0]
		}
		k := min(len(b)-done, writeChunk-len(*w.buf))
		*w.buf = append(*w.buf, b[done:done+k]...)
		done += k
		w.at += int64(k)
		if len(*w.buf) == writeChunk {
			if err := w.send(); err != nil {
				return done, err
			}
		}
	}
	w.open = false
	return done, nil
}

// send sends what is in the buffer.
func (w *writer) send() error {
	if w.buf == nil {
		return nil
	}
	b, at := w.buf, w.at-int64(len(*w.buf))
	w.buf = nil
	select {
	case w.slots <- struct{}{}:
	case <-w.ctx.Done():
		return w.ctx.Err()
	}
	w.wait.Go(func() {
		defer func() { <-w.slots }()
		_, err := w.f.WriteAt(*b, at)
		if err != nil {
			w.mu.Lock()
			if w.err == nil {
				w.err = err
			}
			w.mu.Unlock()
			return
		}
		buffers.Put(b)
	})
	if w.unflushed += writeChunk; w.unflushed >= flushEvery && w.flushing.CompareAndSwap(false, true) {
		w.unflushed = 0
		w.wait.Go(func() {
			defer w.flushing.Store(false)
			_ = w.f.Sync() // what fails here fails again in Flush
		})
	}
	return nil
}

// failed is why a write that was under way failed.
func (w *writer) failed() error {
	w.mu.Lock()
	err := w.err
	w.mu.Unlock()
	if err != nil && w.ctx.Err() != nil {
		return w.ctx.Err()
	}
	return w.p.explain("writing", w.name, err)
}

// Skip leaves zeros: servers give what was never written so.
func (w *writer) Skip(n int64) error {
	if err := w.send(); err != nil {
		return err
	}
	w.at += n
	w.open = true
	return w.failed()
}

// settle waits until all of it was taken.
func (w *writer) settle() error {
	err := w.send()
	w.wait.Wait()
	if err != nil {
		return err
	}
	if err := w.failed(); err != nil {
		return err
	}
	if w.open {
		w.open = false
		err := w.f.Truncate(w.at)
		return w.p.explain("writing", w.name, err)
	}
	return nil
}

// Flush has the server bring it to its disk.
func (w *writer) Flush() error {
	if err := w.settle(); err != nil {
		return err
	}
	err := w.f.Sync()
	if err != nil && w.ctx.Err() != nil {
		return w.ctx.Err()
	}
	return w.p.explain("flushing", w.name, err)
}

// Length asks the server for it.
func (w *writer) Length() (int64, error) {
	i, err := w.f.Stat()
	if err != nil {
		return 0, w.p.explain("looking at", w.name, err)
	}
	return i.Size(), nil
}

// ReadBack reads what the server has got. Whether that comes from its disk, the server decides.
func (w *writer) ReadBack() (target.Content, error) {
	return w.p.Open(w.ctx, w.temp)
}

// There is how many bytes an earlier run has left.
func (w *writer) There() int64 { return w.at }

// Keep goes on behind the first n bytes of what was left.
func (w *writer) Keep(n int64) error {
	err := w.f.Truncate(n) // what comes behind may be anything
	if err == nil {
		w.at = n
	}
	return w.p.explain("resuming", w.name, err)
}

// Leave ends the writer, and leaves what was written.
func (w *writer) Leave() error {
	if w.ended {
		return nil
	}
	w.ended = true
	_ = w.close() // of a connection that has interrupted, nothing is left to be closed
	return nil
}

// Date sets the date when the file gets its name.
func (w *writer) Date(t time.Time) error {
	w.date = t
	return nil
}

// Commit gives the file its name.
func (w *writer) Commit() error {
	if err := w.settle(); err != nil {
		return err
	}
	if err := w.close(); err != nil {
		return w.p.explain("closing", w.name, err)
	}
	h := w.p.holding()
	if !w.over {
		var err error
		if h != nil && w.p.opts.Searches {
			err = w.p.free(w.ctx, h, w.name)
		} else {
			err = w.p.absent(w.ctx, w.name)
		}
		if err != nil {
			return err
		}
	}
	if h != nil {
		h.naming(w)
	}
	err := w.p.do(w.ctx, "naming", w.name, func() error {
		if !w.date.IsZero() {
			if err := w.p.s.Date(w.ctx, w.temp, w.date); err != nil {
				return err
			}
		}
		return w.p.s.Rename(w.ctx, w.temp, w.name, w.over)
	})
	if w.ended = err == nil; !w.ended {
		return err
	}
	if h != nil {
		h.named(w)
		return nil
	}
	return w.lasting(w.ctx)
}

// lasting brings the name to the server's disk.
func (w *writer) lasting(ctx context.Context) error {
	return w.p.do(ctx, "flushing", w.name, func() error { return w.p.s.Lasting(ctx, w.name) })
}

// Abort removes what was written.
func (w *writer) Abort() error {
	if w.ended {
		return nil
	}
	w.ended = true
	_ = w.close()                                     // a failed write is what led here
	ctx, cancel := remote.Parting(w.ctx, abortWithin) // also of a run that was stopped nothing half is left
	defer cancel()
	err := w.p.do(ctx, "removing", w.temp, func() error { return w.p.s.Remove(ctx, w.temp) })
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// abortWithin is how long removing a half file may take.
const abortWithin = 30 * time.Second
