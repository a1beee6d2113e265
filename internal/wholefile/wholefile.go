// Package wholefile writes files at once or not at all: whatever happens, there is the old file or the new one under its name, and no half one.
package wholefile

import (
	"errors"
	"os"
	"path/filepath"
)

// Write writes a file, in place of one that may be there, and brings it to the medium. What it needs in the meantime is a hidden file in the same folder.
func Write(file string, data []byte) error {
	f, err := os.CreateTemp(filepath.Dir(file), ".polytome-*")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = errors.Join(f.Chmod(0o644), f.Sync())
	}
	err = errors.Join(err, f.Close())
	if err == nil {
		err = os.Rename(f.Name(), file)
	}
	if err != nil {
		_ = os.Remove(f.Name())
	}
	return err
}
