//go:build unix && !linux

package samba

import "syscall"

func attributes() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setpgid: true} }
