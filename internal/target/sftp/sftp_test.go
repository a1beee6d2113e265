package sftp_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/target"
	"polytome/internal/target/fileserver"
	"polytome/internal/target/remote"
	"polytome/internal/target/sftp"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/targettest"
)

var ctx = context.Background()

// accepted is how a server is reached whose key was accepted.
func accepted(t testing.TB, at remote.Address) remote.Settings {
	o := remote.Settings{Timeout: 10 * time.Second, HostKeys: filepath.Join(t.TempDir(), "keys", "host-keys")}
	_, err := sftp.Open(ctx, at, o)
	var key *remote.HostKeyError
	require.ErrorAs(t, err, &key)
	require.NoError(t, key.Accept())
	return o
}

func address(s *judge.OpenSSH, root string) remote.Address {
	return remote.Address{Scheme: "sftp", Host: "127.0.0.1", Port: s.Port, User: s.User, Root: strings.Trim(root, "/")}
}

// open opens a folder of its own on the server.
func open(t testing.TB, s *judge.OpenSSH, o remote.Settings) *fileserver.Target {
	sub := filepath.Join(s.Dir, fmt.Sprintf("target-%d", rand.Int63()))
	require.NoError(t, os.Mkdir(sub, 0o777))
	require.NoError(t, os.Chmod(sub, 0o777))
	p, err := sftp.Open(ctx, address(s, sub), o)
	require.NoError(t, err)
	return p
}

func TestConformance(t *testing.T) {
	for name, settings := range map[string][]string{
		"OpenSSH":        nil,
		"another cipher": {"Ciphers chacha20-poly1305@openssh.com"},
	} {
		t.Run(name, func(t *testing.T) {
			s := judge.SSH(t, t.TempDir(), settings...)
			s.Home(t)
			o := accepted(t, address(s, s.Dir))
			targettest.Run(t, func(t *testing.T) target.Target { return open(t, s, o) })
		})
	}
}

// TestConformanceFarAway is the same over a slow way: everything takes 30 ms, and 5 MB pass in a second.
func TestConformanceFarAway(t *testing.T) {
	s := judge.SSH(t, t.TempDir())
	s.Home(t)
	far := *s
	far.Port = judge.Far(t, s.Port, 30*time.Millisecond, 5e6)
	o := accepted(t, address(&far, s.Dir))
	targettest.Run(t, func(t *testing.T) target.Target { return open(t, &far, o) })
}

func TestBytesAreThereForAnotherClient(t *testing.T) {
	s := judge.SSH(t, t.TempDir())
	s.Home(t)
	p := open(t, s, accepted(t, address(s, s.Dir)))
	defer p.Close()
	data := make([]byte, 21<<20+12345)
	rand.New(rand.NewSource(1)).Read(data)
	w, err := p.Create(ctx, "Grebe Lake – Été.iso", int64(len(data)))
	require.NoError(t, err)
	for at := 0; at < len(data); at += 700_001 {
		_, err := w.Write(data[at:min(at+700_001, len(data))])
		require.NoError(t, err)
	}
	require.NoError(t, w.Flush())
	when := time.Date(2024, 5, 6, 7, 8, 10, 0, time.UTC)
	require.NoError(t, w.Date(when))
	require.NoError(t, w.Commit())
	found, err := filepath.Glob(filepath.Join(s.Dir, "*", "Grebe Lake – Été.iso"))
	require.NoError(t, err)
	require.Len(t, found, 1)
	got := filepath.Join(t.TempDir(), "got")
	batch := filepath.Join(t.TempDir(), "batch")
	require.NoError(t, os.WriteFile(batch, fmt.Appendf(nil, "get \"%s\" \"%s\"\n", found[0], got), 0o600))
	judge.Run(t, "sftp", "-q", "-P", fmt.Sprint(s.Port), "-i", s.Key, "-o", "StrictHostKeyChecking=no", "-o",
		"UserKnownHostsFile=/dev/null", "-b", batch, s.User+"@127.0.0.1")
	is, err := os.ReadFile(got)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(data, is))
	info, err := os.Stat(found[0])
	require.NoError(t, err)
	assert.True(t, info.ModTime().Equal(when), "it has its own date")
}

