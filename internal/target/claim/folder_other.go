//go:build !linux

package claim

import (
	"os"
	"path/filepath"
)

// Folder claims an opened folder of this computer, by its path without links.
func Folder(f *os.File) (release func(), err error) {
	name := f.Name()
	_ = f.Close()
	return Named("folder " + FileID(name))
}

// FileID tells a file from all others, by its path without links.
func FileID(name string) string {
	if real, err := filepath.EvalSymlinks(name); err == nil {
		name = real
	}
	if abs, err := filepath.Abs(name); err == nil {
		name = abs
	}
	return name
}
