package drives

import (
	"errors"
	"os"
	"path/filepath"
	"strings"

	"github.com/godbus/dbus/v5"
	"golang.org/x/sys/unix"
)

// staysUnmounted reports whether what was unmounted stays so until somebody mounts it.
const staysUnmounted = true

// SyncAt brings to the medium what waits for the filesystem at a folder.
func SyncAt(at string) error {
	f, err := os.Open(at)
	if err != nil {
		if errors.Is(err, os.ErrPermission) {
			unix.Sync()
			return nil
		}
		return err
	}
	defer f.Close()
	if err := unix.Syncfs(int(f.Fd())); err != nil {
		return &os.PathError{Op: "flush", Path: at, Err: err}
	}
	return nil
}

// flushDevice brings to the medium what waits for a device or image, and forgets what was read of it.
func flushDevice(name string) error {
	f, err := os.OpenFile(name, os.O_RDWR, 0)
	if err != nil {
		if f, err = os.Open(name); err != nil {
			return err
		}
	}
	defer f.Close()
	if err := f.Sync(); err != nil {
		return err
	}
	info, err := f.Stat()
	if err == nil && info.Mode()&os.ModeDevice != 0 {
		_ = unix.IoctlSetInt(int(f.Fd()), unix.BLKFLSBUF, 0)
	}
	return nil
}

// unmount unmounts a folder: by the system call, or where that is not permitted through udisks, which permits it to who
// sits at the computer.
func (s System) unmount(d *Drive, at string, _ bool) error {
	err := unix.Unmount(at, unix.UMOUNT_NOFOLLOW)
	if errors.Is(err, unix.EBUSY) {
		return &BusyError{}
	}
	if errors.Is(err, unix.EPERM) {
		for _, v := range d.Volumes {
			for _, m := range v.MountedAt {
				name := d.kernel
				if p, ok := d.parts[v.Number]; ok {
					name = p.name
				}
				if m == at && name != "" {
					if failed := udisks("block_devices/"+name, "Filesystem.Unmount"); failed == nil {
						return nil
					} else if strings.Contains(failed.Error(), "Busy") || strings.Contains(failed.Error(), "busy") {
						return &BusyError{}
					}
				}
			}
		}
		return os.ErrPermission
	}
	if err != nil {
		return &os.PathError{Op: "unmount", Path: at, Err: err}
	}
	return nil
}

// off switches a stick off, so that its light goes out, or detaches a loop device. Built-in disks stay.
func (s System) off(d *Drive) bool {
	switch d.Bus {
	case "loop":
		f, err := os.Open(d.Path)
		if err != nil {
			return false
		}
		defer f.Close()
		return unix.IoctlSetInt(int(f.Fd()), unix.LOOP_CLR_FD, 0) == nil
	case "usb":
		if os.WriteFile(filepath.Join(s.Sys, "block", d.kernel, "device", "delete"), []byte("1"), 0) == nil {
			return true
		}
		drive, err := udisksDrive(d.kernel)
		return err == nil && udisks(drive, "Drive.PowerOff") == nil
	}
	return false
}

const (
	udisksName = "org.freedesktop.UDisks2"
	udisksRoot = "/org/freedesktop/UDisks2/"
)

// udisks calls a method of udisks' that takes only options.
func udisks(object, method string) error {
	bus, err := dbus.SystemBus()
	if err != nil {
		return err
	}
	path := dbus.ObjectPath(object)
	if !strings.HasPrefix(object, "/") {
		path = dbus.ObjectPath(udisksRoot + object)
	}
	return bus.Object(udisksName, path).Call(udisksName+"."+method, 0, map[string]dbus.Variant{}).Err
}

// udisksDrive is the object of the drive that a device is of.
func udisksDrive(kernel string) (string, error) {
	bus, err := dbus.SystemBus()
	if err != nil {
		return "", err
	}
	v, err := bus.Object(udisksName, dbus.ObjectPath(udisksRoot+"block_devices/"+kernel)).
		GetProperty(udisksName + ".Block.Drive")
	if err != nil {
		return "", err
	}
	p, ok := v.Value().(dbus.ObjectPath)
	if !ok {
		return "", errors.New("udisks does not know the drive")
	}
	return string(p), nil
}
