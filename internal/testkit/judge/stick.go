package judge

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// A Stick is an exFAT volume in a file that can be plugged in: a loop device is made of it and mounted through FUSE, as
// another program knows the format.
type Stick struct {
	t       *testing.T
	img     string
	dev, at string // its device, and where it is mounted; "" while it is not plugged in
}

// NewStick makes a stick of so many MiB with a label and a serial number of eight hexadecimal digits.
func NewStick(t *testing.T, mib int64, label, serial string) *Stick {
	t.Helper()
	s := &Stick{t: t, img: filepath.Join(t.TempDir(), label+".img")}
	f, err := os.Create(s.img)
	if err == nil {
		err = f.Truncate(mib << 20)
	}
	if err == nil {
		err = f.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	Run(t, "mkfs.exfat", "-L", label, "-c", "4K", s.img)
	Run(t, "tune.exfat", "-I", "0x"+serial, s.img)
	t.Cleanup(s.Pull)
	return s
}

// Plug mounts the stick at a folder, which is made where there is none.
func (s *Stick) Plug(at string) {
	s.t.Helper()
	if err := os.MkdirAll(at, 0o755); err != nil {
		s.t.Fatal(err)
	}
	s.dev = strings.TrimSpace(Root(s.t, "losetup", "-f", "--show", s.img))
	s.at = at
	Root(s.t, "mount.exfat-fuse", "-o", "allow_other", s.dev, at)
}

// Pull unmounts the stick, and holds that its volume is sound then. The folder goes, as the system removes it.
func (s *Stick) Pull() {
	s.t.Helper()
	if s.at == "" {
		return
	}
	if _, err := Try(s.t, "mountpoint", "-q", s.at); err == nil { // else it was ejected
		if _, err := Try(s.t, "umount", s.at); err != nil {
			Root(s.t, "umount", "-l", s.at)
		}
	}
	for range 600 { // the mount ends a moment after umount does
		if on, _ := Try(s.t, "losetup", "-j", s.img); on == "" { // it was ejected
			break
		}
		if _, err := Try(s.t, "losetup", "-d", s.dev); err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	_ = os.Remove(s.at)
	s.at, s.dev = "", ""
	if said, err := Try(s.t, "fsck.exfat", "-n", s.img); err != nil {
		s.t.Errorf("fsck finds fault with %s: %s", s.img, said)
	}
}

// Loop makes a block device of a file until the test has ended, for programs that mount nothing else.
func Loop(t testing.TB, file string) string {
	t.Helper()
	dev := strings.TrimSpace(Root(t, "losetup", "-f", "--show", file))
	t.Cleanup(func() { Root(t, "losetup", "-d", dev) })
	return dev
}

// Device makes a block device of what an NBD server exports, at an address of it, until the test has ended. The test
// runs as root.
func Device(t testing.TB, at string) string {
	t.Helper()
	whole := filepath.Join(t.TempDir(), "whole")
	if err := os.WriteFile(whole, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	fuse := exec.Command("nbdfuse", whole, at)
	if err := fuse.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		Run(t, "umount", whole)
		_ = fuse.Wait()
	})
	for {
		if info, err := os.Stat(whole); err != nil {
			t.Fatal(err)
		} else if info.Size() > 0 {
			return Loop(t, whole)
		}
		time.Sleep(10 * time.Millisecond)
	}
}
