package nbd

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// An Address names an export, as the NBD project's "uri.md" has it: nbd://host:port/export, and nbds:// with TLS.
type Address struct {
	Host   string // with the port
	Export string
	TLS    bool
	// Certificates is a folder with the certificates for TLS: ca-cert.pem that the server's is signed with, and
	// client-cert.pem and client-key.pem where it wants one. "" trusts what the system does.
	Certificates string
}

// IsAddress reports whether a text is meant as the address of an export.
func IsAddress(s string) bool {
	scheme, _, ok := strings.Cut(strings.ToLower(s), "://")
	return ok && (scheme == "nbd" || scheme == "nbds")
}

// ParseAddress takes an address apart.
func ParseAddress(s string) (a Address, err error) {
	u, err := url.Parse(s)
	if err != nil || !IsAddress(s) || u.Hostname() == "" {
		return a, fmt.Errorf("%q is not a usable address; write it like nbd://192.168.0.20/disk", s)
	}
	return Address{net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), Port)), strings.TrimPrefix(u.Path, "/"),
		strings.EqualFold(u.Scheme, "nbds"), u.Query().Get("tls-certificates")}, nil
}

// Name is the name of the export in sentences.
func (a Address) Name() string {
	host, port, _ := net.SplitHostPort(a.Host)
	if port != Port {
		host = a.Host
	}
	return cmp.Or(a.Export, "the export") + " on " + host
}

// HostPort are the host and its port.
func (a Address) HostPort() (host string, port int) {
	host, number, _ := net.SplitHostPort(a.Host)
	port, _ = strconv.Atoi(number)
	return host, port
}

// Key names the export lastingly, however its address is written.
func (a Address) Key() string { return strings.ToLower(a.Host) + "/" + a.Export }

func (a Address) tls() (*tls.Config, error) {
	if !a.TLS {
		return nil, nil
	}
	host, _, err := net.SplitHostPort(a.Host)
	if err != nil {
		return nil, err
	}
	c := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if a.Certificates == "" {
		return c, nil
	}
	pem, err := os.ReadFile(filepath.Join(a.Certificates, "ca-cert.pem"))
	if err != nil {
		return nil, err
	}
	c.RootCAs = x509.NewCertPool()
	if !c.RootCAs.AppendCertsFromPEM(pem) {
		return nil, fmt.Errorf("%s has no certificate in it", filepath.Join(a.Certificates, "ca-cert.pem"))
	}
	own, err := tls.LoadX509KeyPair(filepath.Join(a.Certificates, "client-cert.pem"), filepath.Join(a.Certificates,
		"client-key.pem"))
	switch {
	case errors.Is(err, os.ErrNotExist): // the server may want none
	case err != nil:
		return nil, err
	default:
		c.Certificates = []tls.Certificate{own}
	}
	return c, nil
}

// busyFor is how long an export is waited for that somebody else uses: a console takes a moment to see that a client
// has gone.
const busyFor = 5 * time.Second

// Open connects to the export that an address names. One that somebody else uses is waited for, a moment.
func Open(ctx context.Context, address string, o Options) (*Client, error) {
	a, err := ParseAddress(address)
	if err != nil {
		return nil, err
	}
	if o.TLS, err = a.tls(); err != nil {
		return nil, fmt.Errorf("connecting to %s: %w", a.Name(), err)
	}
	for begun := time.Now(); ; {
		c, err := Dial(ctx, a.Host, a.Export, o)
		if err == nil {
			c.join(ctx, a.Host, a.Export, o)
		}
		if !errors.Is(err, ErrBusy) || time.Since(begun) > busyFor {
			return c, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// Greets connects to an NBD server at an address with a port, waits for its greeting, and hangs up.
func Greets(ctx context.Context, at string) error {
	var d net.Dialer
	conn, err := d.DialContext(ctx, "tcp", at)
	if err != nil {
		return err
	}
	defer conn.Close() // which was read from
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	var b [8]byte
	if _, err := io.ReadFull(conn, b[:]); err != nil {
		return err
	}
	if be.Uint64(b[:]) != initMagic {
		return protocol("the server at %s greets with %x", at, b)
	}
	return nil
}
