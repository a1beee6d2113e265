package judge

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// Port finds a port on the loopback that nobody listens on.
func Port(t testing.TB) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// FTP runs vsftpd on the loopback for anonymous users; further settings may be given as lines. The server sees the whole disk, so
// it runs as nobody, who can write to the given folder only, and what is done to it has to begin with root, that folder on the
// server. It ends with the test.
func FTP(t testing.TB, dir string, settings ...string) (port int, root string) {
	t.Helper()
	const nobody = 65534
	port = Port(t)
	own := t.TempDir()
	conf := filepath.Join(own, "vsftpd.conf")
	lines := append([]string{
		"listen=YES", "listen_address=127.0.0.1", fmt.Sprintf("listen_port=%d", port), "run_as_launching_user=YES", "background=NO", "seccomp_sandbox=NO",
		"anonymous_enable=YES", "no_anon_password=YES", "anon_root=" + dir, "anon_upload_enable=YES", "anon_mkdir_write_enable=YES", "anon_other_write_enable=YES", "anon_umask=022",
		"write_enable=YES", "allow_writeable_chroot=YES", "xferlog_enable=NO", "connect_from_port_20=NO", "secure_chroot_dir=" + own, "pasv_address=127.0.0.1",
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
		for _, d := range []string{filepath.Dir(dir), filepath.Dir(own), own} { // nobody has to get there
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
		program, args = "setpriv", []string{"--reuid=65534", "--regid=65534", "--clear-groups", "--no-new-privs", "vsftpd", conf}
	}
	serve(t, port, program, args...)
	return port, strings.Trim(dir, "/")
}

// A Samba is a real SMB server on the loopback.
type Samba struct {
	Port int
	Dir  string // of the share "games"
	// User may write to all shares with Password; guests may to the share "open", which is the same folder.
	User, Password string
	restart        func()
	kill           func()
	pid            int
}

// Stall has the server and all that it has begun stand still, or go on.
func (s *Samba) Stall(still bool) {
	signal := syscall.SIGCONT
	if still {
		signal = syscall.SIGSTOP
	}
	_ = syscall.Kill(-s.pid, signal)
}

// Restart ends the server, and begins it again at the same port.
func (s *Samba) Restart() { s.restart() }

// Kill ends the server, and all connections to it.
func (s *Samba) Kill() { s.kill() }

// SMB runs Samba on the loopback for one folder. Settings are further lines for all shares, as in smb.conf. It ends with the test.
func SMB(t testing.TB, dir string, settings ...string) *Samba {
	t.Helper()
	s := &Samba{Port: Port(t), Dir: dir, User: "root", Password: "harbour-light"}
	if os.Getuid() != 0 {
		s.User = os.Getenv("USER")
	}
	own, err := os.MkdirTemp("", "smbd") // names of sockets must be short
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(own) })
	conf := filepath.Join(own, "smb.conf")
	lines := []string{"[global]", "server role = standalone server", "map to guest = Bad User", "guest account = " + s.User, fmt.Sprintf("smb ports = %d", s.Port),
		"interfaces = 127.0.0.1", "bind interfaces only = yes", "passdb backend = tdbsam:" + own + "/passdb.tdb", "log file = " + own + "/log", "disable spoolss = yes",
		"load printers = no", "disable netbios = yes", "invalid users =", "server min protocol = SMB2_02"}
	for _, d := range []string{"pid", "lock", "state", "cache", "private", "ncalrpc"} {
		name := d + " directory"
		if d == "ncalrpc" {
			name = "ncalrpc dir"
		}
		if d == "private" {
			name = "private dir"
		}
		lines = append(lines, name+" = "+filepath.Join(own, d))
		if err := os.MkdirAll(filepath.Join(own, d), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	lines = append(lines, settings...)
	lines = append(lines, "[games]", "comment = Ferry games", "path = "+dir, "read only = no", "force user = "+s.User, "[open]", "path = "+dir, "read only = no", "guest ok = yes", "force user = "+s.User)
	if err := os.WriteFile(conf, []byte(strings.Join(lines, "\n")+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	set := exec.Command("smbpasswd", "-c", conf, "-a", "-s", s.User)
	set.Stdin = strings.NewReader(s.Password + "\n" + s.Password + "\n")
	if out, err := set.CombinedOutput(); err != nil {
		t.Fatalf("this test needs Samba, which scripts/test installs: %v\n%s", err, out)
	}
	begin := func() {
		kill, pid := serveGroup(t, s.Port, "smbd", "-F", "--no-process-group", "-s", conf)
		s.pid, s.kill = pid, func() {
			kill()
			_ = exec.Command("pkill", "-KILL", "-f", own).Run() // helpers in groups of their own
		}
	}
	begin()
	t.Cleanup(func() { s.kill() })
	s.restart = func() {
		s.kill()
		begin()
	}
	return s
}

// serve runs a server until the end of the test, and waits until it listens.
func serve(t testing.TB, port int, program string, args ...string) {
	t.Helper()
	kill, _ := serveGroup(t, port, program, args...)
	t.Cleanup(kill)
}

// serveGroup runs a server and all processes that it begins, until the function that it returns is called, and waits until it listens.
func serveGroup(t testing.TB, port int, program string, args ...string) (kill func(), pid int) {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	var out strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatalf("this test needs %s, which scripts/test installs: %v", program, err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	kill = sync.OnceFunc(func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
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
			return kill, cmd.Process.Pid
		}
	}
	kill()
	t.Fatalf("%s does not listen", program)
	return kill, 0
}