func TestFacts(t *testing.T) {
	s := judge.SSH(t, t.TempDir())
	s.Home(t)
	p := open(t, s, accepted(t, address(s, s.Dir)))
	defer p.Close()
	f, err := p.Facts(ctx, nil)
	require.NoError(t, err)
	var size, avail int64
	_, err = fmt.Sscan(strings.SplitN(judge.Run(t, "df", "-B1", "--output=size,avail", s.Dir), "\n", 2)[1], &size, &avail)
	require.NoError(t, err)
	assert.InDelta(t, size, f.Capacity, float64(size)/50)
	assert.InDelta(t, avail, f.Free, float64(size)/50)
	assert.True(t, f.Filesystem.CaseSensitive)
	assert.False(t, f.Declared)
	assert.Equal(t, "sftp", f.Network)

	ext4, err := target.FilesystemNamed("fat32")
	require.NoError(t, err)
	o := accepted(t, address(s, s.Dir))
	o.Filesystem, o.Capacity, o.Cluster = &ext4, 8<<30, 32<<10
	q := open(t, s, o)
	defer q.Close()
	f, err = q.Facts(ctx, nil)
	require.NoError(t, err)
	assert.Equal(t, "fat32", f.Filesystem.Name)
	assert.EqualValues(t, 8<<30, f.Capacity)
	assert.EqualValues(t, 32<<10, f.Cluster)
	assert.True(t, f.Declared)
}

func TestWhatAServerCanIsFoundOut(t *testing.T) {
	s := judge.SSH(t, t.TempDir())
	s.Home(t)
	p := open(t, s, accepted(t, address(s, s.Dir)))
	defer p.Close()
	r, err := p.Try(ctx)
	require.NoError(t, err)
	assert.Equal(t, s.User, r.Login)
	assert.True(t, r.Secure)
	assert.True(t, r.Renames)
	assert.True(t, r.Resumes)
	assert.True(t, r.Flushes)
	assert.Positive(t, r.Up)
	assert.Positive(t, r.Down)
	assert.Empty(t, r.Wrong)
	left, err := p.List(ctx, nil)
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is left of the test")
}

func TestHostKeys(t *testing.T) {
	s := judge.SSH(t, t.TempDir())
	s.Home(t)
	at := address(s, s.Dir)
	o := remote.Settings{Timeout: 10 * time.Second, HostKeys: filepath.Join(t.TempDir(), "host-keys")}
	_, err := sftp.Open(ctx, at, o)
	var key *remote.HostKeyError
	require.ErrorAs(t, err, &key)
	assert.False(t, key.Changed)
	assert.Equal(t, s.Host, key.Fingerprint, "as OpenSSH writes it")
	assert.ErrorContains(t, err, "polytome connections trust sftp://")
	assert.ErrorIs(t, err, target.ErrReadOnly, "trying again does not help")
	require.NoError(t, key.Accept())
	p, err := sftp.Open(ctx, at, o)
	require.NoError(t, err)
	require.NoError(t, p.Close())

	// Another machine answers at the address.
	other := judge.SSH(t, t.TempDir())
	text, err := os.ReadFile(o.HostKeys)
	require.NoError(t, err)
	moved := strings.ReplaceAll(string(text), fmt.Sprintf(":%d", s.Port), fmt.Sprintf(":%d", other.Port))
	require.NoError(t, os.WriteFile(o.HostKeys, []byte("# what was accepted\n"+moved), 0o600))
	_, err = sftp.Open(ctx, address(other, other.Dir), o)
	require.ErrorAs(t, err, &key)
	assert.True(t, key.Changed)
	assert.ErrorContains(t, err, "shows another host key than the accepted one")
	assert.ErrorContains(t, err, "remove line 2 of "+o.HostKeys)
	assert.Error(t, key.Accept(), "it does not replace the accepted one")

	// A key of another kind was accepted by ssh itself: it is the one that is asked for.
	two := judge.SSH(t, t.TempDir())
	judge.Run(t, "ssh-keygen", "-q", "-t", "ecdsa", "-N", "", "-f", filepath.Join(filepath.Dir(two.Key), "second"))
	more := judge.SSH(t, two.Dir, "HostKey "+filepath.Join(filepath.Dir(two.Key), "second"))
	scan := judge.Run(t, "ssh-keyscan", "-t", "ed25519", "-p", fmt.Sprint(more.Port), "127.0.0.1")
	require.NoError(t, os.WriteFile(o.HostKeys, []byte(scan), 0o600))
	more.Home(t)
	p, err = sftp.Open(ctx, address(more, more.Dir), o)
	require.NoError(t, err)
	require.NoError(t, p.Close())

	// Without a file of one's own, ssh's list counts too, and is not written to.
	dir := filepath.Join(os.Getenv("HOME"), ".ssh")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "known_hosts"), []byte(scan), 0o600))
	p, err = sftp.Open(ctx, address(more, more.Dir), remote.Settings{Timeout: 10 * time.Second})
	require.NoError(t, err)
	require.NoError(t, p.Close())

	// Lines of it that other programs understand keep nobody out.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "known_hosts"), []byte("box\nbox ssh-odd key\n"+scan), 0o600))
	p, err = sftp.Open(ctx, address(more, more.Dir), remote.Settings{Timeout: 10 * time.Second})
	require.NoError(t, err)
	require.NoError(t, p.Close())

	require.NoError(t, os.WriteFile(o.HostKeys, []byte("box ssh-ed25519 nonsense\n"), 0o600))
	_, err = sftp.Open(ctx, at, o)
	assert.ErrorContains(t, err, "reading the accepted host keys")
}

