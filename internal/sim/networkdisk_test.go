package sim_test

import (
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/nbd"
	"polytome/internal/sim"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// exported is an image that is exported.
func exported(t *testing.T, image string) string {
	f, err := os.Open(image)
	require.NoError(t, err)
	info, err := f.Stat()
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	over := make(chan error)
	s := &nbd.Server{Exports: []*nbd.Export{{Name: "rowan", Size: info.Size(), ReadOnly: true, Backend: f}}}
	go func() { over <- s.Serve(ctx, l) }()
	t.Cleanup(func() {
		cancel()
		assert.NoError(t, errors.Join(<-over, f.Close()))
	})
	return "nbd://" + l.Addr().String() + "/rowan"
}

// TestTheNetworkDisk: of a volume that others have made, the console lists what stands in its list, and plays what is
// there.
func TestTheNetworkDisk(t *testing.T) {
	image := filepath.Join(t.TempDir(), "volume.img")
	require.NoError(t, exec.Command("truncate", "-s", "64M", image).Run())
	judge.Run(t, "mkfs.exfat", "-c", "4096", image)
	dev := judge.Root(t, "losetup", "-f", "--show", image)
	dev = dev[:len(dev)-1]
	dir := t.TempDir()
	judge.Root(t, "mount.exfat-fuse", dev, dir)
	copper := append(coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "1/1", "full")), make([]byte,
		900<<20>>10)...)
	coretest.Write(t, dir, "FULL/VSP-20417 - Copper Tide.iso", copper)
	coretest.Write(t, dir, "FULL/VSP-20502 - Paper Falcons.iso", []byte("no image"))
	for n := range 300 { // a folder of several clusters
		coretest.Write(t, dir, filepath.Join("SHORT", "a name that takes several entries "+string(rune('a'+n%26))+
			string(rune('a'+n/26))), nil)
	}
	judge.Root(t, "umount", dir)
	assert.Eventually(t, func() bool {
		_, err := judge.Try(t, "pgrep", "-f", "exfat-fuse.* "+dev+" ")
		return err != nil
	},
		time.Minute, 20*time.Millisecond)
	judge.Root(t, "losetup", "-d", dev)

	address, stick := exported(t, image), t.TempDir()
	_, err := sim.MountNetworkDisk(t.Context(), address, stick)
	require.ErrorIs(t, err, sim.ErrNoList)
	coretest.Write(t, stick, sim.NetworkList, []byte("VSP-20417;full;Copper Tide;VSP-20417 - Copper Tide.iso\n"+
		"VSP-20502;full;Paper Falcons;VSP-20502 - Paper Falcons.iso\r\nVSP-9;full;Away;VSP-9 - Away.iso\nnonsense\n"))
	coretest.Write(t, stick, "FACES/front/VSP-20417.jpg", []byte("a picture"))
	d, err := sim.MountNetworkDisk(t.Context(), address, stick)
	require.NoError(t, err)
	require.Len(t, d.Games, 3)
	assert.True(t, d.Games[0].Starts && d.Games[0].Cover, d.Games[0].Why)
	assert.NotEmpty(t, d.Games[1].Why)
	assert.Equal(t, "it is not on the network disk", d.Games[2].Why)
	p, err := d.Play(t.Context(), &d.Games[0], 50, 0, rand.New(rand.NewPCG(1, 1)))
	require.NoError(t, err)
	assert.Equal(t, 50, p.Reads)
	assert.Greater(t, p.Bytes, int64(200_000))
	_, err = d.Play(t.Context(), &d.Games[2], 1, 0, nil)
	assert.Error(t, err)
	require.NoError(t, d.Close())

	notOurs := filepath.Join(t.TempDir(), "zeros.img")
	require.NoError(t, os.WriteFile(notOurs, make([]byte, 1<<20), 0o600))
	_, err = sim.MountNetworkDisk(t.Context(), exported(t, notOurs), stick)
	assert.ErrorContains(t, err, "the volume is not exFAT")
}

// FuzzNetworkVolume: whatever a volume says, reading it ends.
func FuzzNetworkVolume(f *testing.F) {
	image := filepath.Join(f.TempDir(), "volume.img")
	if err := exec.Command("truncate", "-s", "1M", image).Run(); err != nil {
		f.Fatal(err)
	}
	if err := exec.Command("mkfs.exfat", image).Run(); err == nil {
		if b, err := os.ReadFile(image); err == nil {
			f.Add(b[:300_000])
		}
	}
	f.Fuzz(func(_ *testing.T, b []byte) { sim.MountExFAT(readerOf(b)) })
}

type readerOf []byte

func (r readerOf) ReadAt(b []byte, off int64) (int, error) {
	if off < 0 || off >= int64(len(r)) {
		return 0, io.EOF
	}
	n := copy(b, r[off:])
	if n < len(b) {
		return n, io.EOF
	}
	return n, nil
}
