package internal_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestOnlyTheseRoomsReachOut: whoever adds a room that opens connections says here what for, and keeps what SECURITY.md
// promises: none to a host that the user did not name.
func TestOnlyTheseRoomsReachOut(t *testing.T) {
	may := []string{
		"internal/target/remote", "internal/target/ftp", "internal/target/sftp", "internal/target/smb", // targets
		"internal/nbd",                                             // disks that are exported, at their addresses
		"internal/core/cover",                                      // a server of pictures that is on the bench
		"internal/core/connections",                                // tests of a target's address
		"internal/core/survey",                                     // whether a target is there
		"internal/core/serve", "internal/ui/state", "cmd/polytome", // listen, and answer
		"internal/netcards",        // this computer's own addresses
		"internal/drives/elevated", // between two processes of this computer
		"internal/demo", "internal/sim", "internal/testkit",
	}
	opens := func(imp string) bool {
		return imp == "net" || imp == "net/http" || imp == "crypto/tls" || strings.HasPrefix(imp,
			"golang.org/x/crypto/ssh") || strings.Contains(imp, "smb2")
	}
	for path, p := range packages(t) {
		for _, imp := range p.Imports {
			assert.False(t, opens(imp) && !under(path, may...), "%s imports %s", path, imp)
		}
	}
}

// TestNoHostIsNamedInCode: an address in a text of the program is of this computer, an example (RFC 2606), or the name
// of a format, which nobody asks for.
func TestNoHostIsNamedInCode(t *testing.T) {
	address := regexp.MustCompile(`(?:https?|ftps?|smb|sftp|nbd)://([A-Za-z0-9.-]+\.[A-Za-z]{2,}|\d+\.\d+\.\d+\.\d+)`)
	formats := []string{"www.w3.org", "json-schema.org"}
	found := 0
	for _, space := range []string{".", "../cmd"} {
		require.NoError(t, filepath.WalkDir(space, func(file string, d fs.DirEntry, err error) error {
			name := d.Name()
			if err != nil || d.IsDir() || strings.HasSuffix(name, "_test.go") ||
				!strings.HasSuffix(name, ".go") && !strings.HasSuffix(name, ".toml") {
				return err
			}
			b, err := os.ReadFile(file)
			for _, m := range address.FindAllStringSubmatch(string(b), -1) {
				found++
				host := m[1]
				assert.True(t, strings.HasPrefix(host, "127.") || strings.HasPrefix(host, "192.168.") ||
					strings.HasSuffix(host, ".example") || slices.Contains(formats, host), "%s names %s", file, host)
			}
			return err
		}))
	}
	assert.Greater(t, found, 5)
}

// TestEachPromiseIsHeldByATest: the tests that SECURITY.md names are there.
func TestEachPromiseIsHeldByATest(t *testing.T) {
	text, err := os.ReadFile("../SECURITY.md")
	require.NoError(t, err)
	var code strings.Builder
	for _, space := range []string{".", "../cmd"} {
		require.NoError(t, filepath.WalkDir(space, func(file string, d fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(file, "_test.go") {
				return err
			}
			b, err := os.ReadFile(file)
			code.Write(b)
			return err
		}))
	}
	names := regexp.MustCompile("`(Test\\w+)`").FindAllStringSubmatch(string(text), -1)
	assert.Greater(t, len(names), 8)
	for _, m := range names {
		assert.Contains(t, code.String(), "\nfunc "+m[1]+"(t *testing.T) {", "SECURITY.md names %s", m[1])
	}
}
