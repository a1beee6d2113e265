package ftp_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/sim/ftpd"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/ftp"
	"polytome/internal/target/remote"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/targettest"
)

var ctx = context.Background()

func disk(t testing.TB) *target.Filesystem {
	f, err := target.FilesystemNamed("ext4")
	require.NoError(t, err)
	return &f
}

// open opens a folder of a server; it never goes above it.
func open(t testing.TB, port int, root string, o remote.Settings) *ftp.Target {
	require.NotEmpty(t, root)
	if o.Filesystem == nil {
		o.Filesystem = disk(t)
	}
	p, err := ftp.Open(ctx, remote.Address{Host: "127.0.0.1", Port: port, Root: root}, o)
	require.NoError(t, err)
	return p
}

func TestConformance(t *testing.T) {
	for name, o := range map[string]remote.Settings{"vsftpd": {}, "with a space": {Capacity: 64 * size.MiB}} {
		t.Run(name, func(t *testing.T) {
			targettest.Run(t, func(t *testing.T) target.Target {
				port, root := judge.FTP(t, t.TempDir())
				return open(t, port, root, o)
			})
		})
	}
}

// TestConformanceWithOtherServers is the same over servers that others use, with and without TLS, over few connections,
// and far away: everything takes 30 ms, and 1 MB pass in a second.
func TestConformanceWithOtherServers(t *testing.T) {
	certificate := judge.Certificate(t)
	for name, c := range map[string]struct {
		scheme string
		serve  func(t *testing.T, dir string) (port int)
	}{
		"pyftpdlib": {"ftp",
			func(t *testing.T, dir string) int { return judge.PyFTP(t, dir, "", false) }},
		"pyftpdlib, TLS 1.2": {"ftps",
			func(t *testing.T, dir string) int { return judge.PyFTP(t, dir, certificate, true) }},
		"pyftpdlib, TLS 1.3": {"ftps",
			func(t *testing.T, dir string) int { return judge.PyFTP(t, dir, certificate, false) }},
		"proftpd": {"ftp", func(t *testing.T, dir string) int { return judge.ProFTP(t, dir, "") }},
		"proftpd, one connection": {"ftp",
			func(t *testing.T, dir string) int { return judge.ProFTP(t, dir, "", "MaxClientsPerHost 1") }},
		"proftpd, no resuming": {"ftp",
			func(t *testing.T, dir string) int { return judge.ProFTP(t, dir, "", "AllowStoreRestart off") }},
		"proftpd, TLS 1.2": {"ftps", func(t *testing.T, dir string) int {
			return judge.ProFTP(t, dir, certificate, "TLSProtocol TLSv1.2", "TLSSessionTickets on")
		}},
		"proftpd, TLS 1.3": {"ftps", func(t *testing.T,
			dir string) int {
			return judge.ProFTP(t, dir, certificate, "TLSProtocol TLSv1.3")
		}},
		"pure-ftpd":      {"ftp", func(t *testing.T, dir string) int { return judge.PureFTP(t, dir, "") }},
		"pure-ftpd, TLS": {"ftps", func(t *testing.T, dir string) int { return judge.PureFTP(t, dir, certificate) }},
		"proftpd, far away": {"ftp", func(t *testing.T, dir string) int {
			return judge.NewLine(t, 30*time.Millisecond, 1e6).ToFTP(judge.ProFTP(t, dir, ""))
		}},
	} {
		t.Run(name, func(t *testing.T) {
			targettest.Run(t, func(t *testing.T) target.Target {
				ftp.Forget()
				p, err := ftp.Open(ctx, remote.Address{Scheme: c.scheme, Host: "127.0.0.1",
					Port: c.serve(t, t.TempDir())},
					remote.Settings{Filesystem: disk(t), User: "games", Password: "games", Unchecked: true})
				require.NoError(t, err)
				return p
			})
		})
	}
}

// TestSessionsThatCannotBeTakenUp: a server of TLS 1.2 that wants data over the session of the first connection, and
// gives no ticket for it, is reported as that before anything is written.
func TestSessionsThatCannotBeTakenUp(t *testing.T) {
	ftp.Forget()
	port := judge.ProFTP(t, t.TempDir(), judge.Certificate(t), "TLSProtocol TLSv1.2")
	p, err := ftp.Open(ctx, remote.Address{Scheme: "ftps", Host: "127.0.0.1", Port: port},
		remote.Settings{Filesystem: disk(t),
			User: "games", Password: "games", Unchecked: true})
	require.NoError(t, err)
	defer p.Close()
	_, err = p.List(ctx, nil)
	require.ErrorIs(t, err, target.ErrReadOnly)
	require.ErrorContains(t, err, "allow TLS 1.3 or session tickets there")
}

