//go:build unix

package samba

import (
	"os/exec"
	"syscall"
)

// group has all processes that the server begins end with it.
func group(cmd *exec.Cmd) {
	cmd.SysProcAttr = attributes()
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
}

// helpers ends those that have left the group; they were started with the server's own folder.
func helpers(own string) { _ = exec.Command("pkill", "-KILL", "-f", own).Run() }
