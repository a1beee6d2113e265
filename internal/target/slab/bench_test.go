package slab_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"polytome/internal/format/slab"
	"polytome/internal/testkit/judge"
)

// BenchmarkAddAgainstNbdcopy adds a title of 512 MiB to a disk that qemu-nbd exports, and has nbdcopy write the same
// file to another export, in turns: it prints the ratio of the sums.
func BenchmarkAddAgainstNbdcopy(b *testing.B) {
	const size = 512 << 20
	from := filepath.Join(b.TempDir(), "game.iso")
	require.NoError(b, os.WriteFile(from, noise(1, size), 0o644))
	other := filepath.Join(b.TempDir(), "other.img")
	require.NoError(b, os.WriteFile(other, nil, 0o644))
	require.NoError(b, os.Truncate(other, size))
	to := judge.NBD(b, other)
	p := open(b, judge.NBD(b, image(b, 600)))
	defer p.Close()
	d, err := p.Write(ctx)
	require.NoError(b, err)
	var ours, theirs time.Duration
	for b.Loop() {
		f, err := os.Open(from)
		require.NoError(b, err)
		begun := time.Now()
		_, err = d.Add(ctx, slab.New{ID: "A", Name: "a"}, size, f, true, nil)
		ours += time.Since(begun)
		require.NoError(b, err)
		require.NoError(b, f.Close())
		require.NoError(b, d.Remove("A"))
		begun = time.Now()
		require.NoError(b, exec.Command("nbdcopy", "--flush", from, to).Run())
		theirs += time.Since(begun)
	}
	b.ReportMetric(float64(ours)/float64(theirs), "x-nbdcopy")
	b.SetBytes(size)
}
