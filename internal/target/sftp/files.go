package sftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strings"
	"time"

	"github.com/pkg/sftp"

	"polytome/internal/target"
	"polytome/internal/target/fileserver"
	"polytome/internal/target/remote"
)

var _ fileserver.Server = (*server)(nil)

// full is a path on the server.
func (s *server) full(name string) string { return path.Join("/", s.addr.Root, name) }

// Allows keeps out what no filesystem has in a name.
func (s *server) Allows(name string) error {
	if strings.ContainsRune(name, 0) {
		return fs.ErrInvalid
	}
	return nil
}

// Where is a path with the server's name.
func (s *server) Where(name string) string { return s.full(name) + " on " + s.addr.Host }

// ID is made of the machine that answered, and the path there.
func (s *server) ID() string { return "sftp " + s.conn.RemoteAddr().String() + " " + s.full(".") }

// answer is what became of a request.
type answer[T any] struct {
	value T
	err   error
}

// ask has the server do something, and waits for it until the context ends. The library waits on: what it gets then is
// dropped.
func ask[T any](ctx context.Context, s *server, act func() (T, error), drop func(T)) (T, error) {
	got := make(chan answer[T], 1)
	done := s.conn.Wait()
	go func() {
		defer done()
		v, err := act()
		got <- answer[T]{v, err}
	}()
	select {
	case a := <-got:
		return a.value, a.err
	case <-ctx.Done():
		if drop != nil {
			go func() {
				if a := <-got; a.err == nil {
					drop(a.value)
				}
			}()
		}
		var none T
		return none, ctx.Err()
	}
}

// order is a request that returns nothing.
func (s *server) order(ctx context.Context, act func() error) error {
	_, err := ask(ctx, s, func() (struct{}, error) { return struct{}{}, act() }, nil)
	return err
}

func (s *server) Stat(ctx context.Context, name string) (fs.FileInfo, error) {
	return ask(ctx, s, func() (fs.FileInfo, error) { return s.client.Stat(s.full(name)) }, nil)
}

func (s *server) ReadDir(ctx context.Context, name string) ([]fs.FileInfo, error) {
	return ask(ctx, s, func() ([]fs.FileInfo, error) { return s.client.ReadDirContext(ctx, s.full(name)) }, nil)
}

func (s *server) Mkdir(ctx context.Context, name string) error {
	return s.order(ctx, func() error { return s.client.Mkdir(s.full(name)) })
}

func (s *server) Remove(ctx context.Context, name string) error {
	return s.order(ctx, func() error { return s.client.Remove(s.full(name)) })
}

