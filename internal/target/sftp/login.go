package sftp

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"polytome/internal/target/remote"
)

// keyFiles are where keys usually are, below the user's SSH folder.
var keyFiles = []string{"id_ed25519", "id_ecdsa", "id_rsa"}

// login is one try to be let in: with the keys of an agent and of files, and with a password.
type login struct {
	user, password string
	agent          net.Conn
	locked         []string // key files that have a passphrase
	asked          bool     // the server takes a password
}

func newLogin(o remote.Settings) *login { return &login{user: o.User, password: o.Password} }

func (l *login) methods() []ssh.AuthMethod {
	return []ssh.AuthMethod{
		ssh.PublicKeysCallback(l.keys),
		ssh.PasswordCallback(l.givePassword),
		ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) { // RFC 4256
			answers := make([]string, len(questions))
			for i := range answers {
				p, err := l.givePassword()
				if err != nil {
					return nil, err
				}
				answers[i] = p
			}
			return answers, nil
		}),
	}
}

// errNoPassword ends a try for which there is no password.
var errNoPassword = errors.New("there is no password")

func (l *login) givePassword() (string, error) {
	l.asked = true
	if l.password == "" {
		return "", errNoPassword
	}
	return l.password, nil
}

// keys are those of the agent, then those of files. What cannot be read is none.
func (l *login) keys() (all []ssh.Signer, _ error) {
	if socket := os.Getenv("SSH_AUTH_SOCK"); socket != "" {
		if c, err := net.Dial("unix", socket); err == nil {
			l.agent = c
			all, _ = agent.NewClient(c).Signers()
		}
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return all, nil
	}
	for _, name := range keyFiles {
		file := filepath.Join(home, ".ssh", name)
		text, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		key, err := ssh.ParsePrivateKey(text)
		var locked *ssh.PassphraseMissingError
		if errors.As(err, &locked) {
			l.locked = append(l.locked, file)
		} else if err == nil {
			all = append(all, key)
		}
	}
	return all, nil
}

func (l *login) close() {
	if l.agent != nil {
		_ = l.agent.Close()
	}
}

// refused reports whether an error of the library is that nobody was let in. It has no type for that.
func (l *login) refused(err error) bool {
	return errors.Is(err, errNoPassword) || strings.Contains(err.Error(), "unable to authenticate")
}

// explain says why nobody was let in.
func (l *login) explain(a remote.Address, err error) error {
	if l.asked {
		return &remote.LoginError{Address: a, User: l.user, Given: l.password != ""}
	}
	say := fmt.Sprintf("%s lets %s in with a key only, and takes none of yours: add your public key to its authorized "+
		"keys", a.Host, l.user)
	if len(l.locked) > 0 {
		say = fmt.Sprintf("%s lets %s in with a key only, and the key %s has a passphrase: hand it to your agent with "+
			"ssh-add", a.Host, l.user, l.locked[0])
	}
	return &remote.RefusedError{Say: say, Err: err}
}
