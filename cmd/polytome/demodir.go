package main

import (
	"errors"
	"os"
	"path/filepath"
	"strings"

	"polytome/internal/lockfile"
)

// What the temporary worlds of the demo are named, and the lock beside each that is held as long as its demo goes on.
const (
	worldPrefix = "polytome-demo-"
	worldLock   = ".lock"
)

// temporaryWorld makes a folder for a world that is removed at the end, and removes those that demos left which were
// killed.
func temporaryWorld() (dir string, remove func() error, err error) {
	clearWorlds(os.TempDir())
	for {
		if dir, err = os.MkdirTemp("", worldPrefix); err != nil {
			return "", nil, err
		}
		lock, err := os.OpenFile(dir+worldLock, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return "", nil, errors.Join(err, os.Remove(dir))
		}
		taken, err := lockfile.Take(lock)
		if err != nil {
			return "", nil, errors.Join(err, lock.Close(), os.Remove(lock.Name()), os.Remove(dir))
		}
		if !taken && isStill(lock) {
			return dir, func() error {
				return errors.Join(os.RemoveAll(dir), os.Remove(lock.Name()), lock.Close())
			}, nil
		}
		_ = lock.Close() // another demo that begins just now has taken it for one that was left, and removes both
	}
}

// isStill reports whether an opened file is still the one of its name.
func isStill(f *os.File) bool {
	is, err := f.Stat()
	if err != nil {
		return false
	}
	named, err := os.Stat(f.Name())
	return err == nil && os.SameFile(is, named)
}

// clearWorlds removes the worlds of demos that do not go on any longer. Whatever is no such folder with its lock stays.
func clearWorlds(in string) {
	locks, _ := filepath.Glob(filepath.Join(in, worldPrefix+"*"+worldLock))
	for _, name := range locks {
		lock, err := os.OpenFile(name, os.O_RDWR, 0)
		if err != nil {
			continue // it is someone else's
		}
		if taken, err := lockfile.Take(lock); err == nil && !taken {
			if dir := strings.TrimSuffix(name, worldLock); os.RemoveAll(dir) == nil {
				_ = os.Remove(name)
			}
		}
		_ = lock.Close()
	}
}
