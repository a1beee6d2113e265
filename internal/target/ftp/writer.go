package ftp

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/textproto"
	"path"
	"strings"
	"time"

	"github.com/jlaffaye/ftp"

	"polytome/internal/target"
	"polytome/internal/target/remote"
)

// writer is a file under its temporary name. It is sent while it is written, over a session of its own, so that others
// things can be looked at meanwhile; what is small is sent in one go when it is flushed.
type writer struct {
	p      *Target
	ctx    context.Context
	temp   string // what it is named until it has its name; its name, where the server gives no other ones
	name   string
	over   bool
	direct bool
	size   int64 // that it will have, as far as is known
	date   time.Time
	small  bytes.Buffer // nothing was sent yet
	pipe   *io.PipeWriter
	done   chan error
	s      *session
	from   int64 // the byte at which sending begins
	there  int64 // bytes that an earlier run has left
	wrote  int64
	sent   bool
	ended  bool
}

var _ target.Resumed = (*writer)(nil)

// smallFile is up to how many bytes wait for the flush.
const smallFile = 256 << 10

// Create begins a file.
func (p *Target) Create(ctx context.Context, name string, size int64) (target.Writer, error) {
	_, there, err := p.find(ctx, name)
	if err == nil && there {
		err = target.ErrExists
	}
	if err != nil {
		return nil, p.explain("beginning", name, err)
	}
	if err := p.tryRenaming(ctx, path.Dir(name)); err != nil {
		return nil, err
	}
	return p.begin(ctx, name, size, false), nil
}

