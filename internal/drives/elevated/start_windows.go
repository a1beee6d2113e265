package elevated

import (
	"context"
	"errors"
	"fmt"
	"os"
	"unsafe"

	"golang.org/x/sys/windows"
)

var shellExecute = windows.NewLazySystemDLL("shell32.dll").NewProc("ShellExecuteExW")

// shellExecuteInfo is SHELLEXECUTEINFOW; see shellapi.h.
type shellExecuteInfo struct {
	size                              uint32
	mask                              uint32
	window                            windows.Handle
	verb, file, parameters, directory *uint16
	show                              int32
	instance                          windows.Handle
	list                              uintptr
	class                             *uint16
	keyClass                          windows.Handle
	hotKey                            uint32
	icon                              windows.Handle
	process                           windows.Handle
}

const keepProcess, noWindowOfErrors = 0x40, 0x400 // SEE_MASK_NOCLOSEPROCESS, SEE_MASK_FLAG_NO_UI

// System is how this system is asked for the rights of an administrator: the window of User Account Control.
func System() Starter {
	if windows.GetCurrentProcessToken().IsElevated() {
		return nil
	}
	return func(_ context.Context, args []string) (func() error, error) {
		exe, err := executable()
		if err != nil {
			return nil, err
		}
		verb, _ := windows.UTF16PtrFromString("runas")
		file, err := windows.UTF16PtrFromString(exe)
		if err != nil {
			return nil, err
		}
		parameters, err := windows.UTF16PtrFromString(windows.ComposeCommandLine(args))
		if err != nil {
			return nil, err
		}
		x := shellExecuteInfo{mask: keepProcess | noWindowOfErrors, verb: verb, file: file, parameters: parameters,
			show: windows.SW_HIDE}
		x.size = uint32(unsafe.Sizeof(x))
		if ok, _, err := shellExecute.Call(uintptr(unsafe.Pointer(&x))); ok == 0 {
			if errors.Is(err, windows.ERROR_CANCELLED) {
				return nil, errors.New("that was not given")
			}
			return nil, fmt.Errorf("it could not be started: %w", err)
		}
		return func() error {
			defer func() { _ = windows.CloseHandle(x.process) }()
			if _, err := windows.WaitForSingleObject(x.process, windows.INFINITE); err != nil {
				return os.NewSyscallError("WaitForSingleObject", err)
			}
			var code uint32
			if err := windows.GetExitCodeProcess(x.process, &code); err == nil && code != 0 {
				return fmt.Errorf("the helper ended with %d", code)
			}
			return nil
		}, nil
	}
}
