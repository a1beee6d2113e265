// Package judge runs foreign programs in tests, to have what Polytome reads and
// writes checked by someone else's eyes.
package judge

import (
	"os"
	"os/exec"
	"runtime"
	"testing"
)

// Run runs a program and returns what it printed on both of its outputs. The test fails
// when the program is missing (scripts/test installs them all) or reports an
// error.
func Run(t testing.TB, program string, args ...string) string {
	t.Helper()
	out, err := Try(t, program, args...)
	if err != nil {
		t.Fatalf("%s %q: %v\n%s", program, args, err, out)
	}
	return out
}

// Mount mounts a filesystem of the test's own in memory on a new folder, with
// the given options, and unmounts it at the end. It needs root, or sudo without
// a password.
func Mount(t testing.TB, options string) (dir string) {
	t.Helper()
	dir = t.TempDir()
	Root(t, "mount", "-t", "tmpfs", "-o", "mode=0777,"+options, "polytome-test", dir)
	t.Cleanup(func() { Root(t, "umount", dir) })
	return dir
}

// Remount changes the options of a filesystem from [Mount].
func Remount(t testing.TB, dir, options string) {
	t.Helper()
	Root(t, "mount", "-o", "remount,"+options, dir)
}

// Root is [Run] as root, through sudo where the tests run as someone else.
func Root(t testing.TB, program string, args ...string) string {
	t.Helper()
	if os.Getuid() != 0 {
		program, args = "sudo", append([]string{"-n", program}, args...)
	}
	return Run(t, program, args...)
}

// AsRoot reports whether the test goes on here. Where the tests run as someone else, it is run as root in a process of
// its own, through sudo, and its verdict is that of the test.
func AsRoot(t *testing.T) bool {
	t.Helper()
	if os.Getuid() == 0 {
		return true
	}
	Run(t, "sudo", "-n", os.Args[0], "-test.run=^"+t.Name()+"$")
	return false
}

// NotWindows ends a test that cannot run as a Windows program, and says why.
func NotWindows(t testing.TB, why string) {
	t.Helper()
	if runtime.GOOS == "windows" {
		t.Skip(why)
	}
}

// Try is [Run] for a program whose failure is an answer too.
func Try(t testing.TB, program string, args ...string) (string, error) {
	t.Helper()
	NotWindows(t, program+" judges this where the tests run under Linux")
	if _, err := exec.LookPath(program); err != nil {
		t.Fatalf("this test needs %s, which is not installed; scripts/test installs it", program)
	}
	out, err := exec.Command(program, args...).CombinedOutput()
	return string(out), err
}
