package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/sim"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// TestASlabDiskIsFilledAndReadByTheConsole goes through the whole life of a disk: the simulated console lists what is
// on it after each step.
func TestASlabDiskIsFilledAndReadByTheConsole(t *testing.T) {
	dir, config := t.TempDir(), t.TempDir()
	disk := filepath.Join(dir, "vesper.img")
	slab := func(want int, args ...string) string {
		t.Helper()
		status, out, errOut := own(t, config, "", append([]string{"slab"}, args...)...)
		require.Equal(t, want, status, "%s%s", out, errOut)
		return out + errOut
	}
	console := func() (ids []string, d *sim.SlabDisk) {
		t.Helper()
		f, err := os.Open(disk)
		require.NoError(t, err)
		defer f.Close()
		info, err := f.Stat()
		require.NoError(t, err)
		d, err = sim.ReadSlab(f, info.Size())
		require.NoError(t, err)
		for _, g := range d.Games {
			assert.True(t, g.Starts, g.Why)
			ids = append(ids, g.ID)
		}
		return ids, d
	}
	tide := coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "1/1", "full"))
	coretest.Write(t, dir, "tide.iso", tide)
	coretest.Write(t, dir, "falcons.iso", coretest.Image(t, coretest.Inf("VSP-20502", "Paper Falcons", "1/1", "short")))
	coretest.Write(t, dir, "ferry.iso", coretest.Image(t, coretest.Inf("VSP-30001", "Clockwork Ferry", "1/2", "full")))
	coretest.Write(t, dir, "notes.txt", []byte("no game"))
	judge.Run(t, "7z", "a", "-bso0", filepath.Join(dir, "ferry.7z"), filepath.Join(dir, "ferry.iso"))

	assert.Contains(t, slab(1, "ls", disk), "no image or drive")
	ok(t, "drives", "prepare", disk, "--size", "64MiB", "--label", "FERRY", "--fs", "slab")
	said := slab(1, "add", disk, filepath.Join(dir, "tide.iso"), filepath.Join(dir, "notes.txt"),
		filepath.Join(dir, "ferry.7z"), "--set", "timing=b")
	assert.Contains(t, said, "added: VSP-20417 Copper Tide")
	assert.Contains(t, said, "added: VSP-30001 Clockwork Ferry (Disc 1)")
	assert.Contains(t, said, "notes.txt has no title that is known")
	ids, d := console()
	assert.Equal(t, []string{"VSP-30001", "VSP-20417"}, ids, "in the order of their names")
	assert.Equal(t, "timing=b\n", d.Games[1].Settings)
	assert.Contains(t, slab(1, "add", disk, filepath.Join(dir, "tide.iso")), "has one already")
	slab(0, "add", disk, filepath.Join(dir, "notes.txt"), "--id", "MINE-1", "--name", "My Own")
	slab(0, "rm", disk, "mine-1")

	coretest.Write(t, dir, "front.jpg", []byte("a picture"))
	slab(0, "put", disk, filepath.Join(dir, "front.jpg"), "faces/front/VSP-20417.jpg", "--cover-of", "VSP-20417")
	slab(0, "rename", disk, "VSP-20417", "Copper", "Tide", "2")
	slab(0, "set", disk, "--all", "timing=", "tray=open")
	_, d = console()
	assert.Equal(t, sim.SlabGame{ID: "VSP-20417", Name: "Copper Tide 2", Kind: "full", Settings: "tray=open\n",
		Cover: "faces/front/VSP-20417.jpg", Starts: true}, d.Games[1])
	assert.Equal(t, "a picture", string(d.Files["faces/front/VSP-20417.jpg"]))

	var listed struct {
		Titles []struct{ ID, Name string }
		Disk   struct{ Label string }
	}
	require.NoError(t, json.Unmarshal([]byte(slab(0, "ls", disk, "--json")), &listed))
	assert.Len(t, listed.Titles, 2)
	assert.Equal(t, "FERRY", listed.Disk.Label)
	assert.Contains(t, slab(0, "ls", disk), "2 titles, 1 small file")

	out := filepath.Join(dir, "out")
	require.NoError(t, os.Mkdir(out, 0o755))
	assert.Contains(t, slab(0, "out", disk, "VSP-20417", "--to", out), "Copper Tide 2.iso")
	b, err := os.ReadFile(filepath.Join(out, "VSP-20417 - Copper Tide 2.iso"))
	require.NoError(t, err)
	assert.True(t, string(tide) == string(b))
	assert.Contains(t, slab(1, "out", disk, "VSP-20417", "--to", out), "already exists")
	assert.Contains(t, slab(0, "check", disk, "--deep"), "Nothing is wrong.")

	// both tables are lost
	f, err := os.OpenFile(disk, os.O_RDWR, 0)
	require.NoError(t, err)
	for _, at := range []int64{4 << 20, 8 << 20} {
		_, err = f.WriteAt(make([]byte, 600), at)
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	assert.Contains(t, slab(1, "ls", disk), "repair saves the titles")
	assert.Contains(t, slab(0, "repair", disk, "--dry-run"), "keep VSP-20417 Copper Tide")
	assert.Contains(t, slab(1, "ls", disk), "both tables")
	assert.Contains(t, slab(0, "repair", disk), "Repaired.")
	ids, _ = console()
	assert.Equal(t, []string{"VSP-30001", "VSP-20417"}, ids)
	assert.Contains(t, slab(0, "compact", disk), "moved: 0 titles")
	assert.Contains(t, ok(t, "drives", "map", disk), "Every title is contiguous.")
	assert.Contains(t, ok(t, "drives", "check", disk), "Nothing is wrong")
	assert.Contains(t, ok(t, "drives", "check", disk, "--repair"), "Nothing has to be repaired.")
	status, _, stderr := polytome(t, "drives", "map", disk, "--defragment")
	assert.Equal(t, statusUsage, status)
	assert.Contains(t, stderr, "polytome slab compact")

	larger := filepath.Join(dir, "larger.img")
	assert.Contains(t, slab(0, "clone", disk, larger, "--size", "128MiB"), "2 titles")
	assert.Contains(t, slab(2, "clone", disk, larger, "--size", "128MiB"), "already exists")
	assert.Contains(t, slab(2, "clone", disk, larger), "no terminal to type the drive's name")
	said = slab(1, "clone", disk, larger, "--erase", "vesper.img")
	assert.Contains(t, said, "that is not its name")
	assert.Contains(t, slab(0, "ls", larger), "2 titles")
	slab(0, "rm", larger, "VSP-30001")
	assert.Contains(t, slab(0, "add", larger, "--from", disk, "VSP-30001", "--json"), `"Clockwork Ferry (Disc 1)"`)
	slab(0, "clone", disk, larger, "--erase", "larger.img")
	assert.Contains(t, slab(0, "ls", larger), "2 titles")
	small := filepath.Join(dir, "small.img")
	slab(1, "clone", disk, small, "--size", "8MiB")
	assert.NoFileExists(t, small, "what could not be made whole is not left there")
	assert.Contains(t, slab(1, "ls", filepath.Join(dir, "tide.iso")), "not a slab disk")
}