// Rename needs OpenSSH's extension to put a file into the place of another one at once.
func (s *server) Rename(ctx context.Context, from, to string, over bool) error {
	return s.order(ctx, func() error {
		if !over {
			return s.client.Rename(s.full(from), s.full(to))
		}
		if _, ok := s.client.HasExtension("posix-rename@openssh.com"); ok {
			return s.client.PosixRename(s.full(from), s.full(to))
		}
		if err := s.client.Remove(s.full(to)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return s.client.Rename(s.full(from), s.full(to))
	})
}

func (s *server) Date(ctx context.Context, name string, t time.Time) error {
	return s.order(ctx, func() error { return s.client.Chtimes(s.full(name), t, t) })
}

// Lasting has the file flushed under its new name: the usual filesystems write the name down with it.
func (s *server) Lasting(ctx context.Context, name string) error {
	if !s.flushes() {
		return nil
	}
	return s.order(ctx, func() error {
		f, err := s.client.OpenFile(s.full(name), os.O_WRONLY)
		if err != nil {
			return err
		}
		return errors.Join(f.Sync(), f.Close())
	})
}

// flushes reports whether the server can be asked to bring a file to its disk.
func (s *server) flushes() bool {
	_, ok := s.client.HasExtension("fsync@openssh.com")
	return ok
}

func (s *server) Space(ctx context.Context) (capacity, free, unit int64, err error) {
	if _, ok := s.client.HasExtension("statvfs@openssh.com"); !ok {
		return 0, 0, 0, nil
	}
	v, err := ask(ctx, s, func() (*sftp.StatVFS, error) { return s.client.StatVFS(s.full(".")) }, nil)
	if err != nil {
		return 0, 0, 0, err
	}
	unit = int64(v.Frsize)
	return int64(v.Blocks) * unit, int64(v.Bavail) * unit, unit, nil
}

func (s *server) OpenFile(ctx context.Context, name string, flags int) (fileserver.File, error) {
	f, err := ask(ctx, s, func() (*sftp.File, error) { return s.client.OpenFile(s.full(name), flags) },
		func(f *sftp.File) { _ = f.Close() })
	if err != nil {
		return nil, err
	}
	return &file{f, s}, nil
}

// file is an open file: the server is waited for whenever it is asked for something.
type file struct {
	f *sftp.File
	s *server
}

func (f *file) ReadAt(b []byte, off int64) (int, error) {
	defer f.s.conn.Wait()()
	return f.f.ReadAt(b, off)
}

// WriteAt finds out whether the disk is full when a write fails: most servers only say that it did.
func (f *file) WriteAt(b []byte, off int64) (int, error) {
	defer f.s.conn.Wait()()
	n, err := f.f.WriteAt(b, off)
	if said(err) == sftp.ErrSSHFxFailure {
		if v, statErr := f.s.client.StatVFS(f.s.full(".")); statErr == nil && v.Bavail*v.Frsize < uint64(len(b)) {
			return n, target.ErrNoSpace
		}
	}
	return n, err
}

func (f *file) Stat() (fs.FileInfo, error) {
	defer f.s.conn.Wait()()
	return f.f.Stat()
}

func (f *file) Truncate(n int64) error {
	defer f.s.conn.Wait()()
	return f.f.Truncate(n)
}

// Sync flushes the file, where the server knows how.
func (f *file) Sync() error {
	if !f.s.flushes() {
		return nil
	}
	defer f.s.conn.Wait()()
	return f.f.Sync()
}

func (f *file) Close() error {
	defer f.s.conn.Wait()()
	return f.f.Close()
}

// said is the code that a server answered with, comparable to the library's; 0 for another error.
func said(err error) error {
	var status *sftp.StatusError
	if errors.As(err, &status) {
		return status.FxCode()
	}
	return nil
}

// Codes of later drafts, which some servers answer with (draft-ietf-secsh-filexfer-13, 9.1).
const (
	codeExists    = 11
	codeProtected = 12
	codeFull      = 14
	codeQuota     = 15
	codeNotEmpty  = 18
)

// Classify adds the typed error that a run decides on to what a server answered.
func (s *server) Classify(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		err = pe.Err // the path is said once, whole
	}
	var status *sftp.StatusError
	var ne net.Error
	if errors.As(err, &status) {
		switch status.Code {
		case codeExists:
			return target.ErrExists
		case codeProtected:
			return fmt.Errorf("%w: it is write-protected", target.ErrReadOnly)
		case codeFull, codeQuota:
			return target.ErrNoSpace
		case codeNotEmpty:
			return errors.New("the folder is not empty")
		}
		switch status.FxCode() {
		case sftp.ErrSSHFxConnectionLost, sftp.ErrSSHFxNoConnection:
			return s.gone("")
		case sftp.ErrSSHFxOpUnsupported:
			return errors.New("the server does not support that")
		}
		return errors.New("the server refuses it without a reason")
	}
	switch {
	case errors.Is(err, context.Canceled), errors.Is(err, target.ErrExists), errors.Is(err, target.ErrGone),
		errors.Is(err, target.ErrReadOnly), errors.Is(err, target.ErrNoSpace):
		return err
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%w: this user has no permission", target.ErrReadOnly)
	case s.conn.Stalled():
		return fmt.Errorf("%w: %s does not respond any more", target.ErrGone, s.addr.Host)
	case errors.Is(err, sftp.ErrSSHFxConnectionLost), errors.As(err, &ne), errors.Is(err, net.ErrClosed),
		errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return s.gone(remote.Said(err))
	}
	return err
}

func (s *server) gone(say string) error {
	return fmt.Errorf("%w: the connection to %s was interrupted%s", target.ErrGone, s.addr.Host, say)
}
