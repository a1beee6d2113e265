package ftp_test

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"

	"polytome/internal/sim/ftpd"
	"polytome/internal/target"
	"polytome/internal/target/ftp"
	"polytome/internal/target/remote"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/targettest"
)

// certificate is one that a console has made for itself.
func certificate(t *testing.T) *tls.Config {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	like := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: "meridian"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, like, like, &key.PublicKey, key)
	require.NoError(t, err)
	return &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}},
		MinVersion: tls.VersionTLS12}
}

func TestOverTLS(t *testing.T) {
	secure := certificate(t)
	targettest.Run(t, func(t *testing.T) target.Target {
		s := serve(t, t.TempDir(), ftpd.Habits{Secure: secure, Restart: true, Sizes: true, Machine: true})
		p, err := ftp.Open(ctx, remote.Address{Scheme: "ftps", Host: "127.0.0.1", Port: s.Port()},
			remote.Settings{Filesystem: disk(t), Unchecked: true})
		require.NoError(t, err)
		return p
	})
	s := serve(t, t.TempDir(), ftpd.Habits{Secure: secure})
	_, err := ftp.Open(ctx, remote.Address{Scheme: "ftps", Host: "127.0.0.1", Port: s.Port()},
		remote.Settings{Filesystem: disk(t)})
	assert.ErrorContains(t, err, "is not trusted")
	plain := serve(t, t.TempDir(), ftpd.Habits{})
	_, err = ftp.Open(ctx, remote.Address{Scheme: "ftps", Host: "127.0.0.1", Port: plain.Port()},
		remote.Settings{Filesystem: disk(t)})
	assert.ErrorContains(t, err, "has no TLS")
}

