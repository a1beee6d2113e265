package awake

import (
	"runtime"

	"golang.org/x/sys/windows"
)

var setState = windows.NewLazySystemDLL("kernel32.dll").NewProc("SetThreadExecutionState")

const continuous, systemRequired = 0x80000000, 0x1 // ES_CONTINUOUS, ES_SYSTEM_REQUIRED

// inhibit keeps Windows from sleeping as long as a thread of the program wants it (SetThreadExecutionState).
func inhibit(string) func() {
	release := make(chan struct{})
	go func() {
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		_, _, _ = setState.Call(continuous | systemRequired)
		<-release
		_, _, _ = setState.Call(continuous)
	}()
	return func() { close(release) }
}
