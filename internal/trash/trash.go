// Package trash moves files to the user's trash: under Linux as the Desktop Trash Can specification 1.0 of
// freedesktop.org has it, under Windows to the Recycle Bin, and under macOS to the Finder's trash.
package trash

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// ErrNoTrash reports that a file's disk has no trash.
var ErrNoTrash = errors.New("this disk has no trash; choose a folder instead")

// Move moves a file or folder to the trash of its disk. It is never copied, and never removed.
func Move(name string) error {
	name, err := filepath.Abs(name)
	if err != nil {
		return err
	}
	if _, err := os.Lstat(name); err != nil {
		return err
	}
	if err := throw(name); err != nil {
		return fmt.Errorf("moving %s to the trash: %w", name, err)
	}
	return nil
}
