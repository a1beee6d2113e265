package trash

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/adrg/xdg"
	"golang.org/x/sys/unix"
)

// throw moves a file or folder to the first trash that takes it.
func throw(name string) error {
	dirs, err := candidates(name)
	if err != nil {
		return err
	}
	for _, t := range dirs {
		err = move(name, t)
		if err == nil {
			return nil
		}
	}
	return errors.Join(ErrNoTrash, err)
}

// can is a trash: its folder, and the one that paths in it are relative to; "" for absolute ones.
type can struct{ dir, top string }

// move moves a file into a trash. The note about where it came from is written first, under a name that nothing else
// has.
func move(name string, t can) error {
	for _, d := range []string{"files", "info"} {
		if err := os.MkdirAll(filepath.Join(t.dir, d), 0o700); err != nil {
			return err
		}
	}
	from := name
	if t.top != "" {
		rel, err := filepath.Rel(t.top, name)
		if err != nil {
			return err
		}
		from = rel
	}
	parts := strings.Split(filepath.ToSlash(from), "/")
	for i := range parts {
		parts[i] = url.PathEscape(parts[i])
	}
	text := fmt.Sprintf("[Trash Info]\nPath=%s\nDeletionDate=%s\n", strings.Join(parts, "/"), time.Now().
		Format("2006-01-02T15:04:05"))
	base := filepath.Base(name)
	for n := 1; n < 10_000; n++ {
		as := base
		if n > 1 {
			as = strings.TrimSuffix(base, filepath.Ext(base)) + "." + strconv.Itoa(n) + filepath.Ext(base)
		}
		info := filepath.Join(t.dir, "info", as+".trashinfo")
		f, err := os.OpenFile(info, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if errors.Is(err, os.ErrExist) {
			continue
		}
		if err != nil {
			return err
		}
		_, err = f.WriteString(text)
		if err = errors.Join(err, f.Close()); err == nil {
			to := filepath.Join(t.dir, "files", as)
			if _, there := os.Lstat(to); there == nil { // without a note: someone else's
				_ = os.Remove(info)
				continue
			}
			err = os.Rename(name, to)
		}
		if err != nil {
			_ = os.Remove(info)
		}
		return err
	}
	return errors.New("it has too many files with that name")
}

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
