package judge

import (
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// unpacked is where scripts/test unpacks programs that Debian does not let be installed side by side.
const unpacked = "/usr/local/lib/polytome-judges"

// virtual makes a folder that belongs to the user under which the servers below serve it, with the folders above it
// open to them.
func virtual(t testing.TB, dir string) (uid, gid int) {
	t.Helper()
	if uid, gid = os.Getuid(), os.Getgid(); uid != 0 {
		return uid, gid
	}
	if err := os.Chown(dir, nobody, nobody); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil {
		t.Fatal(err)
	}
	return nobody, nobody
}

// nameOf is the name of a user of this computer.
func nameOf(t testing.TB, uid int) string {
	t.Helper()
	u, err := user.LookupId(strconv.Itoa(uid))
	if err != nil {
		t.Fatal(err)
	}
	return u.Username
}

// groupOf is the name of a group of this computer.
func groupOf(t testing.TB, gid int) string {
	t.Helper()
	g, err := user.LookupGroupId(strconv.Itoa(gid))
	if err != nil {
		t.Fatal(err)
	}
	return g.Name
}

// hashed is the password "games" as such servers keep it.
func hashed(t testing.TB) string {
	t.Helper()
	return strings.TrimSpace(Run(t, "openssl", "passwd", "-5", "games"))
}

// ProFTP runs ProFTPD on a folder for the user and password "games"; settings are further lines, as in proftpd.conf.
// With a certificate, in one file with its key, it wants TLS, and that data connections take up the session of the
// control connection. It ends with the test.
func ProFTP(t testing.TB, dir, certificate string, settings ...string) (port int) {
	t.Helper()
	own := t.TempDir()
	uid, gid := virtual(t, dir)
	port = Port(t)
	write := func(name, text string) string {
		file := filepath.Join(own, name)
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return file
	}
	lines := []string{
		"ServerType standalone", "DefaultAddress 127.0.0.1", "SocketBindTight on", "UseIPv6 off",
		fmt.Sprint("Port ", port), "User " + nameOf(t, uid), "Group " + groupOf(t, gid),
		"AuthOrder mod_auth_file.c", "AuthUserFile " + write("users", fmt.Sprintf("games:%s:%d:%d::%s:/bin/false\n",
			hashed(t), uid, gid, dir)), "AuthGroupFile " + write("groups", fmt.Sprintf("games:x:%d:\n", gid)),
		"RequireValidShell off", "UseFtpUsers off", "DefaultRoot ~", "WtmpLog off", "TransferLog none",
		"UseReverseDNS off", "AllowOverwrite on", "AllowStoreRestart on", "AllowRetrieveRestart on",
		"MaxInstances none",
		"PidFile " + filepath.Join(own, "pid"), "ScoreboardFile " + filepath.Join(own, "scores"), "DelayTable none",
		"ModulePath " + unpacked + "/usr/lib/proftpd",
	}
	if certificate != "" {
		lines = append(lines, "LoadModule mod_tls.c", "TLSEngine on", "TLSRequired on",
			"TLSRSACertificateFile "+certificate, "TLSRSACertificateKeyFile "+certificate)
	}
	conf := write("conf", strings.Join(append(lines, settings...), "\n")+"\n")
	serve(t, port, unpacked+"/usr/sbin/proftpd", "--nodaemon", "--quiet", "--config", conf)
	return port
}

// PureFTP runs Pure-FTPd on a folder for the user and password "games"; arguments are further ones, as on its command
// line. With a certificate, in one file with its key, it wants TLS. It ends with the test.
func PureFTP(t testing.TB, dir, certificate string, arguments ...string) (port int) {
	t.Helper()
	own := t.TempDir()
	uid, gid := virtual(t, dir)
	port = Port(t)
	users, table := filepath.Join(own, "users"), filepath.Join(own, "table")
	line := fmt.Sprintf("games:%s:%d:%d::%s/./::::::::::::\n", hashed(t), uid, gid, dir)
	if err := os.WriteFile(users, []byte(line), 0o600); err != nil {
		t.Fatal(err)
	}
	Run(t, unpacked+"/usr/bin/pure-pw", "mkdb", table, "-f", users)
	args := append([]string{"-S", fmt.Sprintf("127.0.0.1,%d", port), "-l", "puredb:" + table, "-H", "-4", "-u", "1",
		"-c", "200", "-C", "200", "-g", filepath.Join(own, "pid")}, arguments...)
	if certificate != "" {
		args = append(args, "-Y", "3", "-2", certificate)
	}
	serve(t, port, unpacked+"/usr/sbin/pure-ftpd", args...)
	return port
}
