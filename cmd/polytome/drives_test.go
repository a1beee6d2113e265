package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/testkit/judge"
)

// ok runs a command that has to do all of its work.
func ok(t testing.TB, args ...string) string {
	t.Helper()
	status, out, stderr := polytome(t, args...)
	require.Equal(t, statusDone, status, "%q: %s%s", args, out, stderr)
	return out
}

func TestFromABareImageToAFilledStick(t *testing.T) {
	dir := t.TempDir()
	img := filepath.Join(dir, "north.img")
	kit := filepath.Join(dir, "kit")
	require.NoError(t, os.MkdirAll(kit, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(kit, "rowan-12.run"), []byte("loader"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(kit, "rowan.cfg"), []byte("look=disk\n"), 0o600))
	games := collection(t, 20, 30, 2)
	out := ok(t, "drives", "prepare", img, "--size", "8GiB", "--loader", "rowan", "--kit", kit, "--from", games)
	assert.Contains(t, out, "FAT32: Rowan reads nothing else")
	assert.Contains(t, out, "north.img is ready")
	out = ok(t, "fill", "--from", games, "--loader", "rowan", "--to", img)
	assert.Contains(t, out, "Rowan will list 3 titles")
	assert.NotContains(t, out, "lies contiguous, as", "the drive tells that itself")
	assert.NotContains(t, out, "STOPS")
	assert.Contains(t, ok(t, "drives", "check", img), "The volume is OK.")
	assert.Contains(t, ok(t, "drives", "map", img), "Every file is contiguous.")
	assert.Contains(t, ok(t, "drives", "show", img), "3 titles for Rowan")
	assert.Contains(t, ok(t, "check", "--loader", "rowan", "--to", img), "Rowan will list 3 titles")
	assert.Contains(t, ok(t, "fill", "--from", games, "--loader", "rowan", "--to", img), "nothing",
		"a second time there is nothing to do")
	assert.Contains(t, ok(t, "drives", "eject", img), "it can be copied or moved")

	loop := strings.TrimSpace(judge.Root(t, "losetup", "-f", "--show", "-o", "4194304", img))
	judge.Root(t, "fsck.fat", "-n", loop)
	names := judge.Root(t, "mdir", "-i", loop, "-b", "-/", "::")
	status, _, stderr := polytome(t, "drives", "prepare", img, "--fs", "exfat", "--erase", "north.img")
	judge.Root(t, "losetup", "-d", loop)
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "it is attached as "+loop)
	assert.Contains(t, names, "::/ROWAN/rowan.run")
	assert.Contains(t, names, "Title 1.iso")

	// what is on it is reported, and nothing happens without its name
	before, err := os.Stat(img)
	require.NoError(t, err)
	status, out, stderr = polytome(t, "drives", "prepare", img, "--fs", "exfat", "--label", "OXBOW")
	assert.Equal(t, statusUsage, status)
	assert.Contains(t, out, "This will be lost: 3 titles for Rowan")
	assert.Contains(t, stderr, "no terminal to type the drive's name")
	status, _, stderr = polytome(t, "drives", "prepare", img, "--fs", "exfat", "--erase", "south.img")
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "that is not its name")
	ok(t, "drives", "prepare", img, "--fs", "exfat", "--dry-run")
	after, err := os.Stat(img)
	require.NoError(t, err)
	assert.Equal(t, before.ModTime(), after.ModTime())
	out = ok(t, "drives", "prepare", img, "--fs", "exfat", "--label", "OXBOW", "--table", "gpt", "--cluster", "64K",
		"--erase", "NORTH.IMG")
	assert.Contains(t, out, "the check found no problems")
	assert.Contains(t, judge.Run(t, "gdisk", "-l", img), "GPT: present")
}

