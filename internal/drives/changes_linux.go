package drives

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// ueventGroup is the group of the kernel's own messages on a socket of NETLINK_KOBJECT_UEVENT; see netlink(7).
const ueventGroup = 1

// pollEvery is how often it is looked whether the context has ended.
const pollEvery = 200 * time.Millisecond

// Changes has something come on the channel whenever devices came or went, or something was mounted or unmounted: the
// kernel's messages and poll(2) on mountinfo say so. Several changes may come as one. It is closed when the context
// ends, or at once where the kernel says neither: then there is nothing but looking.
func (s System) Changes(ctx context.Context) <-chan struct{} {
	out := make(chan struct{}, 1)
	var fds []unix.PollFd
	mounts, err := os.Open(filepath.Join(s.Proc, "self", "mountinfo"))
	if err == nil {
		fds = append(fds, unix.PollFd{Fd: int32(mounts.Fd()), Events: unix.POLLPRI})
	}
	socket, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK,
		unix.NETLINK_KOBJECT_UEVENT)
	if err == nil {
		if err = unix.Bind(socket, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: ueventGroup}); err == nil {
			fds = append(fds, unix.PollFd{Fd: int32(socket), Events: unix.POLLIN})
		} else {
			_ = unix.Close(socket)
		}
	}
	listens := err == nil
	go func() {
		defer close(out)
		if mounts != nil {
			defer mounts.Close()
		}
		if listens {
			defer func() { _ = unix.Close(socket) }()
		}
		for len(fds) > 0 && ctx.Err() == nil {
			n, err := unix.Poll(fds, int(pollEvery.Milliseconds()))
			if err != nil && err != unix.EINTR { //nolint:errorlint // a number of the system's
				return
			}
			if n <= 0 {
				continue
			}
			if listens {
				drain(socket)
			}
			select {
			case out <- struct{}{}:
			default:
			}
		}
	}()
	return out
}

// drain reads what waits on a socket. That something came is all that counts.
func drain(socket int) {
	b := make([]byte, 8<<10)
	for {
		if _, _, err := unix.Recvfrom(socket, b, 0); err != nil && err != unix.ENOBUFS { //nolint:errorlint // see above
			return
		}
	}
}

// node is what a file or device is known by while it is the same: one that is put in its place has another. Of a device
// whose medium can be changed, it is another one for each.
func (s System) node(info os.FileInfo) string {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return ""
	}
	if info.Mode()&os.ModeDevice != 0 {
		number := fmt.Sprintf("%d:%d", unix.Major(st.Rdev), unix.Minor(st.Rdev))
		dir := filepath.Join(s.Sys, "dev", "block", number)
		if real, err := filepath.EvalSymlinks(dir); err == nil {
			dir = real
		}
		seq := read(dir, "diskseq")
		if seq == "" { // of a partition, it is that of its drive
			seq = read(filepath.Dir(dir), "diskseq")
		}
		return number + "-" + seq
	}
	return strconv.FormatUint(st.Dev, 10) + "-" + strconv.FormatUint(st.Ino, 10)
}
