//go:build !linux

package drives

import (
	"errors"
	"os"
)

// SyncAt does nothing.
func SyncAt(string) error { return nil }

func flushDevice(name string) error {
	f, err := os.OpenFile(name, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

func (s System) unmount(*Drive, string) error {
	return errors.New("eject drives with the system's own menu here")
}

func (s System) off(*Drive) bool { return false }
