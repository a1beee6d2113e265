// Package secret keeps passwords in the keyring of the system, where there is one. They stand nowhere else: not on the bench, in
// no log and in no error.
package secret

import (
	"errors"
	"fmt"

	"github.com/zalando/go-keyring"
)

// service is what the passwords are kept under.
const service = "polytome"

// ErrNone is that no password is kept.
var ErrNone = errors.New("no password is kept for it")

// Find returns the password of a user at an address. The error is [ErrNone] where none is kept, or there is no keyring.
func Find(address, user string) (string, error) {
	p, err := keyring.Get(service, key(address, user))
	if err != nil {
		return "", ErrNone
	}
	return p, nil
}

// Keep keeps a password.
func Keep(address, user, password string) error {
	if err := keyring.Set(service, key(address, user), password); err != nil {
		return fmt.Errorf("this system has no keyring to keep the password in, so it is asked for each time: %w", err)
	}
	return nil
}

// Forget removes a password.
func Forget(address, user string) error {
	if err := keyring.Delete(service, key(address, user)); err != nil {
		return ErrNone
	}
	return nil
}

func key(address, user string) string { return user + "@" + address }
