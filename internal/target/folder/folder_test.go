package folder_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/folder"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/targettest"
)

func TestConformance(t *testing.T) {
	for name, opts := range map[string]folder.Options{
		"as it is":       {},
		"declared FAT32": {Filesystem: "fat32", Capacity: 58 * size.GiB},
	} {
		t.Run(name, func(t *testing.T) {
			targettest.Run(t, func(t *testing.T) target.Target {
				p, err := folder.Open(t.TempDir(), opts)
				require.NoError(t, err)
				return p
			})
		})
	}
}

// fatMount makes a FAT32 volume in a file and mounts it through FUSE.
func fatMount(t *testing.T, mib int64) (dir, imageDir string) {
	imageDir = t.TempDir()
	img := filepath.Join(imageDir, "stick.img")
	f, err := os.Create(img)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(mib<<20))
	require.NoError(t, f.Close())
	judge.Run(t, "mkfs.fat", "-F", "32", "-s", "1", "-n", "PIPIT", img)
	dir = t.TempDir()
	judge.Root(t, "fusefat", "-o", "rw+,allow_other,umask=0,fsname="+img, img, dir)
	t.Cleanup(func() {
		judge.Root(t, "fusermount", "-u", dir)
		assert.Eventually(t, func() bool { // the mount ends a moment after fusermount does
			_, err := judge.Try(t, "fsck.fat", "-n", img)
			return err == nil
		}, 10*time.Second, 50*time.Millisecond, "fsck finds the volume sound")
	})
	return dir, imageDir
}

// TestNetworkMountsAreKnown has a mount say that it comes from another computer.
func TestNetworkMountsAreKnown(t *testing.T) {
	img := filepath.Join(t.TempDir(), "far.img")
	require.NoError(t, os.WriteFile(img, nil, 0o644))
	require.NoError(t, os.Truncate(img, 64<<20))
	judge.Run(t, "mkfs.fat", "-F", "32", "-s", "1", img)
	dir := t.TempDir()
	judge.Root(t, "fusefat", "-o", "rw+,allow_other,umask=0,subtype=sshfs,fsname=box:/games", img, dir)
	t.Cleanup(func() { judge.Root(t, "fusermount", "-u", dir) })
	p, err := folder.Open(dir, folder.Options{})
	require.NoError(t, err)
	defer p.Close()
	f, err := p.Facts(context.Background(), nil)
	require.NoError(t, err)
	assert.Equal(t, "sshfs", f.Network)
	q, err := folder.Open(t.TempDir(), folder.Options{})
	require.NoError(t, err)
	defer q.Close()
	f, err = q.Facts(context.Background(), nil)
	require.NoError(t, err)
	assert.Empty(t, f.Network)
}

func TestARealFATMountIsKnown(t *testing.T) {
	dir, img := fatMount(t, 64)
	p, err := folder.Open(dir, folder.Options{})
	require.NoError(t, err)
	defer p.Close()
	f, err := p.Facts(context.Background(), nil)
	require.NoError(t, err)
	assert.Equal(t, "fat32", f.Filesystem.Name)
	assert.Equal(t, "PIPIT", f.Label)
	assert.False(t, f.Declared)

	w, err := p.Create(context.Background(), "COPPER.ISO", 3)
	require.NoError(t, err)
	_, err = w.Write([]byte("abc"))
	require.NoError(t, err)
	require.NoError(t, w.Skip(100_000))
	require.NoError(t, w.Commit())
	assert.Contains(t, judge.Run(t, "mdir", "-i", filepath.Join(img, "stick.img"), "-b", "::"), "::/COPPER.ISO\n")
}

func TestDeclaredSpaceShrinksByWhatIsThere(t *testing.T) {
	dir := t.TempDir()
	p, err := folder.Open(dir, folder.Options{Filesystem: "fat32", Capacity: 58 * size.GiB})
	require.NoError(t, err)
	defer p.Close()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "one"), []byte("x"), 0o644))
	f, err := p.Facts(context.Background(), nil)
	require.NoError(t, err)
	assert.Equal(t, 32*size.KiB, f.Cluster)
	assert.Equal(t, 58*size.GiB-f.Filesystem.Structures(f.Capacity, f.Cluster)-32*size.KiB, f.Free,
		"one byte takes a whole cluster")
}

