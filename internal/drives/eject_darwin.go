package drives

import (
	"fmt"
	"os"
	"os/exec"
	"strings"

	"golang.org/x/sys/unix"
)

// staysUnmounted reports whether what was unmounted stays so until somebody mounts it.
const staysUnmounted = true

// SyncAt writes what is pending, also of other volumes: the system has nothing for one alone.
func SyncAt(string) error {
	return unix.Sync()
}

func flushDevice(name string) error {
	f, err := os.OpenFile(name, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// unmount has diskutil unmount a folder, which needs no right of an administrator.
func (s System) unmount(_ *Drive, at string, _ bool) error {
	out, err := exec.Command("diskutil", "unmount", at).CombinedOutput()
	if err == nil {
		return nil
	}
	said := strings.TrimSpace(string(out))
	if low := strings.ToLower(said); strings.Contains(low, "busy") || strings.Contains(low, "in use") ||
		strings.Contains(low, "dissented") {
		return &BusyError{}
	}
	return fmt.Errorf("diskutil: %s", said)
}

// off has diskutil eject a drive that can be taken away.
func (s System) off(d *Drive) bool { return exec.Command("diskutil", "eject", d.Path).Run() == nil }
