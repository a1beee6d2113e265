package remote

import "golang.org/x/sys/windows"

const (
	errRefused = windows.WSAECONNREFUSED
	errNoRoute = windows.WSAEHOSTUNREACH
	errNoNet   = windows.WSAENETUNREACH
)
