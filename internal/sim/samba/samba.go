// Package samba runs a real Samba on the loopback over one folder, for simulated consoles whose disk is a share. All
// that it writes beside is in a folder of its own, which is removed at the end.
package samba

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"time"
)

// ErrNotInstalled reports that Samba is not installed.
var ErrNotInstalled = errors.New("no Samba is installed")

// A Server is one that runs.
type Server struct {
	Port  int
	PID   int // of the server, and of the group of what it has begun
	own   string
	stop  context.CancelFunc
	ended chan error
}

// patience is how long the server may take until it listens.
const patience = 10 * time.Second

// find finds the server's program, also where only the system's own paths lead.
func find() (string, error) {
	if p, err := exec.LookPath("smbd"); err == nil {
		return p, nil
	}
	for _, dir := range []string{"/usr/sbin", "/usr/local/sbin"} {
		if p := filepath.Join(dir, "smbd"); exec.Command("test", "-x", p).Run() == nil {
			return p, nil
		}
	}
	return "", ErrNotInstalled
}

// Options are what a server is like beside.
type Options struct {
	Port     int               // 0 has one chosen
	Shares   map[string]string // further shares, with their folders; guests are not let in there
	Password string            // of the user that runs the program, "" for none
	Settings []string          // further lines for all shares, as in smb.conf(5)
}

// User is who may log in with the password.
func User() string {
	me, err := user.Current()
	if err != nil {
		return "root"
	}
	return me.Username
}

// Serve shows a folder as a share to guests, at a port of the loopback.
func Serve(ctx context.Context, share, dir string, o Options) (s *Server, err error) {
	port := o.Port
	program, err := find()
	if err != nil {
		return nil, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	me := User()
	if port == 0 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		port = l.Addr().(*net.TCPAddr).Port
		_ = l.Close()
	}
	own, err := os.MkdirTemp("", "smb-") // names of sockets must be short
	if err != nil {
		return nil, err
	}
	lines := []string{"[global]", "server role = standalone server", "map to guest = Bad User", "guest account = " + me,
		fmt.Sprintf("smb ports = %d", port),
		"interfaces = 127.0.0.1", "bind interfaces only = yes", "passdb backend = tdbsam:" + own + "/passdb.tdb",
		"log file = " + own + "/log", "disable spoolss = yes",
		"load printers = no", "disable netbios = yes", "invalid users =", "server min protocol = SMB2_02",
		"private dir = " + own + "/private", "ncalrpc dir = " + own + "/ncalrpc"}
	for _, d := range []string{"pid", "lock", "state", "cache"} {
		lines = append(lines, d+" directory = "+filepath.Join(own, d))
	}
	lines = append(lines, o.Settings...)
	lines = append(lines, "["+share+"]", "path = "+dir, "read only = no", "guest ok = yes", "force user = "+me)
	for name, at := range o.Shares {
		lines = append(lines, "["+name+"]", "path = "+at, "read only = no", "force user = "+me)
	}
	for _, d := range []string{"pid", "lock", "state", "cache", "private", "ncalrpc"} {
		err = errors.Join(err, os.MkdirAll(filepath.Join(own, d), 0o755))
	}
	conf := filepath.Join(own, "smb.conf")
	if err = errors.Join(err, os.WriteFile(conf, []byte(strings.Join(lines, "\n")+"\n"), 0o600)); err != nil {
		_ = os.RemoveAll(own)
		return nil, err
	}
	if o.Password != "" {
		set := exec.Command("smbpasswd", "-c", conf, "-a", "-s", me)
		set.Stdin = strings.NewReader(o.Password + "\n" + o.Password + "\n")
		if out, err := set.CombinedOutput(); err != nil {
			_ = os.RemoveAll(own)
			return nil, fmt.Errorf("running Samba: %w: %s", err, out)
		}
	}
	ctx, stop := context.WithCancel(ctx)
	cmd := exec.CommandContext(ctx, program, "-F", "--no-process-group", "-s", conf)
	group(cmd)
	s = &Server{Port: port, own: own, stop: stop, ended: make(chan error, 1)}
	if err := cmd.Start(); err != nil {
		stop()
		_ = os.RemoveAll(own)
		return nil, fmt.Errorf("running Samba: %w", err)
	}
	s.PID = cmd.Process.Pid
	go func() { s.ended <- cmd.Wait() }()
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		select {
		case err := <-s.ended:
			s.ended <- err
			s.Close()
			return nil, fmt.Errorf("running Samba: it ended at once: %w", err)
		default:
		}
		if c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			_ = c.Close()
			return s, nil
		}
	}
	s.Close()
	return nil, errors.New("running Samba: it does not listen")
}

// Close ends the server.
func (s *Server) Close() {
	s.stop()
	s.ended <- <-s.ended // it may be closed twice
	helpers(s.own)
	_ = os.RemoveAll(s.own)
}
