package judge

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"polytome/internal/sim/samba"
)

// Port finds a port on the loopback that no one listens on.
func Port(t testing.TB) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// FTP runs vsftpd on the loopback for anonymous users; further settings may be given as lines. The server sees the
// whole disk, so it runs as no one, who can write to the given folder only, and what is done to it has to begin with
// root, that folder on the server. It ends with the test.
func FTP(t testing.TB, dir string, settings ...string) (port int, root string) {
	t.Helper()
	const nobody = 65534
	port = Port(t)
	own := t.TempDir()
	conf := filepath.Join(own, "vsftpd.conf")
	lines := append([]string{
		"listen=YES", "listen_address=127.0.0.1", fmt.Sprintf("listen_port=%d", port), "run_as_launching_user=YES",
		"background=NO", "seccomp_sandbox=NO",
		"anonymous_enable=YES", "no_anon_password=YES", "anon_root=" + dir, "anon_upload_enable=YES",
		"anon_mkdir_write_enable=YES", "anon_other_write_enable=YES", "anon_umask=022",
		"write_enable=YES", "allow_writeable_chroot=YES", "xferlog_enable=NO", "connect_from_port_20=NO",
		"secure_chroot_dir=" + own, "pasv_address=127.0.0.1",
	}, settings...)
	if err := os.WriteFile(conf, []byte(strings.Join(lines, "\n")+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	program, args := "vsftpd", []string{conf}
	if os.Getuid() == 0 {
		err := filepath.Walk(dir, func(name string, _ os.FileInfo, err error) error {
			if err != nil {
				return err
			}
			return os.Chown(name, nobody, nobody)
		})
		for _, d := range []string{filepath.Dir(dir), filepath.Dir(own), own} { // no one has to get there
			if err == nil {
				err = os.Chmod(d, 0o755)
			}
		}
		if err == nil {
			err = os.Chown(conf, nobody, nobody)
		}
		if err != nil {
			t.Fatal(err)
		}
		program, args = "setpriv", []string{"--reuid=65534", "--regid=65534", "--clear-groups", "--no-new-privs",
			"vsftpd", conf}
	}
	serve(t, port, program, args...)
	return port, strings.Trim(dir, "/")
}

// A Samba is a real SMB server on the loopback, with the shares "games" for a user, and "open" for guests: both show
// one folder.
type Samba struct {
	Port           int
	Dir            string
	User, Password string

	t        testing.TB
	settings []string
	server   *samba.Server
}

// SMB runs Samba for a folder. Settings are further lines for all shares, as in smb.conf. It ends with the test.
func SMB(t testing.TB, dir string, settings ...string) *Samba {
	t.Helper()
	s := &Samba{Dir: dir, User: samba.User(), Password: "harbour-light", t: t, settings: settings}
	s.begin()
	t.Cleanup(func() { s.server.Close() })
	return s
}

func (s *Samba) begin() {
	s.t.Helper()
	server, err := samba.Serve(context.Background(), "open", s.Dir, samba.Options{Port: s.Port,
		Shares: map[string]string{"games": s.Dir}, Password: s.Password, Settings: s.settings})
	if err != nil {
		s.t.Fatalf("this test needs Samba, which scripts/test installs: %v", err)
	}
	s.server, s.Port = server, server.Port
}

// Restart ends the server and all connections to it, and begins it again at the same port.
func (s *Samba) Restart() {
	s.Kill()
	s.begin()
}

// Kill ends the server, and all connections to it.
func (s *Samba) Kill() { s.server.Close() }

// serve runs a server until the end of the test, and waits until it listens.
func serve(t testing.TB, port int, program string, args ...string) {
	t.Helper()
	cmd := exec.Command(program, args...)
	var out strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatalf("this test needs %s, which scripts/test installs: %v", program, err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		<-ended
	})
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		select {
		case err := <-ended:
			ended <- err
			t.Fatalf("%s ended: %v\n%s", program, err, out.String())
		default:
		}
		if c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			_ = c.Close()
			return
		}
	}
	t.Fatalf("%s does not listen", program)
}
