package sums_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/sums"
	"polytome/internal/testkit/judge"
)

func TestLists(t *testing.T) {
	lines, errs := sums.Parse("games.sfv",
		"\uFEFF; made by hand\r\nCopper Tide (Disc 1).iso 0AbC1234\r\nsub\\x.bin\tFFFFFFFF\r\n\r\n../out "+
			"00000000\r\nnothing\r\n")
	assert.Equal(t, []sums.Line{
		{Name: "Copper Tide (Disc 1).iso", Algorithm: sums.CRC32, Sum: "0abc1234", Number: 2},
		{Name: "sub/x.bin", Algorithm: sums.CRC32, Sum: "ffffffff", Number: 3},
	}, lines)
	require.Len(t, errs, 2)
	assert.EqualError(t, errs[0], `line 5 is no checksum with a file's name: "../out 00000000"`)
}

// TestListsOfOthers reads what the system's own programs write.
func TestListsOfOthers(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a file"), []byte("abc"), 0o644))
	for program, algorithm := range map[string]sums.Algorithm{"md5sum": sums.MD5, "sha1sum": sums.SHA1,
		"sha256sum": sums.SHA256} {
		for _, flag := range []string{"--text", "--binary", "--tag"} {
			out := judge.Run(t, "bash", "-c", `cd "$0" && "$1" "$2" "a file"`, dir, program, flag)
			lines, errs := sums.Parse("x", out)
			require.Empty(t, errs)
			require.Len(t, lines, 1, "%s %s: %s", program, flag, out)
			assert.Equal(t, "a file", lines[0].Name)
			assert.Equal(t, algorithm, lines[0].Algorithm)
			assert.Contains(t, strings.ToLower(out), lines[0].Sum)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("a.sfv", "x 00000000\n")
	f.Add("a.md5", "MD5 (x) = 900150983cd24fb0d6963f7d28e17f72\n900150983cd24fb0d6963f7d28e17f72 *y")
	f.Fuzz(func(t *testing.T, name, text string) {
		lines, _ := sums.Parse(name, text)
		for _, l := range lines {
			if l.Algorithm == "" || l.Sum == "" || !filepath.IsLocal(filepath.FromSlash(l.Name)) {
				t.Fatalf("%+v", l)
			}
		}
	})
}
