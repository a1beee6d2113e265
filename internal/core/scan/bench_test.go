package scan_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"polytome/internal/core/scan"
	"polytome/internal/core/scancache"
	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/versus"
)

// manyFiles makes a tree of n cartridges, so many to a folder.
func manyFiles(tb testing.TB, n, perFolder int) string {
	dir := tb.TempDir()
	for i := range n {
		sub := filepath.Join(dir, fmt.Sprintf("shelf %03d", i/perFolder))
		if i%perFolder == 0 {
			require.NoError(tb, os.MkdirAll(sub, 0o755))
		}
		require.NoError(tb, os.WriteFile(filepath.Join(sub, fmt.Sprintf("Kite Number %05d.w8", i)),
			demo.Cartridge("WREN", fmt.Sprintf("Kite Number %05d", i)), 0o644))
	}
	return dir
}

// BenchmarkScan50000 goes through 50,000 files: for the first time, again with nothing changed, and
// find does the same walk, in turns.
func BenchmarkScan50000(b *testing.B) {
	for _, perFolder := range []int{100, 1} {
		b.Run(fmt.Sprintf("%d a folder", perFolder), func(b *testing.B) {
			dir := manyFiles(b, 50_000, perFolder)
			cache := filepath.Join(b.TempDir(), "seen.sqlite")
			set := coretest.Set(b)
			scanned := func() time.Duration {
				begun := time.Now()
				store, err := scancache.Open(cache)
				require.NoError(b, err)
				r, err := scan.Scan(context.Background(), []string{dir}, scan.Options{Set: set, Cache: store})
				require.NoError(b, err)
				require.Len(b, r.Titles, 50_000)
				require.Empty(b, r.Problems)
				require.NoError(b, store.Close())
				return time.Since(begun)
			}
			first := scanned()
			versus.Race(b, func() {}, versus.Contender{Name: "again", Do: func() { scanned() }},
				versus.Contender{Name: "find", Most: 1.5, Do: func() {
					out, err := exec.Command("find", dir, "-printf", `%s %T@\n`).Output()
					require.NoError(b, err)
					require.NotEmpty(b, out)
				}})
			b.ReportMetric(float64(first.Milliseconds()), "ms/first")
		})
	}
}
