package judge

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
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
		give(t, nobody, nobody, dir, own)
		program, args = as(nobody, nobody, "vsftpd", conf)
	}
	serve(t, port, program, args...)
	return port, strings.Trim(dir, "/")
}

// nobody is a user without rights.
const nobody = 65534

// as is a command that runs as a user without rights.
func as(uid, gid int, program string, args ...string) (string, []string) {
	return "setpriv", append([]string{fmt.Sprintf("--reuid=%d", uid), fmt.Sprintf("--regid=%d", gid), "--clear-groups",
		"--no-new-privs", program}, args...)
}

func number(t testing.TB, s string) int {
	t.Helper()
	n, err := strconv.Atoi(s)
	if err != nil {
		t.Fatal(err)
	}
	return n
}

// give has folders of a test belong to a user, who can get there.
func give(t testing.TB, uid, gid int, dirs ...string) {
	t.Helper()
	for _, dir := range dirs {
		err := filepath.Walk(dir, func(name string, _ os.FileInfo, err error) error {
			if err != nil {
				return err
			}
			return os.Chown(name, uid, gid)
		})
		if err == nil {
			err = errors.Join(os.Chmod(dir, 0o755), os.Chmod(filepath.Dir(dir), 0o755))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
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

// kill ends a process, and those that it began: a server's connections can have some of their own.
func kill(pid int) {
	out, _ := exec.Command("pgrep", "-P", strconv.Itoa(pid)).Output()
	if p, err := os.FindProcess(pid); err == nil {
		_ = p.Kill()
	}
	for child := range strings.FieldsSeq(string(out)) {
		if n, err := strconv.Atoi(child); err == nil {
			kill(n)
		}
	}
}

// serve runs a server until the end of the test, or until it is stopped, and waits until it listens.
func serve(t testing.TB, port int, program string, args ...string) (stop func()) {
	t.Helper()
	cmd := exec.Command(program, args...)
	var out strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatalf("this test needs %s, which scripts/test installs: %v", program, err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	stop = sync.OnceFunc(func() {
		kill(cmd.Process.Pid)
		<-ended
	})
	t.Cleanup(stop)
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		select {
		case err := <-ended:
			ended <- err
			t.Fatalf("%s ended: %v\n%s", program, err, out.String())
		default:
		}
		if c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			_ = c.Close()
			return stop
		}
	}
	t.Fatalf("%s does not listen", program)
	return nil
}

// An OpenSSH is a real SSH server on the loopback, which lets one user in with a key.
type OpenSSH struct {
	Port int
	Dir  string // the only one that the user may write to
	User string
	Key  string // file of the user's private key
	Host string // fingerprint of the server's own key

	t       testing.TB
	conf    string
	program string
	args    []string
	stop    func()
}

// SSH runs OpenSSH's server for a folder. Settings are further lines, as in sshd_config. Files are all that it gives;
// it runs as a user without rights, like [FTP]. It ends with the test.
func SSH(t testing.TB, dir string, settings ...string) *OpenSSH {
	t.Helper()
	own := t.TempDir()
	s := &OpenSSH{Port: Port(t), Dir: dir, Key: filepath.Join(own, "user"), t: t, conf: filepath.Join(own,
		"sshd_config")}
	who, err := user.Current()
	if err == nil && os.Getuid() == 0 {
		who, err = user.Lookup("games") // systemd says that nobody's account is locked
	}
	if err != nil {
		t.Fatal(err)
	}
	s.User = who.Username
	for _, key := range []string{"host", "user"} {
		Run(t, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(own, key))
	}
	s.Host = strings.Fields(Run(t, "ssh-keygen", "-l", "-f", filepath.Join(own, "host")))[1]
	lines := append([]string{
		"ListenAddress 127.0.0.1", fmt.Sprintf("Port %d", s.Port), "HostKey " + filepath.Join(own, "host"),
		"AuthorizedKeysFile " + filepath.Join(own, "user.pub"), "PidFile none", "StrictModes no", "UsePAM no",
		"PasswordAuthentication no", "KbdInteractiveAuthentication no",
		"Subsystem sftp internal-sftp", "ForceCommand internal-sftp", "DisableForwarding yes",
	}, settings...)
	if err := os.WriteFile(s.conf, []byte(strings.Join(lines, "\n")+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	s.program, s.args = sshd(t), []string{"-D", "-e", "-f", s.conf}
	if os.Getuid() == 0 {
		uid, gid := number(t, who.Uid), number(t, who.Gid)
		give(t, uid, gid, dir, own)
		s.program, s.args = as(uid, gid, s.program, s.args...)
	}
	s.begin()
	return s
}

// Home is the home of a user who has the key, and no agent, for the rest of the test.
func (s *OpenSSH) Home(t testing.TB) string {
	t.Helper()
	home := t.TempDir()
	key, err := os.ReadFile(s.Key)
	if err == nil {
		err = os.Mkdir(filepath.Join(home, ".ssh"), 0o700)
	}
	if err == nil {
		err = os.WriteFile(filepath.Join(home, ".ssh", "id_ed25519"), key, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Setenv("HOME", home)
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(home, "config"))
	t.Setenv("SSH_AUTH_SOCK", "")
	return home
}

func (s *OpenSSH) begin() {
	s.t.Helper()
	s.stop = serve(s.t, s.Port, s.program, s.args...)
}

// Kill ends the server and all connections to it.
func (s *OpenSSH) Kill() { s.stop() }

// Restart ends the server and all connections to it, and begins it again at the same port.
func (s *OpenSSH) Restart() {
	s.Kill()
	s.begin()
}

// sshd is OpenSSH's server: scripts/test unpacks it, so that no machine gets a server by being tested.
func sshd(t testing.TB) string {
	t.Helper()
	program := filepath.Join(unpacked, "usr/sbin/sshd")
	if _, err := os.Stat(program); err != nil {
		t.Fatalf("this test needs OpenSSH's server, which scripts/test unpacks: %v", err)
	}
	return program
}
