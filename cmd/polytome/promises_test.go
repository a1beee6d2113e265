package main

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/testkit/judge"
)

// TestAPasswordStandsInNoFile: after work with a share, with a wrong password and the right one, neither is in any file
// that was written, nor in what was said. SECURITY.md promises it.
func TestAPasswordStandsInNoFile(t *testing.T) {
	own, dir := ownFolders(t), t.TempDir()
	games := cartridges(t, 300_000)
	s := judge.SMB(t, t.TempDir())
	at := fmt.Sprintf("smb://%s@127.0.0.1:%d/games", s.User, s.Port)
	wrong := "not-" + s.Password
	t.Setenv("RIGHT", s.Password)
	t.Setenv("WRONG", wrong)
	season := filepath.Join(dir, "season.toml")
	require.NoError(t, os.WriteFile(season, fmt.Appendf(nil, "format = 1\n[[source]]\npath = %q\n[[target]]\nname = "+
		"\"Share\"\nat = %q\nloader = \"oxbow\"\neverything = true\n", games, at), 0o600))
	var said []byte
	for _, args := range [][]string{{"connections", "test", at, "--password-env", "WRONG"},
		{"fill", "--bench", season, "--password-env", "WRONG"},
		{"fill", "--bench", season, "--password-env", "RIGHT", "--remove"},
		{"check", "--bench", season, "--password-env", "RIGHT", "--json"},
		{"runs"}, {"runs", "--json"}, {"ledger", "export", "--json"}, {"doctor", "--json"}} {
		_, out, stderr := polytome(t, args...)
		said = append(append(said, out...), stderr...)
	}
	assert.Contains(t, string(said), "copied", "the share was filled")
	looked := 0
	for _, root := range []string{own, dir, s.Dir} {
		require.NoError(t, filepath.WalkDir(root, func(file string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return err
			}
			b, err := os.ReadFile(file)
			looked++
			noSecret(t, file, b, s.Password)
			return err
		}))
	}
	assert.Greater(t, looked, 5, "what was remembered of the share")
	noSecret(t, "what was said", said, s.Password)
}

// noSecret holds that a text is in some bytes in no usual spelling.
func noSecret(t *testing.T, where string, b []byte, secret string) {
	t.Helper()
	wide := make([]byte, 0, 2*len(secret))
	for _, c := range utf16.Encode([]rune(secret)) {
		wide = append(wide, byte(c), byte(c>>8))
	}
	for how, text := range map[string][]byte{"as it is": []byte(secret), "in UTF-16": wide,
		"in Base64": []byte(base64.RawStdEncoding.EncodeToString([]byte(secret)))} {
		assert.False(t, bytes.Contains(b, text), "%s has the password %s", where, how)
	}
}
