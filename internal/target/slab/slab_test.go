package slab_test

import (
	"bytes"
	"context"
	"io"
	"io/fs"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/drives"
	"polytome/internal/sim"
	"polytome/internal/target"
	"polytome/internal/target/drive"
	slabtarget "polytome/internal/target/slab"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/targettest"
	"polytome/internal/testkit/volumetest"
)

var ctx = context.Background()

// image makes an image with an empty slab disk of so many slabs.
func image(t testing.TB, slabs int64) string { return volumetest.SlabDisk(t, slabs, "FERRY") }

func open(t testing.TB, name string) *slabtarget.Target {
	p, err := drive.Open(ctx, drives.Here, drive.Address{Drive: name}, drive.Options{})
	require.NoError(t, err)
	return p.(*slabtarget.Target)
}

func write(t testing.TB, p target.Target, name string, data []byte) {
	w, err := p.Create(ctx, name, int64(len(data)))
	require.NoError(t, err)
	_, err = w.Write(data)
	require.NoError(t, err)
	require.NoError(t, w.Flush())
	require.NoError(t, w.Commit())
}

func read(t testing.TB, p target.Target, name string) []byte {
	c, err := p.Open(ctx, name)
	require.NoError(t, err)
	defer c.Close()
	b, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
	require.NoError(t, err)
	return b
}

// console is what the simulated console reads from the disk, and what the format's own check finds.
func console(t testing.TB, name string) *sim.SlabDisk {
	f, err := os.Open(name)
	require.NoError(t, err)
	defer f.Close()
	info, err := f.Stat()
	require.NoError(t, err)
	d, err := sim.ReadSlab(f, info.Size())
	require.NoError(t, err)
	return d
}

func TestConformance(t *testing.T) {
	targettest.Run(t, func(t *testing.T) target.Target { return open(t, image(t, 24)) })
}

// TestConformanceOverTheNetwork: the same disk behind the server of somebody else.
func TestConformanceOverTheNetwork(t *testing.T) {
	targettest.Run(t, func(t *testing.T) target.Target { return open(t, judge.NBD(t, image(t, 24))) })
}

func noise(seed byte, n int) []byte {
	b := make([]byte, n)
	x := uint32(seed) + 1
	for i := range b {
		x = x*1664525 + 1013904223
		b[i] = byte(x >> 24)
	}
	return b
}

func TestATitleIsAFileOfTheTree(t *testing.T) {
	name := image(t, 24)
	p := open(t, name)
	disc := noise(1, 5<<20)
	write(t, p, "covers/VSP-20417.jpg", []byte("a picture"))
	write(t, p, "titles/full/VSP-20417/Copper Tide", disc)
	write(t, p, "settings/VSP-20417.txt", []byte("timing=a\ntray=shut\n"))
	write(t, p, "titles/-/VSP-30001/Tin Harbour", []byte("short"))
	write(t, p, "covers/VSP-30001.png", []byte("another"))
	assert.Equal(t, disc, read(t, p, "titles/full/VSP-20417/Copper Tide"))
	assert.Equal(t, "timing=a\ntray=shut\n", string(read(t, p, "settings/VSP-20417.txt")))
	require.NoError(t, p.Rename(ctx, "titles/full/VSP-20417/Copper Tide", "titles/full/VSP-20417/Copper Tide 2"))
	require.NoError(t, p.Close())

	d := console(t, name)
	require.Len(t, d.Games, 2)
	assert.Equal(t, "Copper Tide 2", d.Games[0].Name)
	assert.Equal(t, "full", d.Games[0].Kind)
	assert.Equal(t, "covers/VSP-20417.jpg", d.Games[0].Cover, "it was there before the title")
	assert.Equal(t, "covers/VSP-30001.png", d.Games[1].Cover, "it came after the title")
	assert.Equal(t, "", d.Games[1].Kind)

	p = open(t, name)
	defer p.Close()
	w, err := p.Replace(ctx, "titles/full/VSP-20417/Copper Tide 2", 7)
	require.NoError(t, err)
	_, err = w.Write([]byte("another"))
	require.NoError(t, err)
	assert.Equal(t, disc, read(t, p, "titles/full/VSP-20417/Copper Tide 2"),
		"the old one stays until the new one is whole")
	require.NoError(t, w.Commit())
	assert.Equal(t, "another", string(read(t, p, "titles/full/VSP-20417/Copper Tide 2")))
	assert.Equal(t, "timing=a\ntray=shut\n", string(read(t, p, "settings/VSP-20417.txt")), "replaced, it keeps them")
	require.NoError(t, p.Remove(ctx, "settings/VSP-20417.txt"))
	_, err = p.Stat(ctx, "settings/VSP-20417.txt")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, p.Remove(ctx, "covers/VSP-20417.jpg"))
	problems, err := p.Disk().Check(ctx, true, nil)
	require.NoError(t, err)
	assert.Empty(t, problems, "no title names a cover that is not there")
	require.NoError(t, p.Remove(ctx, "titles/full/VSP-20417/Copper Tide 2"))
	require.NoError(t, p.Remove(ctx, "titles/full/VSP-20417"), "a folder whose title went can be removed")
}

