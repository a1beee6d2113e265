package run_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/run"
	"polytome/internal/drives"
	"polytome/internal/format/fat"
	"polytome/internal/size"
	"polytome/internal/target/drive"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/volumetest"
)

// blank makes an image with an empty FAT32 volume.
func blank(t testing.TB, img string, n int64) {
	_ = os.Remove(img)
	require.NoError(t, os.WriteFile(img, nil, 0o600))
	require.NoError(t, os.Truncate(img, n))
	m := volumetest.OpenFile(t, img)
	require.NoError(t, fat.Format(m, n, fat.Options{Bits: 32, Cluster: 4096, Label: "NORTH"}))
	require.NoError(t, m.Close())
}

func openDrive(t testing.TB, img string) *drive.Target {
	p, err := drive.OpenVolume(context.Background(), drives.Here, drive.Address{Drive: img}, drive.Options{})
	require.NoError(t, err)
	return p
}

func TestADriveIsFilledInGroups(t *testing.T) {
	lengths := []int{3_000_000, 10, 0, 70_000, 5_000, 2_000_000, 1, 900_000}
	for range 300 {
		lengths = append(lengths, 3000)
	}
	p, _ := files(t, lengths...)
	require.NoError(t, os.Remove(p.Steps[4].Make.Source.Path)) // one is gone, the others go over
	img := filepath.Join(t.TempDir(), "stick.img")
	blank(t, img, 400*size.MiB)
	to := openDrive(t, img)
	var done []int
	r := run.Run(context.Background(), p, to, run.Options{}, func(e run.Event) {
		if e.Kind == run.Done {
			done = append(done, e.Step)
		}
	})
	require.Len(t, r.Failed, 1)
	assert.Equal(t, 4, r.Failed[0].Step)
	assert.Len(t, done, len(p.Steps)-1)
	assert.Equal(t, len(lengths)-1, r.Put)
	require.NoError(t, to.Close())
	judge.Run(t, "fsck.fat", "-n", img)
	out := t.TempDir()
	judge.Run(t, "mcopy", "-s", "-n", "-i", img, "::FULL", out)
	for i, s := range p.Steps[1:] {
		got, err := os.ReadFile(filepath.Join(out, s.Path))
		if i == 3 {
			assert.Error(t, err)
			continue
		}
		require.NoError(t, err)
		want, err := os.ReadFile(s.Make.Source.Path)
		require.NoError(t, err)
		assert.Equal(t, want, got, s.Path)
	}
}
