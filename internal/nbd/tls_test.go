package nbd_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/nbd"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/volumetest"
)

// certificates makes a folder with an authority's certificate, and those of a server on 127.0.0.1 and of a client.
func certificates(t *testing.T) string {
	dir := t.TempDir()
	write := func(name, kind string, b []byte) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: b}),
			0o600))
	}
	now := time.Now()
	authority := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "authority"},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(time.Hour), IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature}
	root, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	for i, name := range []string{"ca", "server", "client"} {
		key := root
		c := authority
		if i > 0 {
			key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
			require.NoError(t, err)
			c = &x509.Certificate{SerialNumber: big.NewInt(int64(i) + 1), Subject: pkix.Name{CommonName: name},
				NotBefore: authority.NotBefore, NotAfter: authority.NotAfter, KeyUsage: x509.KeyUsageDigitalSignature,
				IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
				ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
		}
		b, err := x509.CreateCertificate(rand.Reader, c, authority, &key.PublicKey, root)
		require.NoError(t, err)
		write(name+"-cert.pem", "CERTIFICATE", b)
		k, err := x509.MarshalPKCS8PrivateKey(key)
		require.NoError(t, err)
		write(name+"-key.pem", "PRIVATE KEY", k)
	}
	return dir
}

func TestOurClientWithTheirServerOverTLS(t *testing.T) {
	dir := certificates(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := l.Addr().String()
	_, port, _ := net.SplitHostPort(at)
	require.NoError(t, l.Close())
	cmd := exec.Command("nbdkit", "-f", "--ipaddr=127.0.0.1", "--port="+port, "--tls=require", "--tls-verify-peer",
		"--tls-certificates="+dir, "memory", "8M")
	cmd.Stderr = os.Stderr
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", at)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, time.Minute, 10*time.Millisecond)

	_, err = nbd.Open(t.Context(), "nbd://"+at, nbd.Options{})
	assert.ErrorIs(t, err, nbd.ErrWantsTLS)
	_, err = nbd.Open(t.Context(), "nbds://"+at, nbd.Options{})
	var unknown *tls.CertificateVerificationError
	assert.ErrorAs(t, err, &unknown, "nobody vouches for the server")
	c, err := nbd.Open(t.Context(), "nbds://"+at+"/?tls-certificates="+dir, nbd.Options{})
	require.NoError(t, err)
	exercise(t, c, make([]byte, 8<<20))
	require.NoError(t, c.Close())
	_, err = nbd.Open(t.Context(), "nbds://"+at+"/?tls-certificates="+t.TempDir(), nbd.Options{})
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestTheirClientsWithOurServerOverTLS(t *testing.T) {
	dir := certificates(t)
	own, err := tls.LoadX509KeyPair(filepath.Join(dir, "server-cert.pem"), filepath.Join(dir, "server-key.pem"))
	require.NoError(t, err)
	m := &volumetest.Disk{B: noise(1, 4<<20)}
	s := &nbd.Server{Exports: []*nbd.Export{{Name: "x", Size: int64(len(m.B)), Backend: m}},
		TLS: &tls.Config{Certificates: []tls.Certificate{own}, MinVersion: tls.VersionTLS12}}
	at := serve(t, s)
	uri := "nbds://" + at + "/x?tls-certificates=" + dir
	out := filepath.Join(t.TempDir(), "out.img")
	judge.Run(t, "nbdcopy", uri, out)
	b, err := os.ReadFile(out)
	require.NoError(t, err)
	assert.Equal(t, m.B, b)
	_, err = judge.Try(t, "nbdinfo", "nbd://"+at+"/x")
	assert.Error(t, err, "in plain it gives nothing away")
	c, err := nbd.Open(t.Context(), uri, nbd.Options{})
	require.NoError(t, err)
	exercise(t, c, m.B)
	require.NoError(t, c.Close())
	_, err = nbd.Open(t.Context(), "nbd://"+at+"/x", nbd.Options{})
	assert.ErrorIs(t, err, nbd.ErrWantsTLS)
	plain := serve(t, &nbd.Server{Exports: []*nbd.Export{{Name: "x", Size: int64(len(m.B)), Backend: m}}})
	_, err = nbd.Open(t.Context(), "nbds://"+plain+"/x?tls-certificates="+dir, nbd.Options{})
	assert.ErrorContains(t, err, "the NBD server has no TLS")
}

func TestAddresses(t *testing.T) {
	for text, want := range map[string]nbd.Address{
		"nbd://192.168.0.20/vesper-disk":  {Host: "192.168.0.20:10809", Export: "vesper-disk"},
		"NBD://console.lan:99/":           {Host: "console.lan:99"},
		"nbds://[fd00::7]/a/b":            {Host: "[fd00::7]:10809", Export: "a/b", TLS: true},
		"nbds://h/x?tls-certificates=/my": {Host: "h:10809", Export: "x", TLS: true, Certificates: "/my"},
	} {
		got, err := nbd.ParseAddress(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got)
	}
	for _, bad := range []string{"", "ftp://h/x", "nbd://", "nbd:///x", "nbd://h:port/x"} {
		_, err := nbd.ParseAddress(bad)
		assert.ErrorContains(t, err, "is not a usable address", bad)
	}
	a, err := nbd.ParseAddress("nbd://192.168.0.20/vesper-disk")
	require.NoError(t, err)
	assert.Equal(t, "vesper-disk on 192.168.0.20", a.Name())
	b, err := nbd.ParseAddress("nbd://192.168.0.20:10809/vesper-disk")
	require.NoError(t, err)
	assert.Equal(t, a.Key(), b.Key(), "however it is written")
}

// TestNobodyWaitsLong: when the work is given up, a server that does not answer is waited for less than a second; one
// that answers is let finish.
func TestNobodyWaitsLong(t *testing.T) {
	m := &volumetest.Disk{B: noise(3, 4<<20)}
	server := serve(t, &nbd.Server{Exports: []*nbd.Export{{Name: "x", Size: int64(len(m.B)), Backend: m},
		{Name: "y", Size: int64(len(m.B)), Backend: m, Clients: 1}}})
	c := dial(t, server, "x")
	c.Hurry()
	c.Hurry()
	_, err := c.ReadAt(make([]byte, 1<<20), 0)
	assert.NoError(t, err, "it answers in time")

	reading := make(chan struct{})
	through := judge.Listen(t, func(from net.Conn) {
		defer from.Close()
		to, err := net.Dial("tcp", server)
		if err != nil {
			return
		}
		defer to.Close()
		go func() { _, _ = io.Copy(to, from) }()
		_, _ = io.CopyN(from, to, 300_000)
		close(reading)
		_, _ = io.Copy(io.Discard, to)
	})
	ctx, cancel := context.WithCancel(t.Context())
	c, err = nbd.Open(ctx, fmt.Sprintf("nbd://127.0.0.1:%d/y", through), nbd.Options{Patience: time.Hour})
	require.NoError(t, err)
	defer c.Close() // which nobody answers
	stop := context.AfterFunc(ctx, c.Hurry)
	defer stop()
	ended := make(chan error)
	go func() {
		_, err := c.ReadAt(make([]byte, 1<<20), 0)
		ended <- err
	}()
	<-reading
	cancel()
	assert.ErrorIs(t, <-ended, nbd.ErrGone, "long before its patience is at an end")
}
