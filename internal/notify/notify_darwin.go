package notify

import "os/exec"

// desktop has macOS show a notification.
func desktop(heading, text string) error {
	return exec.Command("osascript", "-e", "on run argv", "-e",
		"display notification (item 2 of argv) with title (item 1 of argv)", "-e", "end run", heading, text).Run()
}
