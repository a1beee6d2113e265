package discread_test

import (
	"bytes"
	"crypto/sha1"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"polytome/internal/core/discread"
	"polytome/internal/optical"
	sim "polytome/internal/sim/optical"
)

// cpu is how long the processors have worked for this process.
func cpu(b *testing.B) time.Duration {
	var u unix.Rusage
	require.NoError(b, unix.Getrusage(unix.RUSAGE_SELF, &u))
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// BenchmarkReading reads a disc into an image with its sums, the simulated drive counted too: how much of one core that
// takes while a DVD is read at 16 times its speed, and how many times the work of copying the same bytes with their sums.
func BenchmarkReading(b *testing.B) {
	const blocks = 64 << 10
	data := noise(blocks)
	dir := b.TempDir()
	var ours, plain time.Duration
	for b.Loop() {
		m := sim.New()
		m.Put(sim.DataDisc(sim.DVDROM, bytes.NewReader(data), blocks))
		d := optical.New(optical.Over(m))
		begun := cpu(b)
		disc, err := discread.Look(b.Context(), d)
		require.NoError(b, err)
		file := filepath.Join(dir, "disc.iso")
		_, err = discread.Into(b.Context(), d, disc, file, discread.Options{})
		require.NoError(b, err)
		ours += cpu(b) - begun
		require.NoError(b, os.Remove(file))

		begun = cpu(b)
		f, err := os.Create(file)
		require.NoError(b, err)
		_, err = io.Copy(io.MultiWriter(f, crc32.NewIEEE(), sha1.New()), struct{ io.Reader }{bytes.NewReader(data)})
		require.NoError(b, err)
		require.NoError(b, f.Sync())
		require.NoError(b, f.Close())
		plain += cpu(b) - begun
		require.NoError(b, os.Remove(file))
	}
	atSixteen := float64(blocks*sim.Block) / 22_160_000 // seconds
	b.ReportMetric(100*ours.Seconds()/float64(b.N)/atSixteen, "%-of-a-core")
	b.ReportMetric(ours.Seconds()/plain.Seconds(), "x-copy-and-sums")
}
