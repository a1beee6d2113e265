package scan

import (
	"fmt"
	"os"
	"strings"

	"golang.org/x/sys/unix"
)

// turns reports whether a device is a disk that turns, as the kernel has it.
func turns(device uint64) bool {
	dir := fmt.Sprintf("/sys/dev/block/%d:%d", unix.Major(device), unix.Minor(device))
	// of a disk, of a partition
	for _, file := range []string{dir + "/queue/rotational", dir + "/../queue/rotational"} {
		if b, err := os.ReadFile(file); err == nil {
			return strings.TrimSpace(string(b)) == "1"
		}
	}
	return false
}
