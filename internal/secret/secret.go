// Package secret keeps passwords in the keyring of the system, where there is one. They stand nowhere else: not on the
// bench, in no log and in no error.
package secret

import (
	"errors"
	"fmt"
	"sync"

	"github.com/zalando/go-keyring"
)

// service is what the passwords are kept under.
const service = "polytome"

// ErrNotFound reports that no password is stored.
var ErrNotFound = errors.New("no stored password")

var (
	mu       sync.Mutex
	sessions = map[string]string{} // what was given since the start
	give     func() (string, bool)
)

// Remember has a password be known until the end of the program, and nowhere else.
func Remember(address, user, password string) {
	mu.Lock()
	defer mu.Unlock()
	sessions[key(address, user)] = password
}

// Keyring reports why nothing can be kept in a keyring; nil where something can.
func Keyring() error {
	if _, err := keyring.Get(service, "nobody"); err != nil && !errors.Is(err, keyring.ErrNotFound) {
		return err
	}
	return nil
}

// Find returns the password of a user at an address: the one that was given since the start, or that of the keyring.
// The error is [ErrNotFound] where there is none, or no keyring.
func Find(address, user string) (string, error) {
	mu.Lock()
	given, ok := sessions[key(address, user)]
	mu.Unlock()
	if ok {
		return given, nil
	}
	if p, err := keyring.Get(service, key(address, user)); err == nil {
		return p, nil
	}
	mu.Lock()
	defer mu.Unlock()
	if given := give; given != nil && user != "" {
		give = nil
		if p, ok := given(); ok {
			sessions[key(address, user)] = p
			return p, nil
		}
	}
	return "", ErrNotFound
}

// Give has the first user of whom no password is known have the one that a function returns, so that no login is tried
// without.
func Give(password func() (string, bool)) {
	mu.Lock()
	defer mu.Unlock()
	give = password
}

// Keep keeps a password.
func Keep(address, user, password string) error {
	if err := keyring.Set(service, key(address, user), password); err != nil {
		return fmt.Errorf("this system has no keyring, so the password is asked for each time: %w", err)
	}
	return nil
}

// Forget removes a password.
func Forget(address, user string) error {
	mu.Lock()
	delete(sessions, key(address, user))
	mu.Unlock()
	if err := keyring.Delete(service, key(address, user)); err != nil {
		return ErrNotFound
	}
	return nil
}

func key(address, user string) string { return user + "@" + address }