// consoles are servers with habits of theirs.
var consoles = map[string]ftpd.Habits{
	"an old one": {User: "gantry", Password: "ferryline", OneTransfer: true, Idle: time.Minute,
		SlowClose: time.Millisecond},
	"a new one": {Machine: true, Restart: true, Append: true, Sizes: true, Extended: true, Year: true,
		ReportsSpace: true, Allocates: true},
	"appends":    {Append: true, Sizes: true, Year: true},
	"one at all": {Restart: true, Sizes: true, Clients: 2},
	"like DOS":   {DOS: true, Sizes: true, Lying: true},
	"with years": {Year: true, Restart: true},
}

func serve(t testing.TB, dir string, h ftpd.Habits) *ftpd.Server {
	ftp.Forget() // a port may be one that another console had
	s, err := ftpd.Serve(dir, 0, h)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func TestConsoles(t *testing.T) {
	for name, h := range consoles {
		t.Run(name, func(t *testing.T) {
			targettest.Run(t, func(t *testing.T) target.Target {
				s := serve(t, t.TempDir(), h)
				p, err := ftp.Open(ctx, remote.Address{Host: "127.0.0.1", Port: s.Port()},
					remote.Settings{Filesystem: disk(t),
						User: h.User, Password: h.Password, Idle: h.Idle})
				require.NoError(t, err)
				return p
			})
		})
	}
}

// put writes a file whole.
func put(p target.Target, name string, data []byte) error {
	w, err := p.Create(ctx, name, int64(len(data)))
	if err != nil {
		return err
	}
	_, err = w.Write(data)
	if err == nil {
		err = w.Flush()
	}
	if err == nil {
		err = w.Commit()
	}
	if err != nil {
		return errors.Join(err, w.Abort())
	}
	return nil
}

func TestAServerThatHangsUpIsDialledAgain(t *testing.T) {
	dir := t.TempDir()
	s := serve(t, dir, ftpd.Habits{Idle: 200 * time.Millisecond})
	p, err := ftp.Open(ctx, remote.Address{Host: "127.0.0.1", Port: s.Port()}, remote.Settings{Filesystem: disk(t),
		Idle: 200 * time.Millisecond})
	require.NoError(t, err)
	defer p.Close()
	for i := range 3 {
		time.Sleep(300 * time.Millisecond)
		require.NoError(t, p.MakeFolder(ctx, fmt.Sprintf("a%d", i)))
	}
	q := open2(t, s, remote.Settings{}) // one that does not know of it
	defer q.Close()
	time.Sleep(300 * time.Millisecond)
	_, err = q.List(ctx, nil)
	require.NoError(t, err)
}

func open2(t testing.TB, s *ftpd.Server, o remote.Settings) *ftp.Target {
	o.Filesystem = disk(t)
	p, err := ftp.Open(ctx, remote.Address{Host: "127.0.0.1", Port: s.Port()}, o)
	require.NoError(t, err)
	return p
}

// TestFaults has connections cut at random points: nothing is left under a final name that is not whole, and a second
// try completes.
func TestFaults(t *testing.T) {
	data := make([]byte, 2<<20)
	rand.New(rand.NewSource(3)).Read(data)
	r := rand.New(rand.NewSource(4))
	for i := range 25 {
		dir := t.TempDir()
		s := serve(t, dir, ftpd.Habits{Restart: i%2 == 0})
		p := open2(t, s, remote.Settings{Timeout: 2 * time.Second})
		switch i % 5 {
		case 4:
			s.Faults.DropRename.Store(true)
		case 3:
			s.Faults.RefuseEvery.Store(int64(3 + r.Intn(5)))
		default:
			s.Faults.DropAfter.Store(1 + int64(r.Intn(len(data))))
		}
		err := put(p, "game.iso", data)
		if b, readErr := os.ReadFile(filepath.Join(dir, "game.iso")); readErr == nil {
			assert.True(t, bytes.Equal(data, b), "what has its name is whole")
		} else {
			assert.Error(t, err)
		}
		s.Faults.RefuseEvery.Store(0)
		if err != nil {
			_ = p.Close()
			p = open2(t, s, remote.Settings{Timeout: 2 * time.Second})
			if _, statErr := p.Stat(ctx, "game.iso"); statErr != nil {
				require.NoError(t, put(p, "game.iso", data), "the second try completes, after %v", err)
			}
		}
		b, err := os.ReadFile(filepath.Join(dir, "game.iso"))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(data, b))
		entries, err := p.List(ctx, nil)
		require.NoError(t, err)
		assert.Len(t, entries, 1, "nothing half is left")
		require.NoError(t, p.Close())
	}
}

