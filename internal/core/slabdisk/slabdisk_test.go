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

	"polytome/internal/core/bench"
	"polytome/internal/core/slabdisk"
	"polytome/internal/core/survey"
	"polytome/internal/drives"
	"polytome/internal/format/slab"
	"polytome/internal/nbd"
	"polytome/internal/sim"
	"polytome/internal/target/claim"
	"polytome/internal/target/drive"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/volumetest"
)

// workshop is a simulated Vesper in its workshop menu with a disk; listed has what it lists after each client.
func workshop(t *testing.T, dropAfter int64) (address string, listed chan *sim.SlabDisk) {
	m := volumetest.NewFile(t, 16*slab.Slab)
	_, err := slab.Format(m, 16*slab.Slab, slab.Options{Label: "VESPER"})
	require.NoError(t, err)
	listed = make(chan *sim.SlabDisk, 1000)
	w := &sim.Workshop{Disk: m, DropAfter: dropAfter, Left: func(d *sim.SlabDisk, err error) {
		if !assert.NoError(t, err, "whatever happens, it is a disk") {
			return
		}
		for _, g := range d.Games {
			assert.True(t, g.Starts, "%s: %s", g.ID, g.Why)
		}
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
	im, err := slabdisk.Open(t.Context(), drives.Here, at, true)
	require.NoError(t, err)
	_, err = slabdisk.Open(t.Context(), drives.Here, at, true)
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
	for len(d.Games) == 0 { // of those that only looked
		d = <-listed
	}
	assert.Equal(t, sim.SlabGame{ID: "VSP-20417", Name: "Copper Tide 2", Kind: "full", Settings: "timing=b\n",
		Starts: true}, d.Games[0])

	_, err = slabdisk.Open(t.Context(), drives.Here, "nbd://"+at[6:len(at)-len(sim.VesperExport)]+"another", false)
	assert.ErrorIs(t, err, nbd.ErrNoExport)
}

// TestTheConsoleLeavesInTheMiddle: wherever the connection is cut, the console lists what it listed before, or the new
// title whole, and adding it again works.
func TestTheConsoleLeavesInTheMiddle(t *testing.T) {
	dir, set := t.TempDir(), coretest.Set(t)
	first, second := game(t, dir, "VSP-20417", "Copper Tide", 100_000), game(t, dir, "VSP-20502", "Paper Falcons",
		5<<20)
	for _, after := range []int64{300, 100_000, 160_000, 200_000, 3 << 20, 5<<20 + 160_000, 5<<20 + 200_000} {
		at, _ := workshop(t, after)
		cut := false
		for _, file := range []string{first, second} {
			for range 4 { // until it is there
				im, err := slabdisk.Open(t.Context(), drives.Here, at, true)
				if err == nil {
					_, err = im.Add(t.Context(), set, file, slabdisk.As{Replace: true}, nil)
					_ = im.Close()
				}
				if err == nil {
					break
				}
				assert.True(t, errors.Is(err, nbd.ErrGone) || errors.Is(err, net.ErrClosed), "%d: %v", after, err)
				cut = true
			}
		}
		assert.True(t, cut, after)
		im, err := slabdisk.Open(t.Context(), drives.Here, at, false)
		require.NoError(t, err)
		assert.Len(t, im.Titles(), 2)
		problems, err := im.Check(t.Context(), true, nil)
		require.NoError(t, err)
		assert.Empty(t, problems)
		require.NoError(t, im.Close())
	}
}

func open(t *testing.T, at string, write bool) *slabdisk.Disk {
	t.Helper()
	d, err := slabdisk.Open(t.Context(), drives.Here, at, write)
	require.NoError(t, err)
	return d
}

// TestOneAtATime: an image file that is being changed is not changed by another run, nor repaired.
func TestOneAtATime(t *testing.T) {
	file := volumetest.SlabDisk(t, 10, "")
	d := open(t, file, true)
	var taken *claim.TakenError
	_, err := slabdisk.Open(t.Context(), drives.Here, file, true)
	assert.ErrorAs(t, err, &taken)
	_, _, err = slabdisk.Repair(t.Context(), drives.Here, file, true, nil)
	assert.ErrorAs(t, err, &taken)
	require.NoError(t, open(t, file, false).Close())
	require.NoError(t, d.Close())
	require.NoError(t, open(t, file, true).Close())
	r, end, err := slabdisk.Repair(t.Context(), drives.Here, file, true, nil)
	require.NoError(t, err)
	assert.Empty(t, r.Do)
	require.NoError(t, end())
}

// TestATitleComesStraightFromAnotherTarget: from a folder as a file, from another disk as a title with its settings.
func TestATitleComesStraightFromAnotherTarget(t *testing.T) {
	dir, set := t.TempDir(), coretest.Set(t)
	tide := game(t, dir, "VSP-20417", "Copper Tide", 6<<20)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "sub"), 0o755))
	require.NoError(t, os.Rename(tide, filepath.Join(dir, "sub", "tide.iso")))
	coretest.Write(t, dir, "notes.txt", []byte("no game"))
	from, err := survey.OpenTarget(t.Context(), dir, bench.Target{}, nil, false)
	require.NoError(t, err)
	defer from.Close()
	first := volumetest.SlabDisk(t, 10, "")
	d := open(t, first, true)
	added, err := d.AddFrom(t.Context(), set, from, "sub/tide.iso", slabdisk.As{Settings: map[string]string{
		"timing": "b", "tray": "open"}}, nil)
	require.NoError(t, err)
	assert.Equal(t, "Copper Tide", added.Name)
	for file, want := range map[string]string{"notes.txt": "no title that is known", "none.iso": "no such file"} {
		_, err = d.AddFrom(t.Context(), set, from, file, slabdisk.As{}, nil)
		assert.ErrorContains(t, err, want)
	}
	require.NoError(t, d.Rename("VSP-20417", "My Tide"))
	require.NoError(t, d.Close())

	other, err := survey.OpenTarget(t.Context(), drive.AddressOf(first), bench.Target{}, nil, false)
	require.NoError(t, err)
	defer other.Close()
	d = open(t, volumetest.SlabDisk(t, 10, ""), true)
	defer d.Close()
	added, err = d.AddFrom(t.Context(), set, other, "vsp-20417", slabdisk.As{Settings: map[string]string{"tray": ""}},
		nil)
	require.NoError(t, err)
	assert.Equal(t, "My Tide", added.Name)
	now, _ := d.Title("VSP-20417")
	assert.Equal(t, map[string]string{"timing": "b"}, now.Settings)
	require.NoError(t, d.Verify(t.Context(), "VSP-20417", nil))
	_, err = d.AddFrom(t.Context(), set, other, "VSP-9", slabdisk.As{}, nil)
	assert.ErrorIs(t, err, slab.ErrNotFound)
	_, err = d.AddFrom(t.Context(), set, other, "VSP-20417", slabdisk.As{}, nil)
	assert.ErrorIs(t, err, slab.ErrExists)
}

