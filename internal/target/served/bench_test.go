package served_test

import (
	"encoding/json"
	"fmt"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/core/title"
	"polytome/internal/target"
	"polytome/internal/target/served"
)

// BenchmarkTenThousand opens an export of 21 TiB with 10,000 titles that was laid out before; it reports how long
// laying
// it out took, and the memory that an open one takes.
func BenchmarkTenThousand(b *testing.B) {
	at := served.Scheme + b.TempDir()
	o := served.Options{Capacity: 21 << 40, Make: source.Referred}
	p, err := served.Open(at, o)
	require.NoError(b, err)
	begun := time.Now()
	require.NoError(b, p.MakeFolder(b.Context(), "FULL"))
	for i := range 10_000 {
		recipe, err := json.Marshal(shape.Spec{Source: title.File{Path: fmt.Sprintf("/games/vesper/A Title %d.iso", i),
			Size: 2 << 30, Modified: begun}, Size: 2 << 30})
		require.NoError(b, err)
		require.NoError(b, p.Refer(b.Context(), target.Referral{Path: fmt.Sprintf("FULL/VSP-%05d - A Title.iso", i),
			Size: 2 << 30, Modified: begun, Recipe: recipe}))
	}
	laid := time.Since(begun)
	require.NoError(b, p.Close())
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	for b.Loop() {
		p, err = served.Open(at, o)
		require.NoError(b, err)
		b.StopTimer()
		runtime.GC()
		runtime.ReadMemStats(&after)
		require.NoError(b, p.Close())
		b.StartTimer()
	}
	b.ReportMetric(laid.Seconds(), "s-laid-out")
	b.ReportMetric(float64(int64(after.HeapAlloc)-int64(before.HeapAlloc))/1e6, "MB-open")
}
