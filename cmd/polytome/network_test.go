package main

import (
	"context"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/drives"
	"polytome/internal/format/partition"
	"polytome/internal/sim"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/volumetest"
)

// TestADriveElsewhereIsPreparedFilledAndChecked: a stick that is in another computer now, which exports it.
func TestADriveElsewhereIsPreparedFilledAndChecked(t *testing.T) {
	games := collection(t, 20, 30)
	for _, fs := range []string{"fat32", "exfat"} {
		t.Run(fs, func(t *testing.T) {
			img := filepath.Join(t.TempDir(), "stick.img")
			require.NoError(t, drives.MakeImage(img, 300<<20))
			at := judge.NBD(t, img)
			assert.Contains(t, ok(t, "drives", at), "network, removable")
			status, _, stderr := polytome(t, "drives", "prepare", at, "--loader", "oxbow", "--fs", fs, "--erase",
				"stick")
			assert.Equal(t, statusFailed, status)
			assert.Contains(t, stderr, "that is not its name")
			ok(t, "drives", "prepare", at, "--loader", "oxbow", "--fs", fs, "--erase", "disk")
			assert.Contains(t, ok(t, "fill", "--from", games, "--loader", "oxbow", "--to", at), "2 titles")
			assert.Contains(t, ok(t, "check", "--loader", "oxbow", "--to", at), "Oxbow will list 2 titles")
			assert.Contains(t, ok(t, "drives", "check", at), "The volume is OK.")
			assert.Contains(t, ok(t, "drives", "map", at), "Every file is contiguous.")
			assert.Contains(t, ok(t, "fill", "--from", games, "--loader", "oxbow", "--to", at), "nothing")
			assert.Contains(t, ok(t, "drives", "eject", at), "everything")
			b, err := os.ReadFile(img)
			require.NoError(t, err)
			part := filepath.Join(t.TempDir(), "part.img")
			require.NoError(t, os.WriteFile(part, b[partition.Align:], 0o600))
			judge.Run(t, "fsck."+strings.TrimSuffix(fs, "32"), "-n", part)
		})
	}
	_, _, stderr := polytome(t, "drives", "nbd://127.0.0.1:1/disk")
	assert.Contains(t, stderr, "127.0.0.1")
}

// workshop is a simulated Vesper in its workshop menu, whose connection is cut once after so many bytes, or each is.
func workshop(t *testing.T, img string, dropAfter, dropEvery int64) (at string) {
	m := volumetest.OpenFile(t, img)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() {
		ended <- (&sim.Workshop{Disk: m, DropAfter: dropAfter, DropEvery: dropEvery, Left: func(d *sim.SlabDisk,
			err error) {
			assert.NoError(t, err, "whatever happens, it is a disk")
		}}).Serve(ctx, l)
	}()
	t.Cleanup(func() { cancel(); require.NoError(t, <-ended) })
	return "nbd://" + l.Addr().String() + "/" + sim.VesperExport
}

// started are the titles that the simulated console lists of a disk in an image, each of which has to start.
func started(t *testing.T, img string, bytes int64) (names []string) {
	t.Helper()
	f, err := os.Open(img)
	require.NoError(t, err)
	defer f.Close()
	d, err := sim.ReadSlab(f, bytes)
	require.NoError(t, err)
	for _, g := range d.Games {
		assert.True(t, g.Starts, "%s: %s", g.Name, g.Why)
		names = append(names, g.Name)
	}
	return names
}

