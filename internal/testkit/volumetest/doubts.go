package volumetest

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/volume"
)

// deep makes folders in folders, more than are gone through: what is below them is reported to be out of reach, and
// is not taken for lost.
func (f Filesystem) deep(t *testing.T) {
	d := f.disk(t)
	v := f.open(t, d)
	dir := strings.TrimSuffix(strings.Repeat("d/", 140), "/")
	require.NoError(t, v.MakeFolder(ctx, dir))
	data := bytesOf(3, int(f.Clusters)*5)
	require.NoError(t, Put(v, dir+"/game.iso", data))
	require.NoError(t, v.Close())
	v = f.open(t, d)
	files, err := v.Files(ctx)
	require.NoError(t, err)
	said := ""
	for _, p := range files {
		said += p.Err
	}
	assert.Contains(t, said, "folders nest too deep")
	first, left, err := v.Repair(ctx)
	require.NoError(t, err)
	assert.NotEmpty(t, left.Findings, "it is not reported to be sound")
	assert.Equal(t, first.Free, left.Free, "nothing is freed")
	require.NoError(t, v.Close())
	v = f.open(t, d)
	runs, err := v.Extents(dir + "/game.iso")
	require.NoError(t, err)
	require.Len(t, volume.Merge(runs), 1)
	at := v.Info().Heap + int64(runs[0].First-2)*v.Info().Cluster
	assert.Equal(t, data, d.B[at:at+int64(len(data))])
}

// forgetful is a disk that gives a byte back otherwise than it was written, when it is not read out of memory.
type forgetful struct {
	*Disk
	spoils bool
}

func (d *forgetful) Drop(off, n int64) error {
	if d.spoils && n > 0 {
		d.B[off+n/2] ^= 1
	}
	return nil
}

// comesBack brings a file into one piece on a device that does not keep what is written: that is reported, and the file
// stays as it was.
func (f Filesystem) comesBack(t *testing.T) {
	d := f.disk(t)
	v := f.open(t, d)
	want := f.fragmented(t, v)
	require.NoError(t, v.Close())
	device := &forgetful{d, true}
	v = f.open(t, device)
	_, err := v.Defragment(ctx, "big", true, nil)
	require.ErrorContains(t, err, "it reads back differently")
	_ = v.Close()
	got, err := Contents(f.open(t, d))
	require.NoError(t, err)
	for n, b := range want {
		assert.True(t, bytes.Equal(b, got[n]), n)
	}
	device.spoils = false
	v = f.open(t, device)
	_, err = v.Defragment(ctx, "big", true, nil)
	require.NoError(t, err, "on one that keeps it, it is done")
	require.NoError(t, v.Close())
	runs, err := f.open(t, d).Extents("big")
	require.NoError(t, err)
	assert.Len(t, volume.Merge(runs), 1)
}