func TestAFullConsole(t *testing.T) {
	s := serve(t, t.TempDir(), ftpd.Habits{Capacity: 1 << 20})
	p := open2(t, s, remote.Settings{Capacity: 1 << 20})
	defer p.Close()
	err := put(p, "large.iso", make([]byte, 3<<20))
	assert.ErrorIs(t, err, target.ErrNoSpace)
	assert.ErrorContains(t, err, "552 the volume is full")
	require.NoError(t, put(p, "small.iso", make([]byte, 1000)))
	entries, err := p.List(ctx, nil)
	require.NoError(t, err)
	assert.Len(t, entries, 1)
}

func TestAServerThatStalls(t *testing.T) {
	s := serve(t, t.TempDir(), ftpd.Habits{})
	p := open2(t, s, remote.Settings{Timeout: 500 * time.Millisecond})
	defer p.Close()
	require.NoError(t, put(p, "a", []byte("a")))
	s.Faults.Stall.Store(true)
	err := put(p, "b.iso", make([]byte, 5<<20))
	assert.ErrorIs(t, err, target.ErrGone)
	s.Faults.Stall.Store(false)
	require.NoError(t, put(p, "c", []byte("c")), "and goes on when it is over")
}

func TestASpoiltByteIsSeenOnReadingBack(t *testing.T) {
	s := serve(t, t.TempDir(), ftpd.Habits{Restart: true})
	p := open2(t, s, remote.Settings{})
	defer p.Close()
	data := bytes.Repeat([]byte("copper tide "), 100_000)
	w, err := p.Create(ctx, "x", int64(len(data)))
	require.NoError(t, err)
	_, err = w.Write(data)
	require.NoError(t, err)
	require.NoError(t, w.Flush())
	s.Faults.Corrupt.Store(true)
	back, err := w.ReadBack()
	require.NoError(t, err)
	b := make([]byte, len(data))
	_, err = back.ReadAt(b, 0)
	require.NoError(t, err)
	assert.False(t, bytes.Equal(data, b))
	require.NoError(t, w.Abort())
}

func TestBytesArrive(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "hd1", "Games"), 0o777))
	port, root := judge.FTP(t, dir)
	p := open(t, port, root+"/hd1", remote.Settings{})
	defer p.Close()
	data := make([]byte, 9<<20)
	rand.New(rand.NewSource(1)).Read(data)
	w, err := p.Create(ctx, "Games/main.run", int64(len(data)))
	require.NoError(t, err)
	for at := 0; at < len(data); at += 300_000 {
		_, err := w.Write(data[at:min(at+300_000, len(data))])
		require.NoError(t, err)
	}
	entries, err := p.List(ctx, nil)
	require.NoError(t, err, "others can be looked at while one is sent")
	assert.NotEmpty(t, entries)
	require.NoError(t, w.Flush())
	back, err := w.ReadBack()
	require.NoError(t, err)
	for _, at := range []int{0, 5 << 20, 100, 8<<20 + 5} { // forwards and backwards
		b := make([]byte, 1000)
		_, err := back.ReadAt(b, int64(at))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(data[at:at+1000], b), at)
	}
	require.NoError(t, back.Close())
	require.NoError(t, w.Commit())
	got, err := os.ReadFile(filepath.Join(dir, "hd1", "Games", "main.run"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(data, got))
	f, err := p.Facts(ctx, nil)
	require.NoError(t, err)
	assert.True(t, f.Declared)
}

func TestWhatIsWrongIsSaidInWords(t *testing.T) {
	o := remote.Settings{Filesystem: disk(t), Timeout: 15 * time.Second}
	port := judge.Port(t)
	_, err := ftp.Open(ctx, remote.Address{Host: "127.0.0.1", Port: port}, o)
	assert.ErrorIs(t, err, target.ErrGone)
	assert.ErrorContains(t, err, fmt.Sprintf("no FTP server answers on port %d", port))
	closed, _ := judge.FTP(t, t.TempDir(), "anonymous_enable=NO", "local_enable=YES")
	_, err = ftp.Open(ctx, remote.Address{Host: "127.0.0.1", Port: closed}, o)
	assert.ErrorContains(t, err, "needs a user name and password")
	o.User, o.Password = "nobody-here", "secret-word"
	_, err = ftp.Open(ctx, remote.Address{Host: "127.0.0.1", Port: closed}, o)
	assert.ErrorContains(t, err, "refuses nobody-here: the user name or the password is wrong")
	assert.NotContains(t, err.Error(), "secret-word")
}
