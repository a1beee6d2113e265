// Package judge runs foreign programs in tests, to have what Polytome reads and
// writes checked by somebody else's eyes.
package judge

import (
	"os/exec"
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

// Try is [Run] for a program whose failure is an answer too.
func Try(t testing.TB, program string, args ...string) (string, error) {
	t.Helper()
	if _, err := exec.LookPath(program); err != nil {
		t.Fatalf("this test needs %s, which is not installed; scripts/test installs it", program)
	}
	out, err := exec.Command(program, args...).CombinedOutput()
	return string(out), err
}
