package fat_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/fat"
	"polytome/internal/format/volume"
	"polytome/internal/size"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/volumetest"
)

// TestNamesInSmallLettersOfOthers are short names with the bits that some systems set for letters that are small.
func TestNamesInSmallLettersOfOthers(t *testing.T) {
	f := volumetest.NewFile(t, 64*size.MiB)
	require.NoError(t, fat.Format(f, f.Size(), fat.Options{Bits: 32, Cluster: 512}))
	v := open(t, f)
	require.NoError(t, volumetest.Put(v, "COPPER.ISO", []byte("x")))
	require.NoError(t, v.Close())
	info := v.Info()
	for bits, want := range map[byte]string{0x08: "copper.ISO", 0x10: "COPPER.iso", 0x18: "copper.iso",
		0: "COPPER.ISO"} {
		_, err := f.WriteAt([]byte{bits}, info.Heap+12)
		require.NoError(t, err)
		got, err := volumetest.Contents(open(t, f))
		require.NoError(t, err)
		assert.Contains(t, got, want)
	}
}

// TestManyNamesThatBeginAlike makes thousands of short names distinct, in one folder that grows.
func TestManyNamesThatBeginAlike(t *testing.T) {
	ctx := context.Background()
	f := volumetest.NewFile(t, 128*size.MiB)
	require.NoError(t, fat.Format(f, f.Size(), fat.Options{Bits: 32, Cluster: 512}))
	v := open(t, f)
	require.NoError(t, v.MakeFolder(ctx, "FULL"))
	const n = 3000
	for i := range n {
		require.NoError(t, volumetest.Put(v, fmt.Sprintf("FULL/VSP-%05d - A title with a name.iso", i),
			[]byte{byte(i)}))
	}
	for i := 0; i < n; i += 3 {
		require.NoError(t, v.Remove(ctx, fmt.Sprintf("FULL/VSP-%05d - A title with a name.iso", i)))
	}
	for i := range n / 3 { // into the holes that they left
		require.NoError(t, volumetest.Put(v, fmt.Sprintf("FULL/VSP-%05d - Another title.iso", i), []byte{byte(i)}))
	}
	require.NoError(t, v.Close())
	sound(t, f.Name())
	got, err := volumetest.Contents(open(t, f))
	require.NoError(t, err)
	assert.Len(t, got, 2+n)
	assert.Equal(t, n, strings.Count(judge.Run(t, "mdir", "-i", f.Name(), "-b", "::FULL"), ".iso"))
}

func TestARootFolderThatIsFull(t *testing.T) {
	f := volumetest.NewFile(t, 16*size.MiB)
	require.NoError(t, fat.Format(f, f.Size(), fat.Options{Bits: 16, Cluster: 2048}))
	v := open(t, f)
	var err error
	n := 0
	for ; err == nil; n++ {
		err = volumetest.Put(v, fmt.Sprintf("A%d.ISO", n), []byte("x"))
	}
	assert.ErrorIs(t, err, volume.ErrNoSpace)
	assert.ErrorContains(t, err, "space for 512 entries")
	assert.Equal(t, 513, n)
	require.NoError(t, v.Close())
	sound(t, f.Name())
	assert.Equal(t, 512, strings.Count(judge.Run(t, "mdir", "-i", f.Name(), "-b", "::"), ".ISO"))
}

// TestTheLabelStandsInBothTargets reads the boot sector, its backup and the root folder.
func TestTheLabelStandsInBothTargets(t *testing.T) {
	f := volumetest.NewFile(t, 64*size.MiB)
	require.NoError(t, fat.Format(f, f.Size(), fat.Options{Bits: 32, Cluster: 512, Label: "first"}))
	v := open(t, f)
	assert.Equal(t, "FIRST", v.Info().Label)
	require.NoError(t, v.SetLabel(context.Background(), "second"))
	require.NoError(t, v.Close())
	for _, at := range []int64{71, 6*512 + 71, v.Info().Heap} {
		b := make([]byte, 11)
		_, err := f.ReadAt(b, at)
		require.NoError(t, err)
		assert.Equal(t, "SECOND     ", string(b))
	}
	assert.Contains(t, judge.Run(t, "mlabel", "-s", "-i", f.Name(), "::"), "SECOND")
	sound(t, f.Name())
}
