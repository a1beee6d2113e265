//go:build !linux

package folder

import (
	"os"
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

// filesLeft is not reported on these systems.
func filesLeft(string) (n uint64, known bool) { return 0, false }

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

// allocate does nothing: these systems have no portable way to ask.
func allocate(*os.File, int64) error { return nil }

// dropCache does nothing: reading back may be served from memory here.
func dropCache(*os.File) {}

// reserved is not known here.
func reserved(os.FileInfo, int64) int64 { return 0 }

// Device is not known here.
func Device(string) (id uint64, ok bool) { return 0, false }

func deviceOf(*os.File) (id uint64, ok bool) { return 0, false }

// volumeOf is not known here.
func volumeOf(string) string { return "" }

// Plugged finds no volume here.
func Plugged(string) (dir string, ok bool) { return "", false }