// TestACopyLosesOnlyWhatWasAgreedTo: the guard is asked as for every other drive.
func TestACopyLosesOnlyWhatWasAgreedTo(t *testing.T) {
	dir, set := t.TempDir(), coretest.Set(t)
	file := volumetest.SlabDisk(t, 10, "")
	d := open(t, file, true)
	_, err := d.Add(t.Context(), set, game(t, dir, "VSP-20417", "Copper Tide", 1<<20), slabdisk.As{}, nil)
	require.NoError(t, err)
	larger := volumetest.SlabDisk(t, 20, "")
	old := open(t, larger, true)
	_, err = old.Add(t.Context(), set, game(t, dir, "VSP-20502", "Paper Falcons", 1<<20), slabdisk.As{}, nil)
	require.NoError(t, err)
	require.NoError(t, old.Close())
	to, err := drives.Here.Look(t.Context(), larger)
	require.NoError(t, err)
	for _, typed := range []string{"", "another.img"} {
		err = d.Clone(t.Context(), drives.Here, to, drives.Consent{Typed: typed}, nil)
		assert.True(t, drives.IsRefused(err), "%v", err)
	}
	self, err := drives.Here.Look(t.Context(), file)
	require.NoError(t, err)
	assert.Error(t, d.Clone(t.Context(), drives.Here, self, drives.Consent{Typed: "vesper.img"}, nil),
		"it is not copied onto itself")
	require.NoError(t, d.Clone(t.Context(), drives.Here, to, drives.Consent{Typed: "vesper.img"}, nil))
	require.NoError(t, d.Close())
	for _, f := range []string{file, larger} {
		d := open(t, f, false)
		require.Len(t, d.Titles(), 1, f)
		assert.Equal(t, "VSP-20417", d.Titles()[0].ID)
		assert.NoError(t, d.Verify(t.Context(), "VSP-20417", nil))
		require.NoError(t, d.Close())
	}
}
