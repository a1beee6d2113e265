//go:build !windows

package remote

import "syscall"

const (
	errRefused = syscall.ECONNREFUSED
	errNoRoute = syscall.EHOSTUNREACH
	errNoNet   = syscall.ENETUNREACH
)
