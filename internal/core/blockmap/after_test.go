package blockmap_test

import (
	"context"
	"errors"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/blockmap"
	"polytome/internal/format/exfat"
	"polytome/internal/format/volume"
	"polytome/internal/size"
	"polytome/internal/testkit/volumetest"
)

// crowded is a volume of 2 MiB that is full but for holes, each too small for the file that is in them.
func crowded(t *testing.T) (*volumetest.Disk, *volume.Volume) {
	d := &volumetest.Disk{B: make([]byte, 2*size.MiB)}
	require.NoError(t, exfat.Format(d, int64(len(d.B)), exfat.Options{Cluster: 4096}))
	v, err := exfat.Open(d, int64(len(d.B)))
	require.NoError(t, err)
	torn, err := v.Create(ctx, "torn.iso", 0, true)
	require.NoError(t, err)
	block := make([]byte, 300_000)
	for i := range 2 {
		_, err := torn.Write(block)
		require.NoError(t, err)
		require.NoError(t, volumetest.Put(v, []string{"a.iso", "b.iso"}[i], block))
	}
	_, err = torn.Write(block[:100_000])
	require.NoError(t, err)
	require.NoError(t, torn.Commit())
	require.NoError(t, v.Flush())
	return d, v
}

func TestAFileThatStaysFragmentedIsReported(t *testing.T) {
	_, v := crowded(t)
	now, err := blockmap.Read(ctx, v, nil)
	require.NoError(t, err)
	require.NotEmpty(t, now.Fragmented())
	m, left, err := blockmap.AfterDefragmenting(ctx, v, nil)
	require.NoError(t, err)
	_, really := v.Defragment(ctx, "torn.iso", true, nil)
	if really == nil {
		assert.Empty(t, left)
		assert.Empty(t, m.Fragmented())
		return
	}
	require.Len(t, left, 1)
	assert.Equal(t, "torn.iso stays fragmented: "+really.Error()+".", left[0],
		"for the reason for which it really stays")
	assert.Equal(t, now.Files, m.Files)
}

func TestARehearsalThatIsGivenUp(t *testing.T) {
	_, v := crowded(t)
	gone, cancel := context.WithCancel(ctx)
	cancel()
	_, _, err := blockmap.AfterDefragmenting(gone, v, nil)
	assert.ErrorIs(t, err, context.Canceled)
}

// failing gives nothing back any longer once it was reported to.
type failing struct {
	*volumetest.Disk
	fails bool
}

func (f *failing) ReadAt(b []byte, off int64) (int, error) {
	if f.fails {
		return 0, errors.New("the device does not answer")
	}
	return f.Disk.ReadAt(b, off)
}

func TestARehearsalOnADeviceThatFails(t *testing.T) {
	d, _ := crowded(t)
	dev := &failing{Disk: d}
	v, err := exfat.Open(dev, int64(len(d.B)))
	require.NoError(t, err)
	dev.fails = true
	_, _, err = blockmap.AfterDefragmenting(ctx, v, nil)
	assert.ErrorContains(t, err, "the device does not answer")
}

// TestARehearsalReadsWhatItHasWritten changes files on a rehearsal: it sees them, and the volume itself does not.
func TestARehearsalReadsWhatItHasWritten(t *testing.T) {
	d, v := crowded(t)
	before := append([]byte{}, d.B...)
	r, err := v.Rehearse(func(dev volume.Device) (*volume.Volume, error) { return exfat.Open(dev, int64(len(d.B))) })
	require.NoError(t, err)
	require.NoError(t, volumetest.Put(r, "new.txt", []byte("only rehearsed")))
	require.NoError(t, r.MakeFolder(ctx, "FOLDER"))
	require.NoError(t, r.Remove(ctx, "a.iso"))
	require.NoError(t, r.Flush())
	again, err := r.Rehearse(func(dev volume.Device) (*volume.Volume,
		error) {
		return exfat.Open(dev, int64(len(d.B)))
	})
	require.NoError(t, err, "a rehearsal can be rehearsed on")
	for _, on := range []*volume.Volume{r, again} {
		f, err := on.FS().Open("new.txt")
		require.NoError(t, err)
		data, err := io.ReadAll(f)
		require.NoError(t, err)
		assert.Equal(t, "only rehearsed", string(data))
		_, err = on.Stat("a.iso")
		assert.Error(t, err)
		_, err = on.Stat("FOLDER")
		assert.NoError(t, err)
	}
	_, err = v.Stat("a.iso")
	assert.NoError(t, err)
	_, err = v.Stat("new.txt")
	assert.Error(t, err)
	assert.Equal(t, before, d.B)
}