func TestKeysOfAnAgent(t *testing.T) {
	s := judge.SSH(t, t.TempDir())
	socket := filepath.Join(t.TempDir(), "agent")
	agent := exec.Command("ssh-agent", "-D", "-a", socket)
	require.NoError(t, agent.Start())
	t.Cleanup(func() { _ = agent.Process.Kill(); _ = agent.Wait() })
	require.Eventually(t, func() bool { _, err := os.Stat(socket); return err == nil }, time.Minute,
		10*time.Millisecond)
	t.Setenv("HOME", t.TempDir())
	t.Setenv("SSH_AUTH_SOCK", socket)
	o := accepted(t, address(s, s.Dir))
	_, err := sftp.Open(ctx, address(s, s.Dir), o)
	assert.ErrorContains(t, err, "with a key only, and takes none of yours")
	assert.ErrorIs(t, err, target.ErrReadOnly)
	judge.Run(t, "ssh-add", "-q", s.Key)
	p, err := sftp.Open(ctx, address(s, s.Dir), o)
	require.NoError(t, err)
	require.NoError(t, p.Close())

	// A key with a passphrase is named: an agent can have it.
	t.Setenv("SSH_AUTH_SOCK", "")
	s.Home(t)
	file := filepath.Join(os.Getenv("HOME"), ".ssh", "id_ed25519")
	judge.Run(t, "ssh-keygen", "-q", "-p", "-P", "", "-N", "harbour", "-f", file)
	_, err = sftp.Open(ctx, address(s, s.Dir), o)
	assert.ErrorContains(t, err, "the key "+file+" has a passphrase: hand it to your agent with ssh-add")
}

func TestWhatIsWrongIsSaidInWords(t *testing.T) {
	s := judge.SSH(t, t.TempDir())
	s.Home(t)
	o := accepted(t, address(s, s.Dir))
	nobody := address(s, s.Dir)
	nobody.User = ""
	talker := judge.Listen(t, func(c net.Conn) { _, _ = c.Write([]byte("220 Gantry is here\r\n")); _ = c.Close() })
	file := filepath.Join(s.Dir, "a.iso")
	require.NoError(t, os.WriteFile(file, nil, 0o644))
	for name, c := range map[string]struct {
		a    remote.Address
		is   error
		says string
	}{
		"no user":        {nobody, target.ErrReadOnly, "needs a user name and password"},
		"no such folder": {address(s, s.Dir+"/attic"), nil, "opening the folder " + s.Dir + "/attic of 127.0.0.1"},
		"a file":         {address(s, file), nil, "it is a file"},
		"nobody listens": {remote.Address{Host: "127.0.0.1", Port: judge.Port(t), User: "odile"}, target.ErrGone,
			"no SSH server answers on port"},
		"another server": {remote.Address{Host: "127.0.0.1", Port: talker, User: "odile"}, target.ErrGone,
			"is not a usable SSH server"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := sftp.Open(ctx, c.a, o)
			require.ErrorContains(t, err, c.says)
			if c.is != nil {
				assert.ErrorIs(t, err, c.is)
			}
		})
	}
	p := open(t, s, o)
	defer p.Close()
	_, err := p.Stat(ctx, "none.iso")
	assert.ErrorIs(t, err, os.ErrNotExist)
	assert.ErrorContains(t, err, "none.iso on 127.0.0.1")
	if os.Getuid() == 0 {
		locked := filepath.Join(s.Dir, "locked")
		require.NoError(t, os.Mkdir(locked, 0o755))
		q, err := sftp.Open(ctx, address(s, locked), o)
		require.NoError(t, err)
		defer q.Close()
		_, err = q.Create(ctx, "a.iso", 1)
		assert.ErrorIs(t, err, target.ErrReadOnly)
		assert.ErrorContains(t, err, "this user has no permission")
	}
}