// TestOverTLSWithAForeignServer has vsftpd want TLS for both connections, with one session.
func TestOverTLSWithAForeignServer(t *testing.T) {
	pem := filepath.Join(t.TempDir(), "server.pem")
	judge.Run(t, "openssl", "req", "-x509", "-nodes", "-newkey", "rsa:2048", "-days", "2", "-subj", "/CN=127.0.0.1",
		"-keyout", pem, "-out", pem+".crt")
	for _, f := range []string{pem, pem + ".crt"} {
		require.NoError(t, os.Chmod(f, 0o644))
		require.NoError(t, os.Chown(f, 65534, 65534))
	}
	require.NoError(t, os.Chmod(filepath.Dir(pem), 0o755))
	require.NoError(t, os.Chmod(filepath.Dir(filepath.Dir(pem)), 0o755))
	dir := t.TempDir()
	port, root := judge.FTP(t, dir, "ssl_enable=YES", "allow_anon_ssl=YES", "force_anon_data_ssl=YES",
		"force_anon_logins_ssl=YES", "rsa_cert_file="+pem+".crt", "rsa_private_key_file="+pem, "require_ssl_reuse=YES",
		"ssl_ciphers=HIGH")
	p, err := ftp.Open(ctx, remote.Address{Scheme: "ftps", Host: "127.0.0.1", Port: port, Root: root},
		remote.Settings{Filesystem: disk(t), Unchecked: true})
	require.NoError(t, err)
	defer p.Close()
	data := bytes.Repeat([]byte("copper tide "), 300_000)
	require.NoError(t, put(p, "a.iso", data))
	got, err := os.ReadFile(filepath.Join(dir, "a.iso"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(data, got))
}

func TestNamesAreSpeltAsTheConsoleDoes(t *testing.T) {
	dir := t.TempDir()
	s := serve(t, dir, ftpd.Habits{Names: charmap.Windows1252, Sizes: true})
	p := open2(t, s, remote.Settings{Encoding: "windows-1252"})
	defer p.Close()
	require.NoError(t, p.MakeFolder(ctx, "Été"))
	require.NoError(t, put(p, "Été/Grebe Lake – Été.iso", []byte("x")))
	assert.FileExists(t, filepath.Join(dir, "Été", "Grebe Lake – Été.iso"))
	q := open2(t, s, remote.Settings{Encoding: "windows-1252"})
	defer q.Close()
	entries, err := q.List(ctx, nil)
	require.NoError(t, err)
	require.Len(t, entries, 2)
	assert.Equal(t, "Été/Grebe Lake – Été.iso", entries[1].Path)
	assert.ErrorContains(t, put(p, "夕凪.iso", nil), "the console's encoding windows-1252 lacks a character")
	_, err = ftp.Open(ctx, remote.Address{Host: "127.0.0.1", Port: s.Port()}, remote.Settings{Filesystem: disk(t),
		Encoding: "klingon"})
	assert.ErrorContains(t, err, `unknown encoding "klingon"`)
}

// TestAServerThatGivesNoNames writes under the final names there, and never shows what is half.
func TestAServerThatGivesNoNames(t *testing.T) {
	t.Run("as it does not know how", func(t *testing.T) { givesNoNames(t, ftpd.Habits{NoRename: true, Sizes: true}) })
	t.Run("as it is not allowed", func(t *testing.T) { givesNoNames(t, ftpd.Habits{RefusesRename: true, Sizes: true}) })
}

func givesNoNames(t *testing.T, habits ftpd.Habits) {
	dir := t.TempDir()
	s := serve(t, dir, habits)
	p := open2(t, s, remote.Settings{})
	defer p.Close()
	data := bytes.Repeat([]byte("tin harbour "), 100_000)
	require.NoError(t, put(p, "a.iso", data), "it is found out before anything large is sent")
	got, err := os.ReadFile(filepath.Join(dir, "a.iso"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(data, got))
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 1, "nothing is left of the marks")

	w, err := p.Create(ctx, "b.iso", 5<<20)
	require.NoError(t, err)
	_, err = w.Write(make([]byte, 2<<20))
	require.NoError(t, err)
	time.Sleep(50 * time.Millisecond) // and now the process is gone
	assert.FileExists(t, filepath.Join(dir, "b.iso"))
	q := open2(t, s, remote.Settings{})
	defer q.Close()
	entries, err := q.List(ctx, nil)
	require.NoError(t, err)
	assert.Len(t, entries, 1, "what is half is not there")
	_ = w.Abort()
	require.NoError(t, put(q, "b.iso", []byte("whole")))
	_, err = q.Replace(ctx, "b.iso", 3)
	assert.ErrorContains(t, err, "cannot be replaced safely")
	entries, err = q.List(ctx, nil)
	require.NoError(t, err)
	assert.Len(t, entries, 2)
}

// TestCommandsAreGivenInOneGoWhereTheServerTakesThat gives files their names and dates so; a server that loses what
// comes before its answer is found out once, and nothing is lost over it.
func TestCommandsAreGivenInOneGoWhereTheServerTakesThat(t *testing.T) {
	for name, forgets := range map[string]bool{"takes them": false, "loses the second": true} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			s := serve(t, dir, ftpd.Habits{Forgets: forgets, Sizes: true})
			p := open2(t, s, remote.Settings{Timeout: time.Second})
			defer p.Close()
			for i := range 5 {
				require.NoError(t, put(p, fmt.Sprintf("%d.iso", i), []byte("tin harbour")))
			}
			all, err := os.ReadDir(dir)
			require.NoError(t, err)
			require.Len(t, all, 5)
			counted := s.Counted()
			assert.Equal(t, 5, counted["RNTO"]-1, "the first is the trial")
			if forgets {
				assert.Equal(t, 1, counted[ftpd.Early], "it is tried once")
			} else {
				assert.Equal(t, 6, counted[ftpd.Early])
			}
		})
	}
}

func TestAServerThatAllowsFewConnections(t *testing.T) {
	s := serve(t, t.TempDir(), ftpd.Habits{Clients: 1, Sizes: true})
	p := open2(t, s, remote.Settings{Timeout: 2 * time.Second})
	defer p.Close()
	require.NoError(t, p.MakeFolder(ctx, "a"))
	require.NoError(t, put(p, "a/large.iso", make([]byte, 3<<20)))
	require.NoError(t, put(p, "a/small.iso", make([]byte, 1000)))
	c, err := p.Open(ctx, "a/large.iso")
	require.NoError(t, err)
	_, err = c.ReadAt(make([]byte, 1000), 0)
	require.NoError(t, err)
	_, err = p.List(ctx, nil) // the transfer frees space, and goes on afterwards
	require.NoError(t, err)
	_, err = c.ReadAt(make([]byte, 1000), 2<<20)
	require.NoError(t, err)
	require.NoError(t, c.Close())
	assert.Equal(t, 1, p.AtOnce())
}

