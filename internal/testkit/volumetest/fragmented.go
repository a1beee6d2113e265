package volumetest

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/volume"
)

// pieces fragments a volume, and repairs that.
// fragmented fills a volume so that no large hole is left, and puts a file into the small ones. It returns what is
// there.
func (f Filesystem) fragmented(t *testing.T, v *volume.Volume) (want map[string][]byte) {
	cluster := int(f.Clusters)
	want = map[string][]byte{}
	require.NoError(t, v.MakeFolder(ctx, "S"))
	for i := 0; ; i++ { // all of it in files of four clusters
		name := fmt.Sprintf("S/small %04d", i)
		data := bytes.Repeat(binary.BigEndian.AppendUint32(nil, uint32(i)), cluster)
		if err := Put(v, name, data); err != nil {
			assert.ErrorIs(t, err, volume.ErrNoSpace)
			break
		}
		want[name] = data
	}
	for i := 0; i < len(want)*2; i += 2 { // every other one goes
		name := fmt.Sprintf("S/small %04d", i)
		if want[name] == nil {
			break
		}
		require.NoError(t, v.Remove(ctx, name))
		delete(want, name)
	}
	require.NoError(t, v.Flush())
	big := bytesOf(99, cluster*10)
	var pe *volume.FragmentedError
	_, err := v.Create(ctx, "big", int64(len(big)), true)
	require.ErrorAs(t, err, &pe)
	assert.EqualValues(t, cluster*10, pe.Need)
	assert.Less(t, pe.Largest, pe.Need)
	require.NoError(t, Put(v, "big", big))
	want["big"] = big
	return want
}

func (f Filesystem) pieces(t *testing.T) {
	d := f.disk(t)
	v := f.open(t, d)
	want := f.fragmented(t, v)
	require.NoError(t, v.Close())
	f.sound(t, d)

	v = f.open(t, d)
	runs, err := v.Extents("big")
	require.NoError(t, err)
	assert.Greater(t, len(volume.Merge(runs)), 1)
	var pe *volume.FragmentedError
	_, err = v.Defragment(ctx, "big", false, nil)
	require.ErrorAs(t, err, &pe, "without moving others there is no space contiguous")
	copied := int64(0)
	moved, err := v.Defragment(ctx, "big", true, func(n int64) { copied += n })
	require.NoError(t, err)
	assert.NotEmpty(t, moved)
	assert.Positive(t, copied)
	require.NoError(t, v.Close())
	f.sound(t, d)
	v = f.open(t, d)
	files, err := v.Files(ctx)
	require.NoError(t, err)
	for _, p := range files {
		if !p.Folder {
			assert.Len(t, p.Runs, 1, p.Path)
		}
	}
	got, err := Contents(v)
	require.NoError(t, err)
	for n, b := range want {
		assert.True(t, bytes.Equal(b, got[n]), n)
	}
	h, err := v.Check(ctx)
	require.NoError(t, err)
	assert.Empty(t, h.Findings)
}

// defragmentCuts brings a file into one piece, moving others, and cuts the device off after every sector written: all
// files stay as they were.
func (f Filesystem) defragmentCuts(t *testing.T) {
	d := f.disk(t)
	v := f.open(t, d)
	free, err := v.FreeBytes(ctx)
	require.NoError(t, err)
	cluster := f.Clusters
	want := map[string][]byte{}
	write := func(name string, n int64) {
		data := bytesOf(int64(len(want)), int(n))
		require.NoError(t, Put(v, name, data))
		want[name] = data
	}
	fill := func(name string, n int64) { // what is not looked at
		w, err := v.Create(ctx, name, n, true)
		require.NoError(t, err)
		require.NoError(t, w.Skip(n))
		require.NoError(t, w.Commit())
	}
	for i := range 6 {
		write(fmt.Sprintf("S%d", i), 3*cluster)
	}
	fill("REST", free-6*3*cluster-7*cluster)
	for _, i := range []int{0, 2, 4} {
		require.NoError(t, v.Remove(ctx, fmt.Sprintf("S%d", i)))
		delete(want, fmt.Sprintf("S%d", i))
	}
	require.NoError(t, v.Flush())
	fill("TAIL", 3*cluster)
	write("TORN", 8*cluster)
	require.NoError(t, v.Close())
	v = f.open(t, d)
	runs, err := v.Extents("TORN")
	require.NoError(t, err)
	require.Greater(t, len(volume.Merge(runs)), 1)
	require.NoError(t, v.Remove(ctx, "TAIL"))
	require.NoError(t, v.Truncate(ctx, "REST", free-40*cluster)) // space to move, at the end
	require.NoError(t, v.Close())
	v = f.open(t, d)
	d.Noting, d.Writes = true, nil
	_, err = v.Defragment(ctx, "TORN", true, nil)
	require.NoError(t, err)
	require.NoError(t, v.Close())
	d.Noting = false
	runs, err = f.open(t, d).Extents("TORN")
	require.NoError(t, err)
	assert.Len(t, volume.Merge(runs), 1)
	require.NotEmpty(t, d.Writes)
	for len(d.Writes) > 0 {
		d.Back()
		cut := d.Over()
		v := f.open(t, cut)
		_, left, err := v.Repair(ctx)
		require.NoError(t, err)
		for _, x := range left.Findings {
			assert.Contains(t, []volume.Kind{volume.Count, volume.Unclean}, x.Kind, "%s %s", x.Path, x.Say)
		}
		require.NoError(t, v.Close())
		tree := f.open(t, cut).FS()
		for name, b := range want {
			assert.True(t, bytes.Equal(b, Drain(t, tree, name)), "%s, cut off %d writes early", name, len(d.Writes))
		}
		if len(d.Writes)%11 == 0 {
			f.sound(t, cut)
		}
	}
}
