package blockmap_test

import (
	"bytes"
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/blockmap"
	"polytome/internal/format/exfat"
	"polytome/internal/format/fat"
	"polytome/internal/format/volume"
	"polytome/internal/size"
	"polytome/internal/testkit/volumetest"
)

var ctx = context.Background()

// lay makes a volume with a file in two pieces between two in one.
func lay(t testing.TB) *volume.Volume {
	d := &volumetest.Disk{B: make([]byte, 8*size.MiB)}
	require.NoError(t, exfat.Format(d, int64(len(d.B)), exfat.Options{Cluster: 4096}))
	v, err := exfat.Open(d, int64(len(d.B)))
	require.NoError(t, err)
	require.NoError(t, v.MakeFolder(ctx, "FULL"))
	require.NoError(t, volumetest.Put(v, "FULL/first", make([]byte, 400_000)))
	w, err := v.Create(ctx, "FULL/torn", 100_000, true)
	require.NoError(t, err)
	_, err = w.Write(make([]byte, 100_000))
	require.NoError(t, err)
	require.NoError(t, volumetest.Put(v, "FULL/between", make([]byte, 300_000)))
	_, err = w.Write(make([]byte, 200_000))
	require.NoError(t, err)
	require.NoError(t, w.Commit())
	require.NoError(t, v.Close())
	return v
}

func TestTheMapReportsWhatLiesWhere(t *testing.T) {
	m, err := blockmap.Read(ctx, lay(t), nil)
	require.NoError(t, err)
	pieces := m.Fragmented()
	require.Len(t, pieces, 1)
	assert.Equal(t, "FULL/torn", pieces[0].Path)
	assert.Len(t, pieces[0].Runs, 2)
	assert.LessOrEqual(t, m.Largest(), m.FreeBytes())
	kinds := map[blockmap.Kind]uint32{}
	for _, l := range m.Lengths(0) {
		kinds[l.Kind] += l.Count
	}
	assert.EqualValues(t, 74, kinds[blockmap.Fragmented], "300,000 bytes in clusters of 4 KiB")
	assert.EqualValues(t, 98+74, kinds[blockmap.File])
	assert.EqualValues(t, 2, kinds[blockmap.Folder], "the root folder and FULL")
	assert.Positive(t, kinds[blockmap.System], "bitmap and letters")
	assert.EqualValues(t, m.FreeBytes(), int64(kinds[blockmap.Free])*4096)
}

func TestAStripShowsWhatHasMostOfEachPart(t *testing.T) {
	m, err := blockmap.Read(ctx, lay(t), nil)
	require.NoError(t, err)
	all := m.Lengths(0)
	whole := m.Strip(all, int(m.Info.Clusters)) // one cluster each
	for i, k := range whole {
		require.LessOrEqual(t, all[k].First, uint32(i)+2)
		require.Greater(t, all[k].End(), uint32(i)+2)
	}
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 3000).Draw(t, "parts")
		total := int(m.Info.Clusters)
		for i, k := range m.Strip(all, n) {
			from, to := total*i/n, max(total*(i+1)/n, total*i/n+1)
			shares, torn := map[int]int{}, false
			for _, w := range whole[from:to] {
				shares[w]++
				torn = torn || all[w].Kind == blockmap.Fragmented
			}
			require.Equal(t, torn, all[k].Kind == blockmap.Fragmented, "what lies fragmented is always seen")
			for w, share := range shares {
				if !torn {
					require.GreaterOrEqual(t, shares[k], share, "part %d shows %d, and not %d", i, k, w)
				}
			}
		}
	})
}

// TestTheRehearsalIsWhatDefragmentingDoes holds the map that is reported before against the one that there is after
// files were really brought into one piece.
func TestTheRehearsalIsWhatDefragmentingDoes(t *testing.T) {
	for _, name := range []string{"exfat", "fat16"} {
		rapid.Check(t, func(t *rapid.T) {
			d := &volumetest.Disk{B: make([]byte, 4*size.MiB)}
			var v *volume.Volume
			var err error
			if name == "exfat" {
				require.NoError(t, exfat.Format(d, int64(len(d.B)), exfat.Options{Cluster: 512}))
				v, err = exfat.Open(d, int64(len(d.B)))
			} else {
				require.NoError(t, fat.Format(d, int64(len(d.B)), fat.Options{Cluster: 512, Bits: 16}))
				v, err = fat.Open(d, int64(len(d.B)))
			}
			require.NoError(t, err)
			scatter(t, v)
			before := bytes.Clone(d.B)
			now, err := blockmap.Read(ctx, v, nil)
			require.NoError(t, err)
			reported, left, err := blockmap.AfterDefragmenting(ctx, v, nil)
			require.NoError(t, err)
			require.True(t, bytes.Equal(before, d.B), "nothing is written")
			failed := 0
			for _, f := range now.Fragmented() {
				if _, err := v.Defragment(ctx, f.Path, true, nil); err != nil {
					failed++
				}
			}
			require.Len(t, left, failed)
			is, err := blockmap.Read(ctx, v, nil)
			require.NoError(t, err)
			require.Equal(t, is.Files, reported.Files)
			require.Equal(t, is.Free, reported.Free)
		})
	}
}

// scatter puts files on a volume, side by side, so that some of them are fragmented.
func scatter(t *rapid.T, v *volume.Volume) {
	n := rapid.IntRange(1, 6).Draw(t, "files")
	writers := make([]*volume.Writer, n)
	var err error
	for i := range writers {
		writers[i], err = v.Create(ctx, fmt.Sprintf("file %d.iso", i), 0, true)
		require.NoError(t, err)
	}
	for range rapid.IntRange(n, 20).Draw(t, "writes") {
		i := rapid.IntRange(0, n-1).Draw(t, "to")
		_, err := writers[i].Write(make([]byte, rapid.IntRange(1, 40_000).Draw(t, "bytes")))
		require.NoError(t, err)
	}
	for _, w := range writers {
		require.NoError(t, w.Commit())
	}
	require.NoError(t, v.Flush())
}
