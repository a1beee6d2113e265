package elevated

import (
	"context"
	"crypto/rand"
	"errors"
	"net"
	"os"
	"sync"
	"unsafe"

	"golang.org/x/sys/windows"
)

// pipes is a named pipe that is listened at. Of it there is always one more end than there are connections.
type pipes struct {
	name   *uint16
	rights *windows.SecurityAttributes
	closed windows.Handle // an event: no one listens any longer
	once   sync.Once
	first  windows.Handle // made before anybody may know the name
}

// listen makes a named pipe with a name that cannot be guessed, which its owner and administrators reach, on this
// computer only.
func listen() (l net.Listener, address string, tidy func(), err error) {
	address = `\\.\pipe\polytome-` + rand.Text()
	name, err := windows.UTF16PtrFromString(address)
	if err != nil {
		return nil, "", nil, err
	}
	rights, err := windows.SecurityDescriptorFromString("D:P(A;;GA;;;OW)(A;;GA;;;BA)")
	if err != nil {
		return nil, "", nil, err
	}
	p := &pipes{name: name, rights: &windows.SecurityAttributes{SecurityDescriptor: rights}}
	p.rights.Length = uint32(unsafe.Sizeof(*p.rights))
	if p.closed, err = windows.CreateEvent(nil, 1, 0, nil); err != nil {
		return nil, "", nil, err
	}
	if p.first, err = p.make(windows.FILE_FLAG_FIRST_PIPE_INSTANCE); err != nil {
		return nil, "", nil, err
	}
	return p, address, func() {}, nil
}

func (p *pipes) make(flags uint32) (windows.Handle, error) {
	const buffer = 64 << 10
	h, err := windows.CreateNamedPipe(p.name, windows.PIPE_ACCESS_DUPLEX|windows.FILE_FLAG_OVERLAPPED|flags,
		windows.PIPE_TYPE_BYTE|windows.PIPE_REJECT_REMOTE_CLIENTS, windows.PIPE_UNLIMITED_INSTANCES, buffer, buffer, 0,
		p.rights)
	return h, os.NewSyscallError("CreateNamedPipe", err)
}

// Accept waits for the next connection. One goroutine at a time calls it.
func (p *pipes) Accept() (net.Conn, error) {
	h := p.first
	p.first = 0
	if h == 0 {
		var err error
		if h, err = p.make(0); err != nil {
			return nil, err
		}
	}
	if err := p.connect(h); err != nil {
		_ = windows.CloseHandle(h)
		return nil, err
	}
	return onPipe(h), nil
}

func (p *pipes) connect(h windows.Handle) error {
	came, err := windows.CreateEvent(nil, 1, 0, nil)
	if err != nil {
		return err
	}
	defer func() { _ = windows.CloseHandle(came) }()
	o := &windows.Overlapped{HEvent: came}
	switch err := windows.ConnectNamedPipe(h, o); {
	case err == nil, errors.Is(err, windows.ERROR_PIPE_CONNECTED):
		return nil
	case !errors.Is(err, windows.ERROR_IO_PENDING):
		return os.NewSyscallError("ConnectNamedPipe", err)
	}
	which, err := windows.WaitForMultipleObjects([]windows.Handle{p.closed, came}, false, windows.INFINITE)
	if err == nil && which == windows.WAIT_OBJECT_0 {
		err = net.ErrClosed
	}
	if err != nil {
		_ = windows.CancelIoEx(h, o)
	}
	var n uint32
	if done := windows.GetOverlappedResult(h, o, &n, true); err == nil {
		err = done
	}
	return err
}

// Close ends the waiting.
func (p *pipes) Close() error {
	p.once.Do(func() { _ = windows.SetEvent(p.closed) })
	return nil
}

// Addr is of no use here.
func (p *pipes) Addr() net.Addr { return pipeAddress{} }

type pipeAddress struct{}

func (pipeAddress) Network() string { return "pipe" }
func (pipeAddress) String() string  { return "the helper's pipe" }

// conn is one end of a connection.
type conn struct{ *os.File }

func onPipe(h windows.Handle) net.Conn { return conn{os.NewFile(uintptr(h), "pipe")} }

// LocalAddr names the pipe.
func (conn) LocalAddr() net.Addr { return pipeAddress{} }

// RemoteAddr names the pipe.
func (conn) RemoteAddr() net.Addr { return pipeAddress{} }

// dial connects to a pipe.
func dial(ctx context.Context, address string) (net.Conn, error) {
	name, err := windows.UTF16PtrFromString(address)
	if err != nil {
		return nil, err
	}
	for {
		h, err := windows.CreateFile(name, windows.GENERIC_READ|windows.GENERIC_WRITE, 0, nil, windows.OPEN_EXISTING,
			windows.FILE_FLAG_OVERLAPPED|windows.SECURITY_SQOS_PRESENT|windows.SECURITY_ANONYMOUS, 0)
		if err == nil {
			return onPipe(h), nil
		}
		if !errors.Is(err, windows.ERROR_PIPE_BUSY) || ctx.Err() != nil {
			return nil, &os.PathError{Op: "open", Path: address, Err: err}
		}
		if err := waitForPipe(name); err != nil {
			return nil, &os.PathError{Op: "open", Path: address, Err: err}
		}
	}
}

var waitNamedPipe = windows.NewLazySystemDLL("kernel32.dll").NewProc("WaitNamedPipeW")

// waitForPipe waits until the other side listens again, for up to a minute.
func waitForPipe(name *uint16) error {
	if ok, _, err := waitNamedPipe.Call(uintptr(unsafe.Pointer(name)), 60_000); ok == 0 {
		return err
	}
	return nil
}
