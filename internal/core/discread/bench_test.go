package discread_test

import (
	"bytes"
	"crypto/sha1"
	"errors"
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

// BenchmarkReading reads a disc into an image, the simulated drive counted too: how much of one core that takes while a
// DVD is read at 16 times its speed, with the sums at the end and without, and how many times the work of copying the
// same bytes with their sums.
func BenchmarkReading(b *testing.B) {
	const blocks = 64 << 10
	data := noise(blocks)
	file := filepath.Join(b.TempDir(), "disc.iso")
	atSixteen := float64(blocks*sim.Block) / 22_160_000 // seconds
	took := map[string]time.Duration{}
	timed := func(what string, do func() error) {
		begun := cpu(b)
		require.NoError(b, do())
		took[what] += cpu(b) - begun
		require.NoError(b, os.Remove(file))
	}
	for b.Loop() {
		m := sim.New()
		m.Put(sim.DataDisc(sim.DVDROM, bytes.NewReader(data), blocks))
		d := optical.New(optical.Over(m))
		disc, err := discread.Look(b.Context(), d)
		require.NoError(b, err)
		timed("into", func() error {
			_, err := discread.Into(b.Context(), d, disc, file, discread.Options{})
			return err
		})
		timed("read", func() error {
			f, err := os.Create(file)
			require.NoError(b, err)
			err = discread.Read(b.Context(), d, f, discread.NewBlocks(blocks, sim.Block), discread.Options{})
			return errors.Join(err, f.Sync(), f.Close())
		})
		timed("copy", func() error {
			f, err := os.Create(file)
			require.NoError(b, err)
			_, err = io.Copy(io.MultiWriter(f, crc32.NewIEEE(), sha1.New()), struct{ io.Reader }{bytes.NewReader(data)})
			return errors.Join(err, f.Sync(), f.Close())
		})
	}
	share := func(what string) float64 { return 100 * took[what].Seconds() / float64(b.N) / atSixteen }
	b.ReportMetric(share("read"), "%-of-a-core")
	b.ReportMetric(share("into"), "%-with-sums")
	b.ReportMetric(took["into"].Seconds()/took["copy"].Seconds(), "x-copy-and-sums")
}
