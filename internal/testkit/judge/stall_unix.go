//go:build unix

package judge

import "syscall"

// Stall has the server and all that it has begun stand still, or go on.
func (s *Samba) Stall(still bool) {
	signal := syscall.SIGCONT
	if still {
		signal = syscall.SIGSTOP
	}
	_ = syscall.Kill(-s.server.PID, signal)
}
