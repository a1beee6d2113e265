package target_test

import (
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/testkit/judge"
)

func named(t testing.TB, name string) target.Filesystem {
	f, err := target.FilesystemNamed(name)
	require.NoError(t, err)
	return f
}

func TestNamesOnEachFilesystem(t *testing.T) {
	long := strings.Repeat("ä", 200)
	for name, c := range map[string]struct{ fat, ext string }{ // "" for legal
		"Copper Tide.iso":        {"", ""},
		"Quarry & Sons":          {"", ""},
		"what?":                  {`does not allow the character '?'`, ""},
		"a:b":                    {`does not allow the character ':'`, ""},
		"ends in a dot.":         {"to end in '.'", ""},
		"ends in a space ":       {"to end in ' '", ""},
		"CON":                    {"\"CON\" is a device", ""},
		"com1.txt":               {"\"com1\" is a device", ""},
		"COM10.txt":              {"", ""},
		"console":                {"", ""},
		long:                     {"", "it has 400 bytes; ext4 allows 255"},
		long + long:              {"it has 400 UTF-16 units; FAT32 allows 255", "it has 800 bytes"},
		strings.Repeat("😀", 128): {"it has 256 UTF-16 units", "it has 512 bytes"},
		"":                       {"a name", "a name"},
		"..":                     {"a name", "a name"},
		"a/b":                    {`'/'`, `'/'`},
		"tab\t":                  {`'\t'`, `'\t'`},
		"bad\xff":                {"not valid Unicode", ""},
		"polytome":               {"", ""},
	} {
		for fs, want := range map[string]string{"fat32": c.fat, "exfat": strings.ReplaceAll(c.fat, "FAT32", "exFAT"),
			"ntfs": strings.ReplaceAll(c.fat, "FAT32", "NTFS"), "ext4": c.ext} {
			got := named(t, fs).CheckName(name)
			if want == "" {
				assert.Empty(t, got, "%s on %s", name, fs)
			} else {
				assert.Contains(t, got, want, "%s on %s", name, fs)
			}
		}
	}
}

// TestClustersAgreeWithAForeignFormatter has volumes of many sizes formatted by
// someone else, and reads the cluster size out of their boot sectors.
func TestClustersAgreeWithAForeignFormatter(t *testing.T) {
	fat := named(t, "fat32")
	for _, gib := range []int64{1, 4, 8, 12, 16, 24, 32, 58, 64, 256} {
		img := filepath.Join(t.TempDir(), "v.img")
		require.NoError(t, os.WriteFile(img, nil, 0o644))
		require.NoError(t, os.Truncate(img, gib*size.GiB-size.MiB)) // a stick is a little smaller than it says
		judge.Run(t, "mkfs.fat", "-F", "32", img)
		f, err := os.Open(img)
		require.NoError(t, err)
		boot := make([]byte, 512)
		_, err = f.ReadAt(boot, 0)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		want := int64(binary.LittleEndian.Uint16(boot[11:])) * int64(boot[13])
		assert.Equal(t, want, fat.Cluster(gib*size.GiB-size.MiB), "%d GiB", gib)
		require.NoError(t, os.Remove(img))
	}
}

func TestSpaceAndPaths(t *testing.T) {
	f := target.Facts{Cluster: 32 * size.KiB}
	for n, want := range map[int64]int64{0: 0, 1: 32 * size.KiB, 32 * size.KiB: 32 * size.KiB,
		32*size.KiB + 1: 64 * size.KiB} {
		assert.Equal(t, want, f.SpaceFor("a.iso", n))
	}
	assert.Equal(t, named(t, "fat32").Fold("Full/A.iso"), named(t, "fat32").Fold("FULL/a.ISO"))
	assert.NotEqual(t, named(t, "ext4").Fold("Full"), named(t, "ext4").Fold("FULL"))
	assert.EqualValues(t, 32*(1+3), named(t, "fat32").EntryBytes("VSP-20417 - Copper Tide, the second.iso"),
		"a name of 39 takes three entries and the short one")

	for path, want := range map[string]bool{
		"FULL/polytome-0123456789abcdef.begun": true, "polytome-0123456789abcdef.begun": true,
		"polytome-notes.begun": false,
		"FULL/game.begun":      false, "polytome-0123456789abcdef.begun/x": false,
	} {
		assert.Equal(t, want, target.IsTemporary(path), path)
	}
	_, err := target.FilesystemNamed("fat")
	assert.ErrorContains(t, err, fmt.Sprintf("use one of: %s", strings.Join(target.FilesystemNames(), ", ")))
}
