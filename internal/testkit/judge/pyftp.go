package judge

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
)

// pyftp is a server whose users may do everything in a folder. Its arguments: port, folder, user, password, certificate
// with its key ("" for none), whether TLS 1.3 is left out.
const pyftp = `
import sys
from pyftpdlib.authorizers import DummyAuthorizer
from pyftpdlib.handlers import FTPHandler, TLS_FTPHandler
from pyftpdlib.servers import ThreadedFTPServer
import logging
logging.disable(logging.CRITICAL)
port, folder, user, password, cert, older = sys.argv[1:7]
allowed = DummyAuthorizer()
allowed.add_user(user, password, folder, perm="elradfmwMT")
allowed.add_user("guest", "guest", folder, perm="elr")
handler = FTPHandler
if cert:
    from OpenSSL import SSL
    handler = TLS_FTPHandler
    handler.certfile = cert
    handler.tls_control_required = handler.tls_data_required = True
    if older == "yes":
        handler.ssl_options |= SSL.OP_NO_TLSv1_3
handler.authorizer = allowed
ThreadedFTPServer(("127.0.0.1", int(port)), handler).serve_forever()
`

// PyFTP runs pyftpdlib, a server in Python, for the user and password "games" on a folder; "guest" may only read. With
// a certificate, in one file with its key, it wants TLS; older leaves out TLS 1.3. It ends with the test.
func PyFTP(t testing.TB, dir, certificate string, older bool) (port int) {
	t.Helper()
	script := filepath.Join(t.TempDir(), "server.py")
	if err := os.WriteFile(script, []byte(pyftp), 0o600); err != nil {
		t.Fatal(err)
	}
	port = Port(t)
	only := "no"
	if older {
		only = "yes"
	}
	serve(t, port, "/usr/bin/python3", script, fmt.Sprint(port), dir, "games", "games", certificate, only)
	return port
}

// Certificate makes a certificate for the loopback, in one file with its key.
func Certificate(t testing.TB) (file string) {
	t.Helper()
	dir := t.TempDir()
	key, cert := filepath.Join(dir, "key"), filepath.Join(dir, "cert")
	Run(t, "openssl", "req", "-x509", "-nodes", "-newkey", "rsa:2048", "-days", "2", "-subj", "/CN=127.0.0.1",
		"-keyout", key, "-out", cert)
	var both []byte
	for _, name := range []string{key, cert} {
		b, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		both = append(both, b...)
	}
	file = filepath.Join(dir, "both.pem")
	if err := os.WriteFile(file, both, 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}