func TestSpaceIsAskedForBeforehand(t *testing.T) {
	s := serve(t, t.TempDir(), ftpd.Habits{Capacity: 20 << 20, ReportsSpace: true, Allocates: true})
	p := open2(t, s, remote.Settings{})
	defer p.Close()
	f, err := p.Facts(ctx, nil)
	require.NoError(t, err)
	assert.False(t, f.Declared)
	assert.EqualValues(t, 20<<20, f.Free)
	w, err := p.Create(ctx, "large.iso", 30<<20)
	require.NoError(t, err)
	_, err = w.Write(make([]byte, 1<<20))
	assert.ErrorIs(t, err, target.ErrNoSpace, "before anything of it was sent")
	require.NoError(t, w.Abort())
	require.NoError(t, put(p, "a.iso", make([]byte, 4<<20)))
	f, err = p.Facts(ctx, nil)
	require.NoError(t, err)
	assert.EqualValues(t, 16<<20, f.Free)
}

func TestBlockedDataConnectionsAreSaidSo(t *testing.T) {
	s := serve(t, t.TempDir(), ftpd.Habits{Blocked: true})
	p := open2(t, s, remote.Settings{Timeout: 2 * time.Second})
	defer p.Close()
	_, err := p.List(ctx, nil)
	assert.ErrorIs(t, err, target.ErrGone)
	assert.ErrorContains(t, err, "commands get through, but the data connection to")
}

// TestTLSThatIsWanted is reported as what it is: a server that lets no one in without, and one that wants the session
// of the first connection taken up for data.
func TestTLSThatIsWanted(t *testing.T) {
	secure := certificate(t)
	s := serve(t, t.TempDir(), ftpd.Habits{Secure: secure, OnlySecure: true, User: "gantry", Password: "ferryline"})
	_, err := ftp.Open(ctx, remote.Address{Host: "127.0.0.1", Port: s.Port()}, remote.Settings{Filesystem: disk(t),
		User: "gantry", Password: "ferryline"})
	require.ErrorContains(t, err, "requires TLS: write ftps:// instead of ftp://")
	var login *remote.LoginError
	assert.False(t, errors.As(err, &login), "no password is asked for")

	for version, older := range map[uint16]bool{tls.VersionTLS12: true, tls.VersionTLS13: false} {
		c := secure.Clone()
		c.MaxVersion = version
		s := serve(t, t.TempDir(), ftpd.Habits{Secure: c, WantsSession: true, Sizes: true})
		at := remote.Address{Scheme: "ftps", Host: "127.0.0.1", Port: s.Port()}
		p, err := ftp.Open(ctx, at, remote.Settings{Filesystem: disk(t), Unchecked: true})
		require.NoError(t, err)
		for i := range 3 {
			require.NoError(t, put(p, fmt.Sprintf("%d.iso", i), []byte("x")), "TLS 1.2: %v", older)
		}
		require.NoError(t, p.Close())
	}
	none := secure.Clone()
	none.MaxVersion, none.SessionTicketsDisabled = tls.VersionTLS12, true
	s = serve(t, t.TempDir(), ftpd.Habits{Secure: none, WantsSession: true, Sizes: true})
	p, err := ftp.Open(ctx, remote.Address{Scheme: "ftps", Host: "127.0.0.1", Port: s.Port()},
		remote.Settings{Filesystem: disk(t), Unchecked: true})
	if err == nil {
		_, err = p.List(ctx, nil)
		_ = p.Close()
	}
	require.ErrorContains(t, err, "the server requires TLS session reuse but gives no session ticket")
	assert.NotErrorIs(t, err, target.ErrBusy, "trying again does not help")
}