func TestAServerThatGoesAway(t *testing.T) {
	s := judge.SSH(t, t.TempDir())
	s.Home(t)
	o := accepted(t, address(s, s.Dir))
	p := open(t, s, o)
	w, err := p.Create(ctx, "a.iso", 64<<20)
	require.NoError(t, err)
	block := make([]byte, 1<<20)
	for i := range 40 {
		if i == 10 {
			s.Kill()
		}
		if _, err = w.Write(block); err != nil {
			break
		}
	}
	if err == nil {
		err = w.Flush()
	}
	assert.ErrorIs(t, err, target.ErrGone)
	assert.ErrorIs(t, w.Abort(), target.ErrGone)
	_, err = p.List(ctx, nil)
	assert.ErrorIs(t, err, target.ErrGone)
	assert.NoError(t, p.Close())
	s.Restart()
	q, err := sftp.Open(ctx, address(s, s.Dir), o)
	require.NoError(t, err)
	assert.NoError(t, q.Close())
}

func TestEndingTheContextEndsEverything(t *testing.T) {
	quiet := make(chan struct{})
	t.Cleanup(func() { close(quiet) })
	port := judge.Listen(t, func(c net.Conn) { defer c.Close(); <-quiet })
	t.Run("at a server that says nothing", func(t *testing.T) {
		ctx, cancel := context.WithCancel(ctx)
		time.AfterFunc(200*time.Millisecond, cancel)
		_, err := sftp.Open(ctx, remote.Address{Host: "127.0.0.1", Port: port, User: "odile"},
			remote.Settings{Timeout: 10 * time.Minute, HostKeys: filepath.Join(t.TempDir(), "keys")})
		assert.ErrorIs(t, err, context.Canceled)
	})
	t.Run("at one that is too slow", func(t *testing.T) {
		_, err := sftp.Open(ctx, remote.Address{Host: "127.0.0.1", Port: port, User: "odile"},
			remote.Settings{Timeout: 300 * time.Millisecond, HostKeys: filepath.Join(t.TempDir(), "keys")})
		assert.ErrorIs(t, err, target.ErrGone)
		assert.ErrorContains(t, err, "accepts the connection on port")
	})
	t.Run("in a file", func(t *testing.T) {
		s := judge.SSH(t, t.TempDir())
		s.Home(t)
		at := address(s, s.Dir)
		o := accepted(t, at)
		at.Port = judge.Far(t, s.Port, 20*time.Millisecond, 200_000)
		text, err := os.ReadFile(o.HostKeys)
		require.NoError(t, err)
		moved := strings.ReplaceAll(string(text), fmt.Sprintf(":%d", s.Port), fmt.Sprintf(":%d", at.Port))
		require.NoError(t, os.WriteFile(o.HostKeys, []byte(moved), 0o600))
		ctx, cancel := context.WithCancel(ctx)
		p, err := sftp.Open(ctx, at, o)
		require.NoError(t, err)
		defer p.Close()
		w, err := p.Create(ctx, "a.iso", 64<<20)
		require.NoError(t, err)
		ended := make(chan error, 1)
		go func() {
			var err error
			for err == nil {
				_, err = w.Write(make([]byte, 1<<20))
			}
			ended <- err
		}()
		time.AfterFunc(300*time.Millisecond, cancel)
		select {
		case err := <-ended:
			assert.True(t, errors.Is(err, context.Canceled) || errors.Is(err, target.ErrGone), "%v", err)
		case <-time.After(time.Minute):
			t.Fatal("it goes on")
		}
	})
}
