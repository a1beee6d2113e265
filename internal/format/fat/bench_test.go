package fat_test

import (
	"os/exec"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"polytome/internal/format/fat"
	"polytome/internal/size"
	"polytome/internal/testkit/volumetest"
)

// BenchmarkFormat2TiB makes a FAT32 volume of 2 TiB in a sparse image, in turns with mkfs.fat, and prints the ratio of
// the medians.
func BenchmarkFormat2TiB(b *testing.B) {
	var ours, theirs []float64
	for b.Loop() {
		f := volumetest.NewFile(b, 2*size.TiB)
		start := time.Now()
		require.NoError(b, fat.Format(f, f.Size(), fat.Options{Bits: 32, Cluster: 32 * size.KiB}))
		ours = append(ours, time.Since(start).Seconds())
		g := volumetest.NewFile(b, 2*size.TiB)
		start = time.Now()
		require.NoError(b, exec.Command("mkfs.fat", "-F", "32", "-s", "64", g.Name()).Run())
		theirs = append(theirs, time.Since(start).Seconds())
	}
	slices.Sort(ours)
	slices.Sort(theirs)
	b.ReportMetric(ours[len(ours)/2], "seconds")
	b.ReportMetric(ours[len(ours)/2]/theirs[len(theirs)/2], "ours/mkfs.fat")
}
