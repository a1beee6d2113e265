package folder

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"polytome/internal/drives"
	"polytome/internal/target"
)

// mount is what the system knows of the filesystem under a folder.
type mount struct {
	filesystem              target.Filesystem
	capacity, free, cluster int64 // bytes
	label                   string
	network                 string
	syncs                   bool
}

// statfs is what the system says of the mount under a folder: its device and folder, too.
func statfs(dir string) (st unix.Statfs_t, from, at string, err error) {
	if err = unix.Statfs(dir, &st); err != nil {
		return st, "", "", &os.PathError{Op: "statfs", Path: dir, Err: err}
	}
	return st, unix.ByteSliceToString(st.Mntfromname[:]), unix.ByteSliceToString(st.Mntonname[:]), nil
}

func mountOf(dir string) (mount, error) {
	st, from, at, err := statfs(dir)
	if err != nil {
		return mount{}, err
	}
	block := int64(st.Bsize)
	m := mount{capacity: int64(st.Blocks) * block, free: int64(st.Bavail) * block, cluster: block,
		syncs: st.Flags&unix.MNT_SYNCHRONOUS != 0}
	kind := unix.ByteSliceToString(st.Fstypename[:])
	if st.Flags&unix.MNT_LOCAL == 0 {
		m.network = strings.TrimSuffix(kind, "fs")
	}
	name := kind
	if kind == "msdos" {
		name = "fat32"
		if v, err := drives.VolumeOf(context.Background(), from); err == nil {
			name = v.Filesystem
		}
	}
	if m.filesystem, err = target.FilesystemNamed(name); err != nil {
		m.filesystem = target.UnknownFilesystem(kind)
		m.filesystem.Holes = kind == "apfs"
	}
	if filepath.Dir(at) == volumes {
		m.label = filepath.Base(at)
	}
	return m, nil
}

// volumes is the folder in which macOS mounts what is plugged in.
const volumes = "/Volumes"

// volumeOf is what the volume under a folder is known by; see [target.Facts]. The system tells a UUID of its own
// making, which is another one than the number that other systems know the volume by.
func volumeOf(dir string) string {
	full, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return ""
	}
	st, from, at, err := statfs(full)
	switch {
	case err != nil:
		return ""
	case st.Flags&unix.MNT_LOCAL == 0:
		return target.Fixed
	}
	v, err := drives.VolumeOf(context.Background(), from)
	if err != nil || v.Serial == "" {
		return target.Fixed
	}
	rel, err := filepath.Rel(at, full)
	if err != nil {
		return ""
	}
	if rel == "." {
		return v.Serial
	}
	return fmt.Sprint(v.Serial, target.Inside, rel)
}

// Plugged finds the folder at which a volume is mounted now: where it was, if it is still there. Where several have its
// number, as copies of sectors do, none of them is taken for it.
func Plugged(id, was string) (dir string, ok bool) {
	if was != "" && volumeOf(was) == id {
		return was, true
	}
	all, err := os.ReadDir(volumes)
	if err != nil {
		return "", false
	}
	for _, e := range all {
		if at := filepath.Join(volumes, e.Name()); volumeOf(at) == id {
			if ok {
				return "", false
			}
			dir, ok = at, true
		}
	}
	return dir, ok
}
