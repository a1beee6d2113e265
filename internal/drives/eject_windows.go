package drives

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"golang.org/x/sys/windows"

	"polytome/internal/rawdisk"
)

// Controls for volumes; see winioctl.h.
const (
	ioctlVolumeOffline      = 0x56C00C
	ioctlStorageMediaRemove = 0x2D4804 // IOCTL_STORAGE_MEDIA_REMOVAL
	ioctlStorageEjectMedia  = 0x2D4808
)

// staysUnmounted reports whether what was unmounted stays so until somebody mounts it: here, looking at it is enough.
const staysUnmounted = false

// device is the path of a volume as a device: \\.\E: of E:\, and \\?\Volume{…} of a folder in which one is mounted.
func device(at string) (string, error) {
	if len(at) == 3 && at[1] == ':' {
		return `\\.\` + at[:2], nil
	}
	name, err := windows.UTF16PtrFromString(strings.TrimSuffix(at, `\`) + `\`)
	if err != nil {
		return "", err
	}
	volume := make([]uint16, windows.MAX_PATH)
	if err := windows.GetVolumeNameForVolumeMountPoint(name, &volume[0], uint32(len(volume))); err != nil {
		return "", err
	}
	return strings.TrimSuffix(windows.UTF16ToString(volume), `\`), nil
}

// SyncAt writes what is pending on the volume at a letter or folder.
func SyncAt(at string) error {
	path, err := device(at)
	if err != nil {
		return err
	}
	err = rawdisk.Flush(path)
	if errors.Is(err, os.ErrPermission) { // locking it writes that, too
		return nil
	}
	return err
}

// flushDevice has nothing to do: a volume that was dismounted has nothing pending.
func flushDevice(string) error { return nil }

// release locks a volume, so that nobody else has anything open there, dismounts it, and does something with it.
func release(at string, do func(v *rawdisk.Volume) error) error {
	path, err := device(at)
	if err != nil {
		return err
	}
	v, err := rawdisk.Lock(path)
	if errors.Is(err, rawdisk.ErrBusy) {
		return &BusyError{}
	}
	if err != nil {
		return err
	}
	defer v.Close()
	return do(v)
}

// unmount unmounts what is mounted at a letter or folder. To stay unmounted, it loses that letter, which it gets again
// when it is plugged in again; that takes an administrator. Else it is mounted again when somebody looks at it.
func (s System) unmount(_ *Drive, at string, stay bool) error {
	return release(at, func(v *rawdisk.Volume) error {
		if !stay {
			return nil
		}
		if err := v.Do(ioctlVolumeOffline, nil); err != nil {
			return &os.PathError{Op: "unmount", Path: at, Err: err}
		}
		name, err := windows.UTF16PtrFromString(at)
		if err == nil {
			err = windows.DeleteVolumeMountPoint(name)
		}
		return err
	})
}

// physicalNumber is the number in the path of a drive.
func physicalNumber(path string) (n int, ok bool) {
	_, err := fmt.Sscanf(path, `\\.\PhysicalDrive%d`, &n)
	return n, err == nil
}

// off has Windows stop a drive that can be taken away, and where it does not, eject its medium.
func (s System) off(d *Drive) bool {
	if !d.Removable {
		return false
	}
	if n, ok := physicalNumber(d.Path); ok && stop(n) {
		return true
	}
	off := false
	for _, v := range d.Volumes {
		for _, at := range v.MountedAt {
			off = release(at, func(v *rawdisk.Volume) error {
				return errors.Join(v.Do(ioctlStorageMediaRemove, []byte{0}), // PREVENT_MEDIA_REMOVAL: false
					v.Do(ioctlStorageEjectMedia, nil))
			}) == nil || off
		}
	}
	return off
}
