package drive_test

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/drives"
	"polytome/internal/format/exfat"
	"polytome/internal/format/fat"
	"polytome/internal/format/partition"
	"polytome/internal/format/volume"
	"polytome/internal/medium"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/drive"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/targettest"
)

var ctx = context.Background()

// image makes an image with a volume, behind a partition table unless scheme is none.
func image(t testing.TB, filesystem string, scheme partition.Scheme, n int64) string {
	name := filepath.Join(t.TempDir(), "stick.img")
	require.NoError(t, os.WriteFile(name, nil, 0o600))
	require.NoError(t, os.Truncate(name, n))
	f, err := os.OpenFile(name, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	m, err := medium.Of(f)
	require.NoError(t, err)
	part := m
	if scheme != partition.None {
		table, err := partition.New(scheme, n, 512, partition.Wanted{Type: partition.TypeFor(scheme, filesystem)})
		require.NoError(t, err)
		require.NoError(t, table.Write(m))
		part = m.Part(table.Parts[0].Start, table.Parts[0].Size)
	}
	switch filesystem {
	case "exfat":
		require.NoError(t, exfat.Format(part, part.Size(), exfat.Options{Cluster: 4096, Label: "QUAY"}))
	case "fat16":
		require.NoError(t, fat.Format(part, part.Size(), fat.Options{Bits: 16, Cluster: 2048, Label: "QUAY"}))
	default:
		require.NoError(t, fat.Format(part, part.Size(), fat.Options{Bits: 32, Cluster: 512, Label: "QUAY"}))
	}
	return name
}

func open(t testing.TB, name string, o drive.Options) *drive.Target {
	p, err := drive.Open(ctx, drives.Here, drive.Address{Drive: name}, o)
	require.NoError(t, err)
	return p.(*drive.Target)
}

// judged has a foreign check look at the volume of an image.
func judged(t testing.TB, name, filesystem string, at int64) {
	t.Helper()
	b, err := os.ReadFile(name)
	require.NoError(t, err)
	part := filepath.Join(t.TempDir(), "part.img")
	require.NoError(t, os.WriteFile(part, b[at:], 0o600))
	if filesystem == "exfat" {
		judge.Run(t, "fsck.exfat", "-n", part)
	} else {
		judge.Run(t, "fsck.fat", "-n", part)
	}
}

func TestConformance(t *testing.T) {
	for name, c := range map[string]struct {
		fs     string
		scheme partition.Scheme
		n      int64
	}{
		"FAT32, MBR":      {"fat32", partition.MBR, 64 * size.MiB},
		"FAT16, no table": {"fat16", partition.None, 40 * size.MiB},
		"exFAT, GPT":      {"exfat", partition.GPT, 64 * size.MiB},
	} {
		t.Run(name, func(t *testing.T) {
			at := int64(0)
			if c.scheme != partition.None {
				at = partition.Align
			}
			targettest.Run(t, func(t *testing.T) target.Target {
				img := image(t, c.fs, c.scheme, c.n)
				t.Cleanup(func() { judged(t, img, c.fs, at) })
				return open(t, img, drive.Options{})
			})
		})
	}
}

// TestConformanceOverTheNetwork: volumes behind the server of somebody else are filled like those of a stick.
func TestConformanceOverTheNetwork(t *testing.T) {
	for _, filesystem := range []string{"fat32", "exfat"} {
		t.Run(filesystem, func(t *testing.T) {
			targettest.Run(t, func(t *testing.T) target.Target {
				img := image(t, filesystem, partition.MBR, 64*size.MiB)
				t.Cleanup(func() { judged(t, img, filesystem, partition.Align) })
				return open(t, judge.NBD(t, img), drive.Options{})
			})
		})
	}
}

func TestAddresses(t *testing.T) {
	for s, want := range map[string]drive.Address{
		"drive:/dev/sdx": {Drive: "/dev/sdx"}, "drive:north.img#2": {Drive: "north.img", Part: 2},
		"drive:QX-2209-11": {Drive: "QX-2209-11"}, "drive:a#b": {Drive: "a#b"},
	} {
		a, ok := drive.ParseAddress(s)
		assert.True(t, ok)
		assert.Equal(t, want, a)
		assert.Equal(t, s, a.String())
	}
	_, ok := drive.ParseAddress("/media/stick")
	assert.False(t, ok)
	_, ok = drive.ParseAddress("drive:")
	assert.False(t, ok)
}

func TestFacts(t *testing.T) {
	p := open(t, image(t, "exfat", partition.GPT, 64*size.MiB), drive.Options{})
	defer p.Close()
	f, err := p.Facts(ctx, nil)
	require.NoError(t, err)
	assert.Equal(t, "exfat", f.Filesystem.Name)
	assert.Equal(t, "QUAY", f.Label)
	assert.EqualValues(t, 4096, f.Cluster)
	assert.False(t, f.Declared)
	assert.Equal(t, "gpt", p.PartitionTable())
}

// TestEveryFileContiguous has files written alternately, which a simple filesystem would interleave.
func TestEveryFileContiguous(t *testing.T) {
	p := open(t, image(t, "fat32", partition.MBR, 64*size.MiB), drive.Options{Contiguous: true})
	defer p.Close()
	a, err := p.Create(ctx, "a.iso", 5<<20)
	require.NoError(t, err)
	b, err := p.Create(ctx, "b.iso", 5<<20)
	require.NoError(t, err)
	for range 5 {
		for _, w := range []target.Writer{a, b} {
			_, err := w.Write(make([]byte, 1<<20))
			require.NoError(t, err)
		}
	}
	require.NoError(t, a.Commit())
	require.NoError(t, b.Commit())
	for _, n := range []string{"a.iso", "b.iso"} {
		k, err := p.Fragments(ctx, n)
		require.NoError(t, err)
		assert.Equal(t, 1, k)
	}
	_, err = p.Create(ctx, "c.iso", 54<<20)
	assert.ErrorIs(t, err, target.ErrNoSpace)
	free := int64(0)
	require.NoError(t, p.Remove(ctx, "a.iso"))
	f, err := p.Facts(ctx, nil)
	require.NoError(t, err)
	free = f.Free
	_, err = p.Create(ctx, "c.iso", free-1<<20)
	var pe *volume.FragmentedError
	require.ErrorAs(t, err, &pe)
	assert.ErrorContains(t, err, "--defragment makes contiguous space")
}

func TestTwoDoNotWriteAtOnce(t *testing.T) {
	img := image(t, "fat32", partition.None, 64*size.MiB)
	p := open(t, img, drive.Options{})
	defer p.Close()
	q := open(t, img, drive.Options{})
	defer q.Close()
	require.NoError(t, p.MakeFolder(ctx, "a"))
	err := q.MakeFolder(ctx, "b")
	assert.ErrorIs(t, err, target.ErrReadOnly)
	assert.ErrorContains(t, err, "another Polytome is writing to it")
	require.NoError(t, p.Close())
	require.NoError(t, q.MakeFolder(ctx, "b"))
}

func TestWrongDrives(t *testing.T) {
	for _, c := range []struct{ name, want string }{
		{filepath.Join(t.TempDir(), "none.img"), "no image or drive"},
		{t.TempDir(), "is a folder"},
		{"no-such-serial", "no drive no-such-serial"},
	} {
		_, err := drive.Open(ctx, drives.Here, drive.Address{Drive: c.name}, drive.Options{})
		assert.ErrorContains(t, err, c.want)
	}
	bare := filepath.Join(t.TempDir(), "bare.img")
	require.NoError(t, os.WriteFile(bare, make([]byte, 2<<20), 0o600))
	_, err := drive.Open(ctx, drives.Here, drive.Address{Drive: bare}, drive.Options{})
	assert.ErrorContains(t, err, "prepare it first")
	img := image(t, "fat32", partition.MBR, 64*size.MiB)
	_, err = drive.Open(ctx, drives.Here, drive.Address{Drive: img, Part: 2}, drive.Options{})
	assert.ErrorContains(t, err, "has no partition 2")
	require.NoError(t, os.Truncate(img, 30*size.MiB)) // cut off
	_, err = drive.Open(ctx, drives.Here, drive.Address{Drive: img}, drive.Options{})
	assert.ErrorContains(t, err, "cannot be used: the volume should have")
	require.NoError(t, os.Chmod(bare, 0o400))
	ro := image(t, "fat32", partition.None, 64*size.MiB)
	require.NoError(t, os.Chmod(ro, 0o400))
	p := open(t, ro, drive.Options{})
	defer p.Close()
	err = p.MakeFolder(ctx, "x")
	assert.ErrorIs(t, err, target.ErrReadOnly)
	assert.ErrorContains(t, err, "unlock its write-protect switch")
}

// TestADeviceIsFilled fills a real block device: a loop device stands for a stick.
func TestADeviceIsFilled(t *testing.T) {
	if !judge.AsRoot(t) {
		return
	}
	img := image(t, "fat32", partition.None, 64*size.MiB)
	dev := strings.TrimSpace(judge.Root(t, "losetup", "-f", "--show", img))
	attached := true
	defer func() {
		if attached {
			judge.Root(t, "losetup", "-d", dev)
		}
	}()
	p := open(t, dev, drive.Options{Contiguous: true})
	w, err := p.Create(ctx, "COPPER.ISO", 33<<20)
	require.NoError(t, err)
	for i := range 33 {
		_, err := w.Write([]byte(strings.Repeat(string(rune('a'+i%26)), 1<<20)))
		require.NoError(t, err)
	}
	require.NoError(t, w.Flush())
	back, err := w.ReadBack()
	require.NoError(t, err)
	b := make([]byte, 3)
	_, err = back.ReadAt(b, 2<<20-1)
	require.NoError(t, err)
	assert.Equal(t, "bcc", string(b))
	require.NoError(t, w.Commit())
	_, err = drive.Open(ctx, drives.Here, drive.Address{Drive: img}, drive.Options{})
	require.NoError(t, err, "it may be looked at")
	_, err = judge.Try(t, "mount.exfat-fuse", dev, t.TempDir())
	assert.Error(t, err, "while it is filled, nobody mounts it")
	require.NoError(t, p.Close())
	judge.Root(t, "losetup", "-d", dev)
	attached = false
	judged(t, img, "fat32", 0)
	assert.Contains(t, judge.Run(t, "mdir", "-i", img, "-b", "::"), "::/COPPER.ISO")
}

// TestOpeningAFileTakesAsLongInALargeFolder: what it costs does not grow with how many others lie beside it.
func TestOpeningAFileTakesAsLongInALargeFolder(t *testing.T) {
	cost := map[int]float64{}
	for _, many := range []int{10, 3000} {
		name := image(t, "fat32", partition.None, 64*size.MiB)
		p := open(t, name, drive.Options{})
		require.NoError(t, p.MakeFolder(ctx, "FULL"))
		v := p.Volume()
		for i := range many {
			w, err := v.Create(ctx, fmt.Sprintf("FULL/%d.iso", i), 1, false)
			require.NoError(t, err)
			_, err = w.Write([]byte{byte(i)})
			require.NoError(t, err)
			require.NoError(t, w.Commit())
		}
		cost[many] = testing.AllocsPerRun(10, func() {
			c, err := p.Open(ctx, "FULL/7.iso")
			require.NoError(t, err)
			b := []byte{0}
			_, err = c.ReadAt(b, 0)
			require.NoError(t, err)
			require.Equal(t, byte(7), b[0])
			require.NoError(t, c.Close())
		})
		_, err := p.Open(ctx, "FULL/none.iso")
		require.ErrorIs(t, err, fs.ErrNotExist)
		_, err = p.Open(ctx, "FULL")
		require.ErrorContains(t, err, "it is a folder")
		require.NoError(t, p.Close())
	}
	assert.LessOrEqual(t, cost[3000], cost[10]+2, "allocations")
}
