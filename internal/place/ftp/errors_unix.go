//go:build !windows

package ftp

import "syscall"

const (
	errRefused = syscall.ECONNREFUSED
	errNoRoute = syscall.EHOSTUNREACH
)
