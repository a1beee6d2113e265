//go:build !linux

package notify

import "errors"

func desktop(string, string) error { return errors.New("there are no notifications on this system") }
