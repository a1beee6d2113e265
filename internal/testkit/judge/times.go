package judge

import (
	"flag"
	"strconv"
	"testing"

	"pgregory.net/rapid"
)

// Times checks a property so often. Tests that call it must not run beside others of their package.
func Times(t *testing.T, n int, property func(t *rapid.T)) {
	t.Helper()
	checks := flag.Lookup("rapid.checks")
	before := checks.Value.String()
	if err := checks.Value.Set(strconv.Itoa(n)); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = checks.Value.Set(before) }()
	rapid.Check(t, property)
}
