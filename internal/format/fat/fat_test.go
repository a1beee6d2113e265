package fat_test

import (
	"bytes"
	"context"
	"math/rand"
	"os"
	"path"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/fat"
	"polytome/internal/format/volume"
	"polytome/internal/medium"
	"polytome/internal/size"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/volumetest"
)

func fsck(t testing.TB, img string) (bool, string) {
	out, err := judge.Try(t, "fsck.fat", "-n", img)
	return err == nil, out
}

func suite(bits int, length, cluster, sector int64) volumetest.Filesystem {
	return volumetest.Filesystem{Size: length, Clusters: cluster, Judge: fsck, Open: fat.Open,
		Make: func(dev volume.Device, n int64) error {
			return fat.Format(dev, n, fat.Options{Bits: bits, Cluster: cluster, Sector: sector, Label: "NORTH"})
		}}
}

func TestFAT32(t *testing.T) { volumetest.Run(t, suite(32, 36*size.MiB, 512, 512)) }
func TestFAT16(t *testing.T) { volumetest.Run(t, suite(16, 12*size.MiB, 2048, 512)) }

// open opens a volume in a file.
func open(t testing.TB, f *medium.File) *volume.Volume {
	v, err := fat.Open(f, f.Size())
	require.NoError(t, err)
	return v
}

func sound(t testing.TB, img string) {
	t.Helper()
	ok, says := fsck(t, img)
	require.True(t, ok, says)
}

// titles are files of many lengths and names.
func titles() map[string][]byte {
	out := map[string][]byte{}
	for i, n := range []string{"FULL/VSP-20417 - Copper Tide.iso", "FULL/VSP-20431 - The Ninth Orchard.iso",
		"SHORT/MISTRAL.ISO", "TUNE/VSP-20417.tune", "Étude Ж.dat", "empty"} {
		b := make([]byte, []int{300_000, 70_001, 2048, 20, 1, 0}[i])
		rand.New(rand.NewSource(int64(i))).Read(b)
		out[n] = b
	}
	return out
}

func put(t testing.TB, v *volume.Volume, files map[string][]byte) {
	for n, b := range files {
		require.NoError(t, v.MakeFolder(context.Background(), path.Dir(n)))
		require.NoError(t, volumetest.Put(v, n, b))
	}
	require.NoError(t, v.Close())
}

func TestOthersReadWhatWeWrite(t *testing.T) {
	f := volumetest.NewFile(t, 300*size.MiB)
	require.NoError(t, fat.Format(f, f.Size(), fat.Options{Bits: 32, Cluster: 4096, Label: "PIPIT",
		Serial: 0x2209_11AA}))
	put(t, open(t, f), titles())
	sound(t, f.Name())
	assert.Contains(t, judge.Run(t, "mlabel", "-s", "-i", f.Name(), "::"), "PIPIT")
	out := t.TempDir()
	judge.Run(t, "mcopy", "-s", "-m", "-n", "-i", f.Name(), "::", out)
	dir := t.TempDir()
	judge.Root(t, "fusefat", "-o", "rw+,allow_other,umask=0", f.Name(), dir)
	unmounted := false
	defer func() {
		if !unmounted {
			judge.Root(t, "fusermount", "-u", dir)
		}
	}()
	for n, want := range titles() {
		got, err := os.ReadFile(filepath.Join(out, n))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(want, got), n)
		got, err = os.ReadFile(filepath.Join(dir, n))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(want, got), n)
	}
	judge.Root(t, "fusermount", "-u", dir)
	unmounted = true
}

// TestVolumesOfOthers reads and writes volumes as others make them, with one table or odd clusters.
func TestVolumesOfOthers(t *testing.T) {
	for name, args := range map[string][]string{
		"usual":             {"-F", "32"},
		"one table":         {"-F", "32", "-f", "1"},
		"clusters of 512":   {"-F", "32", "-s", "1"},
		"clusters of 2 KiB": {"-F", "32", "-s", "4"},
		"sectors of 4096":   {"-F", "32", "-S", "4096", "-s", "1"},
		"FAT16":             {"-F", "16", "-s", "16"},
		"few root entries":  {"-F", "16", "-s", "16", "-r", "64"},
		"many reserved":     {"-F", "32", "-R", "5000", "-s", "2"},
	} {
		t.Run(name, func(t *testing.T) {
			f := volumetest.NewFile(t, 320*size.MiB)
			judge.Run(t, "mkfs.fat", append(args, "-n", "QUAY", f.Name())...)
			in := t.TempDir()
			for n, b := range titles() {
				require.NoError(t, os.MkdirAll(filepath.Join(in, path.Dir(n)), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(in, n), b, 0o644))
			}
			judge.Run(t, "mcopy", "-s", "-m", "-i", f.Name(), filepath.Join(in, "FULL"), filepath.Join(in, "SHORT"),
				filepath.Join(in, "TUNE"), filepath.Join(in, "Étude Ж.dat"), filepath.Join(in, "empty"), "::")
			v := open(t, f)
			assert.Equal(t, "QUAY", v.Info().Label)
			got, err := volumetest.Contents(v)
			require.NoError(t, err)
			for n, b := range titles() {
				assert.True(t, bytes.Equal(b, got[n]), n)
			}
			h, err := v.Check(context.Background())
			require.NoError(t, err)
			assert.Empty(t, h.Findings)
			require.NoError(t, v.MakeFolder(context.Background(), "FULL/more"))
			require.NoError(t, volumetest.Put(v, "FULL/more/A title of ours, with a long name.iso",
				titles()["SHORT/MISTRAL.ISO"]))
			require.NoError(t, v.Rename(context.Background(), "FULL/VSP-20417 - Copper Tide.iso",
				"FULL/more/renamed.iso"))
			require.NoError(t, v.Remove(context.Background(), "empty"))
			require.NoError(t, v.Close())
			sound(t, f.Name())
			assert.Contains(t, judge.Run(t, "mdir", "-i", f.Name(), "-b", "-/", "::"),
				"::/FULL/more/A title of ours, with a long name.iso")
			out := filepath.Join(t.TempDir(), "back")
			judge.Run(t, "mcopy", "-i", f.Name(), "::/FULL/more/renamed.iso", out)
			b, err := os.ReadFile(out)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(titles()["FULL/VSP-20417 - Copper Tide.iso"], b))
		})
	}
}

