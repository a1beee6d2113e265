package sftp

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"github.com/adrg/xdg"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"polytome/internal/target/remote"
	"polytome/internal/wholefile"
)

// hostKeys are the keys of servers that the user has accepted: here, and with other programs for SSH, whose list is
// only read.
type hostKeys struct {
	addr  remote.Address
	own   string // the file that is written
	known ssh.HostKeyCallback
}

func readHostKeys(a remote.Address, own string) (*hostKeys, error) {
	files := []string{own}
	if own == "" {
		own = filepath.Join(xdg.ConfigHome, "polytome", "host-keys")
		files[0] = own
		if home, err := os.UserHomeDir(); err == nil {
			files = append(files, filepath.Join(home, ".ssh", "known_hosts"))
		}
	}
	files = slices.DeleteFunc(files, func(f string) bool { _, err := os.Stat(f); return err != nil })
	known, err := knownhosts.New(files...)
	if err != nil {
		return nil, fmt.Errorf("reading the accepted host keys: %w", err)
	}
	return &hostKeys{addr: a, own: own, known: known}, nil
}

// algorithms are those of the keys that were accepted of the server, so that it shows one of them; nil for any.
func (h *hostKeys) algorithms() (all []string) {
	at := net.JoinHostPort(h.addr.Host, strconv.Itoa(h.addr.Port))
	var wrong *knownhosts.KeyError
	if !errors.As(h.known(at, nowhere{}, noKey{}), &wrong) {
		return nil
	}
	for _, k := range wrong.Want {
		if k.Key.Type() == ssh.KeyAlgoRSA { // RFC 8332
			all = append(all, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		} else {
			all = append(all, k.Key.Type())
		}
	}
	return all
}

// check takes the key that a server shows, if it is an accepted one.
func (h *hostKeys) check(at string, from net.Addr, key ssh.PublicKey) error {
	err := h.known(at, from, key)
	var wrong *knownhosts.KeyError
	if !errors.As(err, &wrong) {
		return err
	}
	e := &remote.HostKeyError{Address: h.addr, Fingerprint: ssh.FingerprintSHA256(key)}
	if len(wrong.Want) > 0 {
		e.Changed, e.At = true, fmt.Sprintf("%d of %s", wrong.Want[0].Line, wrong.Want[0].Filename)
		e.Accept = func() error { return e }
	} else {
		e.Accept = func() error { return h.accept(at, key) }
	}
	return e
}

// accept writes a key down.
func (h *hostKeys) accept(at string, key ssh.PublicKey) error {
	text, err := os.ReadFile(h.own)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("reading the accepted host keys: %w", err)
	}
	if err := os.MkdirAll(filepath.Dir(h.own), 0o755); err != nil {
		return fmt.Errorf("storing the host key: %w", err)
	}
	if len(text) > 0 && text[len(text)-1] != '\n' {
		text = append(text, '\n')
	}
	text = append(text, knownhosts.Line([]string{knownhosts.Normalize(at)}, key)+"\n"...)
	if err := wholefile.Write(h.own, text, wholefile.Private); err != nil {
		return fmt.Errorf("storing the host key: %w", err)
	}
	return nil
}

// noKey is a key that no server has, with which the list of accepted ones is asked for all that it has.
type noKey struct{}

func (noKey) Type() string                        { return "none" }
func (noKey) Marshal() []byte                     { return []byte("none") }
func (noKey) Verify([]byte, *ssh.Signature) error { return errors.New("not a key") }

// nowhere is the address of no server.
type nowhere struct{}

func (nowhere) Network() string { return "tcp" }
func (nowhere) String() string  { return "0.0.0.0:0" }