func TestDrivesFragmentedAndDamaged(t *testing.T) {
	w := world(t)
	img := filepath.Join(w.Dir, "drives", "north-58.img")
	out := ok(t, "drives", "map", img)
	assert.Contains(t, out, "2 fragmented files")
	assert.Contains(t, out, "1.02 GiB  Gannet Patrol (Vesper): fragment 2 of 3\n")
	var m struct {
		Files []struct {
			Path string
			Runs []struct{ First, Count uint32 }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(ok(t, "drives", "map", img, "--json")), &m))
	for _, f := range m.Files {
		if strings.Contains(f.Path, "Gannet") {
			assert.Len(t, f.Runs, 3)
		}
	}
	status, out, _ := polytome(t, "check", "--loader", "rowan", "--to", img)
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, out, "it is in 3 fragments, but Rowan starts only contiguous files")
	assert.Contains(t, ok(t, "drives", "map", img, "--defragment", "FULL/VSP-21533 - Gannet Patrol.iso"),
		"contiguous: FULL/VSP-21533")
	assert.Contains(t, ok(t, "drives", "map", img, "--defragment"), "contiguous: HALL-VIDEO/reel-5.mov")
	assert.Contains(t, ok(t, "drives", "map", img, "--defragment"), "Every file is already contiguous.")
	status, out, _ = polytome(t, "drives", "map", img, "--defragment", "none")
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, out, "none was left as it is")

	pulled := filepath.Join(w.Dir, "drives", "oxbow-116.img")
	status, out, _ = polytome(t, "drives", "check", pulled)
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, out, "the drive was pulled out or switched off")
	out = ok(t, "drives", "check", pulled, "--repair")
	assert.Contains(t, out, "Problems found, and how they are repaired:")
	assert.Contains(t, out, "All problems are repaired.")
	assert.Contains(t, ok(t, "drives", "check", pulled), "The volume is OK.")

	var list []struct {
		Name     string
		May      bool `json:"may-write"`
		Contents []struct{ Titles int }
	}
	require.NoError(t, json.Unmarshal([]byte(ok(t, "drives", img, pulled, "--json")), &list))
	names := map[string]int{}
	for _, d := range list {
		if len(d.Contents) > 0 {
			names[d.Name] = d.Contents[0].Titles
		}
	}
	assert.Equal(t, 6, names["north-58.img"])
	for _, bad := range [][]string{{"drives", "show", "nothing"}, {"drives", "check", w.Dir},
		{"drives", "map", filepath.Join(w.Dir, "drives", "quay-28.img")}, {"drives", "eject", "/nowhere"}} {
		status, _, stderr := polytome(t, bad...)
		assert.Equal(t, statusFailed, status, bad)
		assert.NotEmpty(t, stderr)
	}
}

// TestAMountedStick is looked at through its mount, and not written to.
func TestAMountedStick(t *testing.T) {
	if !judge.AsRoot(t) {
		return
	}
	img := filepath.Join(t.TempDir(), "stick.img")
	ok(t, "drives", "prepare", img, "--size", "200MiB", "--loader", "rowan", "--table", "mbr")
	loop := strings.TrimSpace(judge.Root(t, "losetup", "-f", "--show", "-o", "4194304", img))
	defer judge.Root(t, "losetup", "-d", loop)
	games := collection(t, 20)
	dir := t.TempDir()
	judge.Root(t, "fusefat", "-o", "rw+,allow_other,umask=0,fsname="+loop, loop, dir)
	mounted := true
	defer func() {
		if mounted {
			judge.Root(t, "fusermount", "-u", dir)
		}
	}()
	ok(t, "drives", "map", dir)
	status, _, stderr := polytome(t, "drives", "prepare", dir, "--fs", "exfat", "--erase", "loop-stick.img")
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "is mounted at "+dir)
	_, out, _ := polytome(t, "check", "--loader", "rowan", "--to", dir)
	assert.NotContains(t, out, "whether every image lies contiguous", "it is read off the device behind")
	_ = games
	out = ok(t, "drives", "eject", "--unmount", dir)
	mounted = false
	assert.Contains(t, out, "Not yet: unmounting "+dir)
	assert.Contains(t, out, "is unmounted")
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, entries)
}

// TestAStickThatIsPluggedInShows has the panel open while a device comes and goes.
func TestAStickThatIsPluggedInShows(t *testing.T) {
	if !judge.AsRoot(t) {
		return
	}
	img := filepath.Join(t.TempDir(), "plugged.img")
	ok(t, "drives", "prepare", img, "--size", "200MiB", "--loader", "bellows")
	term := open(t, 158, 46, binary+" demo --dir "+filepath.Join(t.TempDir(), "world"))
	term.wait("1 Games 59", "Lamplighter")
	term.keys("D")
	term.wait("D Drives", "north-58.img")
	loop := strings.TrimSpace(judge.Root(t, "losetup", "-f", "--show", img))
	defer func() { _ = exec.Command("losetup", "-d", loop).Run() }()
	term.wait("plugged.img")
	judge.Root(t, "losetup", "-d", loop)
	gone := func() bool { return !strings.Contains(term.screen(), "plugged.img") }
	assert.Eventually(t, gone, time.Minute, 50*time.Millisecond)
	term.keys("q")
	term.wait("ready>")
}
