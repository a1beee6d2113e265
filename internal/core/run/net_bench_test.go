package run_test

import (
	"context"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"

	"polytome/internal/core/run"
	"polytome/internal/target/remote"
	"polytome/internal/target/smb"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/versus"
)

// BenchmarkReadBack reads 1 GiB back from a share, with several reads in flight, and one after the other, as a plain
// reader would.
func BenchmarkReadBack(b *testing.B) {
	s := judge.SMB(b, b.TempDir())
	data := make([]byte, 1<<30)
	require.NoError(b, os.WriteFile(filepath.Join(s.Dir, "a.iso"), data, 0o644))
	b.SetBytes(1 << 30)
	buf := make([]byte, 512<<10)
	reads := func(jump bool) func() {
		return func() {
			p, err := smb.Open(context.Background(), remote.Address{Host: "127.0.0.1", Port: s.Port, Root: "games"},
				remote.Settings{User: s.User, Password: s.Password})
			require.NoError(b, err)
			c, err := p.Open(context.Background(), "a.iso")
			require.NoError(b, err)
			n := c.Size() / int64(len(buf))
			for i := range n {
				at := i * int64(len(buf))
				if jump { // backwards, nothing is asked for ahead
					at = (n - 1 - i) * int64(len(buf))
				}
				_, err := c.ReadAt(buf, at)
				require.NoError(b, err)
			}
			require.NoError(b, c.Close())
			require.NoError(b, p.Close())
		}
	}
	versus.Race(b, func() {}, versus.Contender{Name: "ahead", Do: reads(false)},
		versus.Contender{Name: "one-by-one", Most: 1, Do: reads(true)})
}

// BenchmarkMemory measures what the heap grows by while one lane writes 1 GiB.
func BenchmarkMemory(b *testing.B) {
	s := judge.SMB(b, b.TempDir())
	p, _ := files(b, 1<<30)
	var most uint64
	for b.Loop() {
		to, err := smb.Open(context.Background(), remote.Address{Host: "127.0.0.1", Port: s.Port, Root: "games"},
			remote.Settings{User: s.User, Password: s.Password})
		require.NoError(b, err)
		runtime.GC()
		var before runtime.MemStats
		runtime.ReadMemStats(&before)
		r := run.Run(context.Background(), p, to, run.Options{}, func(run.Event) {
			var now runtime.MemStats
			runtime.ReadMemStats(&now)
			most = max(most, now.HeapInuse-min(before.HeapInuse, now.HeapInuse))
		})
		require.Empty(b, r.Failed)
		require.NoError(b, to.Close())
		require.NoError(b, os.RemoveAll(filepath.Join(s.Dir, "FULL")))
	}
	b.ReportMetric(float64(most)/(1<<20), "MiB")
}
