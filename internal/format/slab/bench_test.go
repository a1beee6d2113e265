package slab_test

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"polytome/internal/format/slab"
	"polytome/internal/testkit/versus"
	"polytome/internal/testkit/volumetest"
)

// BenchmarkAddAgainstCopy adds a title of 512 MiB to a disk in a file, and copies and syncs the same file by cp in
// turns.
func BenchmarkAddAgainstCopy(b *testing.B) {
	const size = 512 << 20
	dir := b.TempDir()
	from := filepath.Join(dir, "game.iso")
	require.NoError(b, os.WriteFile(from, noise(1, size), 0o644))
	m := volumetest.NewFile(b, 2<<30)
	d, err := slab.Format(m, 2<<30, slab.Options{})
	require.NoError(b, err)
	to := filepath.Join(dir, "copy.iso")
	versus.Race(b, func() { _ = os.Remove(to) }, versus.Contender{Name: "add", Do: func() {
		f, err := os.Open(from)
		require.NoError(b, err)
		_, err = d.Add(context.Background(), slab.New{ID: "A", Name: "a"}, size, f, true, nil)
		require.NoError(b, err)
		require.NoError(b, f.Close())
		require.NoError(b, d.Remove("A"))
	}}, versus.Contender{Name: "cp+sync", Most: 1, Do: func() { versus.Shell(b, `cp "$1" "$2"; sync "$2"`, from, to) }})
}

// BenchmarkListFiveThousand opens a disk with 5,000 titles and lists them.
func BenchmarkListFiveThousand(b *testing.B) {
	m := volumetest.NewFile(b, 64<<30)
	d, err := slab.Format(m, 64<<30, slab.Options{})
	require.NoError(b, err)
	for n := range 5000 {
		_, err := d.Add(context.Background(), slab.New{ID: fmt.Sprintf("VSP-%05d", n),
			Name: fmt.Sprintf("A Title of Some Length %d", n),
			Kind: "full", Settings: map[string]string{"timing": "a", "tray": "shut"}}, 1, io.LimitReader(zero{}, 1),
			false, nil)
		require.NoError(b, err)
	}
	for b.Loop() {
		d, err := slab.Open(m, 64<<30)
		require.NoError(b, err)
		require.Len(b, d.Titles(), 5000)
	}
}

type zero struct{}

func (zero) Read(b []byte) (int, error) { clear(b); return len(b), nil }