// TestAFolderThatBecomesAnotherOne has somebody give the folder that is being filled another name, and make a new one
// in its place: what is put there goes into the new one, and what was begun in the old one gets no name there.
func TestAFolderThatBecomesAnotherOne(t *testing.T) {
	judge.NotWindows(t, "a folder that is open keeps its name there")
	dir, ctx := t.TempDir(), context.Background()
	p, err := folder.Open(dir, folder.Options{})
	require.NoError(t, err)
	defer p.Close()
	put := func(name string) target.Writer {
		w, err := p.Create(ctx, name, 4)
		require.NoError(t, err)
		_, err = w.Write([]byte("game"))
		require.NoError(t, err)
		require.NoError(t, w.Flush())
		return w
	}
	require.NoError(t, p.MakeFolder(ctx, "FULL/A"))
	require.NoError(t, put("FULL/A/one").Commit())
	begun := put("FULL/A/two")
	require.NoError(t, os.Rename(filepath.Join(dir, "FULL"), filepath.Join(dir, "WAS")))
	require.NoError(t, p.MakeFolder(ctx, "FULL/A"))
	three := put("FULL/A/three")
	require.Error(t, begun.Commit())
	require.NoError(t, three.Commit())
	require.NoError(t, p.Rename(ctx, "FULL", "NEW"))
	require.NoError(t, p.MakeFolder(ctx, "FULL/A"))
	require.NoError(t, put("FULL/A/four").Commit())
	for _, is := range []string{"WAS/A/one", "NEW/A/three", "FULL/A/four"} {
		assert.FileExists(t, filepath.Join(dir, is))
	}
	for _, is := range []string{"WAS/A/two", "NEW/A/two", "FULL/A/two"} {
		assert.NoFileExists(t, filepath.Join(dir, is))
	}
	require.NoError(t, p.Remove(ctx, "FULL/A/four"))
	require.NoError(t, p.Remove(ctx, "FULL/A"))
	assert.NoDirExists(t, filepath.Join(dir, "FULL/A"))
}

// TestWhatIsReadBackInAGroupIsTheFile as it is on the medium, and not what was once written.
func TestWhatIsReadBackInAGroupIsTheFile(t *testing.T) {
	dir, ctx := t.TempDir(), context.Background()
	p, err := folder.Open(dir, folder.Options{})
	require.NoError(t, err)
	defer p.Close()
	var all []target.Writer
	for _, name := range []string{"a", "b", "c", "d", "e"} {
		w, err := p.Create(ctx, name, 4)
		require.NoError(t, err)
		_, err = w.Write([]byte("game"))
		require.NoError(t, err)
		all = append(all, w)
	}
	for _, readBack := range []bool{false, true} {
		for _, err := range p.FlushAll(all, readBack) {
			require.NoError(t, err)
		}
		length := int64(2)
		if readBack {
			length = 9
		}
		require.NoError(t, os.Truncate(filepath.Join(dir, target.TemporaryName("c")), length))
		for i, w := range all {
			c, err := w.ReadBack()
			require.NoError(t, err)
			want := int64(4)
			if i == 2 {
				want = length
			}
			assert.Equal(t, want, c.Size())
			require.NoError(t, c.Close())
		}
	}
	for _, w := range all {
		require.NoError(t, w.Abort(), "the file is open still")
	}
}

func TestWrongTargets(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "file")
	require.NoError(t, os.WriteFile(file, nil, 0o644))
	_, err := folder.Open(filepath.Join(dir, "nowhere"), folder.Options{})
	assert.ErrorContains(t, err, "no folder")
	_, err = folder.Open(file, folder.Options{})
	assert.ErrorContains(t, err, "is a file")
	_, err = folder.Open(dir, folder.Options{Filesystem: "fat23"})
	assert.ErrorContains(t, err, `did you mean "fat32"?`)
}

