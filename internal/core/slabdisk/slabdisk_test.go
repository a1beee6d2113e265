package slabdisk_test

import (
	"context"
	"errors"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/slabdisk"
	"polytome/internal/format/slab"
	"polytome/internal/nbd"
	"polytome/internal/sim"
	"polytome/internal/target/claim"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/volumetest"
)

// workshop is a simulated Vesper in its workshop menu with a disk; listed has what it lists after each client.
func workshop(t *testing.T, dropAfter int64) (address string, listed chan *sim.SlabDisk) {
	m := volumetest.NewFile(t, 16*slab.Slab)
	_, err := slab.Format(m, 16*slab.Slab, slab.Options{Label: "VESPER"})
	require.NoError(t, err)
	listed = make(chan *sim.SlabDisk, 100)
	w := &sim.Workshop{Disk: m, DropAfter: dropAfter, Left: func(d *sim.SlabDisk, err error) {
		assert.NoError(t, err, "whatever happens, it is a disk")
		listed <- d
	}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- w.Serve(ctx, l) }()
	t.Cleanup(func() { cancel(); require.NoError(t, <-ended) })
	return "nbd://" + l.Addr().String() + "/" + sim.VesperExport, listed
}

func game(t *testing.T, dir, id, name string, more int) string {
	file := filepath.Join(dir, id+".iso")
	b := append(coretest.Image(t, coretest.Inf(id, name, "1/1", "full")), make([]byte, more)...)
	for i := len(b) - more; i < len(b); i++ {
		b[i] = byte(i * i / 7)
	}
	require.NoError(t, os.WriteFile(file, b, 0o644))
	return file
}

// TestADiskIsFilledOverTheNetwork: what is added is listed by the console when the client has left.
func TestADiskIsFilledOverTheNetwork(t *testing.T) {
	at, listed := workshop(t, 0)
	dir, set := t.TempDir(), coretest.Set(t)
	im, err := slabdisk.Open(t.Context(), at, true)
	require.NoError(t, err)
	_, err = slabdisk.Open(t.Context(), at, true)
	assert.ErrorIs(t, err, nbd.ErrBusy)
	tide := game(t, dir, "VSP-20417", "Copper Tide", 6<<20)
	copied := int64(0)
	_, err = im.Add(t.Context(), set, tide, slabdisk.As{Settings: map[string]string{"timing": "b"}},
		func(n int64) { copied += n })
	require.NoError(t, err)
	info, err := os.Stat(tide)
	require.NoError(t, err)
	assert.Equal(t, info.Size(), copied)
	require.NoError(t, im.Rename("VSP-20417", "Copper Tide 2"))
	file, err := im.Out(t.Context(), "VSP-20417", dir, nil)
	require.NoError(t, err)
	a, err := os.ReadFile(tide)
	require.NoError(t, err)
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.True(t, string(a) == string(b))
	require.NoError(t, im.Close())
	d := <-listed
	require.Len(t, d.Games, 1)
	assert.Equal(t, sim.SlabGame{ID: "VSP-20417", Name: "Copper Tide 2", Kind: "full", Settings: "timing=b\n",
		Starts: true}, d.Games[0])

	on, err := slabdisk.OnIt(t.Context(), at)
	require.NoError(t, err)
	assert.Equal(t, []string{"VSP-20417 Copper Tide 2"}, on)
	<-listed
	_, err = slabdisk.Open(t.Context(), "nbd://"+at[6:len(at)-len(sim.VesperExport)]+"another", false)
	assert.ErrorIs(t, err, nbd.ErrNoExport)
}

// TestTheConsoleLeavesInTheMiddle: wherever the connection is cut, the console lists what it listed before, or the new
// title whole, and adding it again works.
func TestTheConsoleLeavesInTheMiddle(t *testing.T) {
	dir, set := t.TempDir(), coretest.Set(t)
	first, second := game(t, dir, "VSP-20417", "Copper Tide", 100_000), game(t, dir, "VSP-20502", "Paper Falcons",
		5<<20)
	for _, after := range []int64{300, 100_000, 160_000, 200_000, 3 << 20, 5<<20 + 160_000, 5<<20 + 200_000} {
		at, listed := workshop(t, after)
		cut := false
		for _, file := range []string{first, second} {
			for range 4 { // until it is there
				im, err := slabdisk.Open(t.Context(), at, true)
				if err == nil {
					_, err = im.Add(t.Context(), set, file, slabdisk.As{Replace: true}, nil)
					_ = im.Close()
					d := <-listed
					for _, g := range d.Games {
						assert.True(t, g.Starts, "%d: %s: %s", after, g.ID, g.Why)
					}
				}
				if err == nil {
					break
				}
				assert.True(t, errors.Is(err, nbd.ErrGone) || errors.Is(err, net.ErrClosed), "%d: %v", after, err)
				cut = true
			}
		}
		assert.True(t, cut, after)
		im, err := slabdisk.Open(t.Context(), at, false)
		require.NoError(t, err)
		assert.Len(t, im.Titles(), 2)
		problems, err := im.Check(t.Context(), true, nil)
		require.NoError(t, err)
		assert.Empty(t, problems)
		require.NoError(t, im.Close())
	}
}

// TestOneAtATime: an image file that is being changed is not changed by another run.
func TestOneAtATime(t *testing.T) {
	file := filepath.Join(t.TempDir(), "vesper.img")
	im, err := slabdisk.Format(t.Context(), file, 40<<20, slab.Options{})
	require.NoError(t, err)
	_, err = slabdisk.Open(t.Context(), file, true)
	var taken *claim.TakenError
	assert.ErrorAs(t, err, &taken)
	look, err := slabdisk.Open(t.Context(), file, false)
	require.NoError(t, err)
	require.NoError(t, look.Close())
	require.NoError(t, im.Close())
	im, err = slabdisk.Open(t.Context(), file, true)
	require.NoError(t, err)
	require.NoError(t, im.Close())
}
