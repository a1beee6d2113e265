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
	m, err := blockmap.Read(ctx, lay(t))
	require.NoError(t, err)
	pieces := m.Fragmented()
	require.Len(t, pieces, 1)
	assert.Equal(t, "FULL/torn", pieces[0].Path)
	assert.Len(t, pieces[0].Runs, 2)
	assert.LessOrEqual(t, m.Largest(), m.FreeBytes())
	cells := m.Cells(int(m.Info.Clusters)) // one cluster each
	kinds := map[blockmap.Kind]int{}
	for _, c := range cells {
		kinds[c.Kind]++
		assert.False(t, c.Mixed)
		assert.EqualValues(t, 1, c.Count)
	}
	assert.Equal(t, 74, kinds[blockmap.Fragmented], "300,000 bytes in clusters of 4 KiB")
	assert.Equal(t, 98+74, kinds[blockmap.File])
	assert.Equal(t, 2, kinds[blockmap.Folder], "the root folder and FULL")
	assert.Positive(t, kinds[blockmap.System], "bitmap and letters")
	assert.EqualValues(t, m.FreeBytes(), int64(kinds[blockmap.Free])*4096)
}

func TestAnyDivisionAddsUp(t *testing.T) {
	m, err := blockmap.Read(ctx, lay(t))
	require.NoError(t, err)
	whole := m.Cells(int(m.Info.Clusters))
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 3000).Draw(t, "cells")
		cells := m.Cells(n)
		require.Len(t, cells, n)
		next, used := uint32(2), 0.0
		for i, c := range cells {
			require.Equal(t, next, c.First, "cell %d", i)
			next += c.Count
			used += c.Used * float64(c.Count)
			if c.Kind == blockmap.Free {
				require.Equal(t, -1, c.File)
				require.Zero(t, c.Used)
			}
			seen := false
			for k := c.First; k < c.First+c.Count; k++ {
				seen = seen || whole[k-2].Kind == blockmap.Fragmented
			}
			if c.Count > 0 {
				require.Equal(t, seen, c.Kind == blockmap.Fragmented, "what lies fragmented is always seen")
			}
		}
		require.Equal(t, m.Info.Clusters+2, next)
		require.InDelta(t, float64(m.Info.Clusters)-float64(m.FreeBytes()/4096), used, 0.01, fmt.Sprint(n))
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
			now, err := blockmap.Read(ctx, v)
			require.NoError(t, err)
			reported, left, err := blockmap.AfterDefragmenting(ctx, v)
			require.NoError(t, err)
			require.True(t, bytes.Equal(before, d.B), "nothing is written")
			failed := 0
			for _, f := range now.Fragmented() {
				if _, err := v.Defragment(ctx, f.Path, true, nil); err != nil {
					failed++
				}
			}
			require.Len(t, left, failed)
			is, err := blockmap.Read(ctx, v)
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
