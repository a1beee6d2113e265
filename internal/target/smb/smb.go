// Package smb is the target that is a folder of a share, reached over SMB 2 and 3 ([MS-SMB2]): as a guest, or as a user
// with a password. What is sent is signed or encrypted as the server asks. Several writes are under way at a time, and
// several reads.
package smb

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"

	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/fileserver"
	"polytome/internal/target/remote"
)

// Protocol is SMB 2 and 3.
var Protocol = remote.Protocol{
	Name: "smb", Word: "SMB", Server: "file sharing", Port: usualPort, Domains: true, Elsewhere: true, Share: true,
	Disk:    "share",
	Schemes: []remote.Scheme{{Name: "smb", Example: "smb://192.168.0.30/games"}},
	Usual: remote.Usual{Slow: 15 * size.MiB, Fast: 80 * size.MiB, Least: 10 * time.Millisecond,
		Most: 60 * time.Millisecond},
	Open: func(ctx context.Context, a remote.Address, s remote.Settings) (target.Target, error) {
		return Open(ctx, a, s)
	},
	Shares: Shares,
}

// usualPort is where SMB servers listen.
const usualPort = 445

// credits are how much may be under way at a time, in units of 64 KiB ([MS-SMB2] 3.2.4.1.2).
const credits = 512

// server is a connection that someone is logged in over.
type server struct {
	addr    remote.Address
	user    string
	conn    *remote.Watched
	frames  *framed
	session *smb2.Session
	stop    func()
}

// connect connects and logs in. The connection lasts as long as the context, and a moment longer, for what is done at
// the end.
func connect(ctx context.Context, a remote.Address, o remote.Settings) (*server, error) {
	if o.Timeout == 0 {
		o.Timeout = remote.Timeout
	}
	if a.Port == 0 {
		a.Port = usualPort
	}
	at := net.JoinHostPort(a.Host, strconv.Itoa(a.Port))
	c, err := remote.Dial(ctx, a, "SMB server", o.Timeout)
	if err != nil {
		return nil, err
	}
	s := &server{addr: a, user: o.User}
	s.frames = &framed{Conn: c}
	var begun func()
	s.conn, begun, s.stop = remote.WatchUntil(ctx, s.frames, o.Timeout)
	user := o.User
	if user == "" {
		user = "guest"
	}
	d := smb2.Dialer{MaxCreditBalance: credits, Initiator: &smb2.NTLMInitiator{User: user, Password: o.Password,
		Domain: a.Domain}}
	done := s.conn.Wait()
	s.session, err = d.DialConn(ctx, s.conn, at)
	done()
	if begun(); err == nil && ctx.Err() == nil {
		return s, nil
	}
	s.stop()
	_ = c.Close()
	var re *smb2.ResponseError
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case s.frames.wrong.Load() != nil:
		return nil, fmt.Errorf("what answers on port %d of %s is not a usable SMB server: %w", a.Port, a.Host,
			s.frames.wrong.Load())
	case errors.As(err, &re) && slices.Contains(denials, re.Code), errors.Is(err, os.ErrPermission):
		return nil, &remote.LoginError{Address: a, User: o.User, Given: o.Password != ""}
	case errors.As(err, &re):
		return nil, &remote.RefusedError{Say: fmt.Sprintf("%s refuses the login: %v", a.Host, wordy(err)), Err: err}
	}
	if s.conn.Stalled() {
		return nil, fmt.Errorf("%w: something accepts the connection on port %d of %s but does not answer",
			target.ErrGone, a.Port, a.Host)
	}
	return nil, fmt.Errorf("%w: what answers on port %d of %s is not an SMB 2 or 3 server, or it was interrupted",
		target.ErrGone, a.Port, a.Host)
}

// Close logs off.
func (s *server) Close() {
	s.stop()
	done := make(chan struct{})
	go func() { // a server that has hung up does not matter any longer
		_ = s.session.Logoff()
		close(done)
	}()
	select {
	case <-done:
	case <-time.After(time.Second):
	}
	_ = s.conn.Close()
}

// Shares lists the shares of a server that hold files.
func Shares(ctx context.Context, a remote.Address, o remote.Settings) ([]remote.Share, error) {
	s, err := connect(ctx, a, o)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	defer s.conn.Wait()()
	all, err := s.session.WithContext(ctx).ListShares()
	if err != nil {
		return nil, fmt.Errorf("listing the shares of %s: %w", a.Host, s.Classify(err))
	}
	var out []remote.Share
	for _, x := range all {
		if x.Type() == smb2.ShareTypeDiskTree && !x.IsSpecial() {
			out = append(out, remote.Share{Name: x.Name, Comment: x.Comment})
		}
	}
	return out, nil
}

// share is a folder of a share.
type share struct {
	*server
	name  string // of the share
	root  string // folder in it, "" for its own root
	share *smb2.Share
}

// Open connects, logs in and opens the share.
func Open(ctx context.Context, a remote.Address, o remote.Settings) (*fileserver.Target, error) {
	if a.User != "" {
		o.User = a.User
	}
	name, root, _ := strings.Cut(a.Root, "/")
	if name == "" {
		say := ""
		if shares, err := Shares(ctx, a, o); err != nil {
			return nil, err
		} else if len(shares) > 0 {
			var names []string
			for _, s := range shares {
				names = append(names, s.Name)
			}
			say = "; there are: " + strings.Join(names, ", ")
		}
		return nil, fmt.Errorf("%s has no share name%s", a, say)
	}
	s, err := connect(ctx, a, o)
	if err != nil {
		return nil, err
	}
	p, err := s.mount(ctx, name, root)
	var t *fileserver.Target
	if err == nil {
		t, err = fileserver.New(ctx, p, fileserver.Options{Network: "smb", Filesystem: filesystem(), AtOnce: 8,
			LateCheck: true, Searches: true, Flushes: true, Login: cmp.Or(o.User, "guests"), Declared: o})
	}
	if err != nil {
		err = s.Classify(err)
		s.Close()
		return nil, fmt.Errorf("opening the share %s of %s: %w", name, a.Host, err)
	}
	return t, nil
}

// mount opens a folder of a share.
func (s *server) mount(ctx context.Context, name, root string) (*share, error) {
	defer s.conn.Wait()()
	m, err := s.session.WithContext(ctx).Mount(name)
	if err != nil {
		return nil, err
	}
	p := &share{server: s, name: name, root: root, share: m.WithContext(context.Background())}
	if root != "" {
		info, err := m.Stat(p.full("."))
		if err == nil && !info.IsDir() {
			err = fs.ErrNotExist
		}
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("there is no folder %s on the share %s", root, name)
		}
		if err != nil {
			return nil, err
		}
	}
	return p, nil
}

// filesystem is what holds on any share: the names that the protocol takes.
func filesystem() target.Filesystem {
	f, _ := target.FilesystemNamed("ntfs")
	like := target.UnknownFilesystem("share")
	like.Shown, like.Forbidden, like.Windows, like.Units, like.CaseSensitive = "share", f.Forbidden, true, f.Units,
		false
	return like
}
