package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
	"polytome/internal/testkit/judge"
)

// TestABoxIsFilledOverSFTP has OpenSSH's server stand for a small box that plays games, and a user with a key.
func TestABoxIsFilledOverSFTP(t *testing.T) {
	w := world(t)
	s := judge.SSH(t, t.TempDir())
	dir := filepath.Join(s.Dir, "games")
	require.NoError(t, os.Mkdir(dir, 0o777))
	require.NoError(t, os.Chmod(dir, 0o777))
	home := s.Home(t)
	at := fmt.Sprintf("sftp://%s@127.0.0.1:%d%s", s.User, s.Port, dir)

	status, _, errs := polytome(t, "connections", "test", at)
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, errs, "the host key of 127.0.0.1 is not accepted yet ("+s.Host+")")
	status, _, errs = polytome(t, "connections", "trust", at, "--fingerprint", "SHA256:other")
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, errs, "has the fingerprint "+s.Host+" and not SHA256:other: nothing was accepted")
	answer := exec.Command(binary, "connections", "trust", at)
	answer.Stdin = stdin(t, "no\n")
	status, _, errs = finish(t, answer)
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, errs, s.Host)
	assert.Contains(t, errs, "was not accepted")
	ok(t, "connections", "trust", at, "--fingerprint", s.Host)
	assert.Contains(t, ok(t, "connections", "trust", at), "shows no key that would have to be accepted")
	_, err := os.Stat(filepath.Join(home, ".ssh", "known_hosts"))
	assert.ErrorIs(t, err, os.ErrNotExist, "the list of other programs is theirs")

	out := ok(t, "connections", "test", at)
	assert.Contains(t, out, "logs in "+s.User)
	assert.NotContains(t, out, "not encrypted")
	assert.Contains(t, out, "resumes files              yes")
	status, out, errs = polytome(t, "fill", "--from", w.Shelf, "--loader", "oxbow", "--to", at, "--only", "size<50M")
	assert.Contains(t, []int{statusDone, statusPartial}, status, out+errs)
	assert.Contains(t, out, "read back", "files are compared over SFTP")
	startsAll(t, "oxbow", dir, out+errs)
	_, out, errs = polytome(t, "check", "--loader", "oxbow", "--to", at)
	assert.Contains(t, out, "Oxbow will list", errs)
	_, out, _ = polytome(t, "plan", "--from", w.Shelf, "--loader", "oxbow", "--to", at, "--only", "size<50M")
	assert.Contains(t, out, "0 files to write", "a second time there is nothing to do")
	assert.Contains(t, loader.Connections, "sftp", "a profile can say how such a box is filled")
}

// TestAHostKeyIsAcceptedOnTheScreen walks as somebody would who adds such a box.
func TestAHostKeyIsAcceptedOnTheScreen(t *testing.T) {
	s := judge.SSH(t, t.TempDir())
	home := s.Home(t)
	bench := filepath.Join(home, "bench.toml")
	require.NoError(t, os.WriteFile(bench, fmt.Appendf(nil, `format = 1

[[target]]
name = "Box"
at = "sftp://%s@127.0.0.1:%d%s"
loader = "oxbow"
everything = true
`, s.User, s.Port, s.Dir), 0o644))
	term := open(t, 110, 30, fmt.Sprintf("HOME=%s XDG_CONFIG_HOME=%[1]s/config SSH_AUTH_SOCK= %s --bench %s", home,
		binary, bench))
	term.wait("Accept the host key of 127.0.0.1 (yes or no)?", s.Host)
	term.keys("yes", "Enter")
	term.keys("2")
	term.wait("Box", "free")
	assert.FileExists(t, filepath.Join(home, "config", "polytome", "host-keys"))
}

// stdin is a file with what somebody types.
func stdin(t *testing.T, text string) *os.File {
	name := filepath.Join(t.TempDir(), "typed")
	require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
	f, err := os.Open(name)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return f
}
