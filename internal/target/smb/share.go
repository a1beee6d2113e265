package smb

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"

	"polytome/internal/target/fileserver"
)

var _ fileserver.Server = (*share)(nil)

// full is a path in the share.
func (p *share) full(name string) string {
	s := path.Join(p.root, name)
	if s == "." {
		return ""
	}
	return strings.ReplaceAll(s, "/", `\`)
}

// Allows keeps out what the protocol gives a meaning to.
func (p *share) Allows(name string) error {
	if i := strings.IndexAny(name, "\\:*?\"<>|\x00"); i >= 0 {
		return fmt.Errorf("a share does not allow %q in a name", name[i])
	}
	return nil
}

// Where is a path with the share's name.
func (p *share) Where(name string) string {
	return fmt.Sprintf("%s on %s of %s", path.Join(p.root, name), p.name, p.addr.Host)
}

// ID is made of the server that answered, the share, and the path there.
func (p *share) ID() string {
	return "smb " + p.conn.RemoteAddr().String() + " " + strings.ToLower(path.Clean("/"+p.name+"/"+p.root))
}

// ask has the share do something that ends with the context.
func (p *share) ask(ctx context.Context, act func(*smb2.Share) error) error {
	defer p.conn.Wait()()
	return act(p.share.WithContext(ctx))
}

func (p *share) Stat(ctx context.Context, name string) (i fs.FileInfo, err error) {
	err = p.ask(ctx, func(s *smb2.Share) (err error) { i, err = s.Stat(p.full(name)); return err })
	return i, err
}

func (p *share) ReadDir(ctx context.Context, name string) (all []fs.FileInfo, err error) {
	err = p.ask(ctx, func(s *smb2.Share) (err error) { all, err = s.ReadDir(p.full(name)); return err })
	return all, err
}

func (p *share) Mkdir(ctx context.Context, name string) error {
	return p.ask(ctx, func(s *smb2.Share) error { return s.Mkdir(p.full(name), 0o777) })
}

func (p *share) Remove(ctx context.Context, name string) error {
	return p.ask(ctx, func(s *smb2.Share) error { return s.Remove(p.full(name)) })
}

// Rename replaces a file that has the name ([MS-FSCC] 2.4.42).
func (p *share) Rename(ctx context.Context, from, to string, _ bool) error {
	return p.ask(ctx, func(s *smb2.Share) error { return s.Rename(p.full(from), p.full(to)) })
}

func (p *share) Date(ctx context.Context, name string, t time.Time) error {
	return p.ask(ctx, func(s *smb2.Share) error { return s.Chtimes(p.full(name), t, t) })
}

// Lasting has the server bring a file that was given its name to its disk once more: only then is the name there after
// a power cut. Where a file may not be opened a second time, that cannot be asked for.
func (p *share) Lasting(ctx context.Context, name string) error {
	return p.ask(ctx, func(s *smb2.Share) error {
		f, err := s.OpenFile(p.full(name), os.O_WRONLY, 0)
		if os.IsPermission(err) {
			return nil
		}
		if err != nil {
			return err
		}
		return errors.Join(f.Sync(), f.Close())
	})
}

func (p *share) Space(ctx context.Context) (capacity, free, unit int64, err error) {
	err = p.ask(ctx, func(s *smb2.Share) error {
		st, err := s.Statfs(p.full("."))
		if err != nil {
			return err
		}
		unit = int64(st.BlockSize())
		capacity, free = int64(st.TotalBlockCount())*unit, int64(st.AvailableBlockCount())*unit
		return nil
	})
	return capacity, free, unit, err
}

func (p *share) OpenFile(_ context.Context, name string, flags int) (fileserver.File, error) {
	defer p.conn.Wait()()
	f, err := p.share.OpenFile(p.full(name), flags, 0o666)
	if err != nil {
		return nil, err
	}
	return file{f, p}, nil
}

// file is an open file: the server is waited for whenever it is asked for something.
type file struct {
	f *smb2.File
	p *share
}

func (f file) ReadAt(b []byte, off int64) (int, error) {
	defer f.p.conn.Wait()()
	return f.f.ReadAt(b, off)
}

func (f file) WriteAt(b []byte, off int64) (int, error) {
	defer f.p.conn.Wait()()
	return f.f.WriteAt(b, off)
}

func (f file) Stat() (fs.FileInfo, error) {
	defer f.p.conn.Wait()()
	return f.f.Stat()
}

func (f file) Truncate(n int64) error {
	defer f.p.conn.Wait()()
	return f.f.Truncate(n)
}

func (f file) Sync() error {
	defer f.p.conn.Wait()()
	return f.f.Sync()
}

func (f file) Close() error {
	defer f.p.conn.Wait()()
	return f.f.Close()
}