func TestFAT12IsOnlyRead(t *testing.T) {
	f := volumetest.NewFile(t, 1440*1024)
	judge.Run(t, "mkfs.fat", "-F", "12", f.Name())
	in := filepath.Join(t.TempDir(), "x")
	require.NoError(t, os.WriteFile(in, titles()["FULL/VSP-20417 - Copper Tide.iso"], 0o644))
	judge.Run(t, "mcopy", "-i", f.Name(), in, "::/disc.img")
	v := open(t, f)
	got, err := volumetest.Contents(v)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(titles()["FULL/VSP-20417 - Copper Tide.iso"], got["disc.img"]))
	assert.ErrorIs(t, volumetest.Put(v, "x", nil), volume.ErrReadOnly)
}

// TestTheDirtyMark has both targets noted where systems write it.
func TestTheDirtyMark(t *testing.T) {
	ctx := context.Background()
	f := volumetest.NewFile(t, 64*size.MiB)
	require.NoError(t, fat.Format(f, f.Size(), fat.Options{Bits: 32, Cluster: 512}))
	_, err := f.WriteAt([]byte{1}, 65)
	require.NoError(t, err)
	v := open(t, f)
	assert.True(t, v.Info().Dirty)
	require.NoError(t, volumetest.Put(v, "x", []byte("x")))
	require.NoError(t, v.Close())
	assert.True(t, open(t, f).Info().Dirty, "it stays so until it was checked")
	v = open(t, f)
	first, left, err := v.Repair(ctx)
	require.NoError(t, err)
	assert.Equal(t, volume.Unclean, first.Findings[len(first.Findings)-1].Kind)
	assert.Empty(t, left.Findings)
	require.NoError(t, v.Close())
	assert.False(t, open(t, f).Info().Dirty)
	sound(t, f.Name())

	v = open(t, f)
	require.NoError(t, volumetest.Put(v, "y", []byte("y")))
	require.NoError(t, v.Flush()) // and the stick is pulled
	assert.True(t, open(t, f).Info().Dirty)
}

// TestLargeVolumes makes volumes that other systems refuse to make, in files that take no space.
func TestLargeVolumes(t *testing.T) {
	for _, n := range []int64{64 * size.GiB, 2 * size.TiB} {
		f := volumetest.NewFile(t, n)
		require.NoError(t, fat.Format(f, n, fat.Options{Bits: 32, Cluster: 32 * size.KiB, Label: "LARGE"}))
		v := open(t, f)
		w, err := v.Create(context.Background(), "just below 4 GiB", 1<<32-1<<16, true)
		require.NoError(t, err)
		_, err = w.Write([]byte("begins"))
		require.NoError(t, err)
		require.NoError(t, w.Skip(1<<32-1<<16-6-4))
		_, err = w.Write([]byte("ends"))
		require.NoError(t, err)
		require.NoError(t, w.Commit())
		_, err = v.Create(context.Background(), "4 GiB", 1<<32, true)
		assert.ErrorContains(t, err, "no file can have more than 4.00 GiB here")
		require.NoError(t, v.Close())
		sound(t, f.Name())
		runs, err := v.Extents("just below 4 GiB")
		require.NoError(t, err)
		assert.Len(t, runs, 1)
	}
	f := volumetest.NewFile(t, size.GiB)
	for _, o := range []fat.Options{{Bits: 32, Cluster: 3000}, {Bits: 32, Cluster: 128 * size.KiB},
		{Bits: 16, Cluster: 4096}, {Bits: 12, Cluster: 512}, {Bits: 32, Cluster: 32 * size.KiB},
		{Bits: 32, Cluster: 512, Label: "TOO LONG A LABEL"}, {Bits: 32, Cluster: 4096, Sector: 520}} {
		assert.Error(t, fat.Format(f, f.Size(), o), "%+v", o)
	}
}

func TestLyingBootSectors(t *testing.T) {
	f := volumetest.NewFile(t, 64*size.MiB)
	require.NoError(t, fat.Format(f, f.Size(), fat.Options{Bits: 32, Cluster: 512}))
	_, err := fat.Open(f, 32*size.MiB)
	assert.ErrorContains(t, err, "the volume should have 64.00 MiB but 32.00 MiB are there")
	volumetest.Lies(t, fat.Open, f, 90)
}

func FuzzOpen(f *testing.F) {
	volumetest.Fuzz(f, fat.Open, func(bits int) *volumetest.Disk {
		d := &volumetest.Disk{B: make([]byte, map[int]int64{0: 3 * size.MiB, 1: 34 * size.MiB}[bits])}
		require.NoError(f, fat.Format(d, int64(len(d.B)), fat.Options{Bits: 16 << bits, Cluster: 512}))
		return d
	}, 2)
}
