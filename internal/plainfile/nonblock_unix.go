//go:build unix

package plainfile

import "syscall"

// NonBlock has opening a pipe not wait for whoever writes into it.
const NonBlock = syscall.O_NONBLOCK
