package trash

import (
	"fmt"
	"os/exec"
	"strings"
)

// throw has the Finder move a file or folder to its trash, from where it can be put back.
func throw(name string) error {
	out, err := exec.Command(
		"osascript",
		"-e",
		"on run argv",
		"-e",
		`tell application "Finder" to delete (POSIX file (item 1 of argv) as alias)`,
		"-e",
		"end run",
		name,
	).CombinedOutput()
	if err != nil {
		return fmt.Errorf("the Finder does not take it: %s", strings.TrimSpace(string(out)))
	}
	return nil
}
