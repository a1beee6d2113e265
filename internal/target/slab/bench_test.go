package slab_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"polytome/internal/format/slab"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/versus"
)

// BenchmarkAddAgainstNbdcopy adds a title of 512 MiB to a disk that qemu-nbd exports, and has nbdcopy write the same
// file to another export, in turns.
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
	versus.Race(b, func() {}, versus.Contender{Name: "add", Do: func() {
		f, err := os.Open(from)
		require.NoError(b, err)
		_, err = d.Add(ctx, slab.New{ID: "A", Name: "a"}, size, f, true, nil)
		require.NoError(b, err)
		require.NoError(b, f.Close())
		require.NoError(b, d.Remove("A"))
	}}, versus.Contender{Name: "nbdcopy", Most: 1, Do: func() { versus.Run(b, "nbdcopy", "--flush", from, to) }})
}
