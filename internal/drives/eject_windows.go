package drives

import (
	"errors"
	"os"
	"strings"
	"time"

	"golang.org/x/sys/windows"
)

// Controls for volumes; see winioctl.h.
const (
	fsctlLockVolume         = 0x90018
	fsctlDismountVolume     = 0x90020
	ioctlStorageMediaRemove = 0x2D4804 // IOCTL_STORAGE_MEDIA_REMOVAL
	ioctlStorageEjectMedia  = 0x2D4808
)

// lockTries and lockPause are how often a volume is tried to be locked: what indexes it or looks for viruses lets go of
// it after a moment.
const (
	lockTries = 20
	lockPause = 250 * time.Millisecond
)

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

// openVolumeAt opens a volume for controls that change it.
func openVolumeAt(at string) (windows.Handle, error) {
	path, err := device(at)
	if err != nil {
		return 0, err
	}
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return 0, err
	}
	h, err := windows.CreateFile(name, windows.GENERIC_READ|windows.GENERIC_WRITE,
		windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE, nil, windows.OPEN_EXISTING, 0, 0)
	if err != nil {
		return 0, &os.PathError{Op: "open", Path: path, Err: err}
	}
	return h, nil
}

// SyncAt writes what is pending on the volume at a letter or folder.
func SyncAt(at string) error {
	h, err := openVolumeAt(at)
	if errors.Is(err, os.ErrPermission) { // locking it writes that, too
		return nil
	}
	if err != nil {
		return err
	}
	defer func() { _ = windows.CloseHandle(h) }()
	if err := windows.FlushFileBuffers(h); err != nil && !errors.Is(err, windows.ERROR_ACCESS_DENIED) &&
		!errors.Is(err, windows.ERROR_INVALID_FUNCTION) {
		return &os.PathError{Op: "flush", Path: at, Err: err}
	}
	return nil
}

// flushDevice has nothing to do: a volume that was dismounted has nothing pending.
func flushDevice(string) error { return nil }

// release locks a volume, so that nobody else has anything open there, and dismounts it; with eject, its medium is
// ejected too. It is mounted again when somebody looks at it.
func release(at string, eject bool) error {
	h, err := openVolumeAt(at)
	if err != nil {
		return err
	}
	defer func() { _ = windows.CloseHandle(h) }()
	do := func(code uint32, in []byte) error {
		var first *byte
		if len(in) > 0 {
			first = &in[0]
		}
		var got uint32
		return windows.DeviceIoControl(h, code, first, uint32(len(in)), nil, 0, &got, nil)
	}
	for n := 1; ; n++ {
		err := do(fsctlLockVolume, nil)
		if err == nil {
			break
		}
		if n == lockTries {
			return &BusyError{}
		}
		time.Sleep(lockPause)
	}
	if err := do(fsctlDismountVolume, nil); err != nil {
		return &os.PathError{Op: "unmount", Path: at, Err: err}
	}
	if !eject {
		return nil
	}
	if err := do(ioctlStorageMediaRemove, []byte{0}); err != nil { // PREVENT_MEDIA_REMOVAL: false
		return &os.PathError{Op: "eject", Path: at, Err: err}
	}
	if err := do(ioctlStorageEjectMedia, nil); err != nil {
		return &os.PathError{Op: "eject", Path: at, Err: err}
	}
	return nil
}

func (s System) unmount(_ *Drive, at string) error { return release(at, false) }

// off ejects the media of a drive that can be taken away.
func (s System) off(d *Drive) bool {
	if !d.Removable {
		return false
	}
	off := false
	for _, v := range d.Volumes {
		for _, at := range v.MountedAt {
			off = release(at, true) == nil || off
		}
	}
	return off
}