// tryRenaming finds out once, with a small file in the folder that is written to, whether files get other names: a
// server that refuses says so with a number that may mean anything, and only when all of a file was sent. What is still
// not known afterwards is seen with the first file.
func (p *Target) tryRenaming(ctx context.Context, dir string) error {
	t := p.traits
	for !t.trying.TryLock() { // whoever tries may wait for a silent server, and who is stopped meanwhile must not
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
	defer t.trying.Unlock()
	if t.renames.Load() || t.noRename.Load() {
		return nil
	}
	from, to := target.TemporaryName(path.Join(dir, "whether files")),
		target.TemporaryName(path.Join(dir, "get other names"))
	var te *textproto.Error
	lost := false
	try := func(s *session) error {
		if err := s.c.Stor(p.full(from), strings.NewReader("?")); err != nil {
			return err
		}
		left := from
		var err error
		if s.plain && !lost {
			lost = true // until it has answered: this connection is given up if it does not
			silent := time.AfterFunc(min(p.opts.Timeout, loses), s.kill)
			err = p.renameAtOnce(s, from, to, time.Time{})
			silent.Stop()
			if broken(err) {
				return err
			}
			t.inOneGo.Store(err == nil)
		}
		if !t.inOneGo.Load() {
			err = s.c.Rename(p.full(from), p.full(to))
		}
		if errors.As(err, &te) && te.Code < 500 {
			te = nil
		}
		if err == nil {
			t.renames.Store(true)
			left = to
		} else if te != nil {
			t.noRename.Store(true)
		} else if broken(err) {
			return err
		}
		if gone := s.c.Delete(p.full(left)); broken(gone) {
			return gone
		}
		return nil
	}
	const doing = "trying whether files can be renamed in"
	err := p.do(ctx, doing, dir, true, try)
	if errors.Is(err, target.ErrGone) && lost && ctx.Err() == nil {
		err = p.do(ctx, doing, dir, true, try) // it lost the second of two commands, and is given one at a time
	}
	if errors.Is(err, target.ErrGone) || ctx.Err() != nil {
		return err
	}
	return nil // what keeps this small file away, keeps away the one that is written next, which says so
}

// loses is after how long a server that has not answered the second of two commands has lost it.
const loses = 5 * time.Second

// renameAtOnce gives a file another name, and a date unless that is zero, with all commands in one go (RFC 959, 4.1.3;
// draft-somers-ftp-mfxx-04, 3.1).
func (p *Target) renameAtOnce(s *session, from, to string, date time.Time) error {
	commands := []string{"RNFR " + p.full(from), "RNTO " + p.full(to)}
	if !date.IsZero() {
		commands = append(commands, "MFMT "+date.UTC().Format("20060102150405")+" "+p.full(to))
	}
	said, err := s.askAll(commands...)
	if err != nil {
		return err
	}
	for i, good := range []int{ftp.StatusRequestFilePending, ftp.StatusRequestedFileActionOK} {
		if said[i].Code != good {
			return said[i]
		}
	}
	if !date.IsZero() && said[2].Code != ftp.StatusFile {
		p.traits.noSetTime.Store(true)
		return errUndated
	}
	return nil
}

// errUndated says that a file has its name, and not its date.
var errUndated = errors.New("the date was not set")

// Replace begins a file that takes the place of another one.
func (p *Target) Replace(ctx context.Context, name string, size int64) (target.Writer, error) {
	e, there, err := p.find(ctx, name)
	switch {
	case err != nil:
	case !there:
		err = fs.ErrNotExist
	case e.Folder:
		err = errors.New("it is a folder")
	}
	if err == nil {
		err = p.tryRenaming(ctx, path.Dir(name)) // what is there is gone before the new one gets its name
	}
	switch {
	case err != nil:
	case p.traits.noRename.Load():
		err = errors.New("the server cannot rename files, so an existing file cannot be replaced safely; remove it " +
			"first")
	}
	if err != nil {
		return nil, p.explain("replacing", name, err)
	}
	return p.begin(ctx, name, size, true), nil
}

func (p *Target) begin(ctx context.Context, name string, size int64, over bool) *writer {
	w := &writer{p: p, ctx: ctx, temp: target.TemporaryName(name), name: name, over: over, size: size,
		direct: p.traits.noRename.Load()}
	if w.direct {
		w.temp = name
	}
	return w
}

// Resume takes up what an interrupted run has left of a file, where the server begins in the middle of one.
func (p *Target) Resume(ctx context.Context, name string, size int64, over bool) (target.Resumed, error) {
	if p.traits.noOverwrite.Load() && p.traits.noAppend.Load() || p.traits.noRename.Load() {
		return nil, p.explain("resuming", name, fs.ErrNotExist)
	}
	_, there, err := p.find(ctx, name)
	if err == nil && there && !over {
		err = target.ErrExists
	}
	temp := target.TemporaryName(name)
	var e target.Entry
	if err == nil {
		e, there, err = p.find(ctx, temp)
	}
	if err == nil && (!there || e.Folder) {
		err = fs.ErrNotExist
	}
	if err == nil {
		var n int64
		if n, err = p.sizeOf(ctx, temp, 0); err == nil && (n == 0 || n > size) {
			err = fs.ErrNotExist // nothing of ours, or of another file
		}
		e.Size = n
	}
	if err != nil {
		return nil, p.explain("resuming", name, err)
	}
	w := p.begin(ctx, name, size, over)
	w.wrote, w.there, w.sent = e.Size, e.Size, true
	return w, nil
}

// There is how many bytes an earlier run has left.
func (w *writer) There() int64 { return w.wrote }

// Keep goes on behind the first n bytes of what was left.
func (w *writer) Keep(n int64) error {
	if n < w.wrote && w.p.traits.noOverwrite.Load() {
		return w.p.explain("resuming", w.name, errors.New("the server can only append to the whole file"))
	}
	w.from, w.wrote = n, n
	return nil
}

// start begins to send.
func (w *writer) start() error {
	p := w.p
	if w.direct {
		if err := w.mark(); err != nil {
			return err
		}
	}
	s, _, err := p.take(w.ctx)
	if err != nil {
		return p.explain("sending", w.name, err)
	}
	if err := p.allocate(s, w.size-w.from); err != nil {
		if broken(err) {
			p.pool.drop(s)
			err = fmt.Errorf("%w: the connection to %s was interrupted: %w", target.ErrGone, p.addr.Host, err)
		} else {
			p.pool.give(s)
		}
		return p.explain("sending", w.name, err)
	}
	r, pipe := io.Pipe()
	w.s, w.pipe, w.done = s, pipe, make(chan error, 1)
	stop := context.AfterFunc(w.ctx, s.kill)
	go func() {
		err := w.send(s, r)
		if !stop() && err == nil {
			err = w.ctx.Err()
		}
		_ = r.CloseWithError(err) // who still writes is reported
		w.done <- err
	}()
	w.sent = true
	_, err = pipe.Write(w.small.Bytes())
	w.small.Reset()
	return err
}

// send stores what comes out of the pipe, behind the bytes that are there.
func (w *writer) send(s *session, r io.Reader) error {
	p := w.p
	name := p.full(w.temp)
	for try := 0; ; try++ {
		var err error
		switch {
		case w.from == 0:
			err = s.c.Stor(name, r)
		case !p.traits.noOverwrite.Load():
			err = s.c.StorFrom(name, r, uint64(w.from))
		default:
			err = s.c.Append(name, r)
		}
		switch {
		case noData(err) && try < busyTries:
			p.stopReaders()
			select {
			case <-w.ctx.Done():
				return w.ctx.Err()
			case <-time.After(busyWait):
			}
		case w.from > 0 && unknown(err) && !p.traits.noOverwrite.Load():
			p.traits.noOverwrite.Store(true)
			if w.from != w.there { // writing behind all of it would be wrong
				return fmt.Errorf("%w: %s cannot write in the middle of a file, so it starts again", target.ErrBusy,
					p.addr.Host)
			}
		case w.from > 0 && unknown(err):
			p.traits.noAppend.Store(true)
			return fmt.Errorf("%w: %s cannot resume a file, so it starts again", target.ErrBusy, p.addr.Host)
		default:
			return err
		}
	}
}

// noData reports whether a server has no data connection to give just now.
func noData(err error) bool {
	var te *textproto.Error
	return errors.As(err, &te) && te.Code == ftp.StatusCanNotOpenDataConnection
}

// mark puts the empty file there that says that a file is half written under its own name.
func (w *writer) mark() error {
	p := w.p
	return p.do(w.ctx, "beginning", w.name, true,
		func(s *session) error { return s.c.Stor(p.full(markerOf(w.name)), bytes.NewReader(nil)) })
}

func (w *writer) Write(b []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	if w.ended {
		return 0, fs.ErrClosed
	}
	if w.pipe == nil {
		if w.from == 0 && int64(w.small.Len()+len(b)) <= smallFile {
			w.wrote += int64(len(b))
			return w.small.Write(b)
		}
		if err := w.start(); err != nil {
			return 0, w.failed(err)
		}
	}
	n, err := w.pipe.Write(b)
	w.wrote += int64(n)
	if err != nil {
		return n, w.failed(err)
	}
	return n, nil
}

// failed finds out why sending was interrupted.
func (w *writer) failed(err error) error {
	if ctxErr := w.ctx.Err(); ctxErr != nil {
		return ctxErr
	}
	if w.done != nil {
		select {
		case sent := <-w.done:
			w.done <- sent
			if sent != nil {
				err = sent
			}
		case <-time.After(w.p.opts.Timeout):
		}
	}
	if errors.Is(err, target.ErrGone) || errors.Is(err, target.ErrBusy) || errors.Is(err, target.ErrNoSpace) {
		return err
	}
	var te *textproto.Error
	if broken(err) || !errors.As(err, &te) {
		err = fmt.Errorf("%w: the connection to %s was interrupted: %w", target.ErrGone, w.p.addr.Host, err)
	}
	return w.p.explain("sending", w.name, err)
}

var zeros [128 << 10]byte

func (w *writer) Skip(n int64) error {
	for n > 0 {
		k, err := w.Write(zeros[:min(n, int64(len(zeros)))])
		if err != nil {
			return err
		}
		n -= int64(k)
	}
	return nil
}

// finish sends what is left, and waits until the server has all of it.
func (w *writer) finish() error {
	if w.pipe == nil && w.sent {
		return nil
	}
	if w.pipe == nil {
		if w.direct {
			if err := w.mark(); err != nil {
				return err
			}
		}
		return w.once(w.small.Bytes())
	}
	_ = w.pipe.Close()
	err := <-w.done
	w.done <- err
	w.pipe = nil
	if err != nil {
		w.letGo(err)
		return w.failed(err)
	}
	w.p.pool.give(w.s)
	w.note(w.temp)
	return nil
}

// letGo gives the session back that was sent over, or drops it.
func (w *writer) letGo(err error) {
	var te *textproto.Error
	if errors.As(err, &te) && !broken(err) && w.ctx.Err() == nil {
		w.p.pool.give(w.s)
	} else {
		w.p.pool.drop(w.s)
	}
}

// once sends a small file in one go.
func (w *writer) once(b []byte) error {
	p := w.p
	err := p.do(w.ctx, "sending", w.name, true,
		func(s *session) error { return s.c.Stor(p.full(w.temp), bytes.NewReader(b)) })
	if err == nil {
		w.sent = true
		w.note(w.temp)
	}
	return err
}

func (w *writer) note(name string) {
	if w.direct {
		return
	}
	w.p.note(name, &target.Entry{Path: name, Size: w.wrote, Modified: time.Now()})
}

// Flush has the server get all of it.
func (w *writer) Flush() error { return w.finish() }

// ReadBack reads what the server has got. Whether that comes from its disk, the server decides.
func (w *writer) ReadBack() (target.Content, error) {
	n, err := w.p.sizeOf(w.ctx, w.temp, w.wrote)
	if err != nil {
		return nil, w.p.explain("reading back", w.name, err)
	}
	return &content{p: w.p, ctx: w.ctx, name: w.temp, size: n}, nil
}

// readForSize is up to how many bytes a file is read to find out its length, where the server tells it only in
// listings.
const readForSize = 64 << 10

// sizeOf is how long a file is on the server: as SIZE says, or reading it, or a new listing. expected is how long it
// should be, 0 for not known.
func (p *Target) sizeOf(ctx context.Context, name string, expected int64) (n int64, err error) {
	if !p.traits.noSize.Load() {
		err = p.do(ctx, "asking for the length of", name, true, func(s *session) (err error) {
			n, err = s.c.FileSize(p.full(name))
			return err
		})
		var te *textproto.Error
		if err == nil || errors.Is(err, target.ErrGone) || ctx.Err() != nil {
			return n, err
		}
		if !unknownSaid(err) && !errors.As(err, &te) {
			return n, err
		}
		p.traits.noSize.Store(true)
	}
	if expected > 0 && expected <= readForSize {
		err = p.do(ctx, "reading back", name, true, func(s *session) error {
			resp, err := s.c.Retr(p.full(name))
			if err != nil {
				return err
			}
			n, err = io.Copy(io.Discard, resp)
			return errors.Join(err, resp.Close())
		})
		return n, err
	}
	p.forgetFolder(path.Dir(name))
	e, ok, err := p.find(ctx, name)
	if err == nil && !ok {
		err = fs.ErrNotExist
	}
	return e.Size, err
}

// unknownSaid is unknown for an error that was put into words already.
func unknownSaid(err error) bool { return err != nil && !errors.Is(err, target.ErrBusy) }

// Date sets the date when the file gets its name, where the server can.
func (w *writer) Date(t time.Time) error {
	w.date = t
	return nil
}

// Commit gives the file its name.
func (w *writer) Commit() error {
	if err := w.finish(); err != nil {
		return err
	}
	p := w.p
	if w.direct {
		if err := w.named(); err != nil {
			return err
		}
	} else {
		e, there, err := p.find(w.ctx, w.name)
		if err != nil {
			return p.explain("naming", w.name, err)
		}
		if there && !w.over {
			return p.explain("naming", w.name, target.ErrExists)
		}
		if there {
			if err := p.do(w.ctx, "replacing", w.name, false,
				func(s *session) error { return s.c.Delete(p.full(e.Path)) }); err != nil {
				return err
			}
		}
		dated, err := p.rename(w.ctx, w.temp, w.name, w.date)
		if err != nil {
			// what it replaces is gone, and must not be lost beside: the new one is kept, under its temporary name
			if there {
				w.ended = true
			}
			return err
		}
		p.note(w.temp, nil)
		if dated {
			w.date = time.Time{}
		}
	}
	w.ended = true
	p.note(w.name, &target.Entry{Path: w.name, Size: w.wrote, Modified: time.Now()})
	if !w.date.IsZero() {
		_ = p.do(w.ctx, "dating", w.name, true, func(s *session) error {
			if s.c.IsSetTimeSupported() {
				return s.c.SetTime(p.full(w.name), w.date)
			}
			return nil
		})
	}
	return nil
}

// named checks a file that was written under its own name, byte by byte unless it was, and takes the mark away that
// says that it is half.
func (w *writer) named() error {
	p := w.p
	n, err := p.sizeOf(w.ctx, w.name, w.wrote)
	if err == nil && n != w.wrote {
		err = fmt.Errorf("it has %d bytes there instead of %d", n, w.wrote)
	}
	if err != nil {
		return p.explain("naming", w.name, err)
	}
	return p.do(w.ctx, "naming", w.name, true, func(s *session) error { return s.c.Delete(p.full(markerOf(w.name))) })
}

// stopSending ends what is under way.
func (w *writer) stopSending() {
	if w.pipe == nil {
		return
	}
	_ = w.pipe.CloseWithError(errors.New("given up"))
	w.s.kill()
	<-w.done
	w.p.pool.drop(w.s)
	w.pipe = nil
}

// Leave ends the writer, and leaves what was sent.
func (w *writer) Leave() error {
	if w.ended {
		return nil
	}
	if w.direct || w.p.traits.noOverwrite.Load() && w.p.traits.noAppend.Load() {
		return errors.New("the server does not resume it")
	}
	w.ended = true
	w.stopSending()
	w.p.forgetFolder(path.Dir(w.temp))
	return nil
}

// abortWithin is how long removing a half file may take.
const abortWithin = 30 * time.Second

// Abort removes what was sent.
func (w *writer) Abort() error {
	if w.ended {
		return nil
	}
	w.ended = true
	w.stopSending()
	if !w.sent {
		return nil
	}
	ctx, cancel := remote.Parting(w.ctx, abortWithin) // also of a run that was stopped nothing half is left
	defer cancel()
	p := w.p
	p.forgetFolder(path.Dir(w.temp))
	if w.direct {
		for _, name := range []string{w.name, markerOf(w.name)} {
			if err := p.do(ctx, "removing", name, true,
				func(s *session) error { return s.c.Delete(p.full(name)) }); err != nil &&
				errors.Is(err, target.ErrGone) {
				return err
			}
		}
		return nil
	}
	_, there, err := p.find(ctx, w.temp)
	if err != nil || !there {
		return err
	}
	err = p.do(ctx, "removing", w.temp, true, func(s *session) error { return s.c.Delete(p.full(w.temp)) })
	p.note(w.temp, nil)
	return err
}
