package samba

import "syscall"

// attributes have the server end when the program is killed that has begun it.
func attributes() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
}