func TestWhatADiskCannotHoldIsRefused(t *testing.T) {
	p := open(t, image(t, 8))
	defer p.Close()
	for name, say := range map[string]string{
		"titles/VSP-1":                       "titles are titles/<kind>/<id>/<name>",
		"settings/deep/VSP-1.txt":            "settings/<id>.txt",
		"titles/a kind that is long/VSP-1/A": "a kind has up to",
		"titles/full/" + string(bytes.Repeat([]byte("V"), 40)) + "/A": "an ID has 1 to 32 bytes",
	} {
		_, err := p.Create(ctx, name, 10)
		assert.ErrorContains(t, err, say, name)
	}
	_, err := p.Create(ctx, "titles/full/VSP-1/Too Large", 1<<40)
	assert.ErrorIs(t, err, target.ErrNoSpace)
	w, err := p.Create(ctx, "settings/VSP-1.txt", 9)
	require.NoError(t, err)
	_, err = w.Write([]byte("timing=a\n"))
	require.NoError(t, err)
	assert.ErrorContains(t, w.Commit(), "there is no title VSP-1")
	write(t, p, "titles/full/VSP-1/A", []byte("x"))
	w, err = p.Create(ctx, "settings/VSP-1.txt", 9)
	require.NoError(t, err)
	_, err = w.Write([]byte("no setting at all\n"))
	require.NoError(t, err)
	assert.ErrorContains(t, w.Commit(), "is no setting")
	w, err = p.Create(ctx, "titles/short/VSP-1/B", 1)
	if err == nil {
		_, err = w.Write([]byte("y"))
		require.NoError(t, err)
		err = w.Commit()
		require.NoError(t, w.Abort())
	}
	assert.ErrorIs(t, err, target.ErrExists, "no two titles have one ID")
}

// What a run left half written takes its room, and is resumed behind what was noted, also when everything else was
// lost.
func TestATitleIsResumedAfterACut(t *testing.T) {
	name := image(t, 24)
	disc := noise(7, 9<<20)
	p := open(t, name)
	w, err := p.Create(ctx, "titles/full/VSP-1/A", int64(len(disc)))
	require.NoError(t, err)
	_, err = w.Write(disc[:6<<20])
	require.NoError(t, err)
	require.NoError(t, w.(target.Suspender).Leave())
	require.NoError(t, p.Close())
	assert.Empty(t, console(t, name).Games)

	p = open(t, name)
	r, err := p.Resume(ctx, "titles/full/VSP-1/A", int64(len(disc)), false)
	require.NoError(t, err)
	require.EqualValues(t, 6<<20, r.There())
	require.NoError(t, r.Keep(5<<20))
	_, err = r.Write(disc[5<<20:])
	require.NoError(t, err)
	require.NoError(t, r.Commit())
	require.NoError(t, p.Close())
	d := console(t, name)
	require.Len(t, d.Games, 1)
	assert.Empty(t, d.Files, "what was kept of it is gone")

	p = open(t, name)
	defer p.Close()
	assert.Equal(t, disc, read(t, p, "titles/full/VSP-1/A"))
	require.NoError(t, p.Disk().Verify(ctx, "VSP-1", nil), "its checksum covers what was there before")
	n, err := p.Fragments(ctx, "titles/full/VSP-1/A")
	require.NoError(t, err)
	assert.Equal(t, 1, n)
}
