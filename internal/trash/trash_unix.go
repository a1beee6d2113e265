//go:build linux || freebsd || openbsd || netbsd

package trash

import (
	"os"
	"path/filepath"
	"strconv"

	"github.com/adrg/xdg"
	"golang.org/x/sys/unix"
)

// candidates are the trashes that a file can go to without being copied: the user's own, and those at the top of the
// file's disk.
func candidates(name string) ([]can, error) {
	var of unix.Stat_t
	if err := unix.Lstat(name, &of); err != nil {
		return nil, &os.PathError{Op: "lstat", Path: name, Err: err}
	}
	on := func(dir string) bool {
		var st unix.Stat_t
		return unix.Stat(dir, &st) == nil && st.Dev == of.Dev
	}
	home := filepath.Join(xdg.DataHome, "Trash")
	if err := os.MkdirAll(home, 0o700); err == nil && on(home) {
		return []can{{home, ""}}, nil
	}
	top := filepath.Dir(name)
	for up := filepath.Dir(top); up != top && on(up); up = filepath.Dir(top) {
		top = up
	}
	uid := strconv.Itoa(os.Getuid())
	var out []can
	if info, err := os.Lstat(filepath.Join(top, ".Trash")); err == nil && info.IsDir() &&
		info.Mode()&os.ModeSticky != 0 {
		out = append(out, can{filepath.Join(top, ".Trash", uid), top})
	}
	return append(out, can{filepath.Join(top, ".Trash-"+uid), top}), nil
}
