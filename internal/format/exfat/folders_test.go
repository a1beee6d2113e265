package exfat_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/exfat"
	"polytome/internal/size"
	"polytome/internal/testkit/volumetest"
)

// TestAFolderThatGrowsApart has a folder grow where what is behind it is taken: it gets a chain, and its entry says
// so.
func TestAFolderThatGrowsApart(t *testing.T) {
	ctx := context.Background()
	f := volumetest.NewFile(t, 64*size.MiB)
	require.NoError(t, exfat.Format(f, f.Size(), exfat.Options{Cluster: 4096}))
	v := open(t, f)
	require.NoError(t, v.MakeFolder(ctx, "IMG-V/deep"))
	require.NoError(t, volumetest.Put(v, "behind", make([]byte, 50_000)))
	n, err := v.Stat("IMG-V/deep")
	require.NoError(t, err)
	assert.True(t, n.Flat)
	for i := range 400 {
		require.NoError(t, volumetest.Put(v, fmt.Sprintf("IMG-V/deep/VSP-%05d - A title.iso", i), []byte{byte(i)}))
	}
	require.NoError(t, v.Close())
	sound(t, f.Name())
	v = open(t, f)
	n, err = v.Stat("IMG-V/deep")
	require.NoError(t, err)
	assert.False(t, n.Flat)
	assert.EqualValues(t, 13*4096, n.Size, "400 names of four entries, in whole clusters")
	got, err := volumetest.Contents(v)
	require.NoError(t, err)
	assert.Len(t, got, 1+2+1+400)
}

// TestWhatVendorsPutThere has entries that only others understand be kept with the file that they belong to.
func TestWhatVendorsPutThere(t *testing.T) {
	ctx := context.Background()
	d := &volumetest.Disk{B: make([]byte, 4*size.MiB)}
	require.NoError(t, exfat.Format(d, int64(len(d.B)), exfat.Options{Cluster: 4096}))
	v, err := exfat.Open(d, int64(len(d.B)))
	require.NoError(t, err)
	require.NoError(t, volumetest.Put(v, "a", []byte("a")))
	require.NoError(t, v.Close())
	info := v.Info()
	files, err := v.Files(ctx)
	require.NoError(t, err)
	root := info.Heap + int64(files[0].Runs[0].First-2)*info.Cluster
	set := d.B[root+3*32:]
	require.EqualValues(t, 0x85, set[0])
	set[1] = 3 // one more, behind the name
	copy(set[3*32:], []byte{0xE0, 0, 'p', 'o', 'l'})
	sum := uint16(0)
	set[2], set[3] = 0, 0
	for i, c := range set[:4*32] {
		if i != 2 && i != 3 {
			sum = sum<<15 | sum>>1
			sum += uint16(c)
		}
	}
	set[2], set[3] = byte(sum), byte(sum>>8)
	v, err = exfat.Open(d, int64(len(d.B)))
	require.NoError(t, err)
	h, err := v.Check(ctx)
	require.NoError(t, err)
	assert.Empty(t, h.Findings)
	w, err := v.Replace(ctx, "a", 5, true)
	require.NoError(t, err)
	_, err = w.Write([]byte("newer"))
	require.NoError(t, err)
	require.NoError(t, w.Commit())
	require.NoError(t, volumetest.Put(v, "b", []byte("b")))
	require.NoError(t, v.Close())
	assert.Equal(t, []byte{0xE0, 0, 'p', 'o', 'l'}, set[3*32:3*32+5])
	v, err = exfat.Open(d, int64(len(d.B)))
	require.NoError(t, err)
	got, err := volumetest.Contents(v)
	require.NoError(t, err)
	assert.Equal(t, "newer", string(got["a"]))
	h, err = v.Check(ctx)
	require.NoError(t, err)
	assert.Empty(t, h.Findings)
}