func TestALinkDoesNotLeadOutside(t *testing.T) {
	dir, outside := t.TempDir(), t.TempDir()
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "FULL")))
	p, err := folder.Open(dir, folder.Options{})
	require.NoError(t, err)
	defer p.Close()
	_, err = p.Create(context.Background(), "FULL/a.iso", 1)
	assert.Error(t, err)
	left, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// TestSpaceThatOthersTakeIsNoticedEarly has someone else fill the volume while a large file is written, for which no
// space could be made in advance.
func TestSpaceThatOthersTakeIsNoticedEarly(t *testing.T) {
	img := filepath.Join(t.TempDir(), "stick.img")
	require.NoError(t, os.WriteFile(img, nil, 0o644))
	require.NoError(t, os.Truncate(img, 300<<20))
	judge.Run(t, "mkfs.exfat", img)
	dev := judge.Loop(t, img)
	dir := t.TempDir()
	judge.Root(t, "mount.exfat-fuse", "-o", "allow_other,umask=0", dev, dir)
	t.Cleanup(func() { judge.Root(t, "umount", dir) })
	p, err := folder.Open(dir, folder.Options{})
	require.NoError(t, err)
	defer p.Close()
	w, err := p.Create(context.Background(), "large.iso", 200<<20)
	require.NoError(t, err)
	block := make([]byte, 1<<20)
	block[0] = 1
	at := 0
	for ; at < 10; at++ {
		_, err = w.Write(block)
		require.NoError(t, err)
	}
	other, err := os.Create(filepath.Join(dir, "other"))
	require.NoError(t, err)
	for range 150 {
		_, err = other.Write(block)
		require.NoError(t, err)
	}
	require.NoError(t, other.Close())
	for ; at < 200 && err == nil; at++ {
		_, err = w.Write(block)
	}
	assert.ErrorIs(t, err, target.ErrNoSpace)
	assert.ErrorContains(t, err, "are still to be written, but only")
	assert.Less(t, at, 80, "long before the last byte")
	require.NoError(t, w.Abort())
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 1)
}

// TestAVolumeIsFoundWhereItIsMounted, and not where another one covers it; a folder in it is no volume of its own.
func TestAVolumeIsFoundWhereItIsMounted(t *testing.T) {
	one, two := judge.NewStick(t, 40, "GULL", "aaaa0001"), judge.NewStick(t, 40, "GULL", "aaaa0002")
	at := filepath.Join(t.TempDir(), "GULL")
	one.Plug(at)
	facts := func(dir string) target.Facts {
		p, err := folder.Open(dir, folder.Options{})
		require.NoError(t, err)
		defer p.Close()
		f, err := p.Facts(context.Background(), nil)
		require.NoError(t, err)
		return f
	}
	f := facts(at)
	assert.Equal(t, "aaaa0001", f.Volume)
	assert.True(t, f.Plugged())
	require.NoError(t, os.Mkdir(filepath.Join(at, "games"), 0o755))
	f = facts(filepath.Join(at, "games"))
	assert.Equal(t, "aaaa0001"+target.Inside+"games", f.Volume)
	assert.False(t, f.Plugged())
	where, ok := folder.Plugged("aaaa0001", "")
	assert.True(t, ok)
	assert.Equal(t, at, where)
	require.NoError(t, os.Remove(filepath.Join(at, "games")))
	two.Plug(at)
	_, ok = folder.Plugged("aaaa0001", "")
	assert.False(t, ok, "it is covered")
	where, ok = folder.Plugged("aaaa0002", "")
	assert.True(t, ok)
	assert.Equal(t, at, where)
	two.Pull()
	_, ok = folder.Plugged("aaaa0002", "")
	assert.False(t, ok)

	copied := judge.NewStick(t, 40, "GULL", "aaaa0001") // sector by sector, say
	elsewhere := filepath.Join(t.TempDir(), "GULL1")
	copied.Plug(elsewhere)
	_, ok = folder.Plugged("aaaa0001", "")
	assert.False(t, ok, "nobody knows which of them it is")
	where, ok = folder.Plugged("aaaa0001", at)
	assert.True(t, ok)
	assert.Equal(t, at, where, "the one that is where it was")
}
