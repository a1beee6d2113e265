package claim

import (
	"bufio"
	"fmt"
	"os"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"polytome/internal/lockfile"
)

// Folder claims an opened folder of this computer: by whatever path, and through whatever link, it was reached. On
// filesystems that lock no folders, it is claimed by its device and number.
func Folder(f *os.File) (release func(), err error) {
	var st unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &st); err != nil {
		return nil, fmt.Errorf("claiming the folder: %w", err)
	}
	taken, err := lockfile.Take(f)
	switch {
	case err != nil:
		_ = f.Close()
		return Named(fmt.Sprintf("folder %d %d", st.Dev, st.Ino))
	case taken:
		_ = f.Close()
		return nil, &TakenError{owner(&st)}
	}
	return func() { _ = f.Close() }, nil
}

// owner looks up who has the lock of a file (proc_locks(5)).
func owner(st *unix.Stat_t) int {
	f, err := os.Open("/proc/locks")
	if err != nil {
		return 0
	}
	defer f.Close()
	at := fmt.Sprintf("%02x:%02x:%d", unix.Major(st.Dev), unix.Minor(st.Dev), st.Ino)
	for lines := bufio.NewScanner(f); lines.Scan(); {
		words := strings.Fields(lines.Text())
		for i, w := range words {
			if w == at && i > 0 && words[1] == "FLOCK" {
				pid, _ := strconv.Atoi(words[i-1])
				return max(pid, 0)
			}
		}
	}
	return 0
}

// FileID tells a file from all others, by whatever path it is reached.
func FileID(name string) string {
	var st unix.Stat_t
	if err := unix.Stat(name, &st); err != nil {
		return name
	}
	return fmt.Sprintf("file %d %d", st.Dev, st.Ino)
}
