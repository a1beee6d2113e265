// Package wholefile writes files at once or not at all: whatever happens, there is the old file or the new one under
// its name, and no half one.
package wholefile

import (
	"errors"
	"os"
	"path/filepath"
)

// Private is the mode of files that are no one else's business.
const Private = 0o600

// Write writes a file, in place of one that may be there, and brings it to the medium. What it needs in the meantime is
// a hidden file in the same folder. A new file gets the mode; one that is there keeps its own.
func Write(file string, data []byte, mode os.FileMode) error {
	if info, err := os.Stat(file); err == nil {
		mode = info.Mode().Perm()
	}
	f, err := os.CreateTemp(filepath.Dir(file), ".polytome-*")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = errors.Join(f.Chmod(mode), f.Sync())
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
