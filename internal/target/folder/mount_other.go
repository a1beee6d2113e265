//go:build !linux && !windows

package folder

import (
	"strings"

	"github.com/shirou/gopsutil/v4/disk"

	"polytome/internal/target"
)

// mount is what the system knows of the filesystem under a folder.
type mount struct {
	filesystem              target.Filesystem
	capacity, free, cluster int64  // bytes
	label                   string // not reported on these systems
	network                 string // nor is this
	syncs                   bool
}

func mountOf(dir string) (mount, error) {
	u, err := disk.Usage(dir)
	if err != nil {
		return mount{}, err
	}
	m := mount{capacity: int64(u.Total), free: int64(u.Free)}
	switch kind := strings.ToLower(u.Fstype); kind {
	case "msdos", "fat32":
		m.filesystem, _ = target.FilesystemNamed("fat32")
	case "exfat", "ntfs":
		m.filesystem, _ = target.FilesystemNamed(kind)
	case "apfs":
		m.filesystem = target.UnknownFilesystem(kind)
		m.filesystem.Holes = true
	default:
		m.filesystem = target.UnknownFilesystem(kind)
	}
	m.cluster = m.filesystem.Cluster(m.capacity)
	return m, nil
}

// volumeOf is not known here.
func volumeOf(string) string { return "" }

// Plugged finds no volume here.
func Plugged(_, _ string) (dir string, ok bool) { return "", false }
