package fat_test

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"

	"polytome/internal/format/fat"
	"polytome/internal/size"
	"polytome/internal/testkit/versus"
	"polytome/internal/testkit/volumetest"
)

// BenchmarkFormat2TiB makes a FAT32 volume of 2 TiB in a sparse image, in turns with mkfs.fat, and prints the ratio of
// the medians.
func BenchmarkFormat2TiB(b *testing.B) {
	versus.Race(b, func() {}, versus.Contender{Name: "format", Most: 1, Do: func() {
		f := volumetest.NewFile(b, 2*size.TiB)
		require.NoError(b, fat.Format(f, f.Size(), fat.Options{Bits: 32, Cluster: 32 * size.KiB}))
	}}, versus.Contender{Name: "mkfs.fat", Most: 1, Do: func() {
		g := volumetest.NewFile(b, 2*size.TiB)
		require.NoError(b, exec.Command("mkfs.fat", "-F", "32", "-s", "64", g.Name()).Run())
	}})
}
