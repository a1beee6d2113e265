//go:build !linux

package scan

import "os"

// list reads a folder's entries with what is known of them, sorted by name.
func list(dir string) ([]item, error) {
	entries, err := os.ReadDir(dir)
	out := make([]item, 0, len(entries))
	for _, e := range entries {
		info, infoErr := e.Info()
		if infoErr != nil {
			continue
		}
		it := item{name: e.Name(), size: info.Size(), modified: info.ModTime().UnixNano()}
		switch {
		case info.Mode().IsRegular():
			it.kind = isFile
		case info.IsDir():
			it.kind = isFolder
		case info.Mode()&os.ModeSymlink != 0:
			it.kind = isLink
		}
		out = append(out, it)
	}
	sortItems(out)
	return out, err
}

// identity is not known on this system: paths distinguish files.
func identity(os.FileInfo) (device, inode uint64) { return 0, 0 }