// TestAConsolesOwnDisk is prepared, filled over the network while the connection breaks off, checked, changed and taken
// out of: the simulated console lists and starts what it should.
func TestAConsolesOwnDisk(t *testing.T) {
	games := collection(t, 20, 30, 2)
	img := filepath.Join(t.TempDir(), "vesper.img")
	out := ok(t, "drives", "prepare", img, "--size", "300MiB", "--loader", "rowan", "--fs", "slab")
	assert.Contains(t, out, "make it a slab disk")
	assert.Contains(t, out, "vesper.img is ready")
	listed := func() []string { return started(t, img, 300<<20) }
	at := workshop(t, img, 30<<20, 0)
	whole := 0
	for range 5 {
		status, _, _ := polytome(t, "fill", "--from", games, "--loader", "rowan", "--to", at)
		if whole++; status == statusDone {
			break
		}
		listed() // what is there starts
	}
	assert.LessOrEqual(t, whole, 2, "it is cut once in the middle, and goes on at once or the next time")
	assert.Equal(t, []string{"Title 0", "Title 1", "Title 2"}, listed())
	assert.Contains(t, ok(t, "check", "--loader", "rowan", "--to", at), "Rowan will list 3 titles")
	assert.Contains(t, ok(t, "drives", "show", at), "3 titles for Rowan")
	assert.Contains(t, ok(t, "fill", "--from", games, "--loader", "rowan", "--to", at), "nothing",
		"a second time there is nothing to do")

	// what its owner turned stays
	ids := []string{}
	for _, line := range strings.Split(ok(t, "slab", "ls", at), "\n") {
		if id, _, is := strings.Cut(line, " "); is && strings.HasPrefix(id, "VSP-") {
			ids = append(ids, id)
		}
	}
	require.Len(t, ids, 3)
	assert.Contains(t, ok(t, "slab", "set", at, ids[0], "timing=c"), "timing=c")
	ok(t, "fill", "--from", games, "--loader", "rowan", "--to", at)
	assert.Contains(t, ok(t, "slab", "ls", at), "timing=c")
	assert.Contains(t, ok(t, "checklist", "--loader", "rowan", "--to", at), "Leave the menu workshop")
	assert.Contains(t, ok(t, "checklist", "--loader", "rowan", "--to", img), "jumper")
	ok(t, "slab", "rm", at, ids[0])
	assert.Contains(t, ok(t, "check", "--loader", "rowan", "--to", at), "Rowan will list 2 titles")
	assert.Len(t, listed(), 2)

	// it is asked before everything is lost, and says what
	status, out, stderr := polytome(t, "drives", "prepare", at, "--fs", "slab")
	assert.Equal(t, statusUsage, status)
	assert.Contains(t, out, "2 titles for Rowan")
	assert.Contains(t, stderr, "confirm with --erase")
}

// TestAConsoleThatLeavesAgainAndAgain: a run ends and says so, and what large titles have of their bytes is kept.
func TestAConsoleThatLeavesAgainAndAgain(t *testing.T) {
	img := filepath.Join(t.TempDir(), "vesper.img")
	ok(t, "drives", "prepare", img, "--size", "400MiB", "--loader", "rowan", "--fs", "slab")
	at := workshop(t, img, 0, 10<<20)
	status, out, stderr := polytome(t, "fill", "--from", collection(t, 30), "--loader", "rowan", "--to", at)
	assert.Equal(t, statusFailed, status, out+stderr)
	assert.Contains(t, out, "FAILED")
	assert.Contains(t, out, "the connection to the NBD server has ended); reconnect it and run again")
	d, err := os.Open(img)
	require.NoError(t, err)
	defer d.Close()
	on, err := sim.ReadSlab(d, 400<<20)
	require.NoError(t, err)
	assert.Empty(t, on.Games)

	at = workshop(t, img, 0, 100<<20)
	games := collection(t, 250)
	for range 8 {
		if status, out, stderr = polytome(t, "fill", "--from", games, "--loader", "rowan", "--to", at); status ==
			statusDone {
			break
		}
	}
	require.Equal(t, statusDone, status, out+stderr)
	on, err = sim.ReadSlab(d, 400<<20)
	require.NoError(t, err)
	require.Len(t, on.Games, 1)
	assert.True(t, on.Games[0].Starts, on.Games[0].Why)
	assert.Len(t, on.Files, 0, "what was kept of it is gone")
}

