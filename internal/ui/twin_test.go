package ui

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/testkit/coretest"
)

// TestAStickIsMadeLikeAnotherOnTheScreen: t in Drives compares and asks; what would be replaced needs the name of the
// copy.
func TestAStickIsMadeLikeAnotherOnTheScreen(t *testing.T) {
	a, _ := drivesApp(t)
	press(a, "right", "right")
	copied := filepath.Join(t.TempDir(), "copy")
	require.NoError(t, os.Mkdir(copied, 0o755))
	press(a, "t")
	require.Contains(t, flat(a), "Make a stick like HOLIDAY: ")
	write(a, copied)
	require.Contains(t, flat(a), "to write, ")
	require.Contains(t, flat(a), "Copy to "+copied+"?")
	there, err := os.ReadDir(copied)
	require.NoError(t, err)
	require.Empty(t, there, "nothing is written yet")
	press(a, "enter")
	assert.Contains(t, flat(a), "copied to "+copied+" and read back")
	press(a, "t")
	write(a, copied)
	assert.Contains(t, flat(a), "has all that is on")

	var one string
	require.NoError(t, filepath.Walk(copied, func(p string, info os.FileInfo, err error) error {
		if err == nil && info.Mode().IsRegular() && one == "" {
			one = p
		}
		return err
	}))
	was, err := os.ReadFile(one)
	require.NoError(t, err)
	rel, err := filepath.Rel(copied, one)
	require.NoError(t, err)
	coretest.Write(t, copied, rel, []byte("something else"))
	press(a, "t")
	write(a, copied)
	assert.Contains(t, flat(a), "1 file on "+copied+" would be replaced. Type copy to confirm:")
	write(a, "no")
	assert.Contains(t, flat(a), "That is not its name. Nothing was written.")
	press(a, "t")
	write(a, copied)
	write(a, "copy")
	is, err := os.ReadFile(one)
	require.NoError(t, err)
	assert.Equal(t, was, is)
}
