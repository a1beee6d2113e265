package exfat_test

import (
	"bytes"
	"context"
	"math/rand"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/exfat"
	"polytome/internal/format/volume"
	"polytome/internal/medium"
	"polytome/internal/size"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/volumetest"
)

func fsck(t testing.TB, img string) (bool, string) {
	out, err := judge.Try(t, "fsck.exfat", "-n", img)
	return err == nil, out
}

func TestExFAT(t *testing.T) {
	volumetest.Run(t, volumetest.Filesystem{Size: 12 * size.MiB, Clusters: 4096, Judge: fsck, Open: exfat.Open,
		Make: func(dev volume.Device, n int64) error {
			return exfat.Format(dev, n, exfat.Options{Cluster: 4096, Label: "Nördlich"})
		}})
}

func open(t testing.TB, f *medium.File) *volume.Volume {
	v, err := exfat.Open(f, f.Size())
	require.NoError(t, err)
	return v
}

func sound(t testing.TB, img string) {
	t.Helper()
	ok, says := fsck(t, img)
	require.True(t, ok, says)
}

func titles() map[string][]byte {
	out := map[string][]byte{}
	for i, n := range []string{"IMG-V/VSP-20417 - Copper Tide.iso",
		"IMG-V/A much longer name than fits into a single entry of a folder.iso", "IMG-L/mosswick.cue", "Étude Ж.dat",
		"empty"} {
		b := make([]byte, []int{300_000, 70_001, 2048, 1, 0}[i])
		rand.New(rand.NewSource(int64(i))).Read(b)
		out[n] = b
	}
	return out
}

// mounted mounts a volume through FUSE while do works on it.
func mounted(t testing.TB, dev string, do func(dir string)) {
	dir := t.TempDir()
	judge.Root(t, "mount.exfat-fuse", "-o", "allow_other,umask=0", dev, dir)
	defer func() {
		judge.Root(t, "umount", dir)
		assert.Eventually(t, func() bool { // the mount's program ends a moment later
			_, err := judge.Try(t, "pgrep", "-f", "exfat-fuse.* "+dev+" ")
			return err != nil
		}, 10*time.Second, 20*time.Millisecond)
	}()
	do(dir)
}

func TestOthersReadWhatWeWrite(t *testing.T) {
	ctx := context.Background()
	f := volumetest.NewFile(t, 300*size.MiB)
	require.NoError(t, exfat.Format(f, f.Size(), exfat.Options{Cluster: 32 * size.KiB, Label: "OXBOW"}))
	v := open(t, f)
	for n, b := range titles() {
		require.NoError(t, v.MakeFolder(ctx, path.Dir(n)))
		require.NoError(t, volumetest.Put(v, n, b))
	}
	require.NoError(t, v.Close())
	sound(t, f.Name())
	assert.Contains(t, judge.Run(t, "dump.exfat", f.Name()), "OXBOW")
	mounted(t, judge.Loop(t, f.Name()), func(dir string) {
		for n, want := range titles() {
			got, err := os.ReadFile(filepath.Join(dir, n))
			require.NoError(t, err)
			assert.True(t, bytes.Equal(want, got), n)
		}
	})
}

func TestVolumesOfOthers(t *testing.T) {
	ctx := context.Background()
	for name, args := range map[string][]string{"usual": nil, "small clusters": {"-c", "4K"}, "large clusters": {"-c",
		"128K"}, "sectors of 4096": {"-s", "4096"}} {
		t.Run(name, func(t *testing.T) {
			f := volumetest.NewFile(t, 300*size.MiB)
			if name == "sectors of 4096" { // as the device reports
				dev := strings.TrimSpace(judge.Root(t, "losetup", "-f", "--show", "-b", "4096", f.Name()))
				judge.Root(t, "mkfs.exfat", "-L", "QUAY", dev)
				judge.Root(t, "losetup", "-d", dev)
			} else {
				judge.Run(t, "mkfs.exfat", append(args, "-L", "QUAY", f.Name())...)
			}
			if name != "sectors of 4096" {
				mounted(t, judge.Loop(t, f.Name()), func(dir string) {
					for n, b := range titles() {
						require.NoError(t, os.MkdirAll(filepath.Join(dir, path.Dir(n)), 0o755))
						require.NoError(t, os.WriteFile(filepath.Join(dir, n), b, 0o644))
					}
				})
			} else {
				v := open(t, f)
				for n, b := range titles() {
					require.NoError(t, v.MakeFolder(ctx, path.Dir(n)))
					require.NoError(t, volumetest.Put(v, n, b))
				}
				require.NoError(t, v.Close())
			}
			v := open(t, f)
			assert.Equal(t, "QUAY", v.Info().Label)
			got, err := volumetest.Contents(v)
			require.NoError(t, err)
			for n, b := range titles() {
				assert.True(t, bytes.Equal(b, got[n]), n)
			}
			require.NoError(t, v.MakeFolder(ctx, "IMG-V/more"))
			require.NoError(t, volumetest.Put(v, "IMG-V/more/A title of ours, with a long name.iso",
				titles()["IMG-L/mosswick.cue"]))
			require.NoError(t, v.Rename(ctx, "IMG-V/VSP-20417 - Copper Tide.iso", "IMG-V/more/renamed.iso"))
			require.NoError(t, v.Rename(ctx, "IMG-L/mosswick.cue",
				"IMG-L/another, much longer name of the same file.cue"))
			require.NoError(t, v.Remove(ctx, "empty"))
			require.NoError(t, v.Close())
			sound(t, f.Name())
		})
	}
}

func TestLargeVolumes(t *testing.T) {
	ctx := context.Background()
	for n, cluster := range map[int64]int64{8 * size.TiB: 128 * size.KiB, 100 * size.GiB: 32 * size.KiB} {
		f := volumetest.NewFile(t, n)
		require.NoError(t, exfat.Format(f, n, exfat.Options{Cluster: cluster, Label: "LARGE"}))
		v := open(t, f)
		w, err := v.Create(ctx, "a disc of 40 GiB", 40*size.GiB, true)
		require.NoError(t, err)
		require.NoError(t, w.Skip(40*size.GiB-4))
		_, err = w.Write([]byte("ends"))
		require.NoError(t, err)
		require.NoError(t, w.Commit())
		require.NoError(t, v.Close())
		sound(t, f.Name())
		s, err := v.Stat("a disc of 40 GiB")
		require.NoError(t, err)
		assert.True(t, s.Flat)
	}
	f := volumetest.NewFile(t, size.GiB)
	for _, o := range []exfat.Options{{Cluster: 3000}, {Cluster: 64 * size.MiB},
		{Cluster: 4096, Label: "TOO LONG A LABEL"}, {Cluster: 4096, Sector: 520}} {
		assert.Error(t, exfat.Format(f, f.Size(), o), "%+v", o)
	}
}

func TestLyingBootSectors(t *testing.T) {
	f := volumetest.NewFile(t, 16*size.MiB)
	require.NoError(t, exfat.Format(f, f.Size(), exfat.Options{Cluster: 4096}))
	_, err := exfat.Open(f, 8*size.MiB)
	assert.ErrorContains(t, err, "the volume should have 16.00 MiB but 8.00 MiB are there")
	volumetest.Lies(t, exfat.Open, f, 120)
}

func FuzzOpen(f *testing.F) {
	volumetest.Fuzz(f, exfat.Open, func(int) *volumetest.Disk {
		d := &volumetest.Disk{B: make([]byte, size.MiB)}
		require.NoError(f, exfat.Format(d, int64(len(d.B)), exfat.Options{Cluster: 512}))
		return d
	}, 1)
}
