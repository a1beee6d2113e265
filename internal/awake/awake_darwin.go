package awake

import (
	"os"
	"os/exec"
	"strconv"
)

// inhibit has caffeinate(8) keep the computer from sleeping, until it is ended or this program has.
func inhibit(string) func() {
	cmd := exec.Command("caffeinate", "-i", "-w", strconv.Itoa(os.Getpid()))
	if cmd.Start() != nil {
		return nil
	}
	return func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
}
