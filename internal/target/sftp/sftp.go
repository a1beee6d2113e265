// Package sftp is the target that is a folder of a machine reached over SFTP (draft-ietf-secsh-filexfer-02, with
// OpenSSH's extensions where the server knows them) through SSH (RFC 4251 to 4254): logged in with the keys of an agent
// or of the user's SSH folder, or with a password. Host keys have to be accepted once.
package sftp

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/fileserver"
	"polytome/internal/target/remote"
)

// Protocol is SFTP.
var Protocol = remote.Protocol{
	Name: "sftp", Word: "SFTP", Server: "SSH", Port: usualPort, Disk: "disk",
	Like:    []string{"ftp", "smb"}, // a console's own disk, or the box that has the share
	Schemes: []remote.Scheme{{Name: "sftp", Example: "sftp://odile@192.168.0.40/games"}},
	Usual: remote.Usual{Slow: 8 * size.MiB, Fast: 60 * size.MiB, Least: 10 * time.Millisecond,
		Most: 80 * time.Millisecond},
	Greets: func(line string) bool { return strings.HasPrefix(line, "SSH-") }, // RFC 4253, 4.2
	Open: func(ctx context.Context, a remote.Address, s remote.Settings) (target.Target, error) {
		return Open(ctx, a, s)
	},
}

// usualPort is where SSH servers listen.
const usualPort = 22

// server is a machine that someone is logged in to.
type server struct {
	addr   remote.Address
	conn   *remote.Watched
	ssh    *ssh.Client
	client *sftp.Client
	stop   func()
}

// Open connects, logs in and opens the folder. The connection lasts as long as the context, and a moment longer, for
// what is done at the end.
func Open(ctx context.Context, a remote.Address, o remote.Settings) (*fileserver.Target, error) {
	if a.User != "" {
		o.User = a.User
	}
	if a.Port == 0 {
		a.Port = o.Port
	}
	if a.Port == 0 {
		a.Port = usualPort
	}
	if o.Timeout == 0 {
		o.Timeout = remote.Timeout
	}
	if o.User == "" {
		return nil, &remote.LoginError{Address: a}
	}
	s, err := connect(ctx, a, o)
	if err != nil {
		return nil, err
	}
	var t *fileserver.Target
	info, err := s.Stat(ctx, ".")
	if err == nil && !info.IsDir() {
		err = errors.New("it is a file")
	}
	if err == nil {
		t, err = fileserver.New(ctx, s, fileserver.Options{Network: "sftp", Filesystem: filesystem(o), AtOnce: 8,
			Login: o.User, Secure: true, Flushes: s.flushes(), LateCheck: true, Declared: o})
	}
	if err != nil {
		err = s.Classify(err)
		s.Close()
		return nil, fmt.Errorf("opening the folder /%s of %s: %w", a.Root, a.Host, err)
	}
	return t, nil
}

// filesystem is what holds where nothing is declared.
func filesystem(o remote.Settings) target.Filesystem {
	f := target.UnknownFilesystem("own")
	f.Shown, f.CaseSensitive = "its own", !o.FoldsCase
	return f
}

func connect(ctx context.Context, a remote.Address, o remote.Settings) (*server, error) {
	at := net.JoinHostPort(a.Host, strconv.Itoa(a.Port))
	keys, err := readHostKeys(a, o.HostKeys)
	if err != nil {
		return nil, err
	}
	c, err := remote.Dial(ctx, a, "SSH server", o.Timeout)
	if err != nil {
		return nil, err
	}
	s := &server{addr: a}
	var begun func()
	s.conn, begun, s.stop = remote.WatchUntil(ctx, c, o.Timeout)
	login := newLogin(o)
	done := s.conn.Wait()
	err = s.begin(at, &ssh.ClientConfig{User: o.User, Auth: login.methods(), HostKeyCallback: keys.check,
		HostKeyAlgorithms: keys.algorithms()})
	done()
	login.close()
	if begun(); err == nil && ctx.Err() == nil {
		return s, nil
	}
	s.stop()
	_ = c.Close()
	var unknown *remote.HostKeyError
	var limit *remote.RefusedError
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case errors.As(err, &unknown):
		return nil, unknown
	case errors.As(err, &limit):
		return nil, limit
	case login.refused(err):
		return nil, login.explain(a, err)
	case s.conn.Stalled():
		return nil, fmt.Errorf("%w: something accepts the connection on port %d of %s but does not answer",
			target.ErrGone, a.Port, a.Host)
	}
	return nil, fmt.Errorf("%w: what answers on port %d of %s is not a usable SSH server, or it was interrupted%s",
		target.ErrGone, a.Port, a.Host, remote.Said(err))
}

// begin logs in, and starts the subsystem for files.
func (s *server) begin(at string, c *ssh.ClientConfig) error {
	conn, channels, requests, err := ssh.NewClientConn(s.conn, at, c)
	if err != nil {
		return err
	}
	s.ssh = ssh.NewClient(conn, channels, requests)
	s.client, err = sftp.NewClient(s.ssh, sftp.UseConcurrentWrites(true))
	if err != nil && !s.conn.Stalled() {
		return &remote.RefusedError{Say: fmt.Sprintf("%s lets %s in over SSH, but has no SFTP: switch it on there (%v)",
			s.addr.Host, c.User, err), Err: err}
	}
	return err
}

// Close logs off.
func (s *server) Close() {
	s.stop()
	_ = s.conn.Close() // all requests have been answered, or nobody waits for them any longer
	_ = s.client.Close()
	_ = s.ssh.Close()
}
