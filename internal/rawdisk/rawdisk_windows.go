package rawdisk

import (
	"encoding/binary"
	"errors"
	"os"
	"strings"
	"time"

	"golang.org/x/sys/windows"
)

// The controls of drives and volumes; see winioctl.h.
const (
	diskLengthInfo       = 0x7405C // IOCTL_DISK_GET_LENGTH_INFO
	diskGeometryEx       = 0x700A0 // IOCTL_DISK_GET_DRIVE_GEOMETRY_EX
	diskUpdateProperties = 0x70140 // IOCTL_DISK_UPDATE_PROPERTIES
	lockVolume           = 0x90018 // FSCTL_LOCK_VOLUME
	dismountVolume       = 0x90020 // FSCTL_DISMOUNT_VOLUME
	extendedIO           = 0x90083 // FSCTL_ALLOW_EXTENDED_DASD_IO
)

var le = binary.LittleEndian

// lockTries and lockPause are how often a volume is tried to be locked: what indexes it or looks for viruses lets go of
// it after a moment.
const (
	lockTries = 20
	lockPause = 250 * time.Millisecond
)

// A Volume is a volume that is locked: nobody else has anything open there, and nothing is remembered of it. Windows
// mounts it again when it is let go and somebody looks at it.
type Volume struct{ h windows.Handle }

// Lock locks a volume such as \\.\E: or \\?\Volume{…}, and dismounts it. It returns [ErrBusy] where a program has
// something open there.
func Lock(path string) (*Volume, error) {
	h, err := create(path, windows.GENERIC_READ|windows.GENERIC_WRITE, 0)
	if err != nil {
		return nil, err
	}
	v := &Volume{h}
	if err := v.lock(path); err != nil {
		v.Close()
		return nil, err
	}
	return v, nil
}

func (v *Volume) lock(path string) error {
	for n := 1; ; n++ {
		err := v.Do(lockVolume, nil)
		if err == nil {
			break
		}
		if n == lockTries {
			return ErrBusy
		}
		time.Sleep(lockPause)
	}
	// a volume without a filesystem has nothing to be dismounted
	if err := v.Do(dismountVolume, nil); err != nil && !errors.Is(err, windows.ERROR_INVALID_PARAMETER) &&
		!errors.Is(err, windows.ERROR_UNRECOGNIZED_VOLUME) {
		return &os.PathError{Op: "unmount", Path: path, Err: err}
	}
	return nil
}

// Flush writes what is pending on a volume.
func Flush(path string) error {
	h, err := create(path, windows.GENERIC_READ|windows.GENERIC_WRITE, 0)
	if err != nil {
		return err
	}
	defer func() { _ = windows.CloseHandle(h) }()
	if err := windows.FlushFileBuffers(h); err != nil && !errors.Is(err, windows.ERROR_ACCESS_DENIED) &&
		!errors.Is(err, windows.ERROR_INVALID_FUNCTION) {
		return &os.PathError{Op: "flush", Path: path, Err: err}
	}
	return nil
}

// Forget has what the system holds in memory of a file be written to the medium and forgotten, as far as nobody else
// uses it: that comes with opening it past that memory.
func Forget(file string) {
	name, err := windows.UTF16PtrFromString(file)
	if err != nil {
		return
	}
	h, err := windows.CreateFile(name, windows.GENERIC_READ, windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE|
		windows.FILE_SHARE_DELETE, nil, windows.OPEN_EXISTING, windows.FILE_FLAG_NO_BUFFERING, 0)
	if err == nil {
		_ = windows.CloseHandle(h)
	}
}

// Do sends a control to the volume.
func (v *Volume) Do(code uint32, in []byte) error { return control(v.h, code, in, nil) }

// Close lets it go.
func (v *Volume) Close() { _ = windows.CloseHandle(v.h) }

// create opens a drive or volume. Others may have it open: who may write is decided by locks.
func create(path string, access, flags uint32) (windows.Handle, error) {
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return 0, err
	}
	h, err := windows.CreateFile(name, access, windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE, nil,
		windows.OPEN_EXISTING, flags, 0)
	if err != nil {
		return 0, &os.PathError{Op: "open", Path: path, Err: err}
	}
	return h, nil
}

func control(h windows.Handle, code uint32, in, out []byte) error {
	var first, last *byte
	if len(in) > 0 {
		first = &in[0]
	}
	if len(out) > 0 {
		last = &out[0]
	}
	var got uint32
	return windows.DeviceIoControl(h, code, first, uint32(len(in)), last, uint32(len(out)), &got, nil)
}

// isVolume reports whether a path is of a volume, and not of a drive.
func isVolume(path string) bool {
	return !strings.HasPrefix(strings.ToLower(path), `\\.\physicaldrive`)
}

// Open opens a drive such as \\.\PhysicalDrive2, or a volume such as \\.\E:. To be written to, the volumes that lie on
// it are locked and dismounted first, and stay so until it is closed.
func Open(path string, write bool, volumes []string) (_ *Disk, err error) {
	var locked []*Volume
	letGo := func() {
		for _, v := range locked {
			v.Close()
		}
	}
	defer func() {
		if err != nil {
			letGo()
		}
	}()
	access := uint32(windows.GENERIC_READ)
	if write {
		access |= windows.GENERIC_WRITE
		for _, path := range volumes {
			v, err := Lock(strings.TrimSuffix(path, `\`))
			if err != nil {
				return nil, err
			}
			locked = append(locked, v)
		}
	}
	h, err := create(path, access, windows.FILE_FLAG_NO_BUFFERING|windows.FILE_FLAG_WRITE_THROUGH)
	if err != nil {
		return nil, err
	}
	if write && isVolume(path) {
		if err := (&Volume{h}).lock(path); err != nil {
			_ = windows.CloseHandle(h)
			return nil, err
		}
		_ = control(h, extendedIO, nil, nil) // else what lies behind the filesystem's last cluster cannot be reached
	}
	f := os.NewFile(uintptr(h), path)
	d := &Disk{readOnly: !write}
	d.dev, d.sector = f, sector(h)
	if d.size = length(h); d.size == 0 {
		d.size = end(f, d.sector)
	}
	d.sync = f.Sync
	d.close = func() error {
		if write {
			_ = control(h, diskUpdateProperties, nil, nil) // a volume has none
		}
		err := f.Close()
		letGo()
		return err
	}
	return d, nil
}

// sector is how many bytes a sector has; 512 where that is not known.
func sector(h windows.Handle) int64 {
	var b [256]byte // DISK_GEOMETRY_EX, with BytesPerSector at 20
	if control(h, diskGeometryEx, nil, b[:]) != nil {
		return 512
	}
	if n := le.Uint32(b[20:]); n >= 512 && n <= boundary && n&(n-1) == 0 {
		return int64(n)
	}
	return 512
}

// length is how many bytes it has, 0 where that is not said.
func length(h windows.Handle) int64 {
	var b [8]byte // GET_LENGTH_INFORMATION
	if control(h, diskLengthInfo, nil, b[:]) != nil {
		return 0
	}
	return int64(le.Uint64(b[:]))
}