// TestWhatTheConsoleCannotShow: titles that somebody else put on a disk are named with the reason, and a disk of
// another kind is never taken for one.
func TestWhatTheConsoleCannotShow(t *testing.T) {
	dir := t.TempDir()
	img, raw := filepath.Join(dir, "vesper.img"), filepath.Join(dir, "raw.img")
	ok(t, "drives", "prepare", img, "--size", "100MiB", "--fs", "slab", "--label", "OTHER")
	require.NoError(t, os.WriteFile(raw, []byte(strings.Repeat("no disk ", 1<<20)), 0o600))
	ok(t, "slab", "add", img, raw, "--id", "MINE-1", "--name", "My Own", "--kind", "arcade")
	ok(t, "slab", "add", img, raw, "--id", "VSP-20001", "--name", "A name with ünïcode that is longer than it may be",
		"--kind", "full")
	status, out, _ := polytome(t, "check", "--loader", "rowan", "--to", img)
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, out, `"MINE-1" is not an ID of the Vesper`)
	assert.Contains(t, out, "has 49 characters, but at most 28 are allowed")
	assert.Contains(t, out, "will list 0 titles")
	status, out, _ = polytome(t, "fill", "--from", collection(t, 200), "--loader", "rowan", "--to", img)
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, out, "(no space): needs")
	assert.Contains(t, ok(t, "slab", "ls", img), "2 titles", "what is there stays")
	for _, args := range [][]string{{"slab", "ls", raw}, {"slab", "rm", raw, "X"}, {"slab", "repair", raw},
		{"slab", "compact",
			raw}} {
		status, _, stderr := polytome(t, args...)
		assert.Equal(t, statusFailed, status, args)
		assert.Contains(t, stderr, "not a slab disk", args)
	}
	b, err := os.ReadFile(raw)
	require.NoError(t, err)
	assert.Equal(t, 8<<20, len(b))
	assert.Equal(t, "no disk no disk ", string(b[4<<20:4<<20+16]), "nothing was written to it")
}

// TestADiskBehindADevice goes through the guard: its name has to be typed, and while it is mounted or held it is left
// alone.
func TestADiskBehindADevice(t *testing.T) {
	if !judge.AsRoot(t) {
		return
	}
	img := filepath.Join(t.TempDir(), "vesper.img")
	require.NoError(t, drives.MakeImage(img, 200<<20))
	loop := strings.TrimSpace(judge.Root(t, "losetup", "-f", "--show", img))
	attached := true
	detach := func() {
		if attached {
			judge.Root(t, "losetup", "-d", loop)
			attached = false
		}
	}
	defer detach()
	status, _, stderr := polytome(t, "drives", "prepare", loop, "--loader", "rowan", "--fs", "slab", "--erase",
		"vesper.img")
	assert.Equal(t, statusDone, status, stderr)
	assert.Contains(t, ok(t, "fill", "--from", collection(t, 20, 2), "--loader", "rowan", "--to", loop),
		"will list 2 titles")
	assert.Contains(t, ok(t, "drives", "show", loop), "2 titles for Rowan")
	status, out, stderr := polytome(t, "drives", "prepare", loop, "--fs", "slab", "--erase", "another")
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, out, "2 titles for Rowan")
	assert.Contains(t, stderr, "that is not its name")
	status, _, stderr = polytome(t, "slab", "rm", img, "VSP-00000")
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "it is attached as "+loop)
	ok(t, "slab", "rm", loop, "VSP-00000")
	detach()
	assert.Contains(t, ok(t, "slab", "ls", img), "1 title,")
	assert.Contains(t, ok(t, "slab", "check", img, "--deep"), "Nothing is wrong.")
}

// TestAFillOfADiskIsKilled at any moment: what the console lists then starts, and the next run brings the rest.
func TestAFillOfADiskIsKilled(t *testing.T) {
	img, config := filepath.Join(t.TempDir(), "vesper.img"), t.TempDir()
	games := collection(t, 70, 40, 30, 5, 2)
	ok(t, "drives", "prepare", img, "--size", "400MiB", "--loader", "rowan", "--fs", "slab")
	fill := func() *exec.Cmd {
		cmd := exec.Command(binary, "fill", "--from", games, "--loader", "rowan", "--to", img)
		cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+config, "XDG_STATE_HOME="+config, "XDG_CACHE_HOME="+config)
		return cmd
	}
	listed := func() int { return len(started(t, img, 400<<20)) }
	for n := range 12 {
		cmd := fill()
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(20+n*60) * time.Millisecond)
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		listed()
	}
	out, err := fill().CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, 5, listed())
	assert.Contains(t, ok(t, "slab", "check", img, "--deep"), "Nothing is wrong.")
}
